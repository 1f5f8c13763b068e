package packet

import (
	"encoding/binary"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"

	"openbastion/core/mac"
)

// The IPv4 builders give whole frames whose Ethernet header holds only the
// type; SetLink fills in the addresses once the next hop is known.

func sum(b []byte, initial uint16) uint16 { return checksum.Checksum(b, initial) }

func pseudo(proto uint8, source, destination netip.Addr, length int) uint16 {
	return header.PseudoHeaderChecksum(tcpip.TransportProtocolNumber(proto), tcpip.AddrFrom4(source.As4()), tcpip.AddrFrom4(destination.As4()), uint16(length))
}

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
	ARPRequest = uint16(header.ARPRequest)
	ARPReply   = uint16(header.ARPReply)
)

// ARP builds an ARP frame from sender, sent to the Ethernet address to.
func ARP(op uint16, to, sender mac.Address, senderIP netip.Addr, target mac.Address, targetIP netip.Addr) []byte {
	b := make([]byte, linkSize+header.ARPSize)
	SetLink(b, to, sender)
	binary.BigEndian.PutUint16(b[12:], TypeARP)
	a := header.ARP(b[linkSize:])
	a.SetIPv4OverEthernet()
	a.SetOp(header.ARPOp(op))
	copy(a.HardwareAddressSender(), sender[:])
	copy(a.HardwareAddressTarget(), target[:])
	s, t := senderIP.As4(), targetIP.As4()
	copy(a.ProtocolAddressSender(), s[:])
	copy(a.ProtocolAddressTarget(), t[:])
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
	b := make([]byte, linkSize+ipv4Size+size)
	binary.BigEndian.PutUint16(b[12:], TypeIPv4)
	ttl := h.TTL
	if ttl == 0 {
		ttl = 64
	}
	ip := header.IPv4(b[linkSize:])
	ip.Encode(&header.IPv4Fields{
		TotalLength: uint16(ipv4Size + size), ID: h.ID, TTL: ttl, Protocol: proto, Flags: header.IPv4FlagDontFragment,
		SrcAddr: tcpip.AddrFrom4(h.Source.As4()), DstAddr: tcpip.AddrFrom4(h.Destination.As4()),
	})
	ip.SetChecksum(^ip.CalculateChecksum())
	return b, b[linkSize+ipv4Size:]
}

// Echo builds a ping or its answer.
func Echo(h IP, reply bool, ident, sequence uint16, data []byte) []byte {
	frame, b := h.build(ICMP, header.ICMPv4MinimumSize+len(data))
	c := header.ICMPv4(b)
	c.SetType(header.ICMPv4Echo)
	if reply {
		c.SetType(header.ICMPv4EchoReply)
	}
	c.SetIdent(ident)
	c.SetSequence(sequence)
	copy(b[header.ICMPv4MinimumSize:], data)
	c.SetChecksum(^sum(b, 0))
	return frame
}

// ICMP error types and codes.
const (
	Unreachable     = uint8(header.ICMPv4DstUnreachable)
	TimeExceeded    = uint8(header.ICMPv4TimeExceeded)
	NetUnreachable  = uint8(header.ICMPv4NetUnreachable)
	HostUnreachable = uint8(header.ICMPv4HostUnreachable)
	PortUnreachable = uint8(header.ICMPv4PortUnreachable)
	AdminProhibited = uint8(header.ICMPv4AdminProhibited)
	maxQuoted       = 548 // bytes of the offending packet (RFC 1812, section 4.3.2.3)
)

// ICMPError builds an error about the IPv4 packet original.
func ICMPError(h IP, kind, code uint8, original []byte) []byte {
	original = original[:min(len(original), maxQuoted)]
	frame, b := h.build(ICMP, header.ICMPv4MinimumSize+len(original))
	c := header.ICMPv4(b)
	c.SetType(header.ICMPv4Type(kind))
	c.SetCode(header.ICMPv4Code(code))
	copy(b[header.ICMPv4MinimumSize:], original)
	c.SetChecksum(^sum(b, 0))
	return frame
}

// Datagram builds a UDP datagram.
func Datagram(h IP, source, destination uint16, data []byte) []byte {
	size := header.UDPMinimumSize + len(data)
	frame, b := h.build(UDP, size)
	u := header.UDP(b)
	u.Encode(&header.UDPFields{SrcPort: source, DstPort: destination, Length: uint16(size)})
	copy(b[header.UDPMinimumSize:], data)
	c := ^sum(b, pseudo(UDP, h.Source, h.Destination, size))
	if c == 0 {
		c = 0xffff // RFC 768: zero means no checksum
	}
	u.SetChecksum(c)
	return frame
}

// TCP flags.
const (
	FIN = uint8(header.TCPFlagFin)
	SYN = uint8(header.TCPFlagSyn)
	RST = uint8(header.TCPFlagRst)
	PSH = uint8(header.TCPFlagPsh)
	ACK = uint8(header.TCPFlagAck)
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
	size := header.TCPMinimumSize
	if f.MSS != 0 {
		size += header.TCPOptionMSSLength
	}
	frame, b := h.build(TCP, size+len(data))
	t := header.TCP(b)
	t.Encode(&header.TCPFields{
		SrcPort: f.Source, DstPort: f.Destination, SeqNum: f.Seq, AckNum: f.Ack,
		DataOffset: uint8(size), Flags: header.TCPFlags(f.Flags), WindowSize: f.Window,
	})
	if f.MSS != 0 {
		header.EncodeMSSOption(uint32(f.MSS), b[header.TCPMinimumSize:])
	}
	copy(b[size:], data)
	t.SetChecksum(^sum(b, pseudo(TCP, h.Source, h.Destination, len(b))))
	return frame
}

// ReadSegment gives the fields and data of the TCP segment that p carries. p
// must have passed TransportValid.
func ReadSegment(p *Packet) (SegmentFields, []byte) {
	t := header.TCP(p.Data)
	f := SegmentFields{
		Source: t.SourcePort(), Destination: t.DestinationPort(), Seq: t.SequenceNumber(), Ack: t.AckNumber(),
		Flags: uint8(t.Flags()), Window: t.WindowSize(),
	}
	if f.Flags&SYN != 0 {
		f.MSS = header.ParseSynOptions(t.Options(), f.Flags&ACK != 0).MSS
	}
	return f, t.Payload()
}

// Quoted gives the IPv4 packet that an ICMP error speaks about: its addresses,
// protocol and the start of what it carries. The quote may be cut short.
func Quoted(icmp []byte) (source, destination netip.Addr, proto uint8, data []byte, ok bool) {
	if len(icmp) < header.ICMPv4MinimumSize+ipv4Size {
		return
	}
	q := icmp[header.ICMPv4MinimumSize:]
	size := int(q[0]&15) * 4
	if q[0]>>4 != 4 || size < ipv4Size || len(q) < size {
		return
	}
	return netip.AddrFrom4([4]byte(q[12:16])), netip.AddrFrom4([4]byte(q[16:20])), q[9], q[size:], true
}

// IsError tells an ICMP message that quotes another packet.
func IsError(icmp []byte) bool {
	if len(icmp) < header.ICMPv4MinimumSize {
		return false
	}
	switch header.ICMPv4(icmp).Type() {
	case header.ICMPv4DstUnreachable, header.ICMPv4TimeExceeded, header.ICMPv4ParamProblem, header.ICMPv4SrcQuench:
		return true
	}
	return false
}
