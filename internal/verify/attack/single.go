package attack

import (
	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Single is the attempt to send one packet of a proof to a station, by the
// adapter from, which has the hardware address.
func Single(from claims.Ref, address mac.Address, p reachability.Packet, hop Hop) Attempt {
	frame := forge(
		address,
		p.Source,
		p.Destination,
		lab.Service{Proto: p.Protocol, From: p.DestinationPort, To: p.DestinationPort},
		Mark{},
	)
	if p.Protocol == lab.Any {
		frame = packet.Other(packet.IP{Source: p.Source, Destination: p.Destination}, 253, []byte(Mark{}.word()))
		packet.SetLink(frame, address, address)
	}
	return Attempt{From: from, Frame: frame, Hops: []Hop{hop}, Tried: p.String()}
}
