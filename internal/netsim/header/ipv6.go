package header

import "net/netip"

// IPv6Size is the size of an IPv6 header.
const IPv6Size = 40

// The extension headers of IPv6 (RFC 8200, section 4) that lie between its
// header and what it carries.
const (
	hopByHop = 0
	routing  = 43
	fragment = 44
	options  = 60
)

// maxExtensions bounds how many extension headers are walked over.
const maxExtensions = 8

// IPv6 is an IPv6 packet.
type IPv6 []byte

// Valid reports whether the header is whole and the packet within size bytes.
func (b IPv6) Valid(size int) bool {
	return size >= IPv6Size && len(b) >= size && b[0]>>4 == 6 && b.Total() <= size
}

// Total returns the length of the packet with its header.
func (b IPv6) Total() int { return IPv6Size + int(be.Uint16(b[4:])) }

// HopLimit returns how many hops are left.
func (b IPv6) HopLimit() uint8 { return b[7] }

// SetHopLimit returns how many hops are left; IPv6 has no header checksum.
func (b IPv6) SetHopLimit(n uint8) { b[7] = n }

// Source returns the source address.
func (b IPv6) Source() netip.Addr { return netip.AddrFrom16([16]byte(b[8:24])) }

// Destination returns the destination address.
func (b IPv6) Destination() netip.Addr { return netip.AddrFrom16([16]byte(b[24:40])) }

// Upper walks over the extension headers of a valid packet to what it carries.
// part tells that this is not the whole of it: a fragment, or a chain of
// headers that does not end.
func (b IPv6) Upper() (proto uint8, data []byte, part bool) {
	proto, data = b[6], b[IPv6Size:b.Total()]
	for range maxExtensions {
		switch proto {
		case hopByHop, routing, options:
			if len(data) < 8 || len(data) < 8+8*int(data[1]) {
				return proto, data, true
			}
			proto, data = data[0], data[8+8*int(data[1]):]
		case fragment:
			if len(data) < 8 {
				return proto, data, true
			}
			part = part || be.Uint16(data[2:])&^6 != 0
			proto, data = data[0], data[8:]
			if part {
				return proto, data, true
			}
		default:
			return proto, data, part
		}
	}
	return proto, data, true
}

// Encode writes the header of a packet with length bytes behind it.
func (b IPv6) Encode(length int, proto, hops uint8, source, destination netip.Addr) {
	b[0] = 6 << 4
	be.PutUint16(b[4:], uint16(length))
	b[6], b[7] = proto, hops
	s, d := source.As16(), destination.As16()
	copy(b[8:], s[:])
	copy(b[24:], d[:])
}
