package packet

import (
	"encoding/binary"
	"slices"

	"openbastion/internal/netsim/header"
)

// An adapter of a real machine may leave work to whoever takes its frames: the
// checksum of what a packet carries (only the pseudo header is summed), and the
// cutting of one large TCP segment into those that a wire takes. Complete and
// Split do that work.

// Complete returns the frame with the checksum of the UDP datagram or TCP segment
// that it carries filled in. What carries none, a fragment and what cannot be
// read is given back as it is.
func Complete(frame []byte) []byte {
	p, err := Decode(frame)
	if err != nil || !p.IP() || p.Fragment {
		return frame
	}
	at := 16 // of the checksum in a TCP header
	switch p.Proto {
	case UDP:
		at = 6
	case TCP:
	default:
		return frame
	}
	if len(p.Data) < at+2 {
		return frame
	}
	out := slices.Clone(frame)
	p, _ = Decode(out)
	binary.BigEndian.PutUint16(p.Data[at:], 0)
	sum := ^header.Sum(p.Data, header.Pseudo(p.Proto, p.Source, p.Destination, len(p.Data)))
	if sum == 0 && p.Proto == UDP {
		sum = 0xffff // zero means that there is none (RFC 768)
	}
	binary.BigEndian.PutUint16(p.Data[at:], sum)
	return out
}

// Split cuts the TCP segment in a frame into frames whose packets take at most
// mtu bytes, each whole with checksums of its own. A frame that fits, and what is
// no TCP segment, is given back alone.
func Split(frame []byte, mtu int) [][]byte {
	p, err := Decode(frame)
	if err != nil || !p.IP() || p.Fragment || p.Proto != TCP || len(p.Body) <= mtu || len(p.Data) < header.TCPSize {
		return [][]byte{frame}
	}
	return Segments(frame, mtu-(len(p.Body)-len(p.Data)+header.TCP(p.Data).HeaderSize()))
}

// Segments cuts the TCP segment in a frame into frames that carry at most so many bytes of it, each whole with checksums of
// its own. What is no TCP segment is given back alone.
func Segments(frame []byte, most int) [][]byte {
	p, err := Decode(frame)
	if err != nil || !p.IP() || p.Fragment || p.Proto != TCP || len(p.Data) < header.TCPSize {
		return [][]byte{frame}
	}
	tcp := header.TCP(p.Data)
	size := tcp.HeaderSize()
	head := len(p.Body) - len(p.Data) + size // of the packet
	if size < header.TCPSize || size > len(p.Data) || most < 1 || len(p.Data)-size <= most {
		return [][]byte{frame}
	}
	lead := len(frame) - len(p.Payload) // Ethernet header and tag
	whole := p.Data[size:]
	var out [][]byte
	for from := 0; from < len(whole); from += most {
		part := whole[from:min(from+most, len(whole))]
		b := slices.Concat(frame[:lead], p.Body[:head], part)
		ip, t := b[lead:], header.TCP(b[lead+head-size:])
		binary.BigEndian.PutUint32(t[4:], tcp.Seq()+uint32(from))
		if last := from+most >= len(whole); !last {
			t[13] &^= header.FIN | header.PSH
		}
		if from > 0 {
			t[13] &^= 0x80 // congestion window reduced is said once (RFC 3168)
		}
		if p.IPv4 {
			v4 := header.IPv4(ip)
			binary.BigEndian.PutUint16(ip[2:], uint16(head+len(part)))
			v4.SetID(v4.ID() + uint16(len(out)))
			v4.Seal()
		} else {
			binary.BigEndian.PutUint16(ip[4:], uint16(head+len(part)-header.IPv6Size))
		}
		out = append(out, Complete(b))
	}
	return out
}
