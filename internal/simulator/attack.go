package simulator

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
)

// round is one in which somebody hostile sends attempts, and whatever comes out
// where it must not is recognised by its token.
type round struct {
	attempts attack.Attempts
	from     *station
	caught   map[int]map[int]bool  // token to the hops by which it got out
	targets  map[*station]bool     // who notices
	arrived  map[int]*station      // token to the last station that noticed
	last     *station              // who is the end of every way
	lies     map[claims.Ref]func() // tells the lies of an adapter again
}

func (l *Lab) newRound(from *station, attempts attack.Attempts, targets map[*station]bool) *round {
	return &round{
		attempts: attempts,
		from:     from,
		caught:   map[int]map[int]bool{},
		arrived:  map[int]*station{},
		targets:  targets,
		last:     l.buoy,
		lies:     map[claims.Ref]func(){},
	}
}

func (r *round) catch(token, hop int) {
	if r.caught[token] == nil {
		r.caught[token] = map[int]bool{}
	}
	r.caught[token][hop] = true
}

// saw is told of every packet that a station outside takes in.
func (r *round) saw(by *station, p *packet.Packet) {
	if r == nil || !r.targets[by] {
		return
	}
	t := attack.TokenOf(p)
	if t < 0 || t >= len(r.attempts) {
		return
	}
	r.catch(t, attack.HopOf(p))
	if r.arrived[t] != r.last { // a router on the way gives way to the witness
		r.arrived[t] = by
	}
}

// assault answers what makes guests hostile. Meanwhile every guest with a
// second adapter passes on what it is given, as a hostile one would.
func (l *Lab) assault(questions []claims.Question, tell func(claims.Question, answer)) {
	for _, m := range l.plan.Guests() {
		if len(m.Adapters) > 1 && l.model.Relays(m) {
			if l.world.live != nil {
				defer l.world.live.replaced(l.members[m])()
			}
			n := l.members[m].node
			defer func(was bool) { n.Forwards, n.Spreads = was, false }(n.Forwards)
			n.Forwards, n.Spreads = true, true
		}
	}
	l.learned = l.known()
	for i, q := range questions {
		if l.Progress != nil {
			l.Progress(i, len(questions))
		}
		switch w := q.Ask.(type) {
		case claims.AskPacket:
			tell(q, l.replay(w))
		case claims.AskScan:
			to, err := w.To.In(l.plan)
			if err != nil || to == nil {
				tell(q, answer{missing: fmt.Sprintf("no WAN to scan: %v", err)})
				continue
			}
			tell(q, l.scan(to, w.Services))
		case claims.AskAttack:
			m := l.plan.Machine(w.By)
			if m == nil || m.Guest == nil {
				tell(q, answer{missing: fmt.Sprintf("the plan has no guest %q", w.By)})
				continue
			}
			tell(q, l.escape(m))
		}
	}
}

// known returns what an attacker would know of the running lab.
func (l *Lab) known() attack.Known {
	k := attack.Known{Witness: l.witness, Witness6: witness6, Addresses: map[claims.Ref][]netip.Addr{},
		Forge: map[string][]netip.Addr{}, Routers: map[string][]attack.Hop{}}
	for _, a := range l.plan.Adapters {
		_, port := l.portOf(a)
		ref := claims.RefTo(a)
		if port.Address.IsValid() {
			k.Addresses[ref] = append(k.Addresses[ref], port.Address.Addr())
		}
		if port.IPv6 != nil {
			for _, p := range port.IPv6.Addresses {
				k.Addresses[ref] = append(k.Addresses[ref], p.Addr())
			}
		}
	}
	for _, s := range l.plan.Segments {
		k.Forge[s.Name] = l.model.ToldApart(s)
		for _, st := range []*station{l.routers[s], l.announcers[s]} {
			if st != nil {
				k.Routers[s.Name] = append(k.Routers[s.Name], attack.Hop{MAC: st.node.Ports()[0].MAC, Name: st.name})
			}
		}
		if p := l.hostPort(s); p != nil {
			k.Routers[s.Name] = append(k.Routers[s.Name], attack.Hop{MAC: p.MAC, Name: l.host.name})
		}
	}
	return k
}

// escape lets one guest try everything.
func (l *Lab) escape(m *plan.Machine) answer {
	first := l.world.number + 1
	r := l.newRound(l.members[m], attack.Escape(l.plan, m, l.learned), l.outside)
	l.round = r
	defer func() { l.round = nil }()
	l.world.watch = l.tap(r)
	got := claims.GotAttack{Attempts: l.fire(r, func(t *attack.Attempt) bool { return !t.AfterLies })}
	var notes []claims.Evidence
	for _, ad := range m.Adapters {
		if ad.Plugged {
			n, said := l.deceive(r, ad)
			got.Attempts += n
			notes = append(notes, said...)
		}
	}
	l.world.watch = nil
	got.Ways = l.explainWays(r, m.Name)
	out := answer{
		evidence: []claims.Evidence{
			{Frame: first, Last: l.world.number, Text: fmt.Sprintf("%d packets tried", got.Attempts)},
		},
	}
	for _, w := range got.Ways {
		out.evidence = append(out.evidence, w.Packet)
	}
	out.got, out.evidence = got, append(out.evidence, notes...)
	return out
}

// deceive returns a guest's lies by one adapter, then tries what it keeps for
// afterwards, and undoes what the others now believe. What a plain switch cannot
// prevent, that one guest takes another's place before the appliance, is told as
// a note and is no escape.
func (l *Lab) deceive(r *round, ad *plan.Adapter) (attempts int, notes []claims.Evidence) {
	victim := attack.Victim(ad)
	var address netip.Addr
	if victim != nil {
		if address = attack.Free(victim.Segment); l.addressOf(victim).IsValid() {
			address = l.addressOf(victim)
		}
	}
	ref := claims.RefTo(ad)
	r.lies[ref] = func() {
		for _, f := range attack.Lies(ad, address, l.world.now) {
			l.world.transmit(r.from, ad.Number, f)
			attempts++
			l.world.run(l.world.now + l.timing.pace)
		}
	}
	at := l.world.number + 1
	r.lies[ref]()
	if port := ad.Segment.Port; victim != nil && port != nil && l.members[port.Machine] != nil {
		_, p := l.portOf(port)
		if m, ok := p.Neighbor(address); ok && m == ad.MAC {
			notes = append(notes, claims.Evidence{Frame: at, Last: l.world.number,
				Text: fmt.Sprintf(
					"can ARP-spoof %[1]s towards %[2]s (any plain switch allows it); opens no path",
					victim.Machine.Name,
					port.Machine.Name,
				)})
		}
	}
	attempts += l.fire(r, func(t *attack.Attempt) bool { return t.AfterLies && t.From == ref })
	l.forgetLies(ad)
	return attempts, notes
}

func (l *Lab) addressOf(a *plan.Adapter) netip.Addr {
	_, port := l.portOf(a)
	if !port.Address.IsValid() {
		return netip.Addr{}
	}
	return port.Address.Addr()
}

// forgetLies undoes what a guest's lies made the others of its network believe, also those
// beyond an appliance that bridges.
func (l *Lab) forgetLies(ad *plan.Adapter) {
	own := l.addressOf(ad)
	if !own.IsValid() {
		own = attack.Free(ad.Segment)
	}
	asked := map[any]bool{}
	for _, s := range ad.Segment.Network() {
		c := l.cables[s.Wire]
		if asked[c] {
			continue
		}
		asked[c] = true
		for _, e := range c.ends {
			if e.station.real {
				if m := l.machineOf(e.station); m != nil && !asked[m] && l.world.live.Forget != nil {
					asked[m] = true
					l.world.live.Forget(m)
				}
				continue
			}
			for _, port := range e.station.node.Ports() {
				if port.Adapter == e.adapter {
					port.Forget(ad.MAC, own, attack.StrangePrefix)
				}
			}
		}
	}
}

// tap finds malformed packets where they must not be: on a segment outside,
// sent by somebody else than the guest.
func (l *Lab) tap(r *round) func(*station, int, *packet.Packet) {
	return func(from *station, segment int, p *packet.Packet) {
		if from == r.from || l.outside[from] || !l.outer[segment] || p.IsError() {
			return // an error quotes what it is about
		}
		if m, ok := attack.MarkIn(p.Bytes); ok && m.Attempt < len(r.attempts) && r.attempts[m.Attempt].Malformed {
			r.catch(m.Attempt, attack.HopOf(p))
			r.arrived[m.Attempt] = from
		}
	}
}

// fire sends the attempts that are wanted to each of their hops and gives how
// many that were.
func (l *Lab) fire(r *round, wanted func(*attack.Attempt) bool) int {
	n := 0
	for t := range r.attempts {
		try := &r.attempts[t]
		if !wanted(try) || l.world.spent {
			continue
		}
		for i := range try.Hops {
			l.world.transmit(r.from, max(try.From.Adapter, 1), try.Aim(i))
			// Few at once: a neighbor that must first ask for an address keeps
			// only some packets waiting.
			if n++; n%8 == 0 {
				l.world.run(l.world.now + l.timing.pace)
			}
		}
	}
	// Long enough for an address to be asked for on the way.
	l.world.settle(l.timing.settle)
	return n
}

// maxWays bounds how many ways of one guest are told in full.
const maxWays = 4

// explainWays sends one packet of each way that got out once more and follows
// it from wire to wire.
func (l *Lab) explainWays(r *round, from string) []claims.Way {
	var ways []claims.Way
	type way struct {
		adapter int
		hop     mac.Address
	}
	told, byAdapter := map[way]bool{}, map[int]bool{}
	tokens := make([]int, 0, len(r.caught))
	for t := range r.caught {
		tokens = append(tokens, t)
	}
	slices.Sort(tokens)
	for _, t := range tokens {
		try := &r.attempts[t]
		hops := make([]int, 0, len(r.caught[t]))
		for h := range r.caught[t] {
			hops = append(hops, h)
		}
		slices.Sort(hops)
		for _, h := range hops {
			if h >= len(try.Hops) {
				continue
			}
			// The broadcast address as next hop tells nothing that a station's own did not.
			id := way{try.From.Adapter, try.Hops[h].MAC}
			if told[id] || len(ways) >= maxWays || id.hop == mac.Broadcast && byAdapter[id.adapter] {
				continue
			}
			told[id], byAdapter[id.adapter] = true, true
			ways = append(ways, l.follow(r, t, h, from))
		}
	}
	return ways
}

// follow sends one attempt again and notes where it passes.
func (l *Lab) follow(r *round, token, h int, from string) claims.Way {
	try := &r.attempts[token]
	way := claims.Way{From: from, Tried: try.Tried}
	if hop := try.Hops[h]; hop.MAC == mac.Broadcast {
		way.Tried += ", to " + hop.String()
	} else {
		way.Tried += ", with " + hop.String() + " as next hop"
	}
	var last *packet.Packet
	over := false
	l.world.watch = func(s *station, segment int, p *packet.Packet) {
		if p.Type == packet.TypeARP || p.Discovery() {
			return // asking for neighbors is no way
		}
		seg := l.plan.Segment(l.world.Segments[segment])
		if over = over || s == l.buoy || l.outside[s] && seg != nil && s != r.from; over ||
			attack.TokenOnWire(p) != token {
			return // it has arrived; what follows is the way back
		}
		way.Path = append(way.Path, s.name, l.world.Segments[segment])
		last = p
		if try.Malformed && l.outer[segment] { // seen outside, whoever takes it
			way.To, over = l.world.Segments[segment], true
		}
		if seg != nil && seg.Reach == lab.Upstream && way.Door == (claims.Ref{}) {
			way.Door = claims.RefTo(doorOn(l.machineOf(s), seg))
		}
	}
	delete(r.arrived, token)
	if lie := r.lies[try.From]; try.AfterLies && lie != nil {
		lie()
	}
	l.world.transmit(r.from, max(try.From.Adapter, 1), try.Aim(h))
	l.world.settle(l.timing.settle)
	l.world.watch = nil
	if last != nil {
		way.Packet = l.frame(last.Number, "%s", last)
	}
	if end := r.arrived[token]; last != nil && end != nil && !try.Malformed {
		way.Path, way.To = append(way.Path, end.name), end.name
	}
	if way.To == "" && last != nil { // it did not come that far again
		way.To = way.Path[len(way.Path)-1]
	}
	return way
}

// machineOf returns the plan's machine that a station is, or nil.
func (l *Lab) machineOf(s *station) *plan.Machine {
	if m := l.plan.Machine(s.name); m != nil && l.members[m] == s {
		return m
	}
	return nil
}

// doorOn returns the guest's adapter on a segment, or nil.
func doorOn(m *plan.Machine, s *plan.Segment) *plan.Adapter {
	if m == nil || m.Guest == nil {
		return nil
	}
	for _, a := range m.Adapters {
		if a.Segment == s {
			return a
		}
	}
	return nil
}

// scan tries the WAN from outside: each service from the witness, and packets
// to inside addresses from the router next to the WAN.
func (l *Lab) scan(wan *plan.Adapter, services []lab.Service) answer {
	first := l.world.number + 1
	_, port := l.portOf(wan)
	if !port.Address.IsValid() && len(services) > 0 {
		return answer{missing: fmt.Sprintf("port %s of %s has no address to try", wan.Name, wan.Machine.Name)}
	}
	from := l.buoy
	if r := l.routers[wan.Segment]; r != nil && (wan.Segment.Lab.Join == "nat" || l.twice(wan.Segment)) {
		from = r // the host's translation hides the WAN from all but the host; or who is asked by its address hangs on the way
	}
	out, got := answer{}, claims.GotScan{}
	finish := make([]func() answer, len(services))
	for i, s := range services {
		finish[i] = l.reach(from, port.Address.Addr(), s, 0)
		l.world.run(l.world.now + time.Millisecond)
	}
	l.world.settle(l.timing.scan)
	for i, fn := range finish {
		got.Attempts++
		if a := fn(); a.got.(claims.GotReach).Answered {
			got.Open = append(got.Open, services[i])
			out.evidence = append(out.evidence, a.evidence...)
		}
	}
	n, ways := l.intrude(wan)
	got.Attempts += n
	got.Ways = ways
	out.got = got
	out.evidence = append(out.evidence, claims.Evidence{Frame: first, Last: l.world.number,
		Text: fmt.Sprintf("%d tries from outside", got.Attempts)})
	return out
}

// twice tells that another upstream segment has addresses of an upstream segment too.
func (l *Lab) twice(s *plan.Segment) bool {
	return slices.ContainsFunc(l.plan.Segments, func(x *plan.Segment) bool {
		return x != s && l.routers[x] != nil && x.Subnet.Overlaps(s.Subnet)
	})
}

// intrude sends packets for inside addresses to the appliance's WAN adapter,
// as a machine on the upstream segment can.
func (l *Lab) intrude(wan *plan.Adapter) (int, []claims.Way) {
	router := l.routers[wan.Segment]
	if router == nil { // behind another appliance: nobody outside is next to this WAN
		return 0, nil
	}
	attempts := attack.Intrude(l.plan, wan, router.node.Ports()[0].MAC, l.learned)
	arrived := map[int]claims.Way{}
	for _, m := range l.plan.Guests() {
		st := l.members[m]
		st.node.Seen = func(p *packet.Packet) {
			t := attack.TokenOf(p)
			if _, before := arrived[t]; before || t < 0 || t >= len(attempts) {
				return
			}
			way := claims.Way{From: router.name, To: m.Name, Tried: attempts[t].Tried, Sent: attempts[t].Sent,
				Path: []string{router.name, wan.Segment.Name, wan.Machine.Name}, Packet: l.frame(p.Number, "%s", p)}
			if to, err := attempts[t].To.In(l.plan); err == nil && to.Machine == m {
				way.Path = append(way.Path, to.Segment.Name)
			}
			way.Path = append(way.Path, m.Name)
			arrived[t] = way
		}
		defer func() { st.node.Seen = nil }()
	}
	n := l.fire(l.newRound(router, attempts, nil), func(*attack.Attempt) bool { return true })
	var ways []claims.Way
	for _, t := range slices.Sorted(maps.Keys(arrived)) {
		ways = append(ways, arrived[t])
	}
	return n, ways
}
