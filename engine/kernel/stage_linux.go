package kernel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/vishvananda/netlink"

	"openbastion/core/ask"
	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/names"
	"openbastion/core/node"
	"openbastion/core/plan"
	"openbastion/core/subnet"
)

// Open has the guests say who they are, so that what reaches them is known.
func (l *Lab) Open(_ context.Context, p *plan.Plan) (claims.Facts, error) {
	if p.Name != l.plan.Name {
		return claims.Facts{}, fmt.Errorf("the lab that runs is %s", l.plan.Name)
	}
	if err := l.introduce(true); err != nil {
		return claims.Facts{}, err
	}
	facts := l.live.Facts()
	facts.Name = "kernel"
	l.asked = claims.Asked(p, facts)
	l.mu.Lock()
	l.reached = map[*plan.Adapter]lab.Service{}
	l.mu.Unlock()
	return facts, nil
}

// Close ends what Open began.
func (l *Lab) Close(context.Context) error {
	l.late = nil
	return l.introduce(false)
}

// Set plugs or unplugs every appliance's WAN, at the switch.
func (l *Lab) Set(ctx context.Context, c claims.Condition) (err error) {
	l.switches.Do(l.ctx, func(time.Duration) {
		l.tellAddresses()
		err = l.plug(ctx, c)
	})
	l.condition = c
	return errors.Join(err, ctx.Err())
}

// plug plugs or unplugs, from the switch's loop. Once plugged, appliances ask anew where
// their neighbors are: of one that did not answer while a cable was out a kernel asks
// again only after a while.
func (l *Lab) plug(ctx context.Context, c claims.Condition) error {
	err := l.live.Set(ctx, c)
	if c != claims.Running {
		return err
	}
	for m, x := range l.machines {
		if m.Appliance != nil {
			x.forget()
		}
	}
	return err
}

// tellAddresses tells the simulated part of the lab which addresses the real machines
// have. It is called from the switch's loop.
func (l *Lab) tellAddresses() {
	for _, a := range l.live.Adapters {
		x := l.machines[a.Machine]
		if x.foreign() {
			l.observe(x, a)
		}
		s := x.now(a)
		l.live.SetAddresses(a, s.Address, l.six(a))
	}
}

// six gives the IPv6 addresses that the kernel has on an adapter, link-local ones left
// out.
func (l *Lab) six(a *plan.Adapter) []netip.Prefix {
	if !speaks6(a) {
		return nil
	}
	x := l.machines[a.Machine]
	link, err := x.link(a)
	if err != nil {
		return nil
	}
	list, err := x.space.links.AddrList(link, netlink.FAMILY_V6)
	if err != nil {
		return nil
	}
	var out []netip.Prefix
	for _, o := range list {
		at, ok := netip.AddrFromSlice(o.IP)
		bits, _ := o.Mask.Size()
		if ok && at.Is6() && !at.IsLinkLocalUnicast() {
			out = append(out, netip.PrefixFrom(at, bits))
		}
	}
	return out
}

// asked is one question to a real machine on its way.
type asked struct {
	q      claims.Question
	finish func() claims.Answer // reads what came; nil: answered already
	answer claims.Answer
}

// Ask puts the questions: first those of real machines, all at once, by their kernels'
// own stacks and by packet sockets; then those of whom the lab simulates; last, what
// makes guests hostile, from the switch in their place.
func (l *Lab) Ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	var own, simulated, hostile []claims.Question
	for _, q := range questions {
		switch k := q.KindOf(); {
		case l.away != "" && ofWitness(q.Ask):
			tell(claims.Answer{ID: q.ID, Missing: "the lab's outside is what is on " + l.away + ", and nobody there reports what arrives"})
		case l.ofKernel(q.Ask):
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
	ask := func(list []claims.Question) (err error) {
		if len(list) > 0 {
			l.switches.Do(l.ctx, func(time.Duration) {
				l.tellAddresses()
				err = l.live.Ask(ctx, list, told)
			})
		}
		return err
	}
	var both sync.WaitGroup
	var err error
	both.Go(func() { err = ask(simulated) })
	late, before := l.askAll(ctx, own, told), l.late
	l.late = nil
	both.Wait()
	if err == nil && ctx.Err() == nil && len(hostile) > 0 {
		err = l.assault(ctx, hostile, told)
	}
	if before != nil {
		before(told)
	}
	if n := len(l.asked); n > 0 && l.condition != l.asked[n-1] {
		l.late = late // there is a next time to tell it: nobody waits meanwhile
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

// ofKernel tells a question that goes to a real machine.
func (l *Lab) ofKernel(what claims.Asking) bool {
	at, ok := subject(what)
	if !ok {
		return false
	}
	a, err := at.In(l.plan)
	return err == nil && a != nil && l.machines[a.Machine] != nil
}

// subject gives the adapter that answers a question by itself.
func subject(what claims.Asking) (claims.Ref, bool) {
	switch q := what.(type) {
	case claims.AskAddress:
		return q.At, true
	case claims.AskLease:
		return q.At, true
	case claims.AskServers:
		return q.At, true
	case claims.AskRouters:
		return q.At, true
	case claims.AskIPv6:
		return q.At, true
	case claims.AskNeighbor:
		return q.At, true
	case claims.AskName:
		return q.At, true
	case claims.AskHop:
		return q.At, true
	case claims.AskOwners:
		return q.At, true
	case claims.AskReach:
		return q.From, true
	}
	return claims.Ref{}, false
}

// maxAtOnce bounds how many probes are under way at once.
const maxAtOnce = 128

// hearing is how long they wait for neighbors and routers, who answer at once.
const hearing = time.Second

// askAll puts questions to real machines. Those to everybody on a segment are put
// first, and listened to while the others are asked. What it gives waits for who hands
// out leases, which takes longest and nothing hostile disturbs, and tells that too.
func (l *Lab) askAll(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) (late func(tell func(claims.Answer))) {
	list := make([]asked, len(questions))
	began := time.Now()
	for i, q := range questions {
		list[i].q = q
		list[i].finish = l.listen(q.Ask, l.at(q.Ask))
	}
	var all sync.WaitGroup
	places := make(chan struct{}, maxAtOnce)
	for i := range list {
		if list[i].finish != nil {
			continue
		}
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			list[i].answer = l.probe(ctx, list[i].q.Ask, l.at(list[i].q.Ask))
		})
	}
	all.Wait()
	finish := func(until func() time.Time, patient bool, tell func(claims.Answer)) {
		waited := false
		for i := range list {
			if _, is := list[i].q.Ask.(claims.AskServers); is != patient {
				continue
			}
			if list[i].finish != nil {
				if !waited {
					pause(ctx, time.Until(until()))
					waited = true
				}
				l.shadows.Do(l.ctx, func(time.Duration) { list[i].answer = list[i].finish() })
			}
			list[i].answer.ID = list[i].q.ID
			tell(list[i].answer)
		}
	}
	finish(func() time.Time { return began.Add(hearing) }, false, tell)
	return func(tell func(claims.Answer)) { finish(l.surveyed, true, tell) }
}

// at gives the adapter that a question goes to, which has been found before.
func (l *Lab) at(what claims.Asking) *plan.Adapter {
	ref, _ := subject(what)
	a, _ := ref.In(l.plan)
	return a
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// reading is evidence by what a machine's kernel, or its packet socket, says.
func reading(m *plan.Machine, format string, args ...any) []claims.Evidence {
	return []claims.Evidence{{Reading: "the kernel of " + m.Name, At: time.Now(), Text: fmt.Sprintf(format, args...)}}
}

// listen starts what is asked by packet sockets, and gives what reads its outcome; nil
// for all other questions. Both run in the shadows' loop.
func (l *Lab) listen(what claims.Asking, a *plan.Adapter) (finish func() claims.Answer) {
	x := l.machines[a.Machine]
	l.shadows.Do(l.ctx, func(now time.Duration) {
		switch q := what.(type) {
		case claims.AskServers:
			l.survey(now, a)
			finish = func() claims.Answer { return l.servers(a) }
		case claims.AskRouters:
			finish = l.routers(now, x, a)
		case claims.AskIPv6:
			finish = func() claims.Answer { return l.gotSix(x, a) }
		case claims.AskNeighbor:
			finish = neighbor(now, x, a)
		case claims.AskOwners:
			finish = owners(now, x, a, q.Addresses)
		}
	})
	return finish
}

func (l *Lab) routers(now time.Duration, x *machine, a *plan.Adapter) func() claims.Answer {
	port := x.ports[a]
	mute := port.IPv6 == nil
	if mute {
		port.IPv6 = &node.IPv6{}
		x.shadow.StartSix(now, port)
	}
	x.shadow.SolicitRouters(now, port)
	six := port.IPv6
	return func() claims.Answer {
		got, out := claims.GotRouters{}, claims.Answer{}
		for _, h := range six.Heard {
			got.Routers = append(got.Routers, claims.Router{Address: h.Router, MAC: h.MAC, Prefix: h.Prefix})
			out.Evidence = append(out.Evidence, reading(a.Machine, "%s at %s announces %s", h.Router, h.MAC, h.Prefix)...)
		}
		if len(got.Routers) == 0 {
			out.Evidence = reading(a.Machine, "%s asked who announces IPv6, and nobody answered", a.Machine.Name)
		}
		if mute {
			port.IPv6 = nil
		}
		out.Got = got
		return out
	}
}

// gotSix tells what the kernel made itself of what was announced, and which resolvers
// that names.
func (l *Lab) gotSix(x *machine, a *plan.Adapter) claims.Answer {
	six := x.ports[a].IPv6
	if six == nil {
		return claims.Answer{Missing: a.Machine.Name + " speaks no IPv6 there"}
	}
	got := claims.GotIPv6{Address: claims.Telling(l.six(a), a.Segment.Subnet6), Router: six.Router, Resolvers: slices.Clone(six.DNS)}
	return claims.Answer{Got: got, Evidence: reading(a.Machine, "%s has the IPv6 address %s, router %s, %s", a.Machine.Name,
		got.Address, got.Router, subnet.Named("resolver", got.Resolvers))}
}

func neighbor(now time.Duration, x *machine, a *plan.Adapter) func() claims.Answer {
	s := x.now(a)
	if !s.Gateway.IsValid() {
		why := "it has no gateway"
		if !s.Address.IsValid() {
			why = "it has no address"
		}
		return func() claims.Answer {
			return claims.Answer{Got: claims.GotNeighbor{Saw: why}, Evidence: reading(a.Machine, "%s: %s", a.Machine.Name, why)}
		}
	}
	inquiry := x.shadow.Inquire(now, x.ports[a], s.Gateway)
	return func() claims.Answer {
		text := fmt.Sprintf("nobody answers for %s", s.Gateway)
		if len(inquiry.Answers) > 0 {
			text = fmt.Sprintf("%s is at %s", s.Gateway, inquiry.Answers[0])
		}
		return claims.Answer{Got: claims.GotNeighbor{Hop: s.Gateway, Hardware: slices.Clone(inquiry.Answers)},
			Evidence: reading(a.Machine, "%s", text)}
	}
}

func owners(now time.Duration, x *machine, a *plan.Adapter, addresses []netip.Addr) func() claims.Answer {
	var list []*node.Inquiry
	for _, address := range addresses {
		list = append(list, x.shadow.Inquire(now, x.ports[a], address))
	}
	return func() claims.Answer {
		got, n := claims.GotOwners{}, 0
		for i, q := range list {
			owners := slices.Clone(q.Answers)
			if x.ports[a].Owns(addresses[i]) {
				owners = append(owners, a.MAC)
			}
			got.Owners = append(got.Owners, owners)
			n += len(owners)
		}
		return claims.Answer{Got: got, Evidence: reading(a.Machine, "%s asked for %d addresses, and %d hardware addresses answered",
			a.Machine.Name, len(list), n)}
	}
}

// probe asks what a machine's kernel answers by itself.
func (l *Lab) probe(ctx context.Context, what claims.Asking, a *plan.Adapter) claims.Answer {
	x := l.machines[a.Machine]
	s := x.now(a)
	switch q := what.(type) {
	case claims.AskAddress:
		return claims.Answer{Got: claims.GotAddress{Address: s.Address}, Evidence: reading(a.Machine, "port %s has %s", a.Name, s.Address)}
	case claims.AskLease:
		if x.ports[a].Client == nil {
			return claims.Answer{Missing: a.Machine.Name + " asks for no lease"}
		}
		text := a.Machine.Name + " asked for a lease and got none"
		if b := s.Lease; b != nil {
			text = fmt.Sprintf("%s acknowledges %s, for %s", b.ServerMAC, b.Address, plan.Lasting(b.Duration))
		}
		return claims.Answer{Got: claims.GotLease{Lease: s.Lease}, Evidence: reading(a.Machine, "%s", text)}
	case claims.AskName:
		if len(s.DNS) == 0 {
			return claims.Answer{Got: claims.GotName{Saw: "none was named"}, Evidence: reading(a.Machine, "%s knows no resolver", a.Machine.Name)}
		}
		got := x.space.lookUp(ctx, s.DNS[0], l.live.Facts().Witness.Name)
		got.Saw = names.Says(got.Saw)
		return claims.Answer{Got: got, Evidence: reading(a.Machine, "%s says of %s: %s, %s", s.DNS[0], l.live.Facts().Witness.Name, got.Saw,
			strings.Join(subnet.Texts(got.Addresses), ", "))}
	case claims.AskHop:
		e, err := x.space.ping(ctx, l.live.Facts().Witness.Address, 1, l.payload())
		got := claims.GotHop{Saw: saw(err)}
		if e.expired {
			got.Router = e.from
		}
		return claims.Answer{Got: got, Evidence: reading(a.Machine, "a packet with one hop to live: %s",
			cmp.Or(got.Saw, "its time was over at "+e.from.String()))}
	case claims.AskReach:
		return l.askReach(ctx, q, a)
	}
	return claims.Answer{Missing: fmt.Sprintf("a kernel is not asked for %T", what)}
}

var payloads atomic.Int64

// payload gives what a ping carries, each its own, by which the witness knows it.
func (l *Lab) payload() string { return fmt.Sprintf("%s%08x", ask.PingPrefix, payloads.Add(1)) }

// askReach asks whether a service reaches an adapter, or the witness.
func (l *Lab) askReach(ctx context.Context, q claims.AskReach, from *plan.Adapter) claims.Answer {
	to, why := l.target(q)
	if why != "" {
		return claims.Answer{Got: claims.GotReach{Saw: why}, Evidence: reading(from.Machine, "%s", why)}
	}
	payload := l.payload()
	got, err := l.machines[from.Machine].space.reach(ctx, q.Service, to, payload)
	if err != nil {
		return claims.Answer{Missing: err.Error()}
	}
	if got.Answered && to == l.live.Facts().Witness.Address {
		l.mu.Lock()
		l.reached[from] = q.Service
		l.mu.Unlock()
	}
	if got.Answered && q.Service.Proto == lab.ICMP {
		l.switches.Do(l.ctx, func(time.Duration) { got.Source = l.live.Saw(payload) })
	}
	text := fmt.Sprintf("%s to %s by %s", from.Machine.Name, to, q.Service)
	switch {
	case got.Answered && got.Source.IsValid():
		text += fmt.Sprintf(" answered; %s saw %s", cmp.Or(got.Who, "the far end"), got.Source)
	case got.Answered:
		text += " answered"
	default:
		text += ": " + got.Saw
	}
	return claims.Answer{Got: got, Evidence: reading(from.Machine, "%s", text)}
}

// target gives the address that a question goes to, or why it has none.
func (l *Lab) target(q claims.AskReach) (to netip.Addr, why string) {
	if q.Address.IsValid() {
		return q.Address, ""
	}
	a, err := q.To.In(l.plan)
	switch {
	case err != nil:
		return to, err.Error()
	case a == nil:
		return l.live.Facts().Witness.Address, ""
	}
	x := l.machines[a.Machine]
	if x == nil {
		l.switches.Do(l.ctx, func(time.Duration) { to, why = l.live.AddressOf(a, q.IPv6) })
		return to, why
	}
	if q.IPv6 {
		if has := l.six(a); len(has) > 0 {
			return has[0].Addr(), ""
		}
		return to, a.Machine.Name + " has no IPv6 address"
	}
	if s := x.now(a); s.Address.IsValid() {
		return s.Address.Addr(), ""
	}
	return to, a.Machine.Name + " has no address"
}
