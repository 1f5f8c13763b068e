package host

import (
	"net/netip"
	"slices"
	"time"

	"github.com/mdlayher/ndp"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/packet"
)

// IPv6 is a port's IPv6 side: neighbor discovery (RFC 4861), addresses made of
// what routers announce (RFC 4862), and what DHCPv6 tells beside them (RFC
// 8415, section 18.2.6).
type IPv6 struct {
	Link      netip.Addr     // its link-local address; invalid until nobody else claims it
	Addresses []netip.Prefix // others
	Router    netip.Addr     // the default router's link-local address; invalid: none
	DNS       []netip.Addr
	Domain    string
	Accepts   bool           // makes itself addresses of what routers announce
	Announces *Announcement  // what it announces as a router, or nil
	Heard     []Announcement // who announces on the segment, each router once
	Dropped   int            // addresses given up because somebody has them already

	tentative map[netip.Addr]bool
	on        bool
	asks      bool // a router says that DHCPv6 tells more
	xid       [3]byte
}

// Announcement is what a router says of itself.
type Announcement struct {
	Prefix   netip.Prefix // for guests to make addresses of; /64
	Lifetime time.Duration
	DNS      []netip.Addr // told by DHCPv6
	Domain   string

	Router netip.Addr  // heard: who says it
	MAC    mac.Address // likewise
	Frame  int         // in which it was heard first
}

// Times of neighbor discovery (RFC 4861, section 10).
const (
	dadWait        = time.Second
	solicitWait    = 4 * time.Second
	informWait     = time.Second // INF_TIMEOUT (RFC 8415, section 7.6)
	solicitTries   = 3
	informTries    = 10
	announceEvery  = 16 * time.Second
	announceTimes  = 3
	hopLimit       = 255
	clientPort6    = 546
	serverPort6    = 547
	maxAddresses6  = 16
	maxHeard       = 16
	announcedBits  = 64
	validLifetime  = 24 * time.Hour
	preferLifetime = 4 * time.Hour
)

var (
	allNodes   = netip.MustParseAddr("ff02::1")
	allRouters = netip.MustParseAddr("ff02::2")
	allServers = netip.MustParseAddr("ff02::1:2") // DHCPv6
	nobody6    = netip.IPv6Unspecified()
)

func (s *IPv6) owns(a netip.Addr) bool {
	if a == s.Link {
		return true
	}
	for _, p := range s.Addresses {
		if p.Addr() == a {
			return true
		}
	}
	return false
}

func (s *IPv6) unlearn(router netip.Addr, prefix netip.Prefix) {
	s.Heard = slices.DeleteFunc(s.Heard, func(a Announcement) bool { return a.Router == router })
	s.Addresses = slices.DeleteFunc(s.Addresses, func(a netip.Prefix) bool { return prefix.Contains(a.Addr()) })
	for a := range s.tentative {
		if prefix.Contains(a) {
			delete(s.tentative, a)
		}
	}
	if s.Router == router {
		s.Router = netip.Addr{}
		for _, a := range s.Heard {
			if a.Lifetime > 0 {
				s.Router = a.Router
				break
			}
		}
	}
}

// own returns the port's address for what it sends to another; invalid when it
// has none.
func (p *Port) own(to netip.Addr) netip.Addr {
	if !to.Is6() {
		if p.Address.IsValid() {
			return p.Address.Addr()
		}
		return netip.Addr{}
	}
	if p.IPv6 == nil {
		return netip.Addr{}
	}
	if to.IsLinkLocalUnicast() || to.IsLinkLocalMulticast() || len(p.IPv6.Addresses) == 0 {
		return p.IPv6.Link
	}
	for _, a := range p.IPv6.Addresses {
		if a.Contains(to) {
			return a.Addr()
		}
	}
	return p.IPv6.Addresses[0].Addr()
}

// StartSix brings up the IPv6 side of a port: its link-local address, then as
// a router what it announces, else the question who does.
func (n *Node) StartSix(now time.Duration, port *Port) {
	n.now = now
	s := port.IPv6
	if s == nil || !port.up {
		return
	}
	s.on = true
	for _, a := range s.Addresses {
		n.solicit6From(port, nobody6, a.Addr())
	}
	n.claim(port, port.MAC.LinkLocal(), func(a netip.Addr) {
		s.Link = a
		if s.Announces != nil {
			n.announceSix(port, announceTimes)
			return
		}
		if s.Accepts {
			n.findRouters(port, solicitTries)
		}
		if s.asks {
			n.inform(port, informTries)
		}
	})
}

func (n *Node) linked6(port *Port, up bool) {
	if s := port.IPv6; s.Accepts {
		*s = IPv6{Accepts: true}
	}
	if up {
		n.StartSix(n.now, port)
	}
}

// claim takes an address once nobody answers that it has it already (RFC 4862,
// section 5.4).
func (n *Node) claim(port *Port, a netip.Addr, taken func(netip.Addr)) {
	s := port.IPv6
	if s.tentative == nil {
		s.tentative = map[netip.Addr]bool{}
	}
	s.tentative[a] = true
	n.solicit6From(port, nobody6, a)
	n.after(dadWait, func() {
		if s.tentative[a] {
			delete(s.tentative, a)
			taken(a)
		}
	})
}

// SolicitRouters asks who announces on the port's segment. Answers gather in
// its Heard.
func (n *Node) SolicitRouters(now time.Duration, port *Port) {
	n.now = now
	if from := port.own(allRouters); from.IsValid() {
		n.say6(port, from, allRouters, &ndp.RouterSolicitation{Options: []ndp.Option{source(port)}})
		return
	}
	n.say6(
		port,
		nobody6,
		allRouters,
		&ndp.RouterSolicitation{},
	) // its own address is not sure yet (RFC 4861, section 4.1)
}

func (n *Node) findRouters(port *Port, left int) {
	if left == 0 || len(port.IPv6.Heard) > 0 {
		return
	}
	n.SolicitRouters(n.now, port)
	n.after(solicitWait, func() { n.findRouters(port, left-1) })
}

func (n *Node) announceSix(port *Port, left int) {
	n.advertise(port, allNodes)
	if left > 1 {
		n.after(announceEvery, func() { n.announceSix(port, left-1) })
	}
}

func (n *Node) advertise(port *Port, to netip.Addr) {
	v := port.IPv6.Announces
	n.say6(port, port.IPv6.Link, to, &ndp.RouterAdvertisement{
		CurrentHopLimit: 64, OtherConfiguration: len(v.DNS) > 0, RouterLifetime: v.Lifetime,
		Options: []ndp.Option{
			&ndp.PrefixInformation{
				PrefixLength:                   announcedBits,
				OnLink:                         true,
				AutonomousAddressConfiguration: true,
				ValidLifetime:                  validLifetime,
				PreferredLifetime:              preferLifetime,
				Prefix:                         v.Prefix.Addr(),
			},
			source(port),
		},
	})
}

func source(port *Port) ndp.Option {
	return &ndp.LinkLayerAddress{Direction: ndp.Source, Addr: port.MAC[:]}
}

// say6 sends a message of neighbor discovery.
func (n *Node) say6(port *Port, from, to netip.Addr, m ndp.Message) {
	data, err := ndp.MarshalMessage(m)
	if err != nil || !from.IsValid() {
		return
	}
	frame := packet.Message6(packet.IP{Source: from, Destination: to, TTL: hopLimit}, data)
	if to.IsMulticast() {
		n.sendGroup(port, frame, to)
		return
	}
	if p, err := packet.Decode(frame); err == nil {
		n.sendVia(port, nil, to, p)
	}
}

// sendGroup sends a packet to an IPv6 group on the port's segment.
func (n *Node) sendGroup(port *Port, frame []byte, to netip.Addr) {
	packet.SetLink(frame, packet.Group6(to), port.MAC)
	n.send(port, frame)
}

// solicit6 asks every machine on the segment who has an address (RFC 4861, section
// 7.2.2).
func (n *Node) solicit6(port *Port, a netip.Addr) { n.solicit6From(port, port.own(a), a) }

func (n *Node) solicit6From(port *Port, from, a netip.Addr) {
	group, err := ndp.SolicitedNodeMulticast(a)
	if err != nil || !from.IsValid() {
		return
	}
	m := &ndp.NeighborSolicitation{TargetAddress: a}
	if from != nobody6 {
		m.Options = []ndp.Option{source(port)}
	}
	n.say6(port, from, group, m)
}

// receiveSix takes what neighbor discovery says; false when the packet is
// something else.
func (n *Node) receiveSix(port *Port, p *packet.Packet) bool {
	if !p.Discovery() {
		return false
	}
	if p.TTL != hopLimit || !p.TransportValid() || p.From == port.MAC {
		return true // from beyond the link, or its own
	}
	m, err := ndp.ParseMessage(p.Data)
	if err != nil {
		return true
	}
	switch m := m.(type) {
	case *ndp.NeighborSolicitation:
		n.solicited(port, p, m)
	case *ndp.NeighborAdvertisement:
		n.advertised(port, p, m)
	case *ndp.RouterSolicitation:
		if port.IPv6.Announces != nil && port.IPv6.Link.IsValid() {
			n.advertise(port, allNodes)
		}
	case *ndp.RouterAdvertisement:
		n.announced(port, p, m)
	}
	return true
}

func (n *Node) solicited(port *Port, p *packet.Packet, m *ndp.NeighborSolicitation) {
	s, a := port.IPv6, m.TargetAddress
	if s.tentative[a] && p.Source == nobody6 { // two want it: neither takes it
		delete(s.tentative, a)
		s.Dropped++
		return
	}
	if !s.owns(a) {
		return
	}
	to, answer := p.Source, &ndp.NeighborAdvertisement{Router: s.Announces != nil, Override: true, TargetAddress: a,
		Options: []ndp.Option{&ndp.LinkLayerAddress{Direction: ndp.Target, Addr: port.MAC[:]}}}
	if to == nobody6 {
		n.say6(port, a, allNodes, answer)
		return
	}
	answer.Solicited = true
	if e := port.neighbors[to]; e != nil {
		n.learned(port, e, p.From)
	} else if len(port.neighbors) < maxNeighbors {
		e = &neighbor{}
		port.setNeighbor(to, e)
		n.learned(port, e, p.From)
	}
	n.say6(port, a, to, answer)
}

func (n *Node) advertised(port *Port, p *packet.Packet, m *ndp.NeighborAdvertisement) {
	s, a := port.IPv6, m.TargetAddress
	if s.tentative[a] {
		delete(s.tentative, a)
		s.Dropped++
		return
	}
	from := p.From
	for _, o := range m.Options {
		if l, ok := o.(*ndp.LinkLayerAddress); ok && l.Direction == ndp.Target && len(l.Addr) == len(from) {
			copy(from[:], l.Addr)
		}
	}
	for _, q := range port.inquiries {
		if q.Address == a {
			q.answered(from, p.Number)
		}
	}
	if e := port.neighbors[a]; e != nil {
		n.learned(port, e, from)
	}
}

func (n *Node) announced(port *Port, p *packet.Packet, m *ndp.RouterAdvertisement) {
	s := port.IPv6
	if !p.Source.IsLinkLocalUnicast() {
		return // RFC 4861, section 6.1.2
	}
	heard := Announcement{Lifetime: m.RouterLifetime, Router: p.Source, MAC: p.From, Frame: p.Number}
	for _, o := range m.Options {
		if v, ok := o.(*ndp.PrefixInformation); ok && v.AutonomousAddressConfiguration &&
			v.PrefixLength == announcedBits {
			heard.Prefix = netip.PrefixFrom(v.Prefix, announcedBits).Masked()
		}
	}
	known := false
	for i := range s.Heard {
		known = known || s.Heard[i].Router == p.Source
	}
	if !known && len(s.Heard) < maxHeard {
		s.Heard = append(s.Heard, heard)
	}
	if !s.Accepts {
		return
	}
	if m.RouterLifetime > 0 && !s.Router.IsValid() {
		s.Router = p.Source
	}
	if heard.Prefix.IsValid() && len(s.Addresses) < maxAddresses6 {
		if a := port.MAC.In(heard.Prefix); !s.owns(a) && !s.tentative[a] {
			n.claim(
				port,
				a,
				func(a netip.Addr) { s.Addresses = append(s.Addresses, netip.PrefixFrom(a, announcedBits)) },
			)
		}
	}
	if m.OtherConfiguration && !s.asks {
		s.asks = true
		n.inform(port, informTries)
	}
}

// inform asks by DHCPv6 for what goes beside an address.
func (n *Node) inform(port *Port, left int) {
	s := port.IPv6
	if left == 0 || s.DNS != nil || !s.Link.IsValid() {
		return
	}
	x := n.rand()
	s.xid = [3]byte{byte(x), byte(x >> 8), byte(x >> 16)}
	n.udp[clientPort6] = func(d Datagram) {
		if d.Port == port && d.Outcome.Code == outcome.OK {
			if dns, domain, ok := dhcp.ReadInformation(d.Data, s.xid); ok {
				s.DNS, s.Domain = dns, domain
			}
		}
	}
	frame := packet.Datagram(packet.IP{Source: s.Link, Destination: allServers, TTL: 1}, clientPort6, serverPort6,
		dhcp.InformationRequest(port.MAC, s.xid))
	n.sendGroup(port, frame, allServers)
	wait := solicitWait
	if left == informTries { // the first answer is lost most often: nobody knows whom he answers yet
		wait = informWait
	}
	n.after(wait, func() { n.inform(port, left-1) })
}

// ServeInformation answers what inform asks, with what the ports announce.
func (n *Node) ServeInformation() {
	n.udp[serverPort6] = func(d Datagram) {
		if d.Port == nil || d.Port.IPv6 == nil || d.Port.IPv6.Announces == nil || d.Outcome.Code != outcome.OK {
			return
		}
		v := d.Port.IPv6.Announces
		answer, ok := dhcp.Inform(d.Data, d.Port.MAC, v.DNS, v.Domain)
		if !ok {
			return
		}
		h := packet.IP{Source: d.Port.IPv6.Link, Destination: d.Remote.Addr()}
		if p, err := packet.Decode(packet.Datagram(h, serverPort6, d.Remote.Port(), answer)); err == nil {
			n.sendVia(d.Port, nil, d.Remote.Addr(), p)
		}
	}
}

// route6 returns the port and next hop for an IPv6 destination.
func (n *Node) route6(to netip.Addr) (*Port, netip.Addr) {
	var first *Port
	for _, p := range n.ports {
		if !p.up || p.IPv6 == nil {
			continue
		}
		if to.IsLinkLocalUnicast() {
			if p.neighbors[to] != nil {
				return p, to
			}
			if first == nil {
				first = p
			}
			continue
		}
		for _, a := range p.IPv6.Addresses {
			if a.Contains(to) {
				return p, to
			}
		}
	}
	if first != nil {
		return first, to
	}
	for _, r := range n.Routes {
		if r.To.Contains(to) && r.Hop != to {
			return n.route6(r.Hop)
		}
	}
	for _, p := range n.ports {
		if p.up && p.IPv6 != nil && p.IPv6.Router.IsValid() {
			return p, p.IPv6.Router
		}
	}
	return nil, netip.Addr{}
}
