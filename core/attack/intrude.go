package attack

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"openbastion/core/claims"
	"openbastion/core/header"
	"openbastion/core/mac"
	"openbastion/core/packet"
	"openbastion/core/plan"
)

// Intrude lists what a machine beside a WAN tries to get inside: packets to each
// inside address, handed to the appliance, or, where it bridges, to the guest.
// from is the intruder's hardware address.
func Intrude(p *plan.Plan, wan *plan.Adapter, from mac.Address, known Known) Attempts {
	var out Attempts
	for _, m := range p.Guests() {
		for _, ad := range m.Adapters {
			s := ad.Segment
			if s.Port == nil || s.Port.Machine != wan.Machine {
				continue
			}
			to := slices.DeleteFunc(slices.Clone(known.Addresses[claims.RefTo(ad)]), netip.Addr.Is6)
			if len(to) == 0 {
				continue
			}
			hop := Hop{wan.MAC, wan.Machine.Name}
			if s.Bridged != nil {
				hop = Hop{ad.MAC, m.Name}
			}
			for _, service := range Usual {
				out = append(out, Attempt{
					Hops: []Hop{hop}, Frame: forge(from, known.Witness, to[0], service, Mark{Attempt: len(out)}),
					To:    claims.RefTo(ad),
					Tried: ShownAs(service) + " from " + known.Witness.String() + " on " + wan.Segment.Name,
				})
			}
		}
	}
	return out
}

// Answers tells which of attempts to get inside a packet that came back answers, as a system
// answers that took it in: an echo, the second step of a handshake (RFC 9293), a datagram back, or
// word that nobody listens (RFC 1122, section 3.2.2.1). A reset does not tell: filters send them in
// the name of who they protect.
func (l Attempts) Answers(p *packet.Packet) (int, bool) {
	if !p.IPv4 {
		return 0, false
	}
	for i, t := range l {
		if netip.AddrFrom4([4]byte(t.Frame[30:34])) != p.Source {
			continue // most are of others: they are not read
		}
		sent, err := packet.Decode(t.Frame)
		if err != nil || p.Destination != sent.Source {
			continue
		}
		if m, ok := MarkIn(p.Data); ok && m.Attempt == i && (sent.Proto == packet.ICMP && p.Ping(true) || p.IsError()) {
			return i, true
		}
		from, to, ok := sent.Ports()
		if back, at, is := p.Ports(); !ok || !is || p.Proto != sent.Proto || back != to || at != from {
			continue
		}
		if p.Proto == packet.UDP || len(p.Data) >= header.TCPSize && p.Data[13]&(packet.SYN|packet.ACK) == packet.SYN|packet.ACK &&
			binary.BigEndian.Uint32(p.Data[8:]) == binary.BigEndian.Uint32(sent.Data[4:])+1 {
			return i, true
		}
	}
	return 0, false
}
