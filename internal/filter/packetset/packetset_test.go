package packetset

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
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

// An index finds what looking at every line does.
func TestIndex(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var lines []Line
		for range rapid.IntRange(0, 6).Draw(t, "lines") {
			l, _ := line(t, "of the index")
			lines = append(lines, l)
		}
		asked, _ := line(t, "asked")
		var want []int
		for i, l := range lines {
			if l.Meets(asked) {
				want = append(want, i)
			}
		}
		require.Equal(t, want, NewIndex(lines).Meeting(asked))
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
	all := Services([]lab.Service{{Proto: lab.ICMP}, {Proto: lab.TCP}, {Proto: lab.UDP}})
	require.Equal(t, Line{{other, other}}, AllServices.Minus(all), "any is more than the three")
	require.True(
		t,
		Service(
			lab.Service{Proto: lab.TCP, From: 80, To: 90},
		).Meets(Service(lab.Service{Proto: lab.TCP, From: 90, To: 99})),
	)
	require.False(
		t,
		Service(
			lab.Service{Proto: lab.TCP, From: 80, To: 80},
		).Meets(Service(lab.Service{Proto: lab.UDP, From: 80, To: 80})),
	)
}

// A space tells apart exactly what its prefixes tell apart, in both IP versions.
func TestSpaces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		address := rapid.Custom(func(t *rapid.T) netip.Addr {
			b := rapid.SliceOfN(rapid.SampledFrom([]byte{0, 1, 10, 127, 128, 255}), 16, 16).Draw(t, "bytes")
			if rapid.Bool().Draw(t, "v4") {
				return netip.AddrFrom4([4]byte(b[:4]))
			}
			return netip.AddrFrom16([16]byte(b)).Unmap()
		})
		var list []netip.Prefix
		for range rapid.IntRange(0, 6).Draw(t, "prefixes") {
			a := address.Draw(t, "of")
			list = append(list, netip.PrefixFrom(a, rapid.IntRange(0, a.BitLen()).Draw(t, "bits")))
		}
		s := NewSpace(list...)
		for _, p := range list {
			l := s.Prefixes(p)
			for range 8 {
				a := address.Draw(t, "address")
				require.Equal(t, p.Contains(a), l.Has(s.class(a)), "%s in %s", a, p)
			}
			require.True(t, p.Contains(s.Any(l)))
			runs := s.Runs(l)
			require.Equal(t, p.Masked().Addr(), runs[0][0])
			require.Equal(t, last(p.Masked()), runs[len(runs)-1][1])
		}
		a := address.Draw(t, "any")
		require.Equal(t, a.Is4(), s.IPv4().Has(s.class(a)))
		require.Equal(t, a.Is6(), s.IPv6().Has(s.class(a)))
		require.True(t, s.All().Has(s.class(a)))
		require.True(t, s.More(s.All(), 1<<40))
	})
	s := NewSpace(netip.MustParsePrefix("10.83.0.0/24"))
	require.True(t, s.More(s.Prefixes(netip.MustParsePrefix("10.83.0.0/24")), 255))
	require.False(t, s.More(s.Prefixes(netip.MustParsePrefix("10.83.0.0/24")), 256))
}

// What a service set is listed as is that set again.
func TestServicesAreListed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var l Line
		for range rapid.IntRange(0, 5).Draw(t, "services") {
			from := uint16(rapid.IntRange(1, 65535).Draw(t, "from"))
			l = l.Union(
				Service(
					lab.Service{
						Proto: rapid.SampledFrom([]lab.Proto{lab.Any, lab.ICMP, lab.TCP, lab.UDP}).Draw(t, "proto"),
						From:  from,
						To:    from + uint16(rapid.IntRange(0, 65535-int(from)).Draw(t, "more")),
					},
				),
			)
		}
		list, others := Listed(l)
		again := Services(list)
		if others {
			again = again.Union(Line{{other, other}})
		}
		require.Equal(t, len(l) == 0, len(again) == 0)
		require.True(t, l.Within(again) && again.Within(l), "%v is %v", l, list)
		if s, ok := AnyService(l); ok {
			require.True(t, Service(s).Within(l))
		}
	})
}
