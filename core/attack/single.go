package attack

import (
	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/mac"
	"openbastion/core/packet"
	"openbastion/core/prove"
)

// Single is the attempt to send one packet of a proof to a station, by the
// adapter from, which has the hardware address.
func Single(from claims.Ref, address mac.Address, p prove.Packet, hop Hop) Attempt {
	frame := forge(address, p.Source, p.Destination, lab.Service{Proto: p.Protocol, From: p.DestinationPort, To: p.DestinationPort}, Mark{})
	if p.Protocol == lab.Any {
		frame = packet.Other(packet.IP{Source: p.Source, Destination: p.Destination}, 253, []byte(Mark{}.word()))
		packet.SetLink(frame, address, address)
	}
	return Attempt{From: from, Frame: frame, Hops: []Hop{hop}, Tried: p.String()}
}
