package reachability

import (
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Condition is the state of the lab that a question is about.
type Condition int

// The conditions.
const (
	Running   Condition = iota
	Unplugged           // every appliance's WAN is unplugged
)

// spread is everything that hostile guests get packets to from where they start.
type spread struct {
	hostile map[*domain][]string // where any packet can be sent, with the way there
	landed  []landing
	partial bool // the rules cut a set into too many parts to look at them all

	looked bool // whether the first way outside was looked for, and what was found
	way    []string
	out    []flow
}

// landing is what an appliance lets out onto a domain, or takes in itself.
type landing struct {
	on    *domain       // nil: the appliance itself
	by    *plan.Adapter // the port it leaves by; of the appliance itself the port it came in by
	flows []flow
	path  []string // machines and segments in turn, from the start
	away  []flow   // what of it goes on to the outside
}

// start is where somebody hostile sends from.
type start struct {
	on   *domain
	name string
}

// spread follows any packets from where they start.
func (m *Model) spread(c Condition, from ...start) *spread {
	s := &spread{hostile: m.relayed(from...)}
	m.byHost(s, c)
	for _, d := range m.domains {
		path := s.hostile[d]
		if path == nil {
			continue
		}
		for _, in := range d.ports {
			m.enter(s, c, in, nil, path, nil)
		}
	}
	return s
}

// relayed returns where any packet can be sent from somewhere, past every appliance, with the way
// there: guests of several segments pass it on.
func (m *Model) relayed(from ...start) map[*domain][]string {
	found := map[*domain][]string{}
	var queue []*domain
	reach := func(d *domain, path []string) {
		if found[d] == nil {
			found[d] = path
			queue = append(queue, d)
		}
	}
	for _, f := range from {
		reach(f.on, []string{f.name, f.on.name()})
	}
	for len(queue) > 0 {
		d := queue[0]
		queue = queue[1:]
		path := found[d]
		for _, a := range d.guests {
			if !m.Relays(a.Machine) {
				continue
			}
			for _, b := range a.Machine.Adapters {
				if e := m.of[b.Segment]; b.Plugged && e != d {
					reach(e, append(append([]string(nil), path...), a.Machine.Name, e.name()))
				}
			}
		}
	}
	return found
}

// byHost has the host pass on, from where somebody hostile is to its other legs, what
// goes there.
func (m *Model) byHost(s *spread, c Condition) {
	for _, d := range m.domains {
		path := s.hostile[d]
		if path == nil || d.host == nil {
			continue
		}
		for _, e := range m.domains {
			if e.host == nil || s.hostile[e] != nil {
				continue
			}
			f := whole(m.space.All(), m.space.Prefixes(e.host.Subnet))
			way := append(append([]string(nil), path...), "host", e.name())
			s.landed = append(s.landed, landing{on: e, flows: []flow{f}, path: way})
			for _, port := range e.ports {
				if to := f.to(m.addresses(port)); !to.now.Empty() {
					m.enter(s, c, port, []flow{to}, way, nil)
				}
			}
		}
	}
}

// enter has flows come to a port of an appliance, nil for anything, and follows what
// it lets out.
func (m *Model) enter(s *spread, c Condition, in *plan.Adapter, flows []flow, path []string, seen []*gate) {
	g := m.gates[in.Machine]
	if c == Unplugged && byWAN(in) {
		return
	}
	for _, x := range seen {
		if x == g {
			return
		}
	}
	seen = append(seen[:len(seen):len(seen)], g)
	crossed := m.crossing(g, in, flows)
	s.partial = s.partial || !crossed.whole
	for _, e := range crossed.exits {
		through := append(append([]string(nil), path...), g.machine.Name)
		if e.port == nil {
			s.landed = append(s.landed, landing{by: in, flows: e.flows, path: through})
			continue
		}
		if c == Unplugged && byWAN(e.port) {
			continue
		}
		m.land(s, c, e, append(through, m.of[e.port.Segment].name()), seen, g.transparent)
	}
}

// byWAN reports whether it is a WAN port, or one that rides on it: with its cable both are down.
func byWAN(a *plan.Adapter) bool { return a.Role == lab.WAN || a.Over != nil && a.Over.Role == lab.WAN }

// crossing is what a gate makes of what comes in at a port.
type crossing struct {
	exits []exit
	whole bool
}

// crossing returns what a gate makes of flows; of anything, which is what hostile
// neighbors send, it is found once.
func (m *Model) crossing(g *gate, in *plan.Adapter, flows []flow) (c crossing) {
	if flows != nil {
		c.exits, c.whole = m.cross(g, in, flows)
		return c
	}
	c, ok := m.crossed[in]
	if !ok {
		c.exits, c.whole = m.cross(g, in, m.anything())
		m.crossed[in] = c
	}
	return c
}

// anything is every packet there can be.
func (m *Model) anything() []flow { return []flow{whole(m.space.All(), m.space.All())} }

// land puts what an appliance let out onto a domain. What came through a bridge, guests of several segments pass
// on: whoever sends names the next hop on its far side.
func (m *Model) land(s *spread, c Condition, e exit, path []string, seen []*gate, free bool) {
	m.settle(s, c, e, path, seen, free)
	if !free {
		return
	}
	d := m.of[e.port.Segment]
	relayed := m.relayed(start{d, e.port.Machine.Name})
	for _, other := range m.domains {
		on := relayed[other]
		if other == d || on == nil || s.hostile[other] != nil {
			continue
		}
		by := m.plan.Machine(on[len(on)-2])
		at := slices.IndexFunc(by.Adapters, func(a *plan.Adapter) bool { return a.Plugged && m.of[a.Segment] == other })
		way := append(append([]string(nil), path...), on[2:]...)
		m.settle(s, c, exit{by.Adapters[at], e.flows}, way, seen, true)
	}
}

// settle puts what was let out by a port onto its domain: to those who live there, and
// by the next hop to what lies beyond.
func (m *Model) settle(s *spread, c Condition, e exit, path []string, seen []*gate, free bool) {
	d := m.of[e.port.Segment]
	local := m.network(e.port)
	hop := m.nextHop(e.port)
	s.landed = append(
		s.landed,
		landing{on: d, by: e.port, flows: e.flows, path: path, away: m.away(d, e, local, hop, free)},
	)
	if d.host != nil && (free || m.byHostLeg(d, hop)) {
		m.landByHost(s, c, e, d, local, path, seen)
	}
	for _, back := range m.routed(d, e.port, hop) {
		var in []flow
		for _, f := range e.flows {
			if f := f.to(back.to.Minus(local)); !f.now.Empty() {
				in = append(in, f)
			}
		}
		if len(in) > 0 {
			m.enter(s, c, back.port, in, path, seen)
		}
	}
	for _, port := range d.ports {
		if port.Machine == e.port.Machine {
			continue
		}
		to := m.gates[port.Machine].own
		if port.Role != lab.WAN {
			to = m.addresses(port)
		}
		var in []flow
		for _, f := range e.flows {
			switch {
			case free, m.gates[port.Machine].transparent && port.Role != lab.Manage: // a bridge takes every frame
				in = append(in, f)
				continue
			case len(hop) > 0 && hop.Meets(m.addresses(port)):
				if f := f.to(m.space.All().Minus(local)); !f.now.Empty() {
					in = append(in, f)
				}
			}
			if f := f.to(local.And(to)); !f.now.Empty() {
				in = append(in, f)
			}
		}
		if len(in) > 0 {
			m.enter(s, c, port, in, path, seen)
		}
	}
}

// landByHost has the host pass on what an appliance lets out towards it to its other legs.
func (m *Model) landByHost(s *spread, c Condition, e exit, d *domain, local packetset.Line, path []string, seen []*gate) {
	for _, other := range m.domains {
		if other.host == nil || other == d {
			continue
		}
		var on []flow
		for _, f := range e.flows {
			if f := f.to(m.space.Prefixes(other.host.Subnet).Minus(local)); !f.now.Empty() {
				on = append(on, f)
			}
		}
		if len(on) == 0 {
			continue
		}
		way := append(append([]string(nil), path...), "host", other.name())
		s.landed = append(s.landed, landing{on: other, flows: on, path: way})
		for _, port := range other.ports {
			in := keep(on, func(f flow) (flow, bool) { return f.to(m.addresses(port)), true })
			if len(in) > 0 {
				m.enter(s, c, port, in, way, seen)
			}
		}
	}
}

// byHostLeg reports whether a next hop is, or may be, the host on a segment for which it forwards.
func (m *Model) byHostLeg(d *domain, hop packetset.Line) bool {
	return hop == nil || hop.Meets(m.space.Addresses(d.host.HostLeg.Addr()))
}

// route is what a router upstream sends to a port of an appliance.
type route struct {
	to   packetset.Line
	port *plan.Adapter
}

// routed returns what the router of an upstream segment sends back to appliances there by its routes,
// where a port has that router as its next hop.
func (m *Model) routed(d *domain, from *plan.Adapter, hop packetset.Line) []route {
	var out []route
	for _, s := range d.segments {
		if s.Reach != lab.Upstream || len(hop) > 0 && !hop.Meets(m.space.Addresses(s.Gateway)) {
			continue
		}
		for _, r := range s.Lab.Routes {
			for _, port := range d.ports {
				if port.Machine != from.Machine && m.addresses(port).Meets(m.space.Addresses(r.Via)) {
					out = append(out, route{m.space.Prefixes(r.To), port})
				}
			}
		}
	}
	return out
}

// away returns what of an exit goes on to the outside: what is for somebody on an
// upstream segment, and what the next hop, when that is no appliance of the lab,
// sends on.
func (m *Model) away(d *domain, e exit, local, hop packetset.Line, free bool) []flow {
	switch {
	case !d.leadsOut():
		return nil
	case !d.outer && d.host == nil: // by a router for IPv6, which no appliance has as its own
		var out []flow
		for _, f := range e.flows {
			if f = f.from(m.space.IPv6()).to(m.space.IPv6()); free && !f.now.Empty() {
				out = append(out, f)
			}
		}
		return out
	case free:
		return e.flows
	}
	ours := slices.ContainsFunc(d.ports, func(p *plan.Adapter) bool {
		return p.Machine != e.port.Machine && len(hop) > 0 && hop.Meets(m.addresses(p))
	})
	byHost := d.host != nil && m.byHostLeg(d, hop)
	var out []flow
	for _, f := range e.flows {
		if near := f.to(local); d.outer && !near.now.Empty() {
			out = append(out, near)
		}
		if far := f.to(m.space.All().Minus(local)); !ours && (d.outer || byHost) && !far.now.Empty() {
			out = append(out, far)
		}
	}
	return out
}

// nextHop returns the address of the gateway by which a port sends what lives
// elsewhere: the one typed in, else that of whoever gives it a lease.
func (m *Model) nextHop(a *plan.Adapter) packetset.Line {
	if a.Gateway.IsValid() {
		return m.space.Addresses(a.Gateway)
	}
	if port, v := a.Segment.LeaseService(); v != nil && port != a {
		if v.Router.IsValid() {
			return m.space.Addresses(v.Router)
		}
		return m.addresses(port)
	}
	return nil
}

// outside returns the first landing outside and the flows of it that go there, or
// nil with the way to a domain that leads out by itself.
func (m *Model) outside(s *spread, wanted func(flow) (flow, bool)) (way []string, flows []flow) {
	for _, d := range m.domains {
		path := s.hostile[d]
		if path == nil || !d.leadsOut() {
			continue
		}
		any := m.anything()[0]
		if !d.outer && d.host == nil { // who announces itself as a router does so for IPv6
			any = whole(m.space.IPv6(), m.space.IPv6())
		}
		if f, ok := wanted(any); ok {
			return append(append([]string(nil), path...), m.beyond(d)...), []flow{f}
		}
	}
	far := m.space.Addresses(m.witness)
	best := false
	for i := range s.landed {
		l := &s.landed[i]
		if l.on == nil || len(l.away) == 0 {
			continue
		}
		path := append(append([]string(nil), l.path...), m.beyond(l.on)...)
		if way != nil && !slices.Equal(way, path) && best {
			continue
		}
		var here []flow
		witness := false
		for _, f := range l.away {
			if f, ok := wanted(m.leaving(l, f)); ok {
				here = append(here, f)
				witness = witness || f.now.Destination.Meets(far)
			}
		}
		switch {
		case len(here) == 0:
		case way == nil || witness && !best && !slices.Equal(way, path): // the witness is what people look at
			way, flows, best = path, here, witness
		case slices.Equal(way, path):
			flows, best = append(flows, here...), best || witness
		}
	}
	return way, flows
}

// leaving returns what of a flow that landed on a domain that leads outside is for
// somebody outside: not for the appliances that stand there.
func (m *Model) leaving(l *landing, f flow) flow {
	if f.public != nil {
		if home := m.of[f.public.To.Segment]; home == nil || !home.leadsOut() {
			return f.to(nil) // it is for a guest inside, of whom the appliance does not know where it is
		}
	}
	rest := m.space.All()
	for _, port := range l.on.ports {
		rest = rest.Minus(m.fixed(port))
	}
	if !l.on.outer { // beyond the host or the announcing router, not on their network
		for _, s := range l.on.segments {
			rest = rest.Minus(m.lines[s])
		}
	}
	return f.to(rest)
}

// beyond names what a way ends in that leads outside by a domain.
func (m *Model) beyond(d *domain) []string {
	switch {
	case d.outer:
	case d.host != nil:
		return []string{"host", "outside"}
	case d.stranger:
		return []string{"the announcing router", "outside"}
	}
	return []string{"outside"}
}
