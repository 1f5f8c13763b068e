package attack

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

func planned(t testing.TB, text string) *plan.Plan {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

// A hostile guest hands packets to every station that a frame of it reaches: of its own
// segment, and of those that bridging appliances join to it, on either side.
func TestHopsCrossBridges(t *testing.T) {
	p := planned(t, `
bastion: 1
lab: mudflat
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
  veiled: {reach: isolated}
  shrouded: {reach: isolated}
  apart: {reach: isolated}
appliances:
  weir: {ports: [{role: wan, segment: moor}, {role: lan, segment: fen}, {role: lan, name: p1, segment: apart}]}
  veil: {kind: transparent, ports: [{role: wan, segment: fen}, {role: lan, segment: veiled}]}
  shroud: {kind: transparent, ports: [{role: wan, segment: veiled}, {role: lan, segment: shrouded}]}
guests:
  rail: fen
  wren: veiled
  tern: shrouded
  crake: apart
`)
	beyond := Hop{MAC: p.Machine("weir").Adapters[1].MAC, Name: "weir"}
	known := Known{Witness: netip.MustParseAddr("203.0.113.80"), Addresses: map[claims.Ref][]netip.Addr{}}
	for _, c := range []struct {
		guest     string
		neighbors []string
		through   bool
	}{
		{"rail", []string{"wren", "tern"}, true}, {"wren", []string{"rail", "tern"}, true}, {"tern", []string{"rail", "wren"}, true},
		{"crake", nil, false},
	} {
		met := map[string]bool{}
		for _, a := range Escape(p, p.Machine(c.guest), known) {
			for _, h := range a.Hops {
				met[h.Name] = true
			}
		}
		for _, n := range c.neighbors {
			assert.True(t, met[n], "%s hands packets to %s", c.guest, n)
		}
		hops := Gates(p, p.Machine(c.guest).Adapters[0], known)
		assert.Equal(t, c.through, slices.Contains(hops, beyond), "%s reaches weir on fen", c.guest)
		assert.False(t, met["crake"], "%s is on another network", c.guest)
	}
}
