package firewall

import (
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/netsim/header"

	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// tuple names one direction of a conversation. For ICMP echo both ports are
// the identifier and reply tells answers from requests; for other protocols
// the ports are 0.
type tuple struct {
	proto               uint8
	reply               bool
	source, destination netip.Addr
	from, to            uint16
}

func (t tuple) reversed() tuple {
	return tuple{
		t.proto,
		(t.proto == packet.ICMP || t.proto == packet.ICMP6) && !t.reply,
		t.destination,
		t.source,
		t.to,
		t.from,
	}
}

// flow is one conversation: how its first packet looked when it came, and how
// its answers look when they come.
type flow struct {
	forth, back tuple
	entry, exit *host.Port // by which it came in; by which it left under another address, or nil
	expires     time.Duration
	replied     bool
	closing     int // FINs seen, or 2 after a reset
}

// Timeouts of idle conversations. UDP and ICMP as RFC 4787, section 4.3, and
// RFC 5508, section 3.2, ask; TCP as RFC 5382, section 5.
const (
	udpNew         = 30 * time.Second
	udpReplied     = 5 * time.Minute
	icmpIdle       = 60 * time.Second
	tcpOpening     = 4 * time.Minute
	tcpEstablished = 2*time.Hour + 4*time.Minute
	tcpClosing     = 4 * time.Minute
	otherIdle      = 10 * time.Minute
)

func (f *flow) touch(now time.Duration, p *packet.Packet, back bool) {
	f.replied = f.replied || back
	d := otherIdle
	switch f.forth.proto {
	case packet.UDP:
		d = udpNew
		if f.replied {
			d = udpReplied
		}
	case packet.ICMP, packet.ICMP6:
		d = icmpIdle
	case packet.TCP:
		if len(p.Data) >= header.TCPSize {
			switch flags := header.TCP(p.Data).Flags(); {
			case flags&header.RST != 0:
				f.closing = 2
			case flags&header.FIN != 0:
				f.closing++
			}
		}
		switch {
		case f.closing >= 2:
			d = tcpClosing
		case f.replied:
			d = tcpEstablished
		default:
			d = tcpOpening
		}
	}
	f.expires = now + d
}

// maxFlows bounds the table of conversations.
const maxFlows = 1 << 17

// table holds the conversations, each under both of its directions.
type table struct {
	flows map[tuple]*flow
	next  uint16  // where the search for a free port goes on
	sweep int     // size at which the idle ones are cleared out
	young []*flow // in the order they came; what gives way when the table is full
}

// find returns the conversation that a packet belongs to and whether it is an
// answer in it.
func (t *table) find(now time.Duration, k tuple) (f *flow, back bool) {
	f = t.flows[k]
	if f == nil {
		return nil, false
	}
	if f.expires <= now {
		t.remove(f)
		return nil, false
	}
	return f, k != f.forth
}

func (t *table) remove(f *flow) {
	delete(t.flows, f.forth)
	delete(t.flows, f.back)
}

// room makes place for one more conversation; false when the table is full of
// ones that were answered. The work is spread: each conversation is looked at
// a bounded number of times.
func (t *table) room(now time.Duration) bool {
	if t.flows == nil {
		t.flows, t.sweep, t.next = map[tuple]*flow{}, 4096, 1024
	}
	if len(t.flows) >= t.sweep {
		for _, f := range t.flows {
			if f.expires <= now {
				t.remove(f)
			}
		}
		t.young = slices.DeleteFunc(t.young, func(f *flow) bool { return f.replied || t.flows[f.forth] != f })
		t.sweep = max(4096, 2*len(t.flows))
	}
	for len(t.flows) >= 2*maxFlows && len(t.young) > 0 { // the oldest that nobody answered gives way
		f := t.young[0]
		t.young = t.young[1:]
		if t.flows[f.forth] == f && (!f.replied || f.expires <= now) {
			t.remove(f)
		}
	}
	return len(t.flows) < 2*maxFlows
}

func (t *table) add(now time.Duration, f *flow, p *packet.Packet) {
	f.touch(now, p, false)
	t.flows[f.forth], t.flows[f.back] = f, f
	t.young = append(t.young, f)
}

// translate picks the port under which a conversation leaves: its own when
// that is free towards this destination, else the next free one.
func (t *table) translate(back tuple) (tuple, bool) {
	if back.proto != packet.TCP && back.proto != packet.UDP && back.proto != packet.ICMP {
		_, used := t.flows[back]
		return back, !used
	}
	if back.proto != packet.ICMP && back.to < 1024 {
		back.to = t.step()
	}
	for range 1 << 16 {
		if back.proto == packet.ICMP {
			back.from = back.to
		}
		if _, used := t.flows[back]; !used {
			return back, true
		}
		back.to = t.step()
	}
	return back, false
}

func (t *table) step() uint16 {
	if t.next++; t.next < 1024 {
		t.next = 1024
	}
	return t.next
}
