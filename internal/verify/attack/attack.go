// Package attack is what a hostile guest tries: a sequence of attempts made
// from the plan and from what a stage learned, each with a token by which it is
// recognised wherever it comes out. The rehearsal puts them on its wires, other
// stages on theirs. What a guest could do to its neighbors beside that (claim
// their addresses, announce itself as a router) are lies.
package attack

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Known is what a stage learned that an attacker would know too.
type Known struct {
	Witness   netip.Addr
	Witness6  netip.Addr
	Addresses map[claims.Ref][]netip.Addr // what each adapter has now, IPv4 first
	Forge     map[string][]netip.Addr     // by segment: sources that rules tell apart
	Routers   map[string][]Hop            // by segment: stations that may route and are not in the plan
	Run       uint32                      // whose attempts these are, where one witness hears several; 0 elsewhere
}

// Hop is a station that a packet can be handed to.
type Hop struct {
	MAC  mac.Address
	Name string // empty: every machine on the segment
}

// String names the hop for people.
func (h Hop) String() string {
	if h.Name == "" {
		return "every machine on the segment"
	}
	return h.Name
}

// Attempt is one packet, sent to each of several next hops; the hop is told
// from the identification field of the IPv4 header, or the IPv6 flow label.
type Attempt struct {
	From      claims.Ref
	To        claims.Ref           // of an attempt to get inside: whom it is for
	Sent      *reachability.Packet // of such an attempt: what it sends
	Frame     []byte               // complete but for the hop
	Hops      []Hop
	Malformed bool // looked for on every wire outside, as no station may take it in
	AfterLies bool // sent once the guest has told its lies
	Tried     string
}

// Attempts are what somebody tries; the place of each is its token.
type Attempts []Attempt

// HopOf reads to which of its hops a hostile packet was sent: [Attempt.Aim]
// wrote that into its identification, or its flow label.
func HopOf(p *packet.Packet) int {
	switch {
	case p.IPv4:
		return int(header.IPv4(p.Body).ID())
	case p.IPv6:
		return int(p.Body[3])
	}
	return 0
}

// Aim returns the attempt's frame for its i-th hop.
func (t *Attempt) Aim(i int) []byte {
	b := slices.Clone(t.Frame)
	copy(b, t.Hops[i].MAC[:])
	switch binary.BigEndian.Uint16(b[12:]) {
	case packet.TypeIPv4:
		header.IPv4(b[14:]).SetID(uint16(i))
	case packet.TypeIPv6:
		b[14+3] = byte(i)
	} // else it is tagged: the hop is not marked
	return b
}

// forge builds a hostile packet with the hop's place still open.
func forge(from mac.Address, source, to netip.Addr, service lab.Service, m Mark) []byte {
	h := packet.IP{Source: source, Destination: to}
	var b []byte
	switch service.Proto {
	case lab.ICMP:
		b = packet.Echo(h, false, 0xb5b5, uint16(m.Attempt), []byte(m.word()))
	case lab.UDP:
		b = packet.Datagram(h, 40000, service.From, probemsg.Dress(service.From, m.word()))
	default:
		b = packet.Segment(
			h,
			packet.SegmentFields{
				Source:      40000,
				Destination: service.From,
				Seq:         markSYN<<24 | uint32(m.Attempt)&0xffffff,
				Ack:         m.Run,
				Flags:       packet.SYN,
				Window:      1024,
			},
			nil,
		)
	}
	packet.SetLink(b, mac.Address{}, from)
	return b
}

// Usual is one service of each protocol.
var Usual = []lab.Service{{Proto: lab.ICMP}, {Proto: lab.UDP, From: 7, To: 7}, {Proto: lab.TCP, From: 80, To: 80}}

// ShownAs calls a service what people call it.
func ShownAs(s lab.Service) string {
	if s.Proto == lab.ICMP {
		return "ping"
	}
	return s.String()
}

// attacker is somebody at work.
type attacker struct {
	p     *plan.Plan
	known Known
	named []lab.Service // what rules let pass by name: an attacker knows them
	out   Attempts
}

// try adds an attempt at each of some next hops. Where somebody else is to tell what came
// through, he knows no next hops: there each has an attempt of its own.
func (a *attacker) try(t Attempt, frame func(m Mark) []byte) {
	if a.known.Run == 0 {
		t.Frame = frame(Mark{Attempt: len(a.out)})
		a.out = append(a.out, t)
		return
	}
	tried := t.Tried
	for _, h := range t.Hops {
		t.Hops, t.Tried = []Hop{h}, tried+", with "+h.String()+" as next hop"
		t.Frame = frame(Mark{Run: a.known.Run, Attempt: len(a.out)})
		a.out = append(a.out, t)
	}
}

// Escape lists what a hostile guest tries to get outside, by every adapter that
// is plugged.
func Escape(p *plan.Plan, guest *plan.Machine, known Known) Attempts {
	a := &attacker{p: p, known: known, named: allowedByName(p)}
	for _, ad := range guest.Adapters {
		if ad.Plugged {
			a.plain(ad)
			a.malformed(ad)
		}
	}
	for _, ad := range guest.Adapters {
		if ad.Plugged {
			a.afterLies(ad)
		}
	}
	return a.out
}

// plain lists ordinary packets: from its own address and from others', to the
// outside, by every station that may route and by its neighbors.
func (a *attacker) plain(ad *plan.Adapter) {
	gates, neighbors := a.hops(ad)
	own := a.address(ad)
	targets := []netip.Addr{a.known.Witness}
	for _, seg := range a.p.Segments {
		if seg.Reach == lab.Upstream && seg.Gateway.IsValid() {
			targets = append(targets, seg.Gateway)
		}
	}
	add := func(source, to netip.Addr, hops []Hop, services []lab.Service) {
		what := "the foreign address " + source.String()
		if source == own {
			what = "its own address " + source.String()
		}
		for _, service := range services {
			a.try(
				Attempt{
					From:  claims.RefTo(ad),
					Hops:  hops,
					Tried: fmt.Sprintf("%s from %s, by adapter %d", ShownAs(service), what, ad.Number),
				},
				func(m Mark) []byte { return forge(ad.MAC, source, to, service, m) },
			)
		}
	}
	for _, to := range targets {
		for _, source := range a.sources(ad, own) {
			add(source, to, gates, Usual)
			if source == own && to == a.known.Witness {
				add(source, to, gates, a.named)
			}
		}
	}
	add(own, a.known.Witness, neighbors, Usual)
}

// afterLies lists ordinary packets to send once the lies are told.
func (a *attacker) afterLies(ad *plan.Adapter) {
	gates, _ := a.hops(ad)
	own := a.address(ad)
	for _, service := range Usual {
		a.try(Attempt{From: claims.RefTo(ad), Hops: gates, AfterLies: true,
			Tried: fmt.Sprintf(
				"%s from its own address %s, by adapter %d, after it took its next hop's and neighbor's addresses",
				ShownAs(service),
				own,
				ad.Number,
			)},
			func(m Mark) []byte { return forge(ad.MAC, own, a.known.Witness, service, m) })
	}
}

// address returns the adapter's address, or one that it could take.
func (a *attacker) address(ad *plan.Adapter) netip.Addr {
	for _, has := range a.known.Addresses[claims.RefTo(ad)] {
		if has.Is4() {
			return has
		}
	}
	return Free(ad.Segment)
}

// Free returns an address on a segment that a hostile guest could take: high up,
// where few are in use.
func Free(s *plan.Segment) netip.Addr {
	b := s.Subnet.Addr().As4()
	binary.BigEndian.PutUint32(b[:], binary.BigEndian.Uint32(b[:])|1<<(32-s.Subnet.Bits())-2)
	return netip.AddrFrom4(b)
}

// hops returns the stations of the adapter's network that may route (appliances,
// the host, routers, everybody at once), and the other guests: also those beyond an
// appliance that bridges.
func (a *attacker) hops(ad *plan.Adapter) (gates, neighbors []Hop) {
	var routers []Hop
	for _, s := range ad.Segment.Network() {
		for _, other := range s.Adapters {
			switch {
			case other.Machine == ad.Machine:
			case other.Guest == nil:
				gates = append(gates, Hop{other.MAC, other.Machine.Name})
			default:
				neighbors = append(neighbors, Hop{other.MAC, other.Machine.Name})
			}
		}
		routers = append(routers, a.known.Routers[s.Name]...)
	}
	return append(append(gates, routers...), Hop{MAC: mac.Broadcast}), neighbors
}

// Gates returns the stations of an adapter's network that may route.
func Gates(p *plan.Plan, ad *plan.Adapter, known Known) []Hop {
	gates, _ := (&attacker{p: p, known: known}).hops(ad)
	return gates
}

// sources returns the addresses that a guest may pretend to have: its own, a
// neighbor's, the router's, one of each other segment, and a public one.
func (a *attacker) sources(ad *plan.Adapter, own netip.Addr) []netip.Addr {
	list := []netip.Addr{own, netip.AddrFrom4([4]byte{198, 51, 100, 7})}
	add := func(x netip.Addr) {
		if x.IsValid() && !slices.Contains(list, x) && len(list) < 40 {
			list = append(list, x)
		}
	}
	add(Free(ad.Segment))
	add(ad.Segment.Gateway)
	for _, x := range a.known.Forge[ad.Segment.Name] {
		if !slices.Contains(list, x) {
			list = append(list, x)
		}
	}
	for _, s := range a.p.Segments {
		if s != ad.Segment {
			add(Free(s))
		}
	}
	return list
}

// nextHop returns the address of the port that guests on the adapter's segment
// are sent to, or one that nobody has.
func nextHop(ad *plan.Adapter) netip.Addr {
	if port := ad.Segment.Port; port != nil && port.Address.IsValid() {
		return port.Address.Addr()
	}
	if ad.Segment.Gateway.IsValid() { // beyond an appliance that bridges
		return ad.Segment.Gateway
	}
	return Free(ad.Segment)
}

// maxNamed bounds the services of rules that a hostile guest tries.
const maxNamed = 64

// allowedByName returns the services that rules let pass.
func allowedByName(p *plan.Plan) []lab.Service {
	var list []lab.Service
	for _, m := range p.Appliances() {
		for i := range m.Rules {
			for _, s := range m.Rules[i].Services {
				if len(list) == maxNamed {
					return list
				}
				s.To = s.From
				if m.Rules[i].Action == lab.Allow && s.From != 0 && !slices.Contains(Usual, s) &&
					!slices.Contains(list, s) {
					list = append(list, s)
				}
			}
		}
	}
	return list
}
