package stage

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// Loop is where the simulated part of a lab may be touched (testbed/drive).
type Loop interface {
	Do(ctx context.Context, do func(now time.Duration)) // calls a function between two events
	Until(ctx context.Context, at time.Duration)        // lets happen what happens until then; from within Do
}

// Request is a question to a real machine. What it asks to reach has an address.
type Request struct {
	Question claims.Question `json:"question"`
	Payload  string          `json:"payload"` // what a ping carries, by which the witness knows it
}

// Machines are the real machines of a lab.
type Machines interface {
	// Has tells whether a machine is one of them that is asked.
	Has(m *plan.Machine) bool
	// Ask puts questions to them, and gives what tells the answers that take long.
	Ask(
		ctx context.Context,
		w claims.Witness,
		list []Request,
		tell func(claims.Answer),
	) (late func(tell func(claims.Answer)))
	// Addresses gives what an adapter of a real machine has now, asked or not. It does not wait.
	Addresses(a *plan.Adapter) (four netip.Prefix, six []netip.Prefix)
	// Introduce has guests say on every port who they are, or no more.
	Introduce(on bool) error
	// Forget has a machine ask its neighbors afresh. It is called from the loop.
	Forget(m *plan.Machine)
	// Lost gives how many frames between them and the switch were lost since the last call.
	Lost() int
}

// Stage is a lab some of whose machines are real. Its exported fields are set by who makes
// one, before it is used.
type Stage struct {
	Name     string // of the stage
	Plan     *plan.Plan
	Live     *simulator.Live
	Loop     Loop // of Live
	Machines Machines
	Away     string // the adapter of this machine on which an upstream segment is; empty: none

	Host []netip.Addr // of this machine, where the lab is joined to its network: none of them is to answer guests

	NoGuests atomic.Bool // none was started yet

	ctx       context.Context
	asked     []claims.Condition             // in which conditions whoever opened the stage will ask
	condition claims.Condition               // which was set last
	late      func(tell func(claims.Answer)) // what is still listened to
	listeners []net.Listener                 // on this machine, while the stage is open
	mu        sync.Mutex                     // of what follows
	reached   map[*plan.Adapter]lab.Service  // what reached the witness since the stage was opened
}

// Servable refuses segments on which nobody can hand out leases.
func Servable(p *plan.Plan, segments []string) error {
	var all []error
	for _, name := range segments {
		if s := p.Segment(name); s == nil || !s.Subnet.IsValid() {
			all = append(all, fmt.Errorf("no segment %q for a DHCP server", name))
		}
	}
	return errors.Join(all...)
}

// Begin says for how long the stage lives: questions end with the context.
func (s *Stage) Begin(ctx context.Context) { s.ctx = ctx }

// Open has the guests say who they are, so that what reaches them is known.
func (s *Stage) Open(ctx context.Context, p *plan.Plan) (claims.Facts, error) {
	if err := s.Machines.Introduce(true); err != nil {
		return claims.Facts{}, err
	}
	return s.OpenQuietly(ctx, p)
}

// OpenQuietly opens the stage and leaves its machines as they are: they do not say who they are.
func (s *Stage) OpenQuietly(_ context.Context, p *plan.Plan) (claims.Facts, error) {
	if p.Name != s.Plan.Name {
		return claims.Facts{}, fmt.Errorf("the lab that runs is %s", s.Plan.Name)
	}
	facts := s.Live.Facts()
	facts.Name = s.Name
	facts.Host = s.listen()
	s.asked = claims.Asked(p, facts)
	s.mu.Lock()
	s.reached = map[*plan.Adapter]lab.Service{}
	s.mu.Unlock()
	return facts, nil
}

// listen has this machine listen at each of its addresses, on a free TCP port.
func (s *Stage) listen() (out []netip.AddrPort) {
	for _, at := range s.Host {
		l, err := net.Listen("tcp4", netip.AddrPortFrom(at, 0).String())
		if err != nil {
			continue // the address is gone
		}
		s.listeners = append(s.listeners, l)
		out = append(out, l.Addr().(*net.TCPAddr).AddrPort())
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				c.Close()
			}
		}()
	}
	return out
}

// Close ends what Open began.
func (s *Stage) Close(context.Context) error {
	s.late = nil
	for _, l := range s.listeners {
		l.Close()
	}
	s.listeners = nil
	return s.Machines.Introduce(false)
}

// Set plugs or unplugs every appliance's WAN, at the switch.
func (s *Stage) Set(ctx context.Context, c claims.Condition) (err error) {
	s.Loop.Do(s.ctx, func(time.Duration) {
		s.tellAddresses()
		err = s.plug(ctx, c)
	})
	s.condition = c
	return errors.Join(err, ctx.Err())
}

// plug plugs or unplugs, from the switch's loop. Once plugged, appliances ask anew where
// their neighbors are: of one that did not answer while a cable was out a kernel asks
// again only after a while.
func (s *Stage) plug(ctx context.Context, c claims.Condition) error {
	err := s.Live.Set(ctx, c)
	if c != claims.Running {
		return err
	}
	for _, m := range s.Plan.Appliances() {
		if s.Machines.Has(m) {
			s.Machines.Forget(m)
		}
	}
	return err
}

// tellAddresses returns the simulated part of the lab which addresses the real machines
// have. It is called from the loop.
func (s *Stage) tellAddresses() {
	for _, m := range s.Plan.Machines {
		if !s.Live.Real(m) {
			continue
		}
		for _, a := range m.Adapters {
			four, six := s.Machines.Addresses(a)
			s.Live.SetAddresses(a, four, six)
		}
	}
}

// Ask puts the questions: first those to real machines, all at once, and beside them those
// to whom the lab simulates; last, what makes guests hostile, from the switch in their place.
func (s *Stage) Ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	var own, simulated, hostile []claims.Question
	for _, q := range questions {
		switch k := q.KindOf(); {
		case s.Away != "" && ofWitness(q.Ask):
			tell(
				claims.Answer{
					ID:      q.ID,
					Missing: "the lab's outside is whatever is on " + s.Away + ", and nothing is observed there",
				},
			)
		case s.NoGuests.Load() && s.ofGuest(q.Ask):
			tell(claims.Answer{ID: q.ID, Missing: "no guest was started yet"})
		case s.ofMachines(q.Ask):
			own = append(own, q)
		case k == "attack" || k == "scan" || k == "packet":
			hostile = append(hostile, q)
		default:
			simulated = append(simulated, q)
		}
	}
	var mu sync.Mutex
	told := func(a claims.Answer) {
		mu.Lock()
		defer mu.Unlock()
		tell(named(a))
	}
	var both sync.WaitGroup
	var err error
	both.Go(func() {
		if len(simulated) > 0 {
			s.Loop.Do(s.ctx, func(time.Duration) {
				s.tellAddresses()
				err = s.Live.Ask(ctx, simulated, told)
			})
		}
	})
	late, before := s.askMachines(ctx, own, told), s.late
	s.late = nil
	both.Wait()
	if err == nil && ctx.Err() == nil && len(hostile) > 0 {
		err = s.assault(ctx, hostile, told)
	}
	if before != nil {
		before(told)
	}
	if n := len(s.asked); n > 0 && s.condition != s.asked[n-1] {
		s.late = late // there is a next time to tell it: nobody waits meanwhile
	} else {
		late(told)
	}
	return errors.Join(err, ctx.Err())
}

// named says of evidence by frames that it was seen at the switch.
func named(a claims.Answer) claims.Answer {
	for i := range a.Evidence {
		if e := &a.Evidence[i]; e.Reading == "the simulated machine" {
			e.Reading = "seen at the switch"
		}
	}
	return a
}

// ofMachines reports whether it is a question that goes to a real machine.
func (s *Stage) ofMachines(what claims.Asking) bool {
	a := s.subject(what)
	return a != nil && s.Machines.Has(a.Machine)
}

// subject returns the adapter that answers a question by itself; nil when there is none.
func (s *Stage) subject(what claims.Asking) *plan.Adapter {
	at, ok := claims.Subject(what)
	a, err := at.In(s.Plan)
	if !ok || err != nil {
		return nil
	}
	return a
}

// ofGuest reports whether it is a question that a guest answers.
func (s *Stage) ofGuest(what claims.Asking) bool {
	a := s.subject(what)
	return a != nil && a.Guest != nil
}

// ofWitness reports whether it is a question that takes somebody outside who reports what arrived.
func ofWitness(what claims.Asking) bool {
	switch q := what.(type) {
	case claims.AskAttack, claims.AskScan, claims.AskPacket, claims.AskName:
		return true
	case claims.AskReach:
		return q.From == (claims.Ref{}) || q.To == (claims.Ref{}) && !q.Address.IsValid()
	}
	return false
}

// Reading is evidence by what a machine's kernel, or its packet socket, says.
func Reading(m *plan.Machine, format string, args ...any) []claims.Evidence {
	return []claims.Evidence{{Reading: "the kernel of " + m.Name, At: time.Now(), Text: fmt.Sprintf(format, args...)}}
}

var payloads atomic.Int64

// askMachines puts questions to real machines: each with the address that it is about, and
// a payload of its own.
func (s *Stage) askMachines(ctx context.Context, questions []claims.Question,
	tell func(claims.Answer)) (late func(tell func(claims.Answer))) {
	witness := s.Live.Facts().Witness
	list := make([]Request, 0, len(questions))
	reaches := map[string]Request{}
	for _, q := range questions {
		r := Request{q, fmt.Sprintf("%s%08x", probemsg.PingPrefix, payloads.Add(1))}
		if what, ok := q.Ask.(claims.AskReach); ok {
			to, why := s.target(what)
			if why != "" {
				from, _ := what.From.In(s.Plan)
				tell(
					claims.Answer{
						ID:       q.ID,
						Got:      claims.GotReach{Outcome: outcome.Outcome{Code: outcome.NoAddress, Detail: why}},
						Evidence: Reading(from.Machine, "%s", why),
					},
				)
				continue
			}
			what.Address = to
			r.Question.Ask = what
			reaches[q.ID] = r
		}
		list = append(list, r)
	}
	if len(list) == 0 {
		return func(func(claims.Answer)) {}
	}
	return s.Machines.Ask(ctx, witness, list, func(a claims.Answer) {
		if r, ok := reaches[a.ID]; ok {
			a = s.reach(r, witness, a)
		}
		tell(a)
	})
}

// reach completes the answer whether something was reached: with who saw a ping's source,
// which only the witness can tell.
func (s *Stage) reach(r Request, witness claims.Witness, a claims.Answer) claims.Answer {
	q := r.Question.Ask.(claims.AskReach)
	got, ok := a.Got.(claims.GotReach)
	if !ok {
		return a
	}
	from, _ := q.From.In(s.Plan)
	if got.Answered && q.Address == witness.Address {
		s.mu.Lock()
		s.reached[from] = q.Service
		s.mu.Unlock()
	}
	if got.Answered && q.Service.Proto == lab.ICMP {
		s.Loop.Do(s.ctx, func(time.Duration) { got.Source = s.Live.Saw(r.Payload) })
	}
	text := fmt.Sprintf("%s to %s by %s", from.Machine.Name, q.Address, q.Service)
	switch {
	case q.Size > 0 && q.Service.Proto == lab.TCP:
		text += fmt.Sprintf(" with %d bytes each way", probemsg.Stream)
	case q.Size > 0:
		text += fmt.Sprintf(" with packets of %d bytes", cmp.Or(got.Carries, q.Size))
	}
	switch {
	case got.Answered && got.Source.IsValid():
		text += fmt.Sprintf(" answered; %s saw %s", cmp.Or(got.Who, "the far end"), got.Source)
	case got.Answered:
		text += " answered"
	default:
		text += ": " + got.Outcome.String()
	}
	a.Got, a.Evidence = got, Reading(from.Machine, "%s", text)
	return a
}

// target returns the address that a question goes to, or why it has none.
func (s *Stage) target(q claims.AskReach) (to netip.Addr, why string) {
	if q.Address.IsValid() {
		return q.Address, ""
	}
	a, err := q.To.In(s.Plan)
	switch {
	case err != nil:
		return to, err.Error()
	case a == nil:
		return s.Live.Facts().Witness.Address, ""
	case !s.Machines.Has(a.Machine):
		s.Loop.Do(s.ctx, func(time.Duration) { to, why = s.Live.AddressOf(a, q.IPv6) })
		return to, why
	}
	four, six := s.Machines.Addresses(a)
	if q.IPv6 {
		if i := slices.IndexFunc(six, func(p netip.Prefix) bool { return p.IsValid() }); i >= 0 {
			return six[i].Addr(), ""
		}
		return to, a.Machine.Name + " has no IPv6 address"
	}
	if four.IsValid() {
		return four.Addr(), ""
	}
	return to, a.Machine.Name + " has no address"
}
