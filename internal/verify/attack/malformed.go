package attack

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
)

// malformed lists what a guest can try beside ordinary packets: tags that are
// not its own, addresses that live nowhere, fragments that hide their ports,
// source routes, tunnels, and IPv6.
func (a *attacker) malformed(ad *plan.Adapter) {
	gates, _ := a.hops(ad)
	own := a.address(ad)
	add := func(what string, hops []Hop, frame func(word string) []byte) {
		a.try(
			Attempt{
				From:      claims.RefTo(ad),
				Hops:      hops,
				Malformed: true,
				Tried:     what + fmt.Sprintf(", by adapter %d", ad.Number),
			},
			func(m Mark) []byte {
				f := frame(m.word())
				packet.SetLink(f, ad.MAC, ad.MAC)
				return f
			},
		)
	}
	to := packet.IP{Source: own, Destination: a.known.Witness}
	udp := func(from netip.Addr) func(string) []byte {
		return func(word string) []byte {
			return packet.Datagram(packet.IP{Source: from, Destination: a.known.Witness}, 40000, 7, []byte(word))
		}
	}
	for _, v := range []struct {
		from netip.Addr
		what string
	}{
		{netip.AddrFrom4([4]byte{169, 254, 7, 7}), "the self-given address"}, {netip.AddrFrom4([4]byte{192, 168, 199, 9}), "the private address"},
		{netip.AddrFrom4([4]byte{127, 0, 0, 1}), "the loopback address"}, {netip.AddrFrom4([4]byte{}), "unassigned address"},
		{netip.AddrFrom4([4]byte{224, 0, 0, 5}), "the multicast address"}, {a.known.Witness, "the test server's own address"},
	} {
		add("udp/7 from "+v.what+" "+v.from.String(), gates, udp(v.from))
	}

	tags := map[int][]Hop{4094: gates}
	for _, seg := range ad.Segment.Wire.Segments {
		if seg.Tag != ad.Segment.Tag && len(tags) < 9 {
			for _, other := range seg.Adapters {
				if other.Guest == nil {
					tags[seg.Tag] = append(tags[seg.Tag], Hop{other.MAC, other.Machine.Name})
				}
			}
		}
	}
	for _, tag := range slices.Sorted(maps.Keys(tags)) {
		hops := tags[tag]
		if tag != 0 {
			add(
				fmt.Sprintf("udp/7 with the tag %d", tag),
				hops,
				func(word string) []byte { return packet.Tagged(udp(own)(word), tag) },
			)
		}
		add(
			fmt.Sprintf("udp/7 with the tag %d within the tag %d", tag, ad.Segment.Tag),
			hops,
			func(word string) []byte {
				return packet.Tagged(packet.Tagged(udp(own)(word), tag), ad.Segment.Tag)
			},
		)
	}

	cut := func(offset uint16, more bool) func(string) []byte {
		return func(word string) []byte {
			f := udp(own)(word)
			bits := offset / 8
			if more {
				bits |= 0x2000
			}
			binary.BigEndian.PutUint16(f[14+6:], bits)
			header.IPv4(f[14:]).Seal()
			return f
		}
	}
	add("the first fragment of udp/7", gates, cut(0, true))
	add("a later fragment, without ports", gates, cut(64, false))
	add("udp/7 by a source route through the next hop (RFC 791)", gates,
		func(word string) []byte { return sourceRouted(udp(own)(word), nextHop(ad)) })
	far := a.known.Witness6
	for _, t := range []struct {
		proto uint8
		what  string
		data  func(word string) []byte
	}{
		{4, "IPv4 in IPv4", func(word string) []byte { return udp(own)(word)[14:] }},
		{41, "IPv6 in IPv4", func(word string) []byte { return datagram6(ad.MAC.LinkLocal(), far, []byte(word))[14:] }},
		{47, "a GRE tunnel", func(word string) []byte { return append([]byte{0, 0, 8, 0}, udp(own)(word)[14:]...) }},
		{253, "an unknown protocol", func(word string) []byte { return []byte(word) }},
	} {
		add(
			t.what+" to the test server",
			gates,
			func(word string) []byte { return packet.Other(to, t.proto, t.data(word)) },
		)
	}
	for _, own := range a.ipv6(ad) {
		what := own.String()
		add(
			"IPv6 udp/7 from its own address "+what,
			gates,
			func(word string) []byte { return datagram6(own, far, []byte(word)) },
		)
		add("ping by IPv6 from its own address "+what, gates, func(word string) []byte {
			return packet.Echo(packet.IP{Source: own, Destination: far}, false, 0xb5b5, 1, []byte(word))
		})
	}
	for _, v := range []struct {
		from, to netip.Addr
		what     string
	}{
		{ad.MAC.LinkLocal(), far, "IPv6 from its link-local address"},
		{netip.MustParseAddr("2001:db8:7::7"), far, "IPv6 from a public address"},
		{ad.MAC.LinkLocal(), netip.MustParseAddr("ff02::1"), "IPv6 to everybody on the link"},
	} {
		add(v.what, gates, func(word string) []byte { return datagram6(v.from, v.to, []byte(word)) })
	}
	for _, port := range []uint16{53, 123} { // what equipment often lets pass on its own
		add(fmt.Sprintf("udp/%d from its own address", port), gates, func(word string) []byte {
			return packet.Datagram(to, 40000, port, probemsg.Dress(port, word))
		})
	}
}

// sourceRouted sends a packet to a router first, with a loose source route to
// where it goes (RFC 791, section 3.1).
func sourceRouted(frame []byte, via netip.Addr) []byte {
	to := [4]byte(frame[30:34])
	option := append([]byte{131, 7, 4}, to[:]...)
	option = append(option, 0)
	b := append(bytes.Clone(frame[:34]), append(option, frame[34:]...)...)
	ip := header.IPv4(b[14:])
	ip[0] = 0x47
	binary.BigEndian.PutUint16(ip[2:], binary.BigEndian.Uint16(ip[2:])+8)
	v := via.As4()
	copy(ip[16:], v[:])
	ip.Seal()
	return b
}

// ipv6 returns the IPv6 addresses that a guest has.
func (a *attacker) ipv6(ad *plan.Adapter) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(a.known.Addresses[claims.RefTo(ad)]), netip.Addr.Is4)
}

// datagram6 builds an IPv6 frame with a UDP datagram in it.
func datagram6(from, to netip.Addr, data []byte) []byte {
	return packet.Datagram(packet.IP{Source: from, Destination: to}, 40000, 7, data)
}
