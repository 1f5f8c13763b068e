package attack

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strconv"

	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
)

// Mark is by what a hostile packet is recognised wherever it comes out: in a word that it
// carries, and in the sequence number and the acknowledgment of a SYN, which says nothing by
// the latter (RFC 9293, section 3.1).
type Mark struct {
	Run     uint32 // whose: 0 where there is but one who tries
	Attempt int    // the place in the attempts; of a SYN at most 24 bits
}

const (
	markSYN  = 0xb5              // begins the sequence number of a SYN
	markWord = "bastion-escape-" // begins the word
	markSize = len(markWord) + 8 + 1 + 8
)

// word is what a packet carries: 32 letters, digits and hyphens, which fit a name and a
// question for the time.
func (m Mark) word() string { return fmt.Sprintf("%s%08x-%08x", markWord, m.Run, uint32(m.Attempt)) }

// MarkIn finds the mark in any bytes.
func MarkIn(b []byte) (m Mark, ok bool) {
	at := bytes.Index(b, []byte(markWord))
	if at < 0 || len(b) < at+markSize || b[at+markSize-9] != '-' {
		return m, false
	}
	b = b[at+len(markWord):][:8+1+8]
	run, err := strconv.ParseUint(string(b[:8]), 16, 32)
	if err != nil {
		return m, false
	}
	n, err := strconv.ParseUint(string(b[9:]), 16, 32)
	return Mark{uint32(run), int(n)}, err == nil
}

// MarkOf finds the mark of a packet.
func MarkOf(p *packet.Packet) (m Mark, ok bool) {
	if p.IP() && p.Proto == packet.TCP {
		if len(p.Data) >= header.TCPSize && p.Data[4] == markSYN && p.Data[13] == packet.SYN {
			return Mark{binary.BigEndian.Uint32(p.Data[8:]), int(binary.BigEndian.Uint32(p.Data[4:]) & 0xffffff)}, true
		}
		return m, false
	}
	if p.IP() {
		return MarkIn(p.Data)
	}
	return MarkIn(p.Bytes)
}

// TokenOf finds the place in the attempts of a hostile packet that a station took in, or -1.
func TokenOf(p *packet.Packet) int {
	if m, ok := MarkOf(p); ok && p.IP() {
		return m.Attempt
	}
	return -1
}

// TokenOnWire finds that place of any packet on a wire, or -1.
func TokenOnWire(p *packet.Packet) int {
	if m, ok := MarkOf(p); ok {
		return m.Attempt
	}
	return -1
}
