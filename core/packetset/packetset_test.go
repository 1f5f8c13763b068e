package packetset

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/core/lab"
)

// line draws a set of small numbers and the same set as a map.
func line(t *rapid.T, name string) (Line, map[uint64]bool) {
	var l Line
	m := map[uint64]bool{}
	for range rapid.IntRange(0, 4).Draw(t, name+" spans") {
		from := rapid.Uint64Range(0, 12).Draw(t, "from")
		to := from + rapid.Uint64Range(0, 5).Draw(t, "length")
		l = append(l, Span{from, to})
		for i := from; i <= to; i++ {
			m[i] = true
		}
	}
	return l.normal(), m
}

func has(l Line, n uint64) bool {
	for _, s := range l {
		if s.From <= n && n <= s.To {
			return true
		}
	}
	return false
}

// Every operation agrees, number by number, with sets that are counted out.
func TestLines(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, inA := line(t, "a")
		b, inB := line(t, "b")
		meets := false
		for n := range uint64(20) {
			require.Equal(t, inA[n], has(a, n))
			require.Equal(t, inA[n] && inB[n], has(a.And(b), n))
			require.Equal(t, inA[n] && !inB[n], has(a.Minus(b), n))
			require.Equal(t, inA[n] || inB[n], has(a.Union(b), n))
			meets = meets || inA[n] && inB[n]
		}
		require.Equal(t, meets, a.Meets(b))
	})
}

// Coverage agrees with looking at every packet of a small world.
func TestCovered(t *testing.T) {
	draw := func(t *rapid.T) Packets {
		side := func(name string) Line {
			from := rapid.Uint64Range(0, 5).Draw(t, name)
			return Line{{from, from + rapid.Uint64Range(0, 4).Draw(t, name)}}
		}
		return Packets{side("source"), side("destination"), side("service")}
	}
	rapid.Check(t, func(t *rapid.T) {
		p := draw(t)
		var others []Packets
		for range rapid.IntRange(0, 6).Draw(t, "others") {
			others = append(others, draw(t))
		}
		want := true
		for s := range uint64(10) {
			for d := range uint64(10) {
				for v := range uint64(10) {
					in := func(q Packets) bool { return has(q.Source, s) && has(q.Destination, d) && has(q.Service, v) }
					if !in(p) {
						continue
					}
					some := false
					for _, q := range others {
						some = some || in(q)
					}
					want = want && some
				}
			}
		}
		by, covered, ok := p.Covered(others)
		require.True(t, ok)
		require.Equal(t, want, covered)
		for _, i := range by {
			require.True(t, p.Meets(others[i]))
		}
	})
}

func TestPlaces(t *testing.T) {
	require.Equal(t, Line{{10<<24 | 83<<16, 10<<24 | 83<<16 | 0xffff}},
		Prefixes(netip.MustParsePrefix("10.83.0.0/17"), netip.MustParsePrefix("10.83.128.0/17"), netip.MustParsePrefix("fd00::/8")))
	require.Equal(t, All, Prefixes(netip.MustParsePrefix("0.0.0.0/0")))
	all := Services([]lab.Service{{Proto: lab.ICMP}, {Proto: lab.TCP}, {Proto: lab.UDP}})
	require.Equal(t, Line{{other, other}}, AllServices.Minus(all), "any is more than the three")
	require.True(t, Service(lab.Service{Proto: lab.TCP, From: 80, To: 90}).Meets(Service(lab.Service{Proto: lab.TCP, From: 90, To: 99})))
	require.False(t, Service(lab.Service{Proto: lab.TCP, From: 80, To: 80}).Meets(Service(lab.Service{Proto: lab.UDP, From: 80, To: 80})))
}
