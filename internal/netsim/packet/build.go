package packet

import (
	"encoding/binary"
	"net/netip"

	"openbastion/internal/netsim/header"

	"openbastion/internal/model/mac"
)

// The IP builders give whole frames whose Ethernet header holds only the
// type; SetLink fills in the addresses once the next hop is known.

// SetLink writes the Ethernet addresses of a frame.
func SetLink(frame []byte, to, from mac.Address) {
	copy(frame, to[:])
	copy(frame[6:], from[:])
}

// Tagged returns the frame with an 802.1Q tag in front of its type.
func Tagged(frame []byte, vid int) []byte {
	b := make([]byte, len(frame)+tagSize)
	copy(b, frame[:12])
	binary.BigEndian.PutUint16(b[12:], TypeVLAN)
	binary.BigEndian.PutUint16(b[14:], uint16(vid)&0xfff)
	copy(b[16:], frame[12:])
	return b
}

// Untagged returns the frame without its outermost tag.
func Untagged(frame []byte) []byte {
	if len(frame) < linkSize+tagSize || binary.BigEndian.Uint16(frame[12:]) != TypeVLAN {
		return frame
	}
	b := make([]byte, len(frame)-tagSize)
	copy(b, frame[:12])
	copy(b[12:], frame[16:])
	return b
}

// ARP operations.
const (
	ARPRequest = header.ARPRequest
	ARPReply   = header.ARPReply
)

// ARP builds an ARP frame from sender, sent to the Ethernet address to.
func ARP(op uint16, to, sender mac.Address, senderIP netip.Addr, target mac.Address, targetIP netip.Addr) []byte {
	b := make([]byte, linkSize+header.ARPSize)
	SetLink(b, to, sender)
	binary.BigEndian.PutUint16(b[12:], TypeARP)
	a := header.ARP(b[linkSize:])
	a.Encode(op)
	copy(a.SenderMAC(), sender[:])
	copy(a.TargetMAC(), target[:])
	s, t := senderIP.As4(), targetIP.As4()
	copy(a.SenderAddr(), s[:])
	copy(a.TargetAddr(), t[:])
	return b
}

// IP says what goes into an IPv4 or IPv6 header, as its addresses are. TTL 0
// means 64.
type IP struct {
	Source, Destination netip.Addr
	TTL                 uint8
	ID                  uint16
}

// build lays an IPv4 header in front of size bytes and gives the frame and
// those bytes.
func (h IP) build(proto uint8, size int) (frame, data []byte) {
	if h.Source.Is6() {
		return h.build6(proto, size)
	}
	b := make([]byte, linkSize+header.IPv4Size+size)
	binary.BigEndian.PutUint16(b[12:], TypeIPv4)
	ttl := h.TTL
	if ttl == 0 {
		ttl = 64
	}
	header.IPv4(b[linkSize:]).
		Encode(header.IPv4Size+size, h.ID, header.DontFragment, ttl, proto, h.Source, h.Destination)
	return b, b[linkSize+header.IPv4Size:]
}

func (h IP) build6(proto uint8, size int) (frame, data []byte) {
	b := make([]byte, linkSize+header.IPv6Size+size)
	binary.BigEndian.PutUint16(b[12:], TypeIPv6)
	ttl := h.TTL
	if ttl == 0 {
		ttl = 64
	}
	header.IPv6(b[linkSize:]).Encode(size, proto, ttl, h.Source, h.Destination)
	return b, b[linkSize+header.IPv6Size:]
}

// seal6 fills in the checksum of an ICMPv6 message.
func (h IP) seal6(b []byte) {
	b[2], b[3] = 0, 0
	binary.BigEndian.PutUint16(b[2:], ^header.Sum(b, header.Pseudo(ICMP6, h.Source, h.Destination, len(b))))
}

// The ICMPv6 types of echo (RFC 4443, section 4) and of errors.
const (
	Echo6         = 128
	EchoReply6    = 129
	unreachable6  = 1
	tooBig6       = 2
	TimeExceeded6 = 3
	maxQuoted6    = 1280 - header.IPv6Size - header.ICMPSize // RFC 4443, section 2.4 (c)
)

// Message6 builds an ICMPv6 message; its checksum is filled in.
func Message6(h IP, message []byte) []byte {
	frame, b := h.build(ICMP6, len(message))
	copy(b, message)
	h.seal6(b)
	return frame
}

// Group6 returns the hardware address of an IPv6 group (RFC 2464, section 7).
func Group6(a netip.Addr) mac.Address {
	b := a.As16()
	return mac.Address{0x33, 0x33, b[12], b[13], b[14], b[15]}
}

// Other builds a packet of any protocol.
func Other(h IP, proto uint8, data []byte) []byte {
	frame, b := h.build(proto, len(data))
	copy(b, data)
	return frame
}

// Echo builds a ping or its answer.
func Echo(h IP, reply bool, ident, sequence uint16, data []byte) []byte {
	if h.Source.Is6() {
		m := make([]byte, header.ICMPSize+len(data))
		kind := uint8(Echo6)
		if reply {
			kind = EchoReply6
		}
		header.ICMP(m).Encode(kind, 0, ident, sequence)
		copy(m[header.ICMPSize:], data)
		return Message6(h, m)
	}
	frame, b := h.build(ICMP, header.ICMPSize+len(data))
	c := header.ICMP(b)
	kind := uint8(header.Echo)
	if reply {
		kind = header.EchoReply
	}
	c.Encode(kind, 0, ident, sequence)
	copy(b[header.ICMPSize:], data)
	c.Seal()
	return frame
}

// ICMP error types and codes.
const (
	Unreachable         = header.Unreachable
	TimeExceeded        = header.TimeExceeded
	NetUnreachable      = 0
	HostUnreachable     = 1
	PortUnreachable     = 3
	AdminProhibited     = 13
	fragmentationNeeded = 4
	maxQuoted           = 548 // bytes of the offending packet (RFC 1812, section 4.3.2.3)
)

// codes6 are the codes of ICMPv6 for those of IPv4 (RFC 4443, section 3.1).
var codes6 = map[uint8]uint8{NetUnreachable: 0, AdminProhibited: 1, HostUnreachable: 3, PortUnreachable: 4}

// ICMPError builds an error about the IP packet original, of either version;
// kind and code are those of IPv4.
func ICMPError(h IP, kind, code uint8, original []byte) []byte {
	if h.Source.Is6() {
		m := append(make([]byte, header.ICMPSize), original[:min(len(original), maxQuoted6)]...)
		m[0], m[1] = unreachable6, codes6[code]
		if kind == TimeExceeded {
			m[0], m[1] = TimeExceeded6, 0
		}
		return Message6(h, m)
	}
	original = original[:min(len(original), maxQuoted)]
	frame, b := h.build(ICMP, header.ICMPSize+len(original))
	c := header.ICMP(b)
	c.Encode(kind, code, 0, 0)
	copy(b[header.ICMPSize:], original)
	c.Seal()
	return frame
}

// TooBig builds the error that tells a sender how much a way carries (RFC
// 1191, section 4; RFC 4443, section 3.2).
func TooBig(h IP, mtu int, original []byte) []byte {
	if h.Source.Is6() {
		m := append(make([]byte, header.ICMPSize), original[:min(len(original), maxQuoted6)]...)
		m[0] = tooBig6
		binary.BigEndian.PutUint32(m[4:], uint32(mtu))
		return Message6(h, m)
	}
	frame := ICMPError(h, Unreachable, fragmentationNeeded, original)
	c := frame[linkSize+header.IPv4Size:]
	binary.BigEndian.PutUint16(c[6:], uint16(mtu))
	header.ICMP(c).Seal()
	return frame
}

// Carries returns how much a way carries, as an error from TooBig says; 0 for
// any other message.
func (p *Packet) Carries() int {
	switch {
	case !p.IsError():
	case p.IPv4 && p.Data[0] == Unreachable && p.Data[1] == fragmentationNeeded:
		return int(binary.BigEndian.Uint16(p.Data[6:]))
	case p.IPv6 && p.Data[0] == tooBig6:
		return int(binary.BigEndian.Uint32(p.Data[4:]))
	}
	return 0
}

// Datagram builds a UDP datagram.
func Datagram(h IP, source, destination uint16, data []byte) []byte {
	size := header.UDPSize + len(data)
	frame, b := h.build(UDP, size)
	u := header.UDP(b)
	u.Encode(source, destination, uint16(size))
	copy(b[header.UDPSize:], data)
	c := ^header.Sum(b, header.Pseudo(UDP, h.Source, h.Destination, size))
	if c == 0 {
		c = 0xffff // RFC 768: zero means no checksum
	}
	u.SetChecksum(c)
	return frame
}

// TCP flags.
const (
	FIN = uint8(header.FIN)
	SYN = uint8(header.SYN)
	RST = uint8(header.RST)
	PSH = uint8(header.PSH)
	ACK = uint8(header.ACK)
)

// SegmentFields are the fields of a TCP segment.
type SegmentFields struct {
	Source, Destination uint16
	Seq, Ack            uint32
	Flags               uint8
	Window              uint16
	MSS                 uint16 // with SYN: the option; 0 leaves it out
}

// Segment builds a TCP segment.
func Segment(h IP, f SegmentFields, data []byte) []byte {
	size := header.TCPSize
	if f.MSS != 0 {
		size += header.MSSSize
	}
	frame, b := h.build(TCP, size+len(data))
	t := header.TCP(b)
	t.SetPorts(f.Source, f.Destination)
	t.Encode(f.Seq, f.Ack, size, f.Flags, f.Window)
	if f.MSS != 0 {
		header.PutMSS(b[header.TCPSize:], f.MSS)
	}
	copy(b[size:], data)
	t.SetChecksum(^header.Sum(b, header.Pseudo(TCP, h.Source, h.Destination, len(b))))
	return frame
}

// ReadSegment returns the fields and data of the TCP segment that p carries. p
// must have passed TransportValid.
func ReadSegment(p *Packet) (SegmentFields, []byte) {
	t := header.TCP(p.Data)
	f := SegmentFields{
		Source: t.SourcePort(), Destination: t.DestinationPort(), Seq: t.Seq(), Ack: t.Ack(),
		Flags: t.Flags(), Window: t.Window(),
	}
	if f.Flags&SYN != 0 {
		f.MSS = t.MSS()
	}
	return f, p.Data[t.HeaderSize():]
}

// Quoted returns the packet that an ICMP error speaks about: its addresses,
// protocol and the start of what it carries. The quote may be cut short.
func Quoted(icmp []byte) (source, destination netip.Addr, proto uint8, data []byte, ok bool) {
	if len(icmp) < header.ICMPSize+header.IPv4Size {
		return
	}
	q := icmp[header.ICMPSize:]
	if ip := header.IPv6(q); q[0]>>4 == 6 && len(q) >= header.IPv6Size {
		return ip.Source(), ip.Destination(), q[6], q[header.IPv6Size:], true
	}
	size := int(q[0]&15) * 4
	if q[0]>>4 != 4 || size < header.IPv4Size || len(q) < size {
		return
	}
	return netip.AddrFrom4([4]byte(q[12:16])), netip.AddrFrom4([4]byte(q[16:20])), q[9], q[size:], true
}

// IsError reports whether it is an ICMP message that quotes another packet.
func IsError(icmp []byte) bool {
	if len(icmp) < header.ICMPSize {
		return false
	}
	switch header.ICMP(icmp).Type() {
	case header.Unreachable, header.TimeExceeded, header.ParamProblem, header.SourceQuench:
		return true
	}
	return false
}
