package packet

import (
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
)

// The functions below change a packet that nobody else holds; checksums follow.

// Hop takes one from the time to live, as forwarding does.
func (p *Packet) Hop() {
	ip := header.IPv4(p.Body)
	p.TTL--
	ip.SetTTL(p.TTL)
	ip.SetChecksum(0)
	ip.SetChecksum(^ip.CalculateChecksum())
}

// SetSource changes source address and port (identifier for ICMP echo).
func (p *Packet) SetSource(a netip.Addr, port uint16) {
	p.rewrite(a, port, true)
	p.Source = a
}

// SetDestination changes destination address and port.
func (p *Packet) SetDestination(a netip.Addr, port uint16) {
	p.rewrite(a, port, false)
	p.Destination = a
}

func (p *Packet) rewrite(a netip.Addr, port uint16, source bool) {
	now := tcpip.AddrFrom4(a.As4())
	old := tcpip.AddrFrom4(p.Destination.As4())
	ip := header.IPv4(p.Body)
	if source {
		old = tcpip.AddrFrom4(p.Source.As4())
		ip.SetSourceAddressWithChecksumUpdate(now)
	} else {
		ip.SetDestinationAddressWithChecksumUpdate(now)
	}
	_, _, ok := p.Ports()
	if !ok {
		return
	}
	switch p.Proto {
	case TCP:
		t := header.TCP(p.Data)
		t.UpdateChecksumPseudoHeaderAddress(old, now, true)
		if source {
			t.SetSourcePortWithChecksumUpdate(port)
		} else {
			t.SetDestinationPortWithChecksumUpdate(port)
		}
	case UDP:
		u := header.UDP(p.Data)
		if u.Checksum() == 0 { // the sender left it out
			if source {
				u.SetSourcePort(port)
			} else {
				u.SetDestinationPort(port)
			}
			return
		}
		u.UpdateChecksumPseudoHeaderAddress(old, now, true)
		if source {
			u.SetSourcePortWithChecksumUpdate(port)
		} else {
			u.SetDestinationPortWithChecksumUpdate(port)
		}
	case ICMP:
		header.ICMPv4(p.Data).SetIdentWithChecksumUpdate(port)
	}
}

// RewriteQuoted changes the quoted packet in an ICMP error that p carries: its
// source (or destination) address and port become those given, with the
// quoted checksums and the error's own.
func (p *Packet) RewriteQuoted(a netip.Addr, port uint16, source bool) {
	_, _, proto, data, ok := Quoted(p.Data)
	if !ok {
		return
	}
	q := p.Data[header.ICMPv4MinimumSize:]
	ip := header.IPv4(q)
	now := tcpip.AddrFrom4(a.As4())
	if source {
		ip.SetSourceAddressWithChecksumUpdate(now)
	} else {
		ip.SetDestinationAddressWithChecksumUpdate(now)
	}
	// Only eight bytes of the quoted payload are certain, so its transport
	// checksum, which receivers of errors do not look at, stays as it is.
	if len(data) >= 8 {
		at := 2
		if source {
			at = 0
		}
		switch proto {
		case TCP, UDP:
			data[at], data[at+1] = byte(port>>8), byte(port)
		case ICMP:
			data[4], data[5] = byte(port>>8), byte(port)
		}
	}
	c := header.ICMPv4(p.Data)
	c.SetChecksum(0)
	c.SetChecksum(^sum(p.Data, 0))
}
