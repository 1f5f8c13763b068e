package packet

import (
	"net/netip"

	"openbastion/internal/netsim/header"
)

// The functions below change a packet that nobody else holds; checksums follow.

// Hop takes one from the time to live, as forwarding does.
func (p *Packet) Hop() {
	p.TTL--
	if p.IPv6 {
		header.IPv6(p.Body).SetHopLimit(p.TTL)
		return
	}
	header.IPv4(p.Body).SetTTL(p.TTL)
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
	now, old := a.As4(), p.Destination.As4()
	at := 2 // where the port stands
	ip := header.IPv4(p.Body)
	if source {
		old, at = p.Source.As4(), 0
		ip.SetSource(now)
	} else {
		ip.SetDestination(now)
	}
	_, _, ok := p.Ports()
	if !ok {
		return
	}
	switch p.Proto {
	case TCP:
		header.Rewrite(p.Data, at, 16, port, old, now)
	case UDP:
		left := header.UDP(p.Data).Checksum() == 0 // out by the sender
		header.Rewrite(p.Data, at, 6, port, old, now)
		switch u := header.UDP(p.Data); {
		case left:
			u.SetChecksum(0)
		case u.Checksum() == 0:
			u.SetChecksum(0xffff)
		}
	case ICMP:
		header.ICMP(p.Data).SetIdent(port)
	}
}

// Clamp lowers what a SYN says of the segments that it takes to what fits into
// packets of a size (RFC 2516, section 7, leads to it).
func (p *Packet) Clamp(mtu int) {
	if p.Proto != TCP || p.Fragment || len(p.Data) < header.TCPSize || header.TCP(p.Data).Flags()&header.SYN == 0 {
		return
	}
	most := uint16(mtu - header.IPv4Size - header.TCPSize)
	t := header.TCP(p.Data)
	if t.MSS() <= most {
		return
	}
	end := min(t.HeaderSize(), len(t))
	for k := header.TCPSize; k+header.MSSSize <= end && t[k] != 0; {
		switch {
		case t[k] == 1:
			k++
		case t[k] == 2 && t[k+1] == header.MSSSize:
			old := append([]byte(nil), t[k:k+4]...)
			header.PutMSS(t[k:], most)
			t.SetChecksum(header.Update(uint16(t[16])<<8|uint16(t[17]), old, t[k:k+4]))
			return
		case t[k+1] < 2:
			return
		default:
			k += int(t[k+1])
		}
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
	q := p.Data[header.ICMPSize:]
	ip := header.IPv4(q)
	if source {
		ip.SetSource(a.As4())
	} else {
		ip.SetDestination(a.As4())
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
	header.ICMP(p.Data).Seal()
}
