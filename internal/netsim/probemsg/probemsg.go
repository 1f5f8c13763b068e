// Package ask is what witnesses, guests and simulated stations say to each
// other: a question by UDP in the form of whatever protocol lives on its port,
// an answer that says who answers and which source it saw, and the same as a
// page over TCP. It is one codec for every stage.
package probemsg

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/net/dns/dnsmessage"

	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/header"
)

// word is what a question says.
const word = "open-bastion-asks"

// PingPrefix begins what our pings carry; a number of each its own goes on.
const PingPrefix = "open bastion probe "

// The ports whose protocol a datagram is dressed as, so that an analyser can
// read it.
const (
	portTime    = 123 // NTP, RFC 5905
	portManaged = 161 // SNMP, RFC 1157
)

// Question is the datagram that asks whoever is at a UDP port who it is.
func Question(port uint16) []byte { return Dress(port, word) }

// Pad fills a question or a ping's payload with zeros to a size in bytes, which its answer has then too: nothing is
// amplified. What is that large already stays as it is.
func Pad(data []byte, size int) []byte {
	if len(data) >= size {
		return data
	}
	return append(slices.Clone(data), make([]byte, size-len(data))...)
}

// Stream is how many bytes are sent by TCP, and come back, where packets of full size are asked for: several of them.
const Stream = 8 << 10

// Room returns how many bytes the payload of an ICMP echo or a UDP datagram to an address has in a packet of a size in bytes.
func Room(to netip.Addr, size int) int {
	if to.Is6() {
		return size - header.IPv6Size - header.UDPSize
	}
	return size - header.IPv4Size - header.UDPSize // the header of an echo is as long
}

// Unpad returns what was padded.
func Unpad(data []byte) []byte { return bytes.TrimRight(data, "\x00") }

// Dress puts a word of at most 32 letters, digits and hyphens into a datagram
// for a port, in the form of the protocol that lives there.
func Dress(port uint16, word string) []byte {
	switch port {
	case dns.Port:
		b, err := dns.Question(0xb0b0, word+".example")
		if err == nil {
			return b
		}
	case portTime: // version 4, client; the word is in the times
		b := make([]byte, 48)
		b[0] = 0x23
		copy(b[16:], word)
		return b
	case portManaged: // get sysDescr.0; the word is the community
		b := []byte{0x30, byte(32 + len(word)), 2, 1, 0, 4, byte(len(word))}
		b = append(b, word...)
		return append(
			b,
			"\xa0\x19\x02\x01\x01\x02\x01\x00\x02\x01\x00\x30\x0e\x30\x0c\x06\x08\x2b\x06\x01\x02\x01\x01\x01\x00\x05\x00"...)
	}
	return []byte(word + "\n")
}

// forms are a port of each form that a question has, whatever port it came to:
// a translation may have changed that.
var forms = []uint16{7, dns.Port, portTime, portManaged}

// Reply answers a question from an address, in the form in which it was asked.
// false for what is no question: two stations that answered all they hear would
// go on answering each other for ever.
func Reply(data []byte, name string, from netip.AddrPort) ([]byte, bool) {
	for _, port := range forms {
		q := Question(port)
		if bytes.HasPrefix(data, q) && len(Unpad(data[len(q):])) == 0 {
			reply := answer(port, Page(name, from))
			if len(data) > len(q) {
				reply = Pad(reply, len(data))
			}
			return reply, true
		}
	}
	return nil, false
}

// Page is what a station says of itself to a client.
func Page(name string, client netip.AddrPort) string { return fmt.Sprintf("%s %s\n", name, client) }

// answer puts a text into the form of the port's protocol.
func answer(port uint16, text string) []byte {
	if port != dns.Port {
		return []byte(text)
	}
	name := dnsmessage.MustNewName(word + ".example.")
	m := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: 0xb0b0, Response: true, RecursionDesired: true, Authoritative: true},
		Questions: []dnsmessage.Question{{Name: name, Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET}},
		Additionals: []dnsmessage.Resource{{
			Header: dnsmessage.ResourceHeader{Name: name, Class: dnsmessage.ClassINET},
			Body:   &dnsmessage.TXTResource{TXT: []string{text}},
		}},
	}
	b, _ := m.Pack() // constant but for a short text
	return b
}

// Introduced reads what a station answered, a datagram or a page: its name and
// the source that it saw; empty and invalid when it is neither.
func Introduced(data []byte) (name string, source netip.Addr) {
	text := string(Unpad(data))
	var m dnsmessage.Message
	if len(data) >= 12 && m.Unpack(data) == nil {
		for _, r := range m.Additionals {
			if txt, ok := r.Body.(*dnsmessage.TXTResource); ok && len(txt.TXT) > 0 {
				text = txt.TXT[0]
			}
		}
	}
	name, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	at, err := netip.ParseAddrPort(rest)
	if err != nil {
		return "", netip.Addr{}
	}
	return name, at.Addr()
}
