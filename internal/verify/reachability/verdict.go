package reachability

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Escape is a way by which packets get where they must not, with one of them.
type Escape struct {
	From, To string
	Path     []string
	Packet   Packet
	Sender   *plan.Adapter // nil: somebody outside
	Reason   string
	Maybe    bool       // it depends on which address a lease gives
	Public   bool       // it goes to what an appliance publishes
	Rule     *plan.Rule // the last that lets it pass, or nil
}

// Around returns a way by which a guest gets outside while every appliance's WAN is
// unplugged: past them all. Nil when there is none; partial when the proof could
// not look at everything.
func (m *Model) Around(g *plan.Machine) (e *Escape, partial bool) {
	return m.escape(Unplugged, g, "bypasses the appliance")
}

// Outward returns a way by which a guest gets outside at all.
func (m *Model) Outward(g *plan.Machine) (e *Escape, partial bool) {
	return m.escape(Running, g, "it may not reach outside")
}

func (m *Model) escape(c Condition, g *plan.Machine, reason string) (*Escape, bool) {
	adapters := plugged(g)
	if len(adapters) == 0 {
		return nil, false
	}
	s := m.spreadOf(c, g.Name, adapters...)
	if !s.looked {
		s.looked = true
		s.way, s.out = m.outside(s, func(f flow) (flow, bool) { return f, !f.now.Empty() })
	}
	way, flows := s.way, s.out
	if way == nil {
		return nil, s.partial
	}
	p := m.passage(renamed(way, g.Name), flows, g, nil)
	return m.escapeBy(p, g.Name, "outside", reason), s.partial
}

func (m *Model) escapeBy(p Passage, from, to, reason string) *Escape {
	return &Escape{
		From:   from,
		To:     to,
		Path:   p.Path,
		Packet: p.Packet,
		Sender: p.From,
		Reason: reason,
		Maybe:  p.Maybe,
		Public: p.Public,
		Rule:   p.Rule,
	}
}

// LeadsOut reports whether anything leads outside at all; a closed range has no
// outside.
func (m *Model) LeadsOut() bool {
	for _, d := range m.domains {
		if d.leadsOut() {
			return true
		}
	}
	return false
}

// Stands says how a guest stands to the outside.
type Stands int

// The ways to stand.
const (
	Behind  Stands = iota // an appliance is between it and the outside
	Closed                // nothing leads outside from where it is
	Beside                // on the outside, next to a one-armed appliance, by design
	Exposed               // on the outside, or a way leads there past every appliance
	Lost                  // nobody but guests is on its segments
)

// Standing returns how a guest stands to the outside, with the way that leads there
// past every appliance.
func (m *Model) Standing(g *plan.Machine) (Stands, *Escape) {
	adapters := plugged(g)
	port, beside := false, false
	for _, a := range adapters {
		d := m.of[a.Segment]
		port = port || len(d.ports) > 0
		for _, p := range d.ports {
			beside = beside || p.Machine.Appliance.Kind == "one-armed" && d.leadsOut() // past it, to the router there
		}
	}
	around, _ := m.Around(g)
	switch {
	case around != nil && beside && len(adapters) == 1:
		return Beside, around
	case around != nil:
		return Exposed, around
	case port:
		return Behind, nil
	}
	for _, a := range adapters { // behind a guest with an adapter elsewhere
		for _, x := range m.of[a.Segment].guests {
			for _, b := range x.Machine.Adapters {
				if x.Machine != g && b.Plugged && len(m.of[b.Segment].ports) > 0 {
					return Behind, nil
				}
			}
		}
	}
	if !m.LeadsOut() || len(adapters) == 0 {
		return Closed, nil
	}
	return Lost, nil
}

// Shared is two sides of an appliance that are one broadcast domain, or one side
// that leaves the host with another's wire.
type Shared struct {
	One, Other *plan.Adapter
	Why        string
}

// Sides returns the sides of an appliance that are not apart.
func (m *Model) Sides(a *plan.Machine) []Shared {
	var out []Shared
	list := a.Adapters
	for i, x := range list {
		for _, y := range list[i+1:] {
			joined := x.Role == lab.Manage && y.Role == lab.Manage || x.Port != nil && x.Port.Joins == y.Name ||
				y.Port != nil && y.Port.Joins == x.Name
			if m.of[x.Segment] == m.of[y.Segment] && !joined && !x.Segment.Nowhere() {
				why := "both are on " + x.Segment.Name
				if x.Segment != y.Segment {
					why = x.Segment.Name + " and " + y.Segment.Name + " leave the host by one uplink"
				}
				out = append(out, Shared{x, y, why})
			}
		}
		root := x.Segment.Wire.Root()
		if x.Role != lab.WAN && x.Segment.Reach == lab.Isolated && root != x.Segment && root.Wire.LeavesHost() {
			out = append(
				out,
				Shared{x, x, x.Segment.Name + " is a tag on the wire of " + root.Name + ", which is upstream"},
			)
		}
	}
	return out
}

// Twin is an address or a hardware address that two have on one wire.
type Twin struct {
	What  string
	Names []string // of whom
}

// Twins returns what is not alone of its kind on a broadcast domain: fixed
// addresses that two have or that a pool hands out too, and hardware addresses.
func (m *Model) Twins(s *plan.Segment) []Twin {
	d := m.of[s]
	addresses, cards := map[string][]string{}, map[string][]string{}
	var order []string
	add := func(to map[string][]string, key, name string) {
		if to[key] == nil {
			order = append(order, key)
		}
		to[key] = append(to[key], name)
	}
	members := append(append([]*plan.Adapter(nil), d.ports...), d.guests...)
	for _, x := range d.segments {
		if x.HostLeg.IsValid() {
			add(addresses, x.HostLeg.Addr().String(), "the host")
		}
		if x.Reach == lab.Upstream && x.Gateway.IsValid() {
			add(addresses, x.Gateway.String(), "the router upstream")
		}
	}
	for _, a := range members {
		name := a.Machine.Name + " " + a.Name
		if a.Address.IsValid() {
			add(addresses, a.Address.Addr().String(), name)
		}
		if a.Over == nil {
			add(cards, a.MAC.String(), name)
		}
	}
	for _, server := range members {
		if server.Leases == nil || !server.Leases.Pool.From.IsValid() {
			continue
		}
		for _, a := range members {
			if a.Address.IsValid() && a.How == plan.Static && server.Leases.Pool.Contains(a.Address.Addr()) {
				add(addresses, a.Address.Addr().String(), "any machine that gets it from "+server.Machine.Name)
			}
		}
	}
	var out []Twin
	for _, key := range order {
		if len(addresses[key]) > 1 {
			out = append(out, Twin{"address " + key, addresses[key]})
		}
		if len(cards[key]) > 1 {
			out = append(out, Twin{"MAC address " + key, cards[key]})
		}
	}
	return out
}

// JoinedTo returns what tells, of an adapter on another segment, the way by which guests get any packet
// to it past every appliance; nil when there is none.
func (m *Model) JoinedTo(a *plan.Adapter) func(b *plan.Adapter) []string {
	hostile := m.relayed(start{m.of[a.Segment], a.Machine.Name})
	return func(b *plan.Adapter) []string {
		if path := hostile[m.of[b.Segment]]; path != nil && m.of[a.Segment] != m.of[b.Segment] {
			return append(renamed(path, a.Machine.Name), b.Machine.Name)
		}
		return nil
	}
}

// AdminOutside returns the ports of an appliance by whose wire its admin page can be
// reached from outside.
func (m *Model) AdminOutside(a *plan.Machine) []*plan.Adapter {
	var out []*plan.Adapter
	for _, x := range a.Adapters {
		d := m.of[x.Segment]
		onWAN := x.Role == lab.WAN ||
			slices.ContainsFunc(a.WAN(), func(w *plan.Adapter) bool { return m.of[w.Segment] == d })
		if !x.Plugged || !onWAN || !d.leadsOut() || m.gates[a].transparent && x.Role != lab.Manage ||
			a.Appliance.Kind == "one-armed" {
			continue
		}
		if slices.ContainsFunc(m.answered(x), func(p packetset.Packets) bool { return m.showsAdmin(a, p) }) {
			out = append(out, x)
		}
	}
	return out
}

// showsAdmin reports whether an admin page of an appliance is among packets for it.
func (m *Model) showsAdmin(a *plan.Machine, p packetset.Packets) bool {
	return slices.ContainsFunc(a.Adapters, func(x *plan.Adapter) bool {
		return slices.ContainsFunc(x.Admin, func(s lab.AdminService) bool {
			return p.Service.Meets(packetset.Service(lab.Service{Proto: lab.TCP, From: s.Port, To: s.Port}))
		}) && p.Destination.Meets(m.addresses(x))
	})
}

// answered returns what an appliance itself answers of what comes in at a port.
func (m *Model) answered(in *plan.Adapter) []packetset.Packets {
	g := m.gates[in.Machine]
	arrived, at := m.arriving(g, in, m.anything())
	var out []packetset.Packets
	for _, f := range m.delivered(g, in, arrived, at) {
		out = append(out, f.now)
	}
	return out
}

// Answers reports whether an appliance answers a service itself at the address of
// a port by which it comes in.
func (m *Model) Answers(in *plan.Adapter, s lab.Service) bool {
	for _, set := range m.answered(in) {
		if packetset.Service(s).Within(set.Service) && m.addresses(in).Meets(set.Destination) {
			return true
		}
	}
	return false
}

// LetsIn reports whether the file lets a packet that comes to a WAN of an appliance in to
// one of a guest's adapters: by a rule, a publish or an address of its own.
func (m *Model) LetsIn(by, to *plan.Machine, p Packet) bool {
	one := packetset.Packets{Source: m.space.Addresses(p.Source), Destination: m.space.Addresses(p.Destination),
		Service: packetset.Service(lab.Service{Proto: p.Protocol, From: p.DestinationPort, To: p.DestinationPort})}
	is := func(f flow) (flow, bool) { return f, f.sent.Meets(one) }
	for _, wan := range by.WAN() {
		for _, e := range m.crossing(m.gates[by], wan, nil).exits {
			for _, a := range to.Adapters {
				if e.port != nil && m.of[e.port.Segment] == m.of[a.Segment] && len(m.takenIn(a, e.flows, is)) > 0 {
					return true
				}
			}
		}
	}
	return false
}

// OuterWAN reports whether the segment of a port leads outside by itself.
func (m *Model) OuterWAN(a *plan.Adapter) bool { return m.of[a.Segment].leadsOut() }

// Relays reports whether a guest is taken to pass on what it is given: it does so by
// the file, or is hostile and stands where that leads from one appliance's segment
// to another, or outside.
func (m *Model) Relays(g *plan.Machine) bool {
	if len(g.Adapters) < 2 {
		return false
	}
	watched := map[*domain]bool{}
	for _, a := range plugged(g) {
		d := m.of[a.Segment]
		if d.leadsOut() {
			return true
		}
		if !d.back() {
			watched[d] = true
		}
	}
	return g.Guest.Forwards || len(watched) > 1
}

// Space returns the space in which the model's sets of addresses are.
func (m *Model) Space() *packetset.Space { return m.space }

// Lines returns the addresses of a segment, of both IP versions.
func (m *Model) Lines(s *plan.Segment) packetset.Line { return m.lines[s] }

// Inside returns the addresses of an appliance's inside networks.
func (m *Model) Inside(a *plan.Machine) packetset.Line { return m.gates[a].inside }

// Rules returns the rules of an appliance as sets of packets, in order.
func (m *Model) Rules(a *plan.Machine) []packetset.Packets { return m.gates[a].rules }

// Alike returns the first guest that stands on the same broadcast domains as a guest,
// with as many adapters: what one of them can do, each can. With Each it is the guest itself.
func (m *Model) Alike(g *plan.Machine) *plan.Machine {
	if m.Each {
		return g
	}
	if m.alike == nil {
		m.alike = map[*plan.Machine]*plan.Machine{}
		first := map[string]*plan.Machine{}
		for _, x := range m.plan.Guests() {
			key := ""
			for _, a := range plugged(x) {
				key += m.of[a.Segment].name() + " " + a.Segment.Name + " "
			}
			if first[key] == nil {
				first[key] = x
			}
			m.alike[x] = first[key]
		}
	}
	return m.alike[g]
}

// maxTold bounds how many addresses of a segment are given by [Model.ToldApart].
const maxTold = 24

// ToldApart returns addresses of a segment, one of each that the rules tell from
// others.
func (m *Model) ToldApart(s *plan.Segment) []netip.Addr {
	var out []netip.Addr
	for _, span := range m.lines[s].And(m.space.IPv4()) {
		for c := span.From; c <= span.To && len(out) < maxTold; c++ {
			out = append(out, m.space.Any(packetset.Line{{From: c, To: c}}))
		}
	}
	return out
}

// Plan returns the plan that the model is of.
func (m *Model) Plan() *plan.Plan { return m.plan }

// Between makes the way of one packet from a guest to another of a path that
// guests between them make.
func (m *Model) Between(a, b *plan.Adapter, path []string) *Escape {
	packet, _ := m.concrete([]flow{whole(m.addresses(a), m.addresses(b))}, a, b)
	return &Escape{From: a.Machine.Name, To: b.Machine.Name, Path: path, Packet: packet, Sender: a,
		Reason: "guests between pass on what the rules do not"}
}

// Covers returns what the proof covers, in a few words.
func (m *Model) Covers() string {
	guests := 0
	for _, d := range m.domains {
		guests += len(d.guests)
	}
	if guests == 1 {
		return "all IPv4 and IPv6 packets from 1 guest adapter"
	}
	return fmt.Sprintf("all IPv4 and IPv6 packets from %d guest adapters", guests)
}

// Never returns the ways by which packets get from those named to those named,
// which a sentence says do not; at most a few.
func (m *Model) Never(from, to lab.Who, service lab.Service) (ways []*Escape, partial bool) {
	const most = 3
	a := m.ask(Running, from, to, service, most)
	for i, p := range a.Passages {
		if i == most {
			break
		}
		ways = append(ways, m.escapeBy(p, p.Path[0], p.Path[len(p.Path)-1], "a sentence: it must never get there"))
	}
	return ways, a.Partial
}

// Polite returns a packet that the rules let an adapter send outside from an address
// of its own, by the appliance of its segment; false when they let none.
func (m *Model) Polite(home *plan.Adapter) (Packet, bool) {
	polite := m.polite(home, 0)
	if polite == nil {
		return Packet{}, false
	}
	packet, _ := m.concrete(polite, home, nil)
	return packet, true
}

// polite returns what goes outside of what a guest sends from its own address by its
// gateway; at most some flows, 0 for all.
func (m *Model) polite(home *plan.Adapter, most int) []flow {
	gate := home.Gate()
	if gate == nil {
		return nil
	}
	own := m.addresses(home)
	var polite []flow
	s := m.spreadOf(Running, home.Machine.Name, home)
	for i := range s.landed {
		l := &s.landed[i]
		if len(l.path) < 4 || l.path[1] != m.of[home.Segment].name() || l.path[2] != gate.Machine.Name {
			continue
		}
		for _, f := range l.away {
			f = m.leaving(l, f)
			if f.sent.Source = f.sent.Source.And(own); !f.now.Empty() && !f.sent.Empty() {
				if polite = append(polite, f); len(polite) == most {
					return polite
				}
			}
		}
	}
	return polite
}
