package packetset

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The first match of each packet of a small world is the one found by reading the rules from the
// first, each packet is in one part alone, and parts that are left out for the bound are said to be.
func TestFirstMatches(t *testing.T) {
	const last = 6 // number on each side
	rapid.Check(t, func(t *rapid.T) {
		side := func(name string) Line {
			if rapid.IntRange(0, 2).Draw(t, name+" any") == 0 {
				return Line{{0, last}}
			}
			var l Line
			for range rapid.IntRange(0, 2).Draw(t, name+" spans") {
				from := rapid.Uint64Range(0, last).Draw(t, name)
				l = append(l, Span{from, min(last, from+rapid.Uint64Range(0, 2).Draw(t, name))})
			}
			return l.normal()
		}
		packets := func() Packets { return Packets{side("source"), side("destination"), side("service")} }
		rules := make([]Packets, rapid.IntRange(0, 8).Draw(t, "rules"))
		var speak []int
		for i := range rules {
			rules[i] = packets()
			if rapid.IntRange(0, 3).Draw(t, "speaks") > 0 {
				speak = append(speak, i)
			}
		}
		p := packets()
		matches, ok := p.FirstMatches(rules, speak, true, 1<<20)
		require.True(t, ok)
		found := map[[3]uint64]int{}
		each := func(q Packets, do func(at [3]uint64)) {
			for s := range uint64(last + 1) {
				for d := range uint64(last + 1) {
					for v := range uint64(last + 1) {
						if has(q.Source, s) && has(q.Destination, d) && has(q.Service, v) {
							do([3]uint64{s, d, v})
						}
					}
				}
			}
		}
		for _, m := range matches {
			require.False(t, m.Empty())
			each(m.Packets, func(at [3]uint64) {
				require.NotContains(t, found, at, "in one part alone")
				found[at] = m.Rule
			})
		}
		want := map[[3]uint64]int{}
		each(p, func(at [3]uint64) {
			want[at] = None
			for _, i := range speak {
				if r := rules[i]; has(r.Source, at[0]) && has(r.Destination, at[1]) && has(r.Service, at[2]) {
					want[at] = i
					return
				}
			}
		})
		require.Equal(t, want, found)

		named, ok := p.FirstMatches(rules, speak, false, 1<<20)
		require.True(t, ok)
		for _, m := range named {
			require.NotEqual(t, None, m.Rule)
			each(m.Packets, func(at [3]uint64) { require.Equal(t, m.Rule, want[at]) })
		}
		if some, ok := p.FirstMatches(rules, speak, true, rapid.IntRange(0, 9).Draw(t, "most")); ok {
			require.Equal(t, matches, some)
		}
	})
}

// Many narrow rules cost little more a rule than few.
func BenchmarkFirstMatches(b *testing.B) {
	for _, n := range []uint64{1000, 10_000} {
		rules := make([]Packets, n)
		for i := range rules {
			at := uint64(i) * 7919 % n
			rules[i] = Packets{Line{{at, at + 2}}, Line{{n - at, n - at}}, Line{{tcpBase + at%1000, tcpBase + at%1000}}}
		}
		speak := make([]int, n)
		for i := range speak {
			speak[i] = i
		}
		all := Packets{Line{{0, n}}, Line{{0, n}}, AllServices}
		b.Run("", func(b *testing.B) {
			for b.Loop() {
				all.FirstMatches(rules, speak, false, 1<<24)
			}
		})
	}
}
