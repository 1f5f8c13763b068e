package claims

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// proved are the kinds of claims that the proof decides, for all packets.
var proved = sync.OnceValue(func() map[Kind]bool {
	return map[Kind]bool{
		Behind:       true,
		Separated:    true,
		NoDuplicates: true,
		Blocked:      true,
		NoBypass:     true,
		Segments:     true,
		Expect:       true,
		Inbound:      true,
	}
})

// planReading is evidence by the plan itself.
func planReading(text string) Evidence { return Evidence{Reading: "the plan", Text: text} }

// stated breaks a claim by what the plan alone shows.
func stated(why Reason) part {
	return part{judge: func(r *Result, _ []Got) {
		r.fail(why)
		r.Evidence = append(r.Evidence, planReading(why.Text()))
	}}
}

// shows lets a claim hold by what the plan alone shows.
func shows(saw string) part {
	return part{judge: func(r *Result, _ []Got) {
		if r.Verdict == Holds && r.Observed == "" {
			r.Observed = saw
		}
		r.Evidence = append(r.Evidence, planReading(saw))
	}}
}

// leadsOut reports whether the outermost appliance in a row leads outside: a closed
// range has no outside.
func leadsOut(m *reachability.Model, a *plan.Machine) bool {
	ways := waysOut(a.Outermost())
	return len(ways) == 0 || slices.ContainsFunc(ways, m.OuterWAN)
}

// PacketOf makes the question for an escape's packet: who takes it in?
func PacketOf(p *plan.Plan, e *reachability.Escape) AskPacket {
	q := AskPacket{Packet: e.Packet, To: leased(p, e)}
	q.Hop, q.On = next(p, e.Path, 2)
	if e.Sender != nil {
		q.From = RefTo(e.Sender)
	} else {
		q.Segment = e.Path[1]
	}
	for i := 2; i+2 < len(e.Path); i += 2 {
		m := p.Machine(e.Path[i])
		if m != nil && m.Transparent() {
			continue
		}
		if m == nil || m.Guest == nil {
			break
		}
		for _, a := range m.Adapters {
			if a.Plugged && a.Segment.Name == e.Path[i+1] {
				leg := Leg{By: RefTo(a)}
				leg.Hop, leg.On = next(p, e.Path, i+2)
				q.Then = append(q.Then, leg)
				break
			}
		}
	}
	return q
}

// next returns the station to which a frame goes at a place of a path, and the
// segment on which that stands: a bridge is no hop.
func next(p *plan.Plan, path []string, i int) (hop, on string) {
	for ; i+2 < len(path); i += 2 {
		if m := p.Machine(path[i]); m == nil || !m.Transparent() {
			break
		}
	}
	return path[i], path[i-1]
}

// leased returns the adapter whose address the packet of an escape goes to, where
// that is known only once somebody gave it a lease; else the zero Ref.
func leased(p *plan.Plan, e *reachability.Escape) Ref {
	may := func(a *plan.Adapter) bool {
		return a.Plugged && !a.Address.IsValid() && a.How != plan.NoAddress &&
			a.Segment.Subnet.Contains(e.Packet.Destination)
	}
	if to := p.Machine(e.To); to != nil && !e.Public {
		last := "" // the segment by which the way gets there: the guest may be on both sides of a bridge
		if len(e.Path) > 1 {
			last = e.Path[len(e.Path)-2]
		}
		for _, here := range []bool{true, false} {
			for _, a := range to.Adapters {
				if may(a) && (a.Segment.Name == last) == here {
					return RefTo(a)
				}
			}
		}
	}
	if !e.Public {
		return Ref{}
	}
	for _, name := range e.Path { // an appliance's address outside, where something is published
		if m := p.Machine(name); m != nil && m.Appliance != nil {
			for _, a := range m.WAN() {
				if may(a) {
					return RefTo(a)
				}
			}
		}
	}
	return Ref{}
}

// escaped breaks a claim by a way that the proof found, and has its packet sent:
// proof and stage must agree.
func escaped(p *plan.Plan, c Condition, e *reachability.Escape, do Remedy) part {
	return part{asks: []ask{{c, PacketOf(p, e)}}, any: func(r *Result, got []Got) (missing bool) {
		why := Reason{
			Code:     "bypass",
			Subject:  e.From,
			Observed: e.To,
			Detail:   pathText(e.Path, sentAs(e)),
			Do:       do,
		}
		saw := why.Text()
		r.fail(why)
		if r.Kind != Behind &&
			r.Escapes == nil { // else what was tried shows it, or the claim that this one follows from
			r.Escapes = append(
				r.Escapes,
				Way{From: e.From, To: e.To, Path: e.Path, Tried: e.Packet.String(), Packet: planReading(saw)},
			)
		}
		r.Evidence = append(r.Evidence, planReading(fmt.Sprintf("the proof: %s; for example %s", e.Reason, e.Packet)))
		if got[0] == nil {
			return true
		}
		published := e.Public && c == Unplugged // with its WAN down it may have lost the address at which it publishes
		if took := got[0].(GotPacket); !e.Maybe && !published && !took.TakenBy(e.To) {
			r.disagree = fmt.Sprintf(
				"the proof finds a path for %s to %s by %s, but the packet did not arrive; it went %s",
				e.Packet,
				e.To,
				strings.Join(e.Path, " → "),
				strings.Join(took.Path, " → "),
			)
		}
		return false
	}}
}

// sentAs describes the packet of an escape: by whose address it is sent, and which rule lets it pass.
func sentAs(e *reachability.Escape) string {
	text := e.Packet.String()
	if a := e.Sender; a != nil && a.Address.IsValid() && e.Packet.Source.Is4() && e.Packet.Source != a.Address.Addr() {
		text += ", not its own address"
	}
	if e.Rule != nil {
		text += fmt.Sprintf(", allowed by %q, %s", e.Rule.Text, e.Rule.Place())
	}
	return text
}

// attacked are the parts of a claim that a guest gets nowhere outside: what the
// proof says, and what a hostile guest tries that stands as it does.
func attacked(m *reachability.Model, c Condition, g *plan.Machine, way *reachability.Escape, partial bool) []part {
	p, by := m.Plan(), m.Alike(g)
	parts := []part{{asks: []ask{{c, AskAttack{by.Name}}}, judge: func(r *Result, got []Got) {
		switch o := got[0].(GotAttack); {
		case by != g && way != nil && len(o.Ways) > 0: // its own packet shows it
			r.Evidence = nil
			return
		case by != g && len(o.Ways) == 0 && o.Attempts > 0:
			r.Observed = fmt.Sprintf(
				"covered by %s (same segment, same settings): %d attempts, none got out",
				by.Name,
				o.Attempts,
			)
		default:
			judgeAttack(r, got)
		}
		if r.Verdict == Broken && way == nil && !partial {
			r.disagree = "the proof finds no path outside, but one was found: " + r.Observed
		}
	}}}
	switch {
	case way != nil:
		parts = append(parts, escaped(p, c, way, closePath))
	case partial:
		parts = append(parts, undecided())
	}
	return parts
}

// undecided leaves a claim unknown where the proof could not look at all packets.
func undecided() part {
	return part{judge: func(r *Result, _ []Got) {
		if r.Verdict == Holds {
			r.Verdict, r.Observed = Unknown, "the rules are too many for a proof over all packets"
		}
	}}
}

func cutClaim(m *reachability.Model, g *plan.Machine, home *plan.Adapter) claim {
	way, partial := m.Around(g)
	return claim{
		Result: Result{ID: g.Name + "." + string(NoBypass), Guest: g.Name, Kind: NoBypass},
		guests: []string{g.Name},
		lone:   home.Segment.Name,
		parts:  attacked(m, Unplugged, g, way, partial),
	}
}

// behindClaim says that a guest stands behind an appliance, unless it is meant to
// stand outside.
func behindClaim(m *reachability.Model, g *plan.Machine) claim {
	c := claim{Result: Result{ID: g.Name + "." + string(Behind), Guest: g.Name, Kind: Behind}, guests: []string{g.Name}}
	stands, way := m.Standing(g)
	switch {
	case g.Off:
		c.parts = []part{
			{judge: func(r *Result, _ []Got) { r.Verdict, r.Observed = Unknown, "the guest is switched off" }},
		}
	case g.Guest.Outside:
		c.parts = []part{shows("outside on purpose")}
	case stands == reachability.Exposed:
		c.parts = []part{escaped(m.Plan(), Unplugged, way, moveInside)}
	case stands == reachability.Lost:
		c.parts = []part{stated(Reason{Code: "no-appliance", Subject: g.Name, Segment: g.Adapters[0].Segment.Name})}
	case stands == reachability.Beside:
		c.parts = []part{shows("next to a one-armed appliance, which it can bypass by design")}
	case stands == reachability.Closed:
		c.parts = []part{shows("no path outside from its segment")}
	default:
		c.parts = []part{shows("every path outside is through an appliance")}
	}
	return c
}

// apartClaim says that the sides of an appliance are wires of their own.
func apartClaim(m *reachability.Model, a *plan.Machine) claim {
	c := claim{Result: Result{ID: a.Name + "." + string(Separated), Appliance: a.Name, Kind: Separated}}
	for _, s := range m.Sides(a) {
		why := Reason{Code: "sides-joined", Subject: a.Name, Port: portOf(s.One), By: portOf(s.Other), Detail: s.Why}
		if s.One == s.Other {
			why.Code = "side-outside"
		}
		c.parts = append(c.parts, stated(why))
	}
	if c.parts == nil {
		c.parts = []part{shows("each side is a broadcast domain of its own")}
	}
	return c
}

// maxOwned bounds how many addresses of one segment are asked for.
const maxOwned = 64

// soleClaim says that each planned address and hardware address of a segment is
// there once.
func soleClaim(m *reachability.Model, s *plan.Segment) (claim, bool) {
	c := claim{Result: Result{ID: s.Name + "." + string(NoDuplicates), Segment: s.Name, Kind: NoDuplicates}}
	for _, t := range m.Twins(s) {
		c.parts = append(
			c.parts,
			stated(
				Reason{
					Code:     "duplicate",
					Subject:  s.Name,
					Segment:  s.Name,
					Observed: t.What,
					By:       strings.Join(t.Names, " and "),
				},
			),
		)
	}
	var asker *plan.Adapter
	var owners []*plan.Adapter
	for _, a := range s.Adapters {
		if a.Guest != nil && a.Plugged && asker == nil {
			asker = a
		}
		if a.Plugged && a.Address.IsValid() && (a.How == plan.Static) && len(owners) < maxOwned {
			owners = append(owners, a)
		}
	}
	if asker == nil || len(owners) == 0 {
		if c.parts == nil {
			return claim{}, false
		}
		return c, true
	}
	var addresses []netip.Addr
	for _, a := range owners {
		addresses = append(addresses, a.Address.Addr())
	}
	c.parts = append(c.parts, part{asks: asking(AskOwners{RefTo(asker), addresses}), judge: func(r *Result, got []Got) {
		o := got[0].(GotOwners)
		for i, a := range owners {
			if i < len(o.Owners) && len(o.Owners[i]) > 1 {
				r.fail(
					Reason{
						Code:     "duplicate-address",
						Subject:  a.Machine.Name,
						Segment:  s.Name,
						Expected: a.Address.Addr().String(),
						Observed: fmt.Sprint(len(o.Owners[i])),
					},
				)
			}
		}
		if r.Verdict == Holds {
			r.Observed = "1 fixed address, at one MAC address"
			if n := len(owners); n > 1 {
				r.Observed = fmt.Sprintf("%d fixed addresses, each at one MAC address", n)
			}
		}
	}})
	return c, true
}

// passesAll reports whether the rules let everything pass from one segment to another.
func passesAll(m *plan.Machine, from, to *plan.Segment) bool {
	for i := range m.Rules {
		r := &m.Rules[i]
		whole := slices.ContainsFunc(r.Services, func(s lab.Service) bool { return s.Proto == lab.Any })
		names := func(list []plan.Match, s *plan.Segment) bool {
			return slices.ContainsFunc(list, func(x plan.Match) bool { return x.Any || x.Segment == s })
		}
		if whole && names(r.From, from) && names(r.To, to) {
			return r.Action == lab.Allow
		}
		if r.Action != lab.Allow {
			return false
		}
	}
	return false
}

// joinedPart breaks the claim between two segments that a guest joins.
func joinedPart(m *reachability.Model, a, b *plan.Adapter, way []string) part {
	e := m.Between(a, b, way)
	return escaped(m.Plan(), Running, e, unjoinGuest)
}
