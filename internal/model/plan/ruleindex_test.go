package plan

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
)

// A filter decides the same by its index and read from its first rule on.
func TestIndexedRulesDecideTheSame(t *testing.T) {
	address := rapid.Custom(func(t *rapid.T) netip.Addr {
		if rapid.IntRange(0, 3).Draw(t, "version") == 0 {
			return netip.AddrFrom16([16]byte{0xfd, 15: byte(rapid.IntRange(0, 7).Draw(t, "a6"))})
		}
		return netip.AddrFrom4([4]byte{10, byte(rapid.IntRange(0, 1).Draw(t, "a")), 0, byte(rapid.IntRange(0, 7).Draw(t, "b"))})
	})
	prefix := rapid.Custom(func(t *rapid.T) netip.Prefix {
		a := address.Draw(t, "prefix")
		return netip.PrefixFrom(a, a.BitLen()-rapid.SampledFrom([]int{0, 0, 1, 2, 24}).Draw(t, "host bits"))
	})
	party := rapid.Custom(func(t *rapid.T) Match {
		switch rapid.IntRange(0, 9).Draw(t, "kind") {
		case 0:
			return Match{Any: true}
		case 1:
			return Match{Outside: true}
		case 2:
			return Match{Own: true, Prefixes: []netip.Prefix{prefix.Draw(t, "own")}}
		}
		return Match{Prefixes: rapid.SliceOfN(prefix, 1, 2).Draw(t, "prefixes")}
	})
	rule := rapid.Custom(func(t *rapid.T) Rule {
		return Rule{
			Action:   rapid.SampledFrom([]lab.Action{lab.Allow, lab.Deny, lab.Refuse}).Draw(t, "action"),
			Services: []lab.Service{{Proto: rapid.SampledFrom([]lab.Proto{lab.Any, lab.TCP, lab.UDP}).Draw(t, "service")}},
			From:     rapid.SliceOfN(party, 1, 2).Draw(t, "from"), To: rapid.SliceOfN(party, 1, 2).Draw(t, "to"),
		}
	})
	rapid.Check(t, func(t *rapid.T) {
		rules := rapid.SliceOfN(rule, minIndexed, 3*minIndexed).Draw(t, "rules")
		m, indexed := &Machine{Rules: rules}, &Machine{Rules: rules, index: indexRules(rules)}
		for _, x := range []*Machine{m, indexed} {
			x.within.Insert(netip.MustParsePrefix("10.0.0.0/24"))
		}
		require.True(t, indexed.index.fits(indexed.Rules))
		for range 20 {
			f := Flow{
				Source: address.Draw(t, "source"), Destination: address.Draw(t, "destination"),
				Proto: lab.TCP, Port: 80, Own: rapid.Bool().Draw(t, "own"), FromWAN: rapid.Bool().Draw(t, "from WAN"),
			}
			want, action := m.Decide(f)
			got, indexedAction := indexed.Decide(f)
			require.Same(t, want, got)
			require.Equal(t, action, indexedAction)
		}
		indexed.Rules = indexed.Rules[1:]
		require.False(t, indexed.index.fits(indexed.Rules), "changed since")
	})
}
