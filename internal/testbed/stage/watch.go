package stage

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/netsim/packet"
)

// maxEscapes bounds the escapes that are kept: the latest.
const maxEscapes = 100

// again is how long the same escape is not told again.
const again = 10 * time.Second

// Watch sees every frame at the switch: it counts what each segment carries, and tells
// frames of guests that are beyond the appliance without having gone through it.
type Watch struct {
	outside []bool // by segment: it is beyond the appliances
	guests  map[mac.Address]*plan.Machine
	gates   map[mac.Address]bool // the appliances' adapters
	inside  []netip.Prefix

	mu       sync.Mutex
	segments []status.Segment
	escapes  []status.Escape
	told     map[string]time.Time
}

// NewWatch makes a watch of a plan, whose segments are numbered in order.
func NewWatch(p *plan.Plan, segments []string) *Watch {
	w := &Watch{guests: map[mac.Address]*plan.Machine{}, gates: map[mac.Address]bool{}, told: map[string]time.Time{}}
	for _, name := range segments {
		s := p.Segment(name)
		w.segments = append(w.segments, status.Segment{Name: name, How: "switch"})
		w.outside = append(w.outside, s == nil || !s.Inside())
		if s != nil && s.Inside() && s.Subnet.IsValid() {
			w.inside = append(w.inside, s.Subnet)
		}
	}
	for _, m := range p.Guests() {
		for _, a := range m.Adapters {
			if !m.Guest.Outside {
				w.guests[a.MAC] = m
			}
		}
	}
	for _, m := range p.Appliances() {
		for _, a := range m.Adapters {
			w.gates[a.MAC] = true
		}
	}
	return w
}

// Record counts a frame and looks whether it escaped.
func (w *Watch) Record(segment int, at time.Time, frame []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.segments[segment].Carried.Packets++
	w.segments[segment].Carried.Bytes += uint64(len(frame))
	if !w.outside[segment] {
		return
	}
	p, err := packet.Decode(frame)
	if err != nil || !p.IP() || p.Destination.IsMulticast() || p.To == mac.Broadcast {
		return
	}
	who := ""
	if g := w.guests[p.From]; g != nil {
		who = g.Name
	} else if !w.gates[p.From] && w.within(p.Source) && !w.within(p.Destination) { // what is for inside comes in
		who = p.Source.String()
	}
	if who == "" {
		return
	}
	from, to := Ends(p)
	text := fmt.Sprintf("%s from %s to %s", Protocol(uint8(p.Proto)), status.End(from), status.End(to))
	key := fmt.Sprint(who, segment, p.Proto, p.Destination)
	now := time.Now()
	if now.Sub(w.told[key]) < again {
		return
	}
	if len(w.told) > 10*maxEscapes {
		clear(w.told)
	}
	w.told[key] = now
	w.escapes = append(w.escapes, status.Escape{At: now, Guest: who, Segment: w.segments[segment].Name, Packet: text})
	if len(w.escapes) > maxEscapes {
		w.escapes = w.escapes[len(w.escapes)-maxEscapes:]
	}
}

// Resume has the watch go on where another one is: with what its segments have carried, and the escapes that
// were seen.
func (w *Watch) Resume(old *Watch) {
	segments, escapes := old.Seen()
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range w.segments {
		for _, s := range segments {
			if s.Name == w.segments[i].Name {
				w.segments[i].Carried = s.Carried
			}
		}
	}
	w.escapes = escapes
}

// Ends returns who speaks to whom in a packet; what has no ports has 0.
func Ends(p *packet.Packet) (from, to netip.AddrPort) {
	a, b, ok := p.Ports()
	if !ok || p.Proto != packet.TCP && p.Proto != packet.UDP {
		a, b = 0, 0
	}
	return netip.AddrPortFrom(p.Source, a), netip.AddrPortFrom(p.Destination, b)
}

func (w *Watch) within(a netip.Addr) bool {
	for _, p := range w.inside {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// Seen returns what was counted, and the escapes.
func (w *Watch) Seen() ([]status.Segment, []status.Escape) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]status.Segment{}, w.segments...), append([]status.Escape{}, w.escapes...)
}

// Protocol names the protocol of a packet (IANA, Assigned Internet Protocol Numbers).
func Protocol(number uint8) string {
	switch number {
	case packet.ICMP, packet.ICMP6:
		return "icmp"
	case packet.TCP:
		return "tcp"
	case packet.UDP:
		return "udp"
	}
	return fmt.Sprint("protocol ", number)
}
