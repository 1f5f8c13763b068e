package bridge

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
)

func station(n byte) mac.Address { return mac.Address{2, 0, 0, 0, 0, n} }

func frame(from, to mac.Address, tag int) *packet.Packet {
	a := netip.AddrFrom4([4]byte{10, 0, 0, 1})
	b := packet.Datagram(packet.IP{Source: a, Destination: a}, 1, 2, nil)
	packet.SetLink(b, to, from)
	if tag != 0 {
		b = packet.Tagged(b, tag)
	}
	p, err := packet.Decode(b)
	if err != nil {
		panic(err)
	}
	return p
}

// sent returns the ports by which a frame leaves and the tag it has there.
func sent(s *Switch, in int, p *packet.Packet) map[int]int {
	out := map[int]int{}
	if tag, ok := s.Admit(in, p); ok {
		s.Forward(in, tag, p, func(port int, p *packet.Packet) { out[port] = p.Tag })
	}
	return out
}

func TestForward(t *testing.T) {
	var s Switch
	trunk := s.Attach(Port{Tagged: []int{48}})
	desk1, desk2 := s.Attach(Port{}), s.Attach(Port{})
	pool1, pool2 := s.Attach(Port{Native: 48}), s.Attach(Port{Native: 48})
	all := mac.Broadcast

	assert.Equal(t, map[int]int{trunk: 0, desk2: 0}, sent(&s, desk1, frame(station(1), all, 0)), "the untagged segment")
	assert.Equal(
		t,
		map[int]int{trunk: 48, pool2: 0},
		sent(&s, pool1, frame(station(3), all, 0)),
		"the tagged one, tagged on the trunk alone",
	)
	assert.Equal(
		t,
		map[int]int{pool1: 0, pool2: 0},
		sent(&s, trunk, frame(station(9), all, 48)),
		"from the trunk into the tagged one",
	)
	assert.Empty(t, sent(&s, desk1, frame(station(1), all, 48)), "a tag that is not the port's own")
	assert.Empty(t, sent(&s, trunk, frame(station(9), all, 7)), "a tag that nobody has")

	assert.Equal(t, map[int]int{desk1: 0}, sent(&s, desk2, frame(station(2), station(1), 0)), "learned")
	assert.Equal(
		t,
		map[int]int{trunk: 48},
		sent(&s, pool2, frame(station(4), station(9), 0)),
		"learned, on its own segment",
	)
	assert.Equal(
		t,
		map[int]int{trunk: 0, desk1: 0},
		sent(&s, desk2, frame(station(2), station(9), 0)),
		"not learned on this segment",
	)
	assert.Empty(t, sent(&s, desk1, frame(station(1), station(1), 0)), "to itself")

	s.SetLink(desk1, false)
	assert.Empty(t, sent(&s, desk1, frame(station(1), all, 0)), "unplugged: ")
	assert.Equal(t, map[int]int{trunk: 0}, sent(&s, desk2, frame(station(2), station(1), 0)), "and forgotten")
	s.SetLink(desk1, true)
	assert.Contains(t, sent(&s, desk2, frame(station(2), all, 0)), desk1)
}

// Whatever is sent, nothing leaves by the port it came in, by an unplugged
// one, or by one of another segment.
func TestSegmentsStayApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s Switch
		var ports []Port
		down := map[int]bool{}
		for range rapid.IntRange(2, 8).Draw(t, "ports") {
			p := Port{Native: rapid.SampledFrom([]int{0, 5, 6}).Draw(t, "native")}
			for _, tag := range []int{5, 6} {
				if tag != p.Native && rapid.Bool().Draw(t, "tagged") {
					p.Tagged = append(p.Tagged, tag)
				}
			}
			s.Attach(p)
			ports = append(ports, p)
		}
		for range rapid.IntRange(1, 40).Draw(t, "frames") {
			in := rapid.IntRange(0, len(ports)-1).Draw(t, "in")
			if rapid.IntRange(0, 9).Draw(t, "what") == 0 {
				down[in] = !down[in]
				s.SetLink(in, !down[in])
				continue
			}
			draw := func(what string) mac.Address { return station(rapid.ByteRange(1, 5).Draw(t, what)) }
			p := frame(draw("from"), draw("to"), rapid.SampledFrom([]int{0, 5, 6, 7}).Draw(t, "tag"))
			tag, ok := s.Admit(in, p)
			if !ok {
				continue
			}
			s.Forward(in, tag, p, func(out int, q *packet.Packet) {
				require.False(t, out == in || down[out] || down[in])
				member := ports[out].Native == tag && q.Tag == 0
				for _, own := range ports[out].Tagged {
					member = member || own == tag && q.Tag == tag
				}
				require.True(t, member, "port %d got tag %d", out, q.Tag)
			})
		}
	})
}
