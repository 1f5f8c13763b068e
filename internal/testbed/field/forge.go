package field

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// sent is a run of forged packets, and whether the WAN was unplugged meanwhile.
type sent struct {
	evidence.Run
	cut bool
}

// forge sends what a hostile guest forges: packets with others' sources, malformed ones, to
// each next hop there may be. The witness hears those that come through, and is asked later
// ([Probe.Settle]). It says why it did not.
// Lies to neighbors are not told: those would trouble a network that is not ours.
func (s *Probe) forge(ctx context.Context, question string) string {
	if s.packets == nil {
		return "forged packets were not sent: " + s.why
	}
	if !s.Witness.Address.Is4() {
		return "forged packets need a test server with an IPv4 address"
	}
	tied := s.tied
	if err := s.send(ctx, question, s.plan, tied, s.forged); err != nil {
		return "forged packets could not be sent: " + err.Error()
	}
	extra := System{Adapters: s.besides()}
	if len(extra.Adapters) == 0 {
		return ""
	}
	p, err := extra.ownPlan()
	if err == nil {
		tied, _ = extra.tie(p.Guests()[0])
		err = s.send(ctx, question, p, tied, func(run uint32) attack.Attempts { return s.forgedBesides(p, tied, run) })
	}
	if err != nil {
		return "forged packets could not be sent by what is not in the plan: " + err.Error()
	}
	return ""
}

// send sends a run of forged packets that a plan's adapters are to send.
func (s *Probe) send(ctx context.Context, question string, p *plan.Plan, tied map[*plan.Adapter]*Adapter,
	forged func(run uint32) attack.Attempts) error {
	run := sent{evidence.Run{Number: 1 + rand.Uint32N(1<<32-1), Question: question}, s.cut}
	s.mu.Lock()
	through := s.through
	s.mu.Unlock()
	if through.way != 0 && !s.cut { // so that the test server keeps what comes of it, whatever strangers send
		_, _, _ = s.ask(ctx, through, leaving{}, run.Number, 0)
	}
	by := map[string][][]byte{} // frames by adapter
	for _, t := range forged(run.Number) {
		f := evidence.Forged{Tried: t.Tried, By: t.From}
		a, err := t.From.In(p)
		if err != nil {
			continue
		}
		x := tied[a]
		if p != s.plan {
			f.By = claims.Ref{Machine: s.Self}
			if x != nil {
				f.Tried += ", " + x.Name + ", which is not in the plan"
			}
		}
		run.Forged = append(run.Forged, f)
		if x != nil && x.Up {
			by[x.Name] = append(by[x.Name], t.Aim(0))
			run.Sent++
		}
	}
	for name, frames := range by {
		if err := sendFrames(ctx, name, frames); err != nil {
			return err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.runs = append(s.runs, run)
	return nil
}

// besides returns the adapters that are not in the plan and by which frames can be sent.
func (s *Probe) besides() (out []Adapter) {
	for _, w := range s.ways {
		if x := w.adapter; x != nil && w.Kind != routeKind && x.Up && x.Within == "" && !x.MAC.IsZero() {
			out = append(out, *x)
		}
	}
	return out
}

// forgedBesides lists what this machine can forge by adapters that are not in the plan: to each next hop that its
// system knows there, from its address, or from one that a DHCP server offers.
func (s *Probe) forgedBesides(p *plan.Plan, tied map[*plan.Adapter]*Adapter, run uint32) attack.Attempts {
	k := attack.Known{Witness: s.Witness.Address, Witness6: reachability.Witness6, Addresses: map[claims.Ref][]netip.Addr{},
		Routers: map[string][]attack.Hop{}, Run: run}
	s.mu.Lock()
	defer s.mu.Unlock()
	for a, x := range tied {
		ref := claims.RefTo(a)
		for _, at := range x.routable() {
			k.Addresses[ref] = append(k.Addresses[ref], at.Addr())
		}
		for _, o := range s.offered[x.Name] {
			k.Addresses[ref] = append(k.Addresses[ref], o.Address)
			k.Routers[a.Segment.Name] = append(k.Routers[a.Segment.Name], attack.Hop{MAC: o.ServerMAC, Name: o.Server.String()})
		}
		known, _ := x.neighbors()
		for _, at := range slices.SortedFunc(maps.Keys(known), netip.Addr.Compare) {
			k.Routers[a.Segment.Name] = append(k.Routers[a.Segment.Name], attack.Hop{MAC: known[at], Name: at.String()})
		}
	}
	list := attack.Escape(p, p.Guests()[0], k)
	if i := slices.IndexFunc(list, func(t attack.Attempt) bool { return t.AfterLies }); i >= 0 {
		list = list[:i]
	}
	return list[:min(len(list), witness.MostAttempts)]
}

// forged lists what this machine can forge, from what its system knows.
func (s *Probe) forged(run uint32) attack.Attempts {
	model := reachability.New(s.plan, s.Witness.Address)
	k := attack.Known{
		Witness:   s.Witness.Address,
		Witness6:  reachability.Witness6,
		Addresses: map[claims.Ref][]netip.Addr{},
		Forge:     map[string][]netip.Addr{},
		Routers:   map[string][]attack.Hop{},
		Run:       run,
	}
	for _, a := range s.self.Adapters {
		k.Forge[a.Segment.Name] = model.ToldApart(a.Segment)
		x := s.adapter(a)
		if x == nil {
			continue
		}
		for _, p := range x.Addresses {
			if !p.Addr().IsLinkLocalUnicast() {
				k.Addresses[claims.RefTo(a)] = append(k.Addresses[claims.RefTo(a)], p.Addr())
			}
		}
		for _, w := range s.ways {
			if w.adapter == x && w.via.Is4() {
				poke(w.via)
			}
		}
		known, _ := x.neighbors() // whom it does not know it can hand nothing to
		for _, at := range slices.SortedFunc(maps.Keys(known), netip.Addr.Compare) {
			m := known[at]
			if !slices.ContainsFunc(s.plan.Adapters, func(o *plan.Adapter) bool { return o.MAC == m }) {
				k.Routers[a.Segment.Name] = append(
					k.Routers[a.Segment.Name],
					attack.Hop{MAC: m, Name: "the stranger " + at.String()},
				)
			}
		}
	}
	list := attack.Escape(s.plan, s.self, k)
	if i := slices.IndexFunc(list, func(t attack.Attempt) bool { return t.AfterLies }); i >= 0 {
		list = list[:i]
	}
	return list[:min(len(list), witness.MostAttempts)]
}

// onTheWay is how long forged packets may be on their way.
const onTheWay = 300 * time.Millisecond

// Settle asks the witness what it heard of forged packets, once this machine gets through to
// it again, and puts that into the answers. Those that were sent while the WAN was unplugged
// count only when the same ones come through with it plugged. It gives the runs.
func (s *Probe) Settle(ctx context.Context, answers []claims.Answer) (runs []evidence.Run) {
	s.mu.Lock()
	list, through := s.runs, s.through
	s.mu.Unlock()
	said := ""
	if through.way != 0 && slices.ContainsFunc(list, func(r sent) bool { return r.cut }) {
		heard, of := s.control(ctx, through)
		said = fmt.Sprintf("with the WAN plugged in it received %d of %d", heard, of)
		if heard == 0 {
			through.way = 0
		}
	}
	for _, r := range list {
		i := slices.IndexFunc(answers, func(a claims.Answer) bool { return a.ID == r.Question })
		if i < 0 {
			continue // what was sent as a control
		}
		a := &answers[i]
		if through.way != 0 {
			heard, listening, err := s.heard(ctx, through, r.Number)
			if r.Told = err == nil && (listening || len(heard) > 0); r.Told {
				r.Heard(s.plan, a, heard, listening, time.Now())
			}
		}
		switch {
		case !r.Told:
			a.Evidence = append(
				a.Evidence,
				s.reading("%d forged packets were sent as well: the test server's record shows what became of them "+
					"(verify --from)", r.Sent)...)
		case r.cut:
			a.Evidence = append(a.Evidence, claims.Evidence{Reading: "the test server", At: time.Now(), Text: said})
		}
		runs = append(runs, r.Run)
	}
	return runs
}

// control forges packets with the WAN plugged, and gives how many of them the witness hears.
func (s *Probe) control(ctx context.Context, through tried) (heard, of int) {
	if s.forge(ctx, "") != "" {
		return 0, 0
	}
	s.mu.Lock()
	run := s.runs[len(s.runs)-1]
	s.mu.Unlock()
	time.Sleep(onTheWay)
	attempts, _, err := s.heard(ctx, through, run.Number)
	if err != nil {
		return 0, run.Sent
	}
	return len(attempts), run.Sent
}

// seesBy is how often in a row the witness must not be reached, by any way, for it to be cut off,
// and how long is between: a moment without an answer is none.
const (
	seesBy    = 4
	seesEvery = 200 * time.Millisecond
)

// Sees waits until this machine, which reached the witness before, no longer does, or does again
// when the WAN is plugged in. One that never reached it sees nothing: it waits until the context
// ends, and is told false.
func (s *Probe) Sees(ctx context.Context, plugged bool) bool {
	s.mu.Lock()
	through := s.through
	s.mu.Unlock()
	for missed := 0; through.way != 0 && ctx.Err() == nil; time.Sleep(seesEvery) {
		by := through
		if missed > 0 { // it may be that way only
			by = ways[missed%len(ways)]
		}
		_, _, err := s.ask(ctx, by, leaving{}, 0, 0)
		switch {
		case ctx.Err() != nil:
		case err == nil && plugged:
			return true
		case err == nil:
			missed = 0
		default:
			if missed++; missed >= seesBy && !plugged {
				return true
			}
		}
	}
	<-ctx.Done()
	return false
}

// heard asks the witness what it heard of a run.
func (s *Probe) heard(ctx context.Context, through tried, run uint32) (attempts []int, listening bool, err error) {
	for {
		r, signed, err := s.ask(ctx, through, leaving{}, run, len(attempts))
		if err != nil {
			return nil, false, err
		}
		s.keep(signed)
		for _, a := range r.Heard.Attempts {
			attempts = append(attempts, int(a))
		}
		if len(r.Heard.Attempts) == 0 || len(attempts) >= r.Heard.Count {
			return attempts, r.Heard.Listening, nil
		}
	}
}
