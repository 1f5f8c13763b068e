package host

import (
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/netsim/header"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
)

const (
	arpTries     = 3
	arpWait      = time.Second      // between requests (RFC 1122, section 2.3.2.1: at most one a second)
	arpFresh     = 20 * time.Minute // an entry is asked for again after this
	arpQueue     = 8                // packets that wait for one neighbor
	maxNeighbors = 1 << 16
)

type neighbor struct {
	mac   mac.Address
	known bool
	since time.Duration
	tries int
	queue []*packet.Packet
	from  []*Port // where each waiting packet came in; nil for the node's own
}

// Inquiry is a question by ARP: who has an address? It gathers every answer.
type Inquiry struct {
	Address netip.Addr
	Answers []mac.Address // each once
	Frame   int           // of the first answer
}

func (q *Inquiry) answered(by mac.Address, frame int) {
	if slices.Contains(q.Answers, by) {
		return
	}
	if q.Answers = append(q.Answers, by); q.Frame == 0 {
		q.Frame = frame
	}
}

func (n *Node) receiveARP(port *Port, p *packet.Packet) {
	if len(p.Body) < header.ARPSize {
		return
	}
	a := header.ARP(p.Body)
	if !a.Valid() {
		return
	}
	target := netip.AddrFrom4([4]byte(a.TargetAddr()))
	mine := port.Owns(target)
	// Most broadcasts are for somebody else, and nothing here waits for them.
	if !mine && len(port.neighbors) == 0 && len(port.inquiries) == 0 {
		return
	}
	sender := netip.AddrFrom4([4]byte(a.SenderAddr()))
	from := mac.Address(a.SenderMAC())
	if from == port.MAC || from.IsGroup() {
		return
	}
	for _, q := range port.inquiries {
		if q.Address == sender {
			q.answered(from, p.Number)
		}
	}
	if sender != zero {
		if e := port.neighbors[sender]; e != nil {
			n.learned(port, e, from)
		} else if mine && port.Address.IsValid() && port.Address.Contains(sender) && len(port.neighbors) < maxNeighbors {
			e = &neighbor{}
			port.setNeighbor(sender, e)
			n.learned(port, e, from)
		}
	}
	if mine && a.Op() == header.ARPRequest {
		n.send(port, packet.ARP(packet.ARPReply, from, port.MAC, target, from, sender))
	}
}

var zero = netip.AddrFrom4([4]byte{})

func (p *Port) setNeighbor(a netip.Addr, e *neighbor) {
	if p.neighbors == nil {
		p.neighbors = map[netip.Addr]*neighbor{}
	}
	p.neighbors[a] = e
}

func (n *Node) learned(port *Port, e *neighbor, from mac.Address) {
	e.mac, e.known, e.since, e.tries = from, true, n.now, 0
	queue := e.queue
	e.queue, e.from = nil, nil
	for _, p := range queue {
		packet.SetLink(p.Bytes, e.mac, port.MAC)
		n.send(port, p.Bytes)
	}
}

// sendVia sends an IPv4 packet to a next hop on the port, once its hardware
// address is known. in is where it came from; nil for the node's own.
func (n *Node) sendVia(port, in *Port, hop netip.Addr, p *packet.Packet) {
	if (port.Dial != nil || port.Access != nil) && n.viaSession(port, hop, p) {
		return
	}
	e := port.neighbors[hop]
	if e == nil {
		if len(port.neighbors) >= maxNeighbors {
			return
		}
		e = &neighbor{}
		port.setNeighbor(hop, e)
	}
	if e.known && n.now-e.since < arpFresh {
		packet.SetLink(p.Bytes, e.mac, port.MAC)
		n.send(port, p.Bytes)
		return
	}
	e.known = false
	if len(e.queue) < arpQueue {
		e.queue, e.from = append(e.queue, p), append(e.from, in)
	}
	if e.tries == 0 {
		n.ask(port, hop, e)
	}
}

func (n *Node) ask(port *Port, hop netip.Addr, e *neighbor) {
	e.tries++
	n.solicit(port, hop)
	n.after(arpWait, func() {
		if e.known || port.neighbors[hop] != e {
			return
		}
		if e.tries < arpTries {
			n.ask(port, hop, e)
			return
		}
		delete(port.neighbors, hop)
		n.Tell(Note{Kind: Lost, Why: Unanswered, Hop: hop}, "nothing answers for %s", hop)
		for i, p := range e.queue {
			n.icmpError(e.from[i], p, packet.Unreachable, packet.HostUnreachable)
		}
	})
}

// solicit asks everybody on the port's segment who has an address: by ARP, or
// for IPv6 by neighbor discovery.
func (n *Node) solicit(port *Port, a netip.Addr) {
	if a.Is6() {
		n.solicit6(port, a)
		return
	}
	source := zero
	if port.Address.IsValid() {
		source = port.Address.Addr()
	}
	n.send(port, packet.ARP(packet.ARPRequest, mac.Broadcast, port.MAC, source, mac.Address{}, a))
}

// Inquire asks who has an address on the port's segment. Answers gather
// in the result for as long as the node runs on.
func (n *Node) Inquire(now time.Duration, port *Port, a netip.Addr) *Inquiry {
	n.now = now
	q := &Inquiry{Address: a}
	port.inquiries = append(port.inquiries, q)
	n.solicit(port, a)
	n.after(arpTries*arpWait, func() { port.forget(q) })
	return q
}

func (p *Port) forget(q *Inquiry) {
	p.inquiries = slices.DeleteFunc(p.inquiries, func(x *Inquiry) bool { return x == q })
}

// Neighbor returns the hardware address that the port knows for an address.
func (p *Port) Neighbor(a netip.Addr) (mac.Address, bool) {
	e := p.neighbors[a]
	if e == nil || !e.known {
		return mac.Address{}, false
	}
	return e.mac, true
}

// Forget drops what a station by its hardware address made the port believe:
// that it has other addresses than its own, and is an IPv6 router with a prefix.
func (p *Port) Forget(liar mac.Address, own netip.Addr, prefix netip.Prefix) {
	for a, e := range p.neighbors {
		if e.known && e.mac == liar && a != own && a != liar.LinkLocal() {
			delete(p.neighbors, a)
		}
	}
	if p.IPv6 != nil {
		p.IPv6.unlearn(liar.LinkLocal(), prefix)
	}
}

// send puts a frame out on the port's adapter, with the port's tag.
func (n *Node) send(port *Port, frame []byte) {
	if !port.up {
		return
	}
	if port.Tag != 0 {
		frame = packet.Tagged(frame, port.Tag)
	}
	n.stir = true
	n.out = append(n.out, Emission{port.Adapter, frame})
}
