package host

import (
	"encoding/binary"
	"net/netip"

	"openbastion/internal/netsim/packet"
)

// Heeds is what a broadcast must be about to matter to a node with one plain port. An address is 0
// where it stands for none.
type Heeds struct {
	Address  uint32    // its IPv4 address
	Hardware uint64    // its hardware address
	Waits    [2]uint32 // IPv4 addresses of which it waits to hear by ARP
}

// Heeds returns what broadcasts the node heeds. ok is false where that is more than it can say.
func (n *Node) Heeds() (h Heeds, ok bool) {
	if len(n.ports) != 1 || n.Seen != nil || n.Forwards {
		return h, false
	}
	p := n.ports[0]
	if !p.up || p.bridge != nil || p.Server != nil || p.Dial != nil || p.Access != nil || len(p.Also) > 0 ||
		p.Tag != 0 || p.IPv6 != nil && p.IPv6.on {
		return h, false
	}
	waits := 0
	wait := func(a netip.Addr) {
		if waits < len(h.Waits) && a.Is4() {
			h.Waits[waits] = number(a)
		}
		waits++
	}
	for _, q := range p.inquiries {
		wait(q.Address)
	}
	for a, e := range p.neighbors {
		if !e.known || len(e.queue) > 0 {
			wait(a)
		}
	}
	if p.Address.IsValid() {
		h.Address = number(p.Address.Addr())
	}
	h.Hardware = p.MAC.Uint64()
	return h, waits <= len(h.Waits)
}

func number(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// About returns which quiet nodes a broadcast frame is about: those with an address, or those with a
// hardware address, the other being 0. sender is whose address an ARP packet tells. ok is false where
// every node may want it.
func About(p *packet.Packet) (address uint32, hardware uint64, sender uint32, ok bool) {
	const (
		arpSender, arpTarget = 14, 24 // RFC 826
		udpHeader, chaddr    = 8, 28  // RFC 768; RFC 2131, section 2
		server, client       = 67, 68
	)
	switch {
	case p.Type == packet.TypeARP && len(p.Body) >= arpTarget+4:
		return binary.BigEndian.Uint32(p.Body[arpTarget:]), 0, binary.BigEndian.Uint32(p.Body[arpSender:]), true
	case p.IPv4 && p.Proto == packet.UDP:
		_, to, whole := p.Ports()
		if !whole {
			return 0, 0, 0, false
		}
		if to == server {
			return 0, 0, 0, true
		}
		if to == client && len(p.Data) >= udpHeader+chaddr+6 {
			var b [8]byte
			copy(b[2:], p.Data[udpHeader+chaddr:udpHeader+chaddr+6])
			return 0, binary.BigEndian.Uint64(b[:]), 0, true
		}
	}
	return 0, 0, 0, false
}
