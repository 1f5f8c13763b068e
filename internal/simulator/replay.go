package simulator

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
)

// sender returns the station that sends a packet, its adapter's number and
// hardware address.
func (l *Lab) sender(q claims.AskPacket) (s *station, adapter int, address mac.Address, err error) {
	a, err := q.From.In(l.plan)
	if err != nil {
		return nil, 0, mac.Address{}, err
	}
	if a != nil {
		s, port := l.portOf(a)
		return s, a.Number, port.MAC, nil
	}
	if s, port := l.leadsOutside(l.plan.Segment(q.Segment)); s != nil {
		return s, port.Adapter, port.MAC, nil
	}
	return nil, 0, mac.Address{}, fmt.Errorf("no machine outside is on %s", q.Segment)
}

// leadsOutside returns the station that is outside on a segment, or leads there, and its
// port; nil when there is none.
func (l *Lab) leadsOutside(seg *plan.Segment) (*station, *host.Port) {
	for _, s := range []*station{l.routers[seg], l.strays[seg], l.announcers[seg]} {
		if s != nil {
			return s, s.node.Ports()[0]
		}
	}
	if port := l.hostPort(seg); port != nil {
		return l.host, port
	}
	return nil, nil
}

// hostPort returns the host's port on a segment, or nil.
func (l *Lab) hostPort(s *plan.Segment) *host.Port {
	if l.host == nil || s == nil || !s.HostLeg.IsValid() {
		return nil
	}
	for _, p := range l.host.node.Ports() {
		if p.Address == s.HostLeg {
			return p
		}
	}
	return nil
}

// hop returns the station that a packet is handed to.
func (l *Lab) hop(name string, on *plan.Segment) (attack.Hop, bool) {
	if on == nil {
		return attack.Hop{}, false
	}
	if m := l.plan.Machine(name); m != nil {
		for _, a := range m.Adapters {
			if l.cableOf(a.Segment) == l.cableOf(on) && a.Segment.Tag == on.Tag {
				return attack.Hop{MAC: a.MAC, Name: name}, true
			}
		}
		return attack.Hop{}, false
	}
	if s, port := l.leadsOutside(on); s != nil {
		return attack.Hop{MAC: port.MAC, Name: s.name}, true
	}
	return attack.Hop{}, false
}

// replay sends one packet and tells who took it in.
func (l *Lab) replay(q claims.AskPacket) answer {
	from, adapter, address, err := l.sender(q)
	if err != nil {
		return answer{missing: err.Error()}
	}
	hop, ok := l.hop(q.Hop, l.plan.Segment(q.On))
	if !ok {
		return answer{missing: fmt.Sprintf("%s is not on %s", q.Hop, q.On)}
	}
	if to, err := q.To.In(l.plan); err == nil && to != nil && l.addressOf(to).IsValid() {
		q.Packet.Destination = l.addressOf(to)
	}
	defer l.standIn(q.Packet.Destination)()
	try := attack.Single(q.From, l.sourceFor(address, hop, q.On), q.Packet, hop)
	got := claims.GotPacket{Took: []string{}, Path: []string{}}
	first := l.world.number + 1
	took := func(name string) {
		if !slices.Contains(got.Took, name) {
			got.Took = append(got.Took, name)
		}
	}
	for _, s := range l.world.stations {
		if s == from {
			continue
		}
		was := s.node.Seen
		s.node.Seen = func(p *packet.Packet) {
			if attack.TokenOf(p) == 0 {
				if took(s.name); l.outside[s] || l.standsOutside(s) {
					took("outside")
				}
			}
			if was != nil {
				was(p)
			}
		}
		defer func() { s.node.Seen = was }()
	}
	var last *packet.Packet
	l.world.watch = func(s *station, segment int, p *packet.Packet) {
		if p.Type != packet.TypeARP && !p.Discovery() && !p.IsError() && !p.Ping(true) && attack.TokenOnWire(p) == 0 &&
			len(got.Path) < 64 {
			got.Path = append(got.Path, s.name, l.world.Segments[segment])
			last = p
		}
	}
	l.world.transmit(from, adapter, try.Aim(0))
	l.world.settle(2 * l.timing.settle)
	for i, leg := range q.Then {
		by, err := leg.By.In(l.plan)
		hop, ok := l.hop(leg.Hop, l.plan.Segment(leg.On))
		if err != nil || by == nil || !ok || q.Packet.Source.Is4() && !slices.Contains(got.Took, by.Machine.Name) {
			got.Path = append(got.Path, fmt.Sprintf("(leg %d could not be taken)", i+1))
			break
		}
		try := attack.Single(leg.By, l.sourceFor(by.MAC, hop, leg.On), q.Packet, hop)
		l.world.transmit(l.members[by.Machine], by.Number, try.Aim(0))
		l.world.settle(2 * l.timing.settle)
	}
	l.world.watch = nil
	out := answer{got: got}
	if last != nil {
		out.evidence = []claims.Evidence{l.frame(first, "%s, handed to %s", q.Packet, hop)}
		if last.Number > first {
			out.evidence = append(out.evidence, l.frame(last.Number, "%s", last))
		}
	} else {
		out.evidence = []claims.Evidence{l.frame(0, "%s could not be sent: the adapter is down", q.Packet)}
	}
	return out
}

// standsOutside reports whether it is a guest on a segment that leads outside.
func (l *Lab) standsOutside(s *station) bool {
	m := l.machineOf(s)
	return m != nil && m.Guest != nil &&
		slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool { return l.model.OuterWAN(a) })
}

// sourceFor returns the hardware address to send from to a hop. Of two who have one address
// the switch knows the one that spoke last: who is meant speaks first then, and who has it
// itself takes another, as who is hostile can.
func (l *Lab) sourceFor(own mac.Address, hop attack.Hop, on string) mac.Address {
	m, s := l.plan.Machine(hop.Name), l.plan.Segment(on)
	if m == nil || s == nil {
		return own
	}
	twins := 0
	for _, a := range l.plan.Adapters {
		if a.Plugged && a.MAC == hop.MAC && a.Over == nil && l.cableOf(a.Segment) == l.cableOf(s) {
			twins++
		}
	}
	for _, a := range m.Adapters {
		if twins > 1 && a.Plugged && a.MAC == hop.MAC && a.Segment == s && a.Over == nil {
			word := packet.ARP(
				packet.ARPRequest,
				mac.Broadcast,
				a.MAC,
				netip.IPv4Unspecified(),
				mac.Address{},
				s.Subnet.Addr(),
			)
			l.world.transmit(l.members[m], a.Number, word)
			l.world.settle(l.timing.settle)
		}
	}
	if own == hop.MAC {
		return standIn(kindStray, 0)
	}
	return own
}

// sentOn reports whether somebody on a segment takes an address for one of it: it is of its
// network, or of that which an adapter there is set to, rightly or not.
func (l *Lab) sentOn(s *plan.Segment, a netip.Addr) bool {
	return s.Subnet.Contains(a) ||
		slices.ContainsFunc(
			s.Adapters,
			func(x *plan.Adapter) bool { return x.Address.IsValid() && x.Address.Contains(a) },
		)
}

// standIn has the router of an upstream segment answer at an address that is looked
// for there and nobody has; what it gives takes that back.
func (l *Lab) standIn(a netip.Addr) (back func()) {
	for _, s := range l.plan.Segments {
		r := l.routers[s]
		if r == nil {
			r = l.strays[s]
		}
		if r == nil || !l.sentOn(s, a) ||
			slices.ContainsFunc(l.plan.Adapters, func(x *plan.Adapter) bool { return l.addressOf(x) == a }) {
			continue
		}
		port := r.node.Ports()[0]
		if !r.node.Local(a) {
			was := port.Also
			answers := func(at []netip.Addr) {
				port.Also = at
				r.node.Readdressed()
			}
			answers(append(slices.Clone(was), a))
			return func() { answers(was) }
		}
	}
	return func() {}
}

// askOwners asks who answers for addresses on an adapter's segment.
func (l *Lab) askOwners(a *plan.Adapter, q claims.AskOwners) func() answer {
	s, port := l.portOf(a)
	var list []*host.Inquiry
	for _, address := range q.Addresses {
		list = append(list, s.node.Inquire(l.world.now, port, address))
		l.world.pump(s)
		l.world.run(l.world.now + 100*time.Microsecond)
	}
	return func() answer {
		got, n := claims.GotOwners{}, 0
		for i, x := range list {
			owners := slices.Clone(x.Answers)
			if port.Owns(q.Addresses[i]) {
				owners = append(owners, port.MAC)
			}
			got.Owners = append(got.Owners, owners)
			n += len(owners)
		}
		return answer{
			got: got,
			evidence: []claims.Evidence{l.frame(0, "%s queried %d addresses, and %d MAC addresses answered",
				a.Machine.Name, len(list), n)},
		}
	}
}
