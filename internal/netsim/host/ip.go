package host

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/packet"
)

var everyone = netip.AddrFrom4([4]byte{255, 255, 255, 255})

func (n *Node) receiveIP(port *Port, p *packet.Packet) {
	if p.IPv6 && n.receiveSix(port, p) {
		return
	}
	// A host has nothing to do with most of what a hostile neighbor sends it.
	if !n.Forwards && p.Proto != packet.UDP && !n.Local(p.Destination) {
		return
	}
	toAll := p.Destination == everyone || p.Destination.IsMulticast() ||
		port.Address.IsValid() && port.Address.Bits() < 31 && p.Destination == subnet.Broadcast(port.Address)
	if p.Proto == packet.UDP && (port.Client != nil || port.Server != nil || port.surveys != nil) &&
		n.leaseMessage(port, p) {
		return
	}
	if toAll {
		if p.Proto == packet.UDP && len(n.udp) > 0 {
			n.deliverUDP(port, p, true)
		}
		return
	}
	if p.To.IsGroup() {
		return // sent to all on the link, yet meant for one: neither taken nor passed on (RFC 1122, 3.3.6)
	}
	if p.Source.Is4() && n.Local(p.Source) {
		return // nobody else sends from its address (RFC 1812, section 5.3.8, and as kernels do)
	}
	if p.Source.Is6() && p.Source.IsLinkLocalUnicast() && !n.Local(p.Destination) {
		return // what is said on a link stays on it (RFC 4291, section 2.5.6)
	}
	if n.Hook != nil {
		p = p.Copy()
		if n.judge(port, p, n.Hook.Arriving(n.now, port, p)) {
			return
		}
	}
	if n.Local(p.Destination) {
		if n.Hook != nil && n.judge(port, p, n.Hook.Delivering(n.now, port, p)) {
			return
		}
		n.deliver(port, p)
		return
	}
	if n.Forwards {
		n.forward(port, p)
	}
}

// judge carries out a verdict and tells whether that was the packet's end.
func (n *Node) judge(in *Port, p *packet.Packet, v Verdict) bool {
	switch v {
	case Pass:
		return false
	case Refuse:
		n.refuse(in, p)
	}
	return true
}

// refuse answers a packet that a rule refuses: a reset for TCP, else an
// unreachable (RFC 1812, section 5.2.7.1: communication prohibited).
func (n *Node) refuse(in *Port, p *packet.Packet) {
	if p.Proto == packet.TCP && p.TransportValid() {
		if f, data := packet.ReadSegment(p); f.Flags&packet.RST == 0 {
			n.reset(p.Destination, p.Source, f, len(data))
		}
		return
	}
	n.icmpError(in, p, packet.Unreachable, packet.AdminProhibited)
}

func (n *Node) forward(in *Port, p *packet.Packet) {
	out, hop := n.route(p.Destination)
	if n.Hook != nil {
		if by := n.Hook.Leading(p); by != nil {
			if out, hop = by, p.Destination; !by.Address.Contains(hop) {
				hop = by.Gateway
			}
		}
	}
	if n.Spreads && p.TTL > 1 {
		n.spread(in, out, p)
	}
	if out == nil {
		n.Tell(Note{Kind: Lost, Why: NoRoute, Hop: p.Destination}, "no route to %s", p.Destination)
		n.icmpError(in, p, packet.Unreachable, packet.NetUnreachable)
		return
	}
	if p.TTL <= 1 { // looked at after the route, as systems do: who knows no way says that
		n.Say(Lost, 0, "its time to live ran out")
		n.icmpError(in, p, packet.TimeExceeded, 0)
		return
	}
	n.sayRoute(out, hop, p)
	if size := out.carries(hop); len(p.Body) > size {
		n.tooBig(in, p, size)
		return
	}
	if n.Hook != nil {
		if n.judge(in, p, n.Hook.Forwarding(n.now, in, out, p)) {
			return
		}
	} else {
		p = p.Copy()
	}
	p.Hop()
	if n.Hook != nil && n.judge(in, p, n.Hook.Leaving(n.now, out, p, false)) {
		return
	}
	if p.Tag != 0 { // the out port puts its own tag on
		p, _ = packet.Decode(packet.Untagged(p.Bytes))
	}
	n.sendVia(out, in, hop, p)
}

// spread sends a copy of what is forwarded out of every other way as well.
func (n *Node) spread(in, out *Port, p *packet.Packet) {
	for _, q := range n.ports {
		if q != in && q != out && q.leadsOut() {
			c := p.Copy()
			c.Hop()
			n.sendVia(q, nil, q.Gateway, c)
		}
	}
}

// Route returns the port and next hop for a destination; a nil port when there
// is no route.
func (n *Node) Route(to netip.Addr) (*Port, netip.Addr) { return n.route(to) }

func (n *Node) route(to netip.Addr) (*Port, netip.Addr) {
	if to.Is6() {
		return n.route6(to)
	}
	best := n.onLink(to)
	if best != nil {
		return best, to
	}
	var route *Route
	for i := range n.Routes {
		if r := &n.Routes[i]; r.To.Contains(to) && (route == nil || r.To.Bits() > route.To.Bits()) {
			route = r
		}
	}
	if route != nil {
		if p := n.onLink(route.Hop); p != nil {
			return p, route.Hop
		}
	}
	for _, p := range n.ports { // the first port with a way out wins
		if best != nil && !best.Dead {
			break
		}
		if p.leadsOut() && (best == nil || !p.Dead) {
			best = p
		}
	}
	if best == nil {
		return nil, netip.Addr{}
	}
	return best, best.Gateway
}

// onLink returns the port on whose network an address is, the longest prefix first;
// nil when there is none.
func (n *Node) onLink(to netip.Addr) *Port {
	if p, known := n.near[to]; known {
		return p
	}
	var best *Port
	for _, p := range n.ports {
		if p.up && p.Address.IsValid() && p.Address.Contains(to) &&
			(best == nil || p.Address.Bits() > best.Address.Bits()) {
			best = p
		}
	}
	if n.near == nil || len(n.near) >= maxNear {
		n.near = map[netip.Addr]*Port{}
	}
	n.near[to] = best
	return best
}

// maxNear bounds what onLink remembers: addresses can be forged.
const maxNear = 1 << 14

// sayRoute returns which way a packet takes.
func (n *Node) sayRoute(out *Port, hop netip.Addr, p *packet.Packet) {
	if n.Noted == nil {
		return
	}
	by := fmt.Sprintf("adapter %d", out.Adapter)
	if out.Name != "" && !strings.HasPrefix(out.Name, "adapter") {
		by = "port " + out.Name
	}
	if hop == p.Destination {
		n.Say(Routed, 0, "%s is on the network at %s (%s)", p.Destination, by, out.Address.Masked())
	} else {
		n.Say(Routed, 0, "%s goes by %s to the next hop %s", p.Destination, by, hop)
	}
}

// leadsOut reports whether it is a port whose gateway can be sent to.
func (p *Port) leadsOut() bool {
	return p.up && p.Address.IsValid() && p.Gateway.IsValid() && (p.Address.Contains(p.Gateway) || p.Dial != nil)
}

// originate routes and sends a packet of the node's own. false: no route.
func (n *Node) originate(frame []byte) bool {
	p, err := packet.Decode(frame)
	if err != nil {
		return false
	}
	out, hop := n.route(p.Destination)
	if out == nil {
		n.Tell(Note{Kind: Lost, Why: NoRoute, Hop: p.Destination}, "no route to %s", p.Destination)
		return false
	}
	if hop != p.Destination && p.IPv4 { // what has the address of one way out does not leave by another
		for _, q := range n.ports {
			if q != out && q.leadsOut() && q.Owns(p.Source) {
				out, hop = q, q.Gateway
				break
			}
		}
	}
	n.sayRoute(out, hop, p)
	if len(p.Body) > out.carries(hop) {
		return false
	}
	if n.Hook != nil && n.Hook.Leaving(n.now, out, p, true) != Pass {
		return false
	}
	n.sendVia(out, nil, hop, p)
	return true
}

// source returns the address the node uses towards a destination.
func (n *Node) source(to netip.Addr) (netip.Addr, bool) {
	out, _ := n.route(to)
	if out == nil {
		return netip.Addr{}, false
	}
	a := out.own(to)
	if n.As.IsValid() && n.As.Is4() == to.Is4() {
		a = n.As
	}
	return a, a.IsValid()
}

func (n *Node) header(from, to netip.Addr) packet.IP {
	n.nextID++
	return packet.IP{Source: from, Destination: to, ID: n.nextID}
}

// icmpError returns a packet's sender what became of it, never about an error,
// a fragment or a packet from nobody (RFC 1122, section 3.2.2). in is where it
// came from; nothing is said of the node's own.
func (n *Node) icmpError(in *Port, p *packet.Packet, kind, code uint8) {
	if in == nil {
		n.ownFailed(p)
		return
	}
	n.complain(in, p, func(h packet.IP) []byte { return packet.ICMPError(h, kind, code, p.Body) })
}

// tooBig returns a packet's sender that it is larger than what the way carries.
func (n *Node) tooBig(in *Port, p *packet.Packet, mtu int) {
	n.Say(Lost, 0, "too big: the way carries %d bytes, and this has %d", mtu, len(p.Body))
	n.complain(in, p, func(h packet.IP) []byte { return packet.TooBig(h, mtu, p.Body) })
}

// complain sends an error about a packet that came in by a port.
func (n *Node) complain(in *Port, p *packet.Packet, build func(packet.IP) []byte) {
	own := in.own(p.Source)
	if p.IsError() || p.Source.IsUnspecified() || p.Source.IsMulticast() || p.Later() || !own.IsValid() {
		return
	}
	frame := build(n.header(own, p.Source))
	out, hop := n.route(p.Source)
	if out == nil {
		return
	}
	if q, err := packet.Decode(frame); err == nil {
		n.sendVia(out, nil, hop, q)
	}
}

// ownFailed returns the node's own ping that its next hop does not answer.
func (n *Node) ownFailed(p *packet.Packet) {
	if p.Ping(false) {
		if id, _, ok := p.Ports(); ok && n.pings[id] != nil {
			n.pings[id].end(outcome.Of(outcome.NoNeighbor))
		}
	}
}

func (n *Node) deliver(port *Port, p *packet.Packet) {
	if p.Fragment || !p.TransportValid() {
		return
	}
	switch p.Proto {
	case packet.ICMP, packet.ICMP6:
		n.deliverICMP(port, p)
	case packet.UDP:
		n.deliverUDP(port, p, false)
	case packet.TCP:
		n.deliverTCP(p)
	default:
		n.icmpError(port, p, packet.Unreachable, 2) // protocol unreachable
	}
}

func (n *Node) deliverICMP(port *Port, p *packet.Packet) {
	c := header.ICMP(p.Data)
	switch {
	case p.Ping(false):
		h := n.header(p.Destination, p.Source)
		n.originate(packet.Echo(h, true, c.Ident(), c.Sequence(), p.Data[header.ICMPSize:]))
	case p.Ping(true):
		if q := n.pings[c.Ident()]; q != nil && !q.Done {
			q.Answered, q.From, q.Frame, q.TTL = true, p.Source, p.Number, p.TTL
			q.end(outcome.Outcome{})
		}
	case p.IsError():
		n.icmpFailed(p)
	}
}

// icmpFailed hands an error to whoever sent the packet it quotes.
func (n *Node) icmpFailed(p *packet.Packet) {
	source, destination, proto, data, ok := packet.Quoted(p.Data)
	if !ok || !n.Local(source) {
		return
	}
	what := outcome.By(outcome.Unreachable, p.Source)
	expired := p.Proto == packet.ICMP && p.Data[0] == header.TimeExceeded ||
		p.Proto == packet.ICMP6 && p.Data[0] == packet.TimeExceeded6
	if size := p.Carries(); size > 0 {
		what.Code, what.Detail = outcome.TooBig, strconv.Itoa(size)
	}
	if expired {
		what = outcome.By(outcome.TimeExceeded, p.Source)
	}
	local, remote, ok := packet.Ports(proto, append(data, make([]byte, max(0, 20-len(data)))...))
	if !ok {
		return
	}
	switch proto {
	case packet.ICMP, packet.ICMP6:
		if q := n.pings[local]; q != nil && !q.Done {
			q.From, q.Frame, q.Expired = p.Source, p.Number, expired
			q.end(what)
		}
	case packet.UDP:
		if fn := n.udp[local]; fn != nil {
			fn(
				Datagram{
					Remote:  netip.AddrPortFrom(destination, remote),
					Local:   netip.AddrPortFrom(source, local),
					Packet:  p,
					Outcome: what,
				},
			)
		}
	case packet.TCP:
		key := connKey{netip.AddrPortFrom(source, local), netip.AddrPortFrom(destination, remote)}
		if conn := n.conns[key]; conn != nil && conn.state == synSent { // soft once established (RFC 9293, 3.9.2.2)
			conn.fail(what)
		}
	}
}

// leaseMessage hands a lease message to the port's client or server; false
// when the packet is none.
func (n *Node) leaseMessage(port *Port, p *packet.Packet) bool {
	_, to, ok := p.Ports()
	if !ok || to != dhcp.ServerPort && to != dhcp.ClientPort || to == dhcp.ServerPort && port.Server == nil ||
		to == dhcp.ClientPort &&
			port.Client == nil && port.surveys == nil {
		return false
	}
	if !p.TransportValid() {
		return true
	}
	n.leaseIn(port, to, p)
	return true
}

// Announce sends gratuitous ARP for the port's address (RFC 5227, section 2.3).
func (n *Node) announce(port *Port) {
	a := port.Address.Addr()
	n.send(port, packet.ARP(packet.ARPRequest, mac.Broadcast, port.MAC, a, mac.Address{}, a))
}

// resolverOut sends what the resolver wants sent.
func (n *Node) resolverOut(list []dns.Out) {
	n.stir = true // the resolver's deadline may have changed
	for _, o := range list {
		if o.Local != dns.Port {
			local := o.Local
			n.udp[local] = func(d Datagram) {
				if d.Outcome.Code == outcome.OK {
					n.resolverOut(n.Resolver.Answer(n.now, local, d.Remote, d.Data))
				}
				if !n.Resolver.Waiting(local) {
					delete(n.udp, local)
				}
			}
		}
		if o.Stream {
			n.answerStream(o)
		} else {
			n.Reply(n.now, netip.AddrPortFrom(o.From, o.Local), o.To, o.Data)
		}
	}
}

// answerStream returns an answer to the connection that it was asked by, if that
// is still there.
func (n *Node) answerStream(o dns.Out) {
	for k, c := range n.conns {
		if k.remote == o.To && k.local.Port() == o.Local {
			c.Write(append([]byte{byte(len(o.Data) >> 8), byte(len(o.Data))}, o.Data...))
		}
	}
}

// ServeNames makes the node answer questions for names on every port.
func (n *Node) ServeNames(r *dns.Resolver) {
	n.Resolver = r
	n.udp[dns.Port] = func(d Datagram) {
		if d.Outcome.Code == outcome.OK {
			n.resolverOut(r.Query(n.now, d.Local.Addr(), d.Remote, false, d.Data))
		}
	}
	n.Listen(dns.Port, n.serveNamesTo)
}

// serveNamesTo takes questions from a connection: each has its length before it
// (RFC 1035, section 4.2.2).
func (n *Node) serveNamesTo(c *Conn) {
	var waiting []byte
	c.OnData = func(data []byte) {
		waiting = append(waiting, data...)
		for len(waiting) >= 2 {
			size := int(waiting[0])<<8 | int(waiting[1])
			if len(waiting) < 2+size {
				return
			}
			question := waiting[2 : 2+size]
			waiting = waiting[2+size:]
			n.resolverOut(n.Resolver.Query(n.now, c.Local.Addr(), c.Remote, true, question))
		}
	}
	c.OnClose = c.Close
}

// SendUDP sends a datagram from a local port. false: there is no route.
func (n *Node) SendUDP(now time.Duration, local uint16, to netip.AddrPort, data []byte) bool {
	n.now = now
	if !to.Addr().IsValid() {
		return false
	}
	from, ok := n.source(to.Addr())
	return ok && n.originate(packet.Datagram(n.header(from, to.Addr()), local, to.Port(), data))
}

// Reply sends a datagram from the address and port that were spoken to, which
// must be the node's own; from any other it goes as SendUDP sends it.
func (n *Node) Reply(now time.Duration, from, to netip.AddrPort, data []byte) bool {
	if n.now = now; !from.Addr().IsValid() || !n.Local(from.Addr()) || !to.Addr().IsValid() {
		return n.SendUDP(now, from.Port(), to, data)
	}
	return n.originate(packet.Datagram(n.header(from.Addr(), to.Addr()), from.Port(), to.Port(), data))
}
