// Package header is the layout of the headers that a rehearsal reads and
// writes: IPv4 (RFC 791), ICMP (RFC 792), UDP (RFC 768), TCP (RFC 9293) and ARP
// (RFC 826), as views of bytes, with the Internet checksum (RFC 1071).
//
// It is a few fixed offsets and nothing else, so that it costs nothing when
// the program starts; its tests hold it against a library that does the same.
// A view must be as long as its minimum size before a method is called.
package header

import (
	"encoding/binary"
	"net/netip"
)

var be = binary.BigEndian

// Sum adds bytes to a running ones' complement sum. The checksum of a message
// is the complement of its sum; a message with a right checksum in it sums to
// 0xffff.
func Sum(b []byte, initial uint16) uint16 {
	sum := uint64(initial)
	for len(b) >= 8 {
		v := be.Uint64(b)
		sum += v>>32 + v&0xffffffff
		b = b[8:]
	}
	for len(b) >= 2 {
		sum += uint64(be.Uint16(b))
		b = b[2:]
	}
	if len(b) == 1 {
		sum += uint64(b[0]) << 8
	}
	for sum>>16 != 0 {
		sum = sum>>16 + sum&0xffff
	}
	return uint16(sum)
}

// Update returns a checksum after the bytes old of its message became new
// (RFC 1624, equation 3). Both have the same even length.
func Update(checksum uint16, old, new []byte) uint16 {
	return ^Sum(new, addOnes(^checksum, ^Sum(old, 0)))
}

func addOnes(a, b uint16) uint16 {
	s := uint32(a) + uint32(b)
	return uint16(s + s>>16)
}

// Pseudo sums the pseudo-header of TCP and UDP over IPv4, and of what IPv6
// carries (RFC 8200, section 8.1).
func Pseudo(proto uint8, source, destination netip.Addr, length int) uint16 {
	if source.Is6() {
		var b [40]byte
		s, d := source.As16(), destination.As16()
		copy(b[:], s[:])
		copy(b[16:], d[:])
		be.PutUint32(b[32:], uint32(length))
		b[39] = proto
		return Sum(b[:], 0)
	}
	var b [12]byte
	s, d := source.As4(), destination.As4()
	copy(b[:], s[:])
	copy(b[4:], d[:])
	b[9] = proto
	be.PutUint16(b[10:], uint16(length))
	return Sum(b[:], 0)
}

// IPv4Size is the size of an IPv4 header without options.
const IPv4Size = 20

// DontFragment is the flag as it stands in the fragment field.
const DontFragment = 0x4000

// IPv4 is an IPv4 packet.
type IPv4 []byte

// Valid reports whether the header is whole and the packet within size bytes.
func (b IPv4) Valid(size int) bool {
	return size >= IPv4Size && len(b) >= size && b[0]>>4 == 4 && b.HeaderSize() >= IPv4Size &&
		int(b.Total()) >= b.HeaderSize() && int(b.Total()) <= size
}

// ChecksumValid reports whether the header's checksum is right.
func (b IPv4) ChecksumValid() bool { return Sum(b[:b.HeaderSize()], 0) == 0xffff }

// HeaderSize returns the header's size with options, in bytes.
func (b IPv4) HeaderSize() int { return int(b[0]&15) * 4 }

// Total returns the packet's size in bytes.
func (b IPv4) Total() uint16 { return be.Uint16(b[2:]) }

// ID returns the identification.
func (b IPv4) ID() uint16 { return be.Uint16(b[4:]) }

// More reports whether fragments follow.
func (b IPv4) More() bool { return b[6]&0x20 != 0 }

// FragmentOffset returns the fragment's place, in bytes.
func (b IPv4) FragmentOffset() int { return int(be.Uint16(b[6:])&0x1fff) * 8 }

// TTL returns the time to live.
func (b IPv4) TTL() uint8 { return b[8] }

// Protocol returns the protocol's number.
func (b IPv4) Protocol() uint8 { return b[9] }

// Encode writes a header without options and fills in its checksum.
func (b IPv4) Encode(total int, id, fragment uint16, ttl, proto uint8, source, destination netip.Addr) {
	b[0], b[1] = 0x45, 0
	be.PutUint16(b[2:], uint16(total))
	be.PutUint16(b[4:], id)
	be.PutUint16(b[6:], fragment)
	b[8], b[9] = ttl, proto
	s, d := source.As4(), destination.As4()
	copy(b[12:], s[:])
	copy(b[16:], d[:])
	b.Seal()
}

// Seal fills in the header's checksum.
func (b IPv4) Seal() {
	b[10], b[11] = 0, 0
	be.PutUint16(b[10:], ^Sum(b[:b.HeaderSize()], 0))
}

// SetID writes the identification and keeps the checksum right.
func (b IPv4) SetID(id uint16) {
	be.PutUint16(b[4:], id)
	b.Seal()
}

// SetTTL writes the time to live and keeps the checksum right.
func (b IPv4) SetTTL(ttl uint8) {
	b[8] = ttl
	b.Seal()
}

// SetSource and SetDestination change an address and keep the checksum right.
func (b IPv4) SetSource(a [4]byte)      { b.setAddress(12, a) }
func (b IPv4) SetDestination(a [4]byte) { b.setAddress(16, a) }

func (b IPv4) setAddress(at int, a [4]byte) {
	be.PutUint16(b[10:], Update(be.Uint16(b[10:]), b[at:at+4], a[:]))
	copy(b[at:], a[:])
}

// ICMPSize is the size of the header of the ICMP messages used here.
const ICMPSize = 8

// ICMP message types.
const (
	EchoReply    = 0
	Unreachable  = 3
	SourceQuench = 4
	Echo         = 8
	TimeExceeded = 11
	ParamProblem = 12
)

// ICMP is an ICMP message.
type ICMP []byte

// Type returns the message's type.
func (b ICMP) Type() uint8 { return b[0] }

// Ident and Sequence are those of an echo.
func (b ICMP) Ident() uint16    { return be.Uint16(b[4:]) }
func (b ICMP) Sequence() uint16 { return be.Uint16(b[6:]) }

// Encode writes the header of an echo (or, with both 0, of an error); the
// checksum is filled in by Seal, after the rest.
func (b ICMP) Encode(kind, code uint8, ident, sequence uint16) {
	b[0], b[1] = kind, code
	be.PutUint16(b[4:], ident)
	be.PutUint16(b[6:], sequence)
}

// Seal fills in the checksum over the whole message.
func (b ICMP) Seal() {
	b[2], b[3] = 0, 0
	be.PutUint16(b[2:], ^Sum(b, 0))
}

// SetIdent changes the identifier and keeps the checksum right.
func (b ICMP) SetIdent(id uint16) {
	n := [2]byte{byte(id >> 8), byte(id)}
	be.PutUint16(b[2:], Update(be.Uint16(b[2:]), b[4:6], n[:]))
	copy(b[4:], n[:])
}

// UDPSize is the size of a UDP header.
const UDPSize = 8

// UDP is a UDP datagram.
type UDP []byte

// SourcePort, DestinationPort, Length and Checksum are the header's fields.
func (b UDP) SourcePort() uint16      { return be.Uint16(b) }
func (b UDP) DestinationPort() uint16 { return be.Uint16(b[2:]) }
func (b UDP) Length() uint16          { return be.Uint16(b[4:]) }
func (b UDP) Checksum() uint16        { return be.Uint16(b[6:]) }

// Encode writes the header; the checksum is left out until SetChecksum.
func (b UDP) Encode(source, destination, length uint16) {
	be.PutUint16(b, source)
	be.PutUint16(b[2:], destination)
	be.PutUint16(b[4:], length)
	be.PutUint16(b[6:], 0)
}

// SetChecksum writes the checksum.
func (b UDP) SetChecksum(v uint16) { be.PutUint16(b[6:], v) }

// TCPSize is the size of a TCP header without options.
const TCPSize = 20

// TCP flags.
const (
	FIN = 1 << iota
	SYN
	RST
	PSH
	ACK
)

// TCP is a TCP segment.
type TCP []byte

// The header's fields.
func (b TCP) SourcePort() uint16      { return be.Uint16(b) }
func (b TCP) DestinationPort() uint16 { return be.Uint16(b[2:]) }
func (b TCP) Seq() uint32             { return be.Uint32(b[4:]) }
func (b TCP) Ack() uint32             { return be.Uint32(b[8:]) }
func (b TCP) HeaderSize() int         { return int(b[12]>>4) * 4 }
func (b TCP) Flags() uint8            { return b[13] }
func (b TCP) Window() uint16          { return be.Uint16(b[14:]) }

// Encode writes the header's fields but ports and checksum; size is that of
// the header with options.
func (b TCP) Encode(seq, ack uint32, size int, flags uint8, window uint16) {
	be.PutUint32(b[4:], seq)
	be.PutUint32(b[8:], ack)
	b[12], b[13] = byte(size/4)<<4, flags
	be.PutUint16(b[14:], window)
	be.PutUint32(b[16:], 0)
}

// SetPorts writes both ports.
func (b TCP) SetPorts(source, destination uint16) {
	be.PutUint16(b, source)
	be.PutUint16(b[2:], destination)
}

// SetChecksum writes the checksum.
func (b TCP) SetChecksum(v uint16) { be.PutUint16(b[16:], v) }

// MSSSize is the size of the maximum segment size option.
const MSSSize = 4

// PutMSS writes that option.
func PutMSS(b []byte, mss uint16) {
	b[0], b[1] = 2, MSSSize
	be.PutUint16(b[2:], mss)
}

// MSS returns what the option of a SYN says; 536 without one (RFC 9293, 3.7.1).
func (b TCP) MSS() uint16 {
	options := b[TCPSize:min(b.HeaderSize(), len(b))]
	for len(options) > 1 && options[0] != 0 {
		if options[0] == 1 { // no operation
			options = options[1:]
			continue
		}
		size := int(options[1])
		if size < 2 || size > len(options) {
			break
		}
		if options[0] == 2 && size == MSSSize {
			return be.Uint16(options[2:])
		}
		options = options[size:]
	}
	return 536
}

// Rewrite changes, in what an IPv4 packet of TCP or UDP carries, the port at
// an offset (0: source, 2: destination), and keeps the checksum at check right
// for it and for the address that changed in the pseudo-header.
func Rewrite(data []byte, at, check int, port uint16, old, now [4]byte) {
	n := [2]byte{byte(port >> 8), byte(port)}
	sum := Update(be.Uint16(data[check:]), data[at:at+2], n[:])
	be.PutUint16(data[check:], Update(sum, old[:], now[:]))
	copy(data[at:], n[:])
}

// ARPSize is the size of an ARP packet for IPv4 over Ethernet.
const ARPSize = 28

// ARP operations.
const (
	ARPRequest = 1
	ARPReply   = 2
)

// ARP is an ARP packet for IPv4 over Ethernet.
type ARP []byte

// Encode writes the fixed part and the operation.
func (b ARP) Encode(op uint16) {
	copy(b, []byte{0, 1, 8, 0, 6, 4})
	be.PutUint16(b[6:], op)
}

// Valid reports whether it is one for IPv4 over Ethernet.
func (b ARP) Valid() bool {
	return len(b) >= ARPSize && be.Uint16(b) == 1 && be.Uint16(b[2:]) == 0x0800 && b[4] == 6 && b[5] == 4
}

// Op returns the operation; the others give the addresses, to read and write.
func (b ARP) Op() uint16         { return be.Uint16(b[6:]) }
func (b ARP) SenderMAC() []byte  { return b[8:14] }
func (b ARP) SenderAddr() []byte { return b[14:18] }
func (b ARP) TargetMAC() []byte  { return b[18:24] }
func (b ARP) TargetAddr() []byte { return b[24:28] }
