// Package wire is a segment's switch: it learns which station is behind which
// port, keeps tagged segments on one wire apart (IEEE 802.1Q), and floods what
// it does not know. It is a pure state machine: a frame in, frames out.
package bridge

import (
	"slices"

	"openbastion/internal/netsim/packet"
)

// Port says how a station is attached.
type Port struct {
	Native int   // segment of untagged frames: its tag, 0 for the untagged segment
	Tagged []int // tags that this port sends and receives with the tag on
	Strict []int // tags of segments on which it may only send from Own
	Own    uint64
}

// maxLearned bounds the table of stations, as a hostile one may invent sources.
const maxLearned = 1 << 16

// Switch is one wire. The zero value has no ports.
type Switch struct {
	ports   []port
	members map[int][]int // tag to the ports that carry it
	learned map[uint64]int
}

type port struct {
	Port
	down bool
}

// Attach adds a port and gives its index, from 0.
func (s *Switch) Attach(p Port) int {
	if s.members == nil {
		s.members, s.learned = map[int][]int{}, map[uint64]int{}
	}
	i := len(s.ports)
	s.ports = append(s.ports, port{Port: p})
	s.members[p.Native] = append(s.members[p.Native], i)
	for _, t := range p.Tagged {
		s.members[t] = append(s.members[t], i)
	}
	return i
}

// SetLink plugs or unplugs a port. What was learned behind an unplugged one is
// forgotten.
func (s *Switch) SetLink(i int, up bool) {
	s.ports[i].down = !up
	if !up {
		for k, v := range s.learned {
			if v == i {
				delete(s.learned, k)
			}
		}
	}
}

// Admit tells on which segment (by tag) a frame from the port belongs. ok is
// false for what the port may not send: a tag that is not its own, a foreign
// hardware address where the segment is strict, or anything while it is unplugged.
func (s *Switch) Admit(in int, p *packet.Packet) (tag int, ok bool) {
	from := &s.ports[in]
	if from.down {
		return 0, false
	}
	tag, ok = p.Tag, slices.Contains(from.Tagged, p.Tag)
	if p.Tag == 0 {
		tag, ok = from.Native, true
	}
	if from.Strict != nil && slices.Contains(from.Strict, tag) && p.From.Uint64() != from.Own {
		ok = false // the switch knows whose address that is not
	}
	return tag, ok
}

// Forward takes a frame that Admit let onto segment tag and hands it to
// deliver for each port it leaves by, tagged or not as that port wants it.
func (s *Switch) Forward(in, tag int, p *packet.Packet, deliver func(port int, p *packet.Packet)) {
	s.forward(s.members[tag], in, tag, p, deliver)
}

// ForwardTo is Forward where only some ports, in order, heed a frame for all of a segment.
func (s *Switch) ForwardTo(heeding []int, in, tag int, p *packet.Packet, deliver func(port int, p *packet.Packet)) {
	s.forward(slices.DeleteFunc(heeding, func(i int) bool {
		return s.ports[i].Native != tag && !slices.Contains(s.ports[i].Tagged, tag)
	}), in, tag, p, deliver)
}

func (s *Switch) forward(to []int, in, tag int, p *packet.Packet, deliver func(port int, p *packet.Packet)) {
	if !p.From.IsGroup() && len(s.learned) < maxLearned {
		s.learned[key(tag, p.From.Uint64())] = in
	}
	forms := forms{sent: p, tag: tag}
	if !p.To.IsGroup() {
		if out, ok := s.learned[key(tag, p.To.Uint64())]; ok {
			if out != in && !s.ports[out].down {
				deliver(out, forms.of(&s.ports[out]))
			}
			return
		}
	}
	for _, out := range to {
		if out != in && !s.ports[out].down {
			deliver(out, forms.of(&s.ports[out]))
		}
	}
}

func key(tag int, station uint64) uint64 { return uint64(tag)<<48 | station }

// forms makes the tagged and untagged form of a frame at most once each.
type forms struct {
	sent  *packet.Packet
	tag   int
	other *packet.Packet
}

func (f *forms) of(to *port) *packet.Packet {
	wantTag := to.Native != f.tag
	if wantTag == (f.sent.Tag != 0) {
		return f.sent
	}
	if f.other == nil {
		b := packet.Untagged(f.sent.Bytes)
		if wantTag {
			b = packet.Tagged(f.sent.Bytes, f.tag)
		}
		f.other, _ = packet.Decode(b)
		f.other.Number = f.sent.Number
	}
	return f.other
}
