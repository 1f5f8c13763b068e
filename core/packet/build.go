package packet

import (
	"encoding/binary"
	"net/netip"

	"openbastion/core/header"

	"openbastion/core/mac"
)

// The IPv4 builders give whole frames whose Ethernet header holds only the
// type; SetLink fills in the addresses once the next hop is known.

// SetLink writes the Ethernet addresses of a frame.
func SetLink(frame []byte, to, from mac.Address) {
	copy(frame, to[:])
	copy(frame[6:], from[:])
}

// Tagged gives the frame with an 802.1Q tag in front of its type.
func Tagged(frame []byte, vid int) []byte {
	b := make([]byte, len(frame)+tagSize)
	copy(b, frame[:12])
	binary.BigEndian.PutUint16(b[12:], TypeVLAN)
	binary.BigEndian.PutUint16(b[14:], uint16(vid)&0xfff)
	copy(b[16:], frame[12:])
	return b
}

// Untagged gives the frame without its outermost tag.
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

// IP says what goes into an IPv4 header. TTL 0 means 64.
type IP struct {
	Source, Destination netip.Addr
	TTL                 uint8
	ID                  uint16
}

// build lays an IPv4 header in front of size bytes and gives the frame and
// those bytes.
func (h IP) build(proto uint8, size int) (frame, data []byte) {
	b := make([]byte, linkSize+header.IPv4Size+size)
	binary.BigEndian.PutUint16(b[12:], TypeIPv4)
	ttl := h.TTL
	if ttl == 0 {
		ttl = 64
	}
	header.IPv4(b[linkSize:]).Encode(header.IPv4Size+size, h.ID, header.DontFragment, ttl, proto, h.Source, h.Destination)
	return b, b[linkSize+header.IPv4Size:]
}

// Other builds a packet of any protocol.
func Other(h IP, proto uint8, data []byte) []byte {
	frame, b := h.build(proto, len(data))
	copy(b, data)
	return frame
}

// Echo builds a ping or its answer.
func Echo(h IP, reply bool, ident, sequence uint16, data []byte) []byte {
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
	Unreachable     = header.Unreachable
	TimeExceeded    = header.TimeExceeded
	NetUnreachable  = 0
	HostUnreachable = 1
	PortUnreachable = 3
	AdminProhibited = 13
	maxQuoted       = 548 // bytes of the offending packet (RFC 1812, section 4.3.2.3)
)

// ICMPError builds an error about the IPv4 packet original.
func ICMPError(h IP, kind, code uint8, original []byte) []byte {
	original = original[:min(len(original), maxQuoted)]
	frame, b := h.build(ICMP, header.ICMPSize+len(original))
	c := header.ICMP(b)
	c.Encode(kind, code, 0, 0)
	copy(b[header.ICMPSize:], original)
	c.Seal()
	return frame
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

// ReadSegment gives the fields and data of the TCP segment that p carries. p
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

// Quoted gives the IPv4 packet that an ICMP error speaks about: its addresses,
// protocol and the start of what it carries. The quote may be cut short.
func Quoted(icmp []byte) (source, destination netip.Addr, proto uint8, data []byte, ok bool) {
	if len(icmp) < header.ICMPSize+header.IPv4Size {
		return
	}
	q := icmp[header.ICMPSize:]
	size := int(q[0]&15) * 4
	if q[0]>>4 != 4 || size < header.IPv4Size || len(q) < size {
		return
	}
	return netip.AddrFrom4([4]byte(q[12:16])), netip.AddrFrom4([4]byte(q[16:20])), q[9], q[size:], true
}

// IsError tells an ICMP message that quotes another packet.
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
