// Package packet reads and builds the frames that cross a simulated wire:
// Ethernet (IEEE 802.3, with 802.1Q tags), ARP (RFC 826), IPv4 (RFC 791), ICMP
// (RFC 792), IPv6 (RFC 8200), ICMPv6 (RFC 4443), UDP (RFC 768) and TCP (RFC
// 9293), all checksums filled in. What a PPPoE session carries (RFC 2516) is
// read as if it stood alone.
package packet

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"

	"openbastion/internal/netsim/header"

	"openbastion/internal/model/mac"
)

// The EtherTypes that are told apart.
const (
	TypeIPv4 = 0x0800
	TypeARP  = 0x0806
	TypeVLAN = 0x8100
	TypeIPv6 = 0x86dd
	TypePPP  = 0x8864 // a PPPoE session
)

// The protocol numbers that are told apart.
const (
	ICMP  = 1
	TCP   = 6
	UDP   = 17
	ICMP6 = 58
)

const (
	linkSize = 14 // Ethernet header
	tagSize  = 4
)

// Packet is one frame with what reading it found. Bytes must not be changed
// once the frame is on a wire: all receivers share it.
type Packet struct {
	Bytes  []byte
	Number int // place among all frames sent, from 1, as in the capture; 0 before it was sent

	To, From mac.Address
	Tag      int    // VLAN identifier; 0 when untagged or priority-tagged
	Type     uint16 // EtherType of what the frame carries
	Body     []byte // what follows the Ethernet header and tag; of a session that carries IPv4, that
	Payload  []byte // what follows the Ethernet header and tag

	// For Type IPv4, or IPv4 in a PPPoE session, when the header is whole and its checksum right:
	IPv4                bool
	IPv6                bool // or, for Type IPv6, when the header is whole
	Source, Destination netip.Addr
	Proto               uint8
	TTL                 uint8
	Fragment            bool   // not the whole datagram
	Data                []byte // what the packet carries
}

// Errors of Decode.
var (
	ErrShort    = errors.New("packet: frame is shorter than its headers require")
	ErrChecksum = errors.New("packet: IPv4 header checksum is wrong")
)

// Decode reads a frame. On an error the fields up to the fault are filled in.
func Decode(frame []byte) (*Packet, error) {
	p := &Packet{}
	err := p.decode(frame)
	return p, err
}

func (p *Packet) decode(b []byte) error {
	*p = Packet{Bytes: b}
	if len(b) < linkSize {
		return ErrShort
	}
	copy(p.To[:], b)
	copy(p.From[:], b[6:])
	p.Type = binary.BigEndian.Uint16(b[12:])
	p.Body = b[linkSize:]
	if p.Type == TypeVLAN {
		if len(p.Body) < tagSize {
			return ErrShort
		}
		p.Tag = int(binary.BigEndian.Uint16(p.Body) & 0xfff)
		p.Type = binary.BigEndian.Uint16(p.Body[2:])
		p.Body = p.Body[tagSize:]
	}
	p.Payload = p.Body
	switch {
	case p.Type == TypeIPv4:
	case p.Type == TypeIPv6:
		return p.decode6()
	case p.Type == TypePPP && len(p.Body) >= 8+header.IPv4Size && p.Body[1] == 0 && p.Body[6] == 0 && p.Body[7] == 0x21:
		p.Body = p.Body[8:]
	default:
		return nil
	}
	ip := header.IPv4(p.Body)
	if !ip.Valid(len(p.Body)) {
		return ErrShort
	}
	if !ip.ChecksumValid() {
		return ErrChecksum
	}
	p.IPv4 = true
	p.Source = netip.AddrFrom4([4]byte(p.Body[12:16]))
	p.Destination = netip.AddrFrom4([4]byte(p.Body[16:20]))
	p.Proto, p.TTL = ip.Protocol(), ip.TTL()
	p.Fragment = ip.More() || ip.FragmentOffset() != 0
	p.Body = p.Body[:ip.Total()]
	p.Data = p.Body[ip.HeaderSize():]
	return nil
}

func (p *Packet) decode6() error {
	ip := header.IPv6(p.Body)
	if !ip.Valid(len(p.Body)) {
		return ErrShort
	}
	p.IPv6 = true
	p.Source, p.Destination, p.TTL = ip.Source(), ip.Destination(), ip.HopLimit()
	p.Body = p.Body[:ip.Total()]
	p.Proto, p.Data, p.Fragment = ip.Upper()
	return nil
}

// IP reports whether it is a packet of either version.
func (p *Packet) IP() bool { return p.IPv4 || p.IPv6 }

// Later reports whether it is a fragment that is not the first: it has no ports.
func (p *Packet) Later() bool {
	return p.IPv4 && header.IPv4(p.Body).FragmentOffset() != 0 || p.IPv6 && p.Fragment
}

// IsError reports whether it is an ICMP message, of either version, about another packet.
func (p *Packet) IsError() bool {
	return p.IPv4 && p.Proto == ICMP && IsError(p.Data) ||
		p.IPv6 && p.Proto == ICMP6 && len(p.Data) >= header.ICMPSize && p.Data[0] < 128
}

// Discovery reports whether it is a message of IPv6 neighbor discovery (RFC 4861).
func (p *Packet) Discovery() bool {
	return p.IPv6 && p.Proto == ICMP6 && len(p.Data) >= header.ICMPSize && p.Data[0] >= 133 && p.Data[0] <= 137
}

// Ping reports whether it is an echo request, or with answer the reply to one, of either
// version.
func (p *Packet) Ping(answer bool) bool {
	if len(p.Data) < header.ICMPSize || p.Proto != ICMP && p.Proto != ICMP6 {
		return false
	}
	kind := uint8(header.Echo)
	switch {
	case p.Proto == ICMP && answer:
		kind = header.EchoReply
	case p.Proto == ICMP6 && answer:
		kind = EchoReply6
	case p.Proto == ICMP6:
		kind = Echo6
	}
	return p.Data[0] == kind
}

// Copy returns a packet of its own, which may be changed and then Reread.
func (p *Packet) Copy() *Packet {
	q := &Packet{}
	_ = q.decode(append([]byte(nil), p.Bytes...))
	q.Number = p.Number
	return q
}

// Ports returns source and destination port of TCP and UDP; for ICMP echo the
// identifier in both. ok is false for anything else and for later fragments.
func (p *Packet) Ports() (source, destination uint16, ok bool) {
	if !p.IP() || p.Later() {
		return 0, 0, false
	}
	return Ports(p.Proto, p.Data)
}

// Ports is [Packet.Ports] over what a packet carries.
func Ports(proto uint8, data []byte) (source, destination uint16, ok bool) {
	switch {
	case proto == TCP && len(data) >= header.TCPSize, proto == UDP && len(data) >= header.UDPSize:
		return binary.BigEndian.Uint16(data), binary.BigEndian.Uint16(data[2:]), true
	case proto == ICMP && len(data) >= header.ICMPSize:
		switch header.ICMP(data).Type() {
		case header.Echo, header.EchoReply:
			id := header.ICMP(data).Ident()
			return id, id, true
		}
	case proto == ICMP6 && len(data) >= header.ICMPSize:
		switch data[0] {
		case Echo6, EchoReply6:
			id := header.ICMP(data).Ident()
			return id, id, true
		}
	}
	return 0, 0, false
}

// TransportValid checks the checksum of what the packet carries.
func (p *Packet) TransportValid() bool {
	if p.Fragment {
		return true // told only once it is whole
	}
	switch p.Proto {
	case ICMP:
		return len(p.Data) >= header.ICMPSize && header.Sum(p.Data, 0) == 0xffff
	case ICMP6:
		return len(p.Data) >= 4 &&
			header.Sum(p.Data, header.Pseudo(ICMP6, p.Source, p.Destination, len(p.Data))) == 0xffff
	case UDP:
		u := header.UDP(p.Data)
		if len(p.Data) < header.UDPSize || int(u.Length()) > len(p.Data) || u.Length() < header.UDPSize {
			return false
		}
		return u.Checksum() == 0 && p.IPv4 || header.Sum(p.Data[:u.Length()],
			header.Pseudo(UDP, p.Source, p.Destination, int(u.Length()))) == 0xffff
	case TCP:
		if len(p.Data) < header.TCPSize {
			return false
		}
		if offset := header.TCP(p.Data).HeaderSize(); offset < header.TCPSize || offset > len(p.Data) {
			return false
		}
		return header.Sum(p.Data, header.Pseudo(TCP, p.Source, p.Destination, len(p.Data))) == 0xffff
	}
	return true
}

// String returns the packet in a line, for evidence.
func (p *Packet) String() string {
	tag := ""
	if p.Tag != 0 {
		tag = fmt.Sprintf(" tag %d", p.Tag)
	}
	switch {
	case p.Type == TypeARP && len(p.Body) >= header.ARPSize:
		a := header.ARP(p.Body)
		target, sender := netip.AddrFrom4([4]byte(a.TargetAddr())), netip.AddrFrom4([4]byte(a.SenderAddr()))
		if a.Op() == header.ARPRequest {
			return fmt.Sprintf("ARP%s: who has %s? from %s", tag, target, p.From)
		}
		return fmt.Sprintf("ARP%s: %s is at %s", tag, sender, p.From)
	case p.IPv4:
		if p.Type == TypePPP {
			tag += " in PPPoE"
		}
		return fmt.Sprintf("%s > %s%s: %s", p.Source, p.Destination, tag, p.carries())
	case p.IPv6:
		return fmt.Sprintf("%s > %s%s: %s", p.Source, p.Destination, tag, p.carries())
	}
	return fmt.Sprintf("%s > %s%s: type 0x%04x", p.From, p.To, tag, p.Type)
}

func (p *Packet) carries() string {
	source, destination, ok := p.Ports()
	switch {
	case p.Proto == ICMP && len(p.Data) > 1:
		switch t := header.ICMP(p.Data).Type(); t {
		case header.Echo:
			return "ping"
		case header.EchoReply:
			return "ping answered"
		case header.Unreachable:
			return fmt.Sprintf("unreachable (code %d)", p.Data[1])
		case header.TimeExceeded:
			return "time exceeded"
		default:
			return fmt.Sprintf("ICMP type %d", t)
		}
	case p.Proto == ICMP6 && len(p.Data) > 1:
		if name := icmp6Names[p.Data[0]]; name != "" {
			return name
		}
		return fmt.Sprintf("ICMPv6 type %d", p.Data[0])
	case p.Proto == TCP && ok:
		return fmt.Sprintf("tcp %d > %d %s", source, destination, flagText(header.TCP(p.Data).Flags()))
	case p.Proto == UDP && ok:
		return fmt.Sprintf("udp %d > %d", source, destination)
	}
	return fmt.Sprintf("protocol %d", p.Proto)
}

var icmp6Names = map[uint8]string{
	1: "unreachable", 3: "time exceeded", Echo6: "ping", EchoReply6: "ping answered",
	133: "router solicitation", 134: "router advertisement", 135: "who has it? (neighbor solicitation)", 136: "neighbor advertisement",
}

// flagText names the flags of a TCP segment.
func flagText(flags uint8) string {
	text := ""
	for i, name := range []string{"FIN", "SYN", "RST", "PSH", "ACK"} {
		if flags&(1<<i) != 0 {
			if text != "" {
				text += ","
			}
			text += name
		}
	}
	return text
}
