package attack

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Bounds of what is tried to get inside beside the usual services from the intruder's own
// address.
const (
	maxIntrusions = 4096 // for all guests
	maxForged     = 24   // sources that are others'
)

// intruder is a machine beside a WAN.
type intruder struct {
	p     *plan.Plan
	wan   *plan.Adapter
	from  mac.Address
	known Known
	out   Attempts
}

// Intrude lists what a machine beside a WAN tries to get inside: packets to each
// inside address, of the usual services, of those that rules name for anybody, and from
// addresses that live inside, handed to the appliance, or, where it bridges, to the guest.
// from is the intruder's hardware address.
func Intrude(p *plan.Plan, wan *plan.Adapter, from mac.Address, known Known) Attempts {
	named, forged := allowedByName(p), insiders(p, wan, known)
	if (len(named)+len(forged)*len(Usual))*len(p.Guests()) > maxIntrusions {
		named, forged = nil, nil
	}
	x := &intruder{p: p, wan: wan, from: from, known: known}
	for _, m := range p.Guests() {
		for _, ad := range m.Adapters {
			if s := ad.Segment; s.Port == nil || s.Port.Machine != wan.Machine {
				continue
			}
			for _, to := range reached(known, ad) {
				if to.Is6() {
					x.try(ad, known.Witness6, to, slices.Concat(Usual, named))
					continue
				}
				x.try(ad, known.Witness, to, slices.Concat(Usual, named))
				for _, source := range forged {
					if source != to {
						x.try(ad, source, to, Usual)
					}
				}
			}
		}
	}
	return x.out
}

// try adds a packet of each service to one address of an adapter.
func (x *intruder) try(to *plan.Adapter, source, at netip.Addr, services []lab.Service) {
	hop := Hop{x.wan.MAC, x.wan.Machine.Name}
	if to.Segment.Bridged != nil {
		hop = Hop{to.MAC, to.Machine.Name}
	}
	for _, service := range services {
		x.out = append(x.out, Attempt{
			Hops: []Hop{
				hop,
			}, Frame: forge(x.from, source, at, service, Mark{Attempt: len(x.out)}), To: claims.RefTo(to),
			Sent: &reachability.Packet{
				Source:          source,
				Destination:     at,
				Protocol:        service.Proto,
				DestinationPort: service.From,
			},
			Tried: ShownAs(service) + " from " + source.String() + " on " + x.wan.Segment.Name,
		})
	}
}

// insiders returns addresses of segments inside that rules tell apart, for an intruder to
// pretend to have.
func insiders(p *plan.Plan, wan *plan.Adapter, known Known) (list []netip.Addr) {
	for _, s := range p.Segments {
		for _, a := range known.Forge[s.Name] {
			if s != wan.Segment && len(list) < maxForged && !slices.Contains(list, a) {
				list = append(list, a)
			}
		}
	}
	return list
}

// reached returns the first address of each IP version that an adapter has and that the
// intruder can write to.
func reached(known Known, a *plan.Adapter) (list []netip.Addr) {
	for _, x := range known.Addresses[claims.RefTo(a)] {
		switch {
		case x.Is4() && known.Witness.IsValid(), x.Is6() && known.Witness6.IsValid() && !x.IsLinkLocalUnicast():
			if !slices.ContainsFunc(list, func(y netip.Addr) bool { return y.Is6() == x.Is6() }) {
				list = append(list, x)
			}
		}
	}
	return list
}

// Answers returns which of attempts to get inside a packet that came back answers, as a system
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
		if p.Proto == packet.UDP ||
			len(p.Data) >= header.TCPSize && p.Data[13]&(packet.SYN|packet.ACK) == packet.SYN|packet.ACK &&
				binary.BigEndian.Uint32(p.Data[8:]) == binary.BigEndian.Uint32(sent.Data[4:])+1 {
			return i, true
		}
	}
	return 0, false
}
