package check

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/plan"
	"openbastion/core/rehearse"
)

// felt tells, for each code, which kinds of claims the rehearsal of its example
// finds broken, those that follow from others left out: what its "you would
// see" speaks of. A code that is not here breaks none, as what it speaks of
// does not happen in a rehearsal: installers, restarts, sizes, days, or what a
// hostile neighbor would have to do.
var felt = map[string]string{
	"one-sided": "names outside", "same-wire": "apart behind", "second-door": "behind cut", "host-door": "behind cut", "dead-segment": "behind",
	"loose-end": "alone behind gateway names", "twin-mac": "alone sole", "tag-unheard": "behind", "refusing-switch": "gateway names inbound",
	"v6-door": "alone behind cut", "bridge-loop": "apart behind inbound", "twin-appliance": "alone",
	"off-subnet": "held", "reserved-address": "outside path published", "twin-address": "lease sole", "pool-overlap": "sole", "wrong-gateway": "gateway",
	"no-names":          "names",
	"two-lease-servers": "alone", "no-lease-server": "lease", "pool-outside": "held", "small-pool": "lease", "reservation-outside": "held",
	"lease-no-router": "names", "untranslated": "outside", "no-way-out": "expect", "private-wan-dropped": "names",
	"publish-denied": "published", "admin-outside": "inbound", "unreachable-expectation": "expect",
}

// What a finding says one would see is what the rehearsal of its example shows.
func TestWhatOneWouldSee(t *testing.T) {
	for _, e := range Catalogue() {
		bad, good := e.Labs()
		broken := func(text string) map[claims.Kind]bool {
			l, err := lab.Read("example", []byte(text))
			require.NoError(t, err, e.Code)
			p, err := plan.Build(l)
			require.NoError(t, err, e.Code)
			out := map[claims.Kind]bool{}
			for _, r := range rehearse.New(p).Verdict().Claims {
				if r.Verdict != claims.Holds && r.Follows == "" {
					out[r.Kind] = true
				}
			}
			return out
		}
		got := broken(bad)
		for k := range broken(good) {
			delete(got, k) // the common example has it as well
		}
		var want []claims.Kind
		for _, k := range strings.Fields(felt[e.Code]) {
			want = append(want, claims.Kind(k))
		}
		var kinds []claims.Kind
		for k := range got {
			kinds = append(kinds, k)
		}
		slices.Sort(kinds)
		slices.Sort(want)
		assert.Equal(t, want, kinds, "%s: you would see: %s", e.Code, e.See)
	}
}
