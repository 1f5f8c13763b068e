// Package ppp carries IPv4 over Ethernet in sessions: PPPoE (RFC 2516) with the
// link control protocol (RFC 1661), authentication by PAP (RFC 1334) or CHAP
// (RFC 1994), and the address from IPCP (RFC 1332, resolvers by RFC 1877). Both
// ends are state machines that take a frame's payload and a time and give what
// to send and the next deadline.
package pppoe

import (
	"crypto/md5"
	"encoding/binary"
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
)

// EtherTypes of PPPoE.
const (
	TypeDiscovery = 0x8863
	TypeSession   = packet.TypePPP
)

// MTU is what a session carries: 8 bytes less than Ethernet (RFC 2516, section 7).
const MTU = 1492

// Out is a payload to send to a hardware address, under an EtherType.
type Out struct {
	To   mac.Address
	Type uint16
	Data []byte
}

// Codes of discovery (RFC 2516, section 5).
const (
	padi = 0x09
	pado = 0x07
	padr = 0x19
	pads = 0x65
	padt = 0xa7
)

// Protocols within a session.
const (
	protoIPv4 = 0x0021
	protoIPCP = 0x8021
	protoLCP  = 0xc021
	protoPAP  = 0xc023
	protoCHAP = 0xc223
)

// Codes of the negotiating protocols (RFC 1661, section 5).
const (
	request   = 1
	ack       = 2
	nak       = 3
	reject    = 4
	terminate = 5
	echo      = 9
	echoReply = 10
)

// Tags of discovery.
const (
	tagService = 0x0101
	tagName    = 0x0102
	tagHost    = 0x0103
	tagCookie  = 0x0104
)

func discovery(code byte, session uint16, tags ...[]byte) []byte {
	b := []byte{0x11, code, byte(session >> 8), byte(session), 0, 0}
	for _, t := range tags {
		b = append(b, t...)
	}
	binary.BigEndian.PutUint16(b[4:], uint16(len(b)-6))
	return b
}

func tag(kind uint16, value []byte) []byte {
	b := binary.BigEndian.AppendUint16(nil, kind)
	b = binary.BigEndian.AppendUint16(b, uint16(len(value)))
	return append(b, value...)
}

// tagIn finds a tag in a discovery payload.
func tagIn(b []byte, kind uint16) []byte {
	for b = b[6:]; len(b) >= 4; {
		n := int(binary.BigEndian.Uint16(b[2:]))
		if n > len(b)-4 {
			break
		}
		if binary.BigEndian.Uint16(b) == kind {
			return b[4 : 4+n]
		}
		b = b[4+n:]
	}
	return nil
}

// Wrap puts an IPv4 packet into a session's payload.
func Wrap(session uint16, ip []byte) []byte { return wrap(session, protoIPv4, ip) }

func wrap(session, proto uint16, data []byte) []byte {
	b := make([]byte, 8, 8+len(data))
	b[0] = 0x11
	binary.BigEndian.PutUint16(b[2:], session)
	binary.BigEndian.PutUint16(b[4:], uint16(2+len(data)))
	binary.BigEndian.PutUint16(b[6:], proto)
	return append(b, data...)
}

// open takes a session's payload apart.
func open(b []byte) (session, proto uint16, data []byte, ok bool) {
	if len(b) < 8 || b[0] != 0x11 || b[1] != 0 {
		return 0, 0, nil, false
	}
	n := int(binary.BigEndian.Uint16(b[4:]))
	if n < 2 || n > len(b)-6 {
		return 0, 0, nil, false
	}
	return binary.BigEndian.Uint16(b[2:]), binary.BigEndian.Uint16(b[6:]), b[8 : 6+n], true
}

func control(code, id byte, data ...[]byte) []byte {
	b := []byte{code, id, 0, 0}
	for _, d := range data {
		b = append(b, d...)
	}
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	return b
}

// controlIn checks a control packet and gives its data.
func controlIn(b []byte) (code, id byte, data []byte, ok bool) {
	if len(b) < 4 {
		return 0, 0, nil, false
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < 4 || n > len(b) {
		return 0, 0, nil, false
	}
	return b[0], b[1], b[4:n], true
}

func option(kind byte, value ...byte) []byte {
	return append([]byte{kind, byte(2 + len(value))}, value...)
}

// options walks the options of a request.
func options(b []byte, each func(kind byte, value []byte)) {
	for len(b) >= 2 && int(b[1]) >= 2 && int(b[1]) <= len(b) {
		each(b[0], b[2:b[1]])
		b = b[b[1]:]
	}
}

func address(v []byte) netip.Addr {
	if len(v) != 4 {
		return netip.Addr{}
	}
	return netip.AddrFrom4([4]byte(v))
}

func bytes4(a netip.Addr) []byte {
	if !a.Is4() {
		return make([]byte, 4)
	}
	b := a.As4()
	return b[:]
}

// answerTo is what CHAP answers a challenge with (RFC 1994, section 4.1).
func answerTo(id byte, secret string, challenge []byte) []byte {
	h := md5.New()
	h.Write([]byte{id})
	h.Write([]byte(secret))
	h.Write(challenge)
	return h.Sum(nil)
}

// Times of both ends.
const (
	retryTime = 3 * time.Second
	retries   = 10
	pauseTime = 30 * time.Second // after giving up, before starting again
	echoTime  = 20 * time.Second
	echoLimit = 3 // echoes without answer: the session is dead
)
