package verdict

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// What a finding says one would see is what the rehearsal of its example shows.
func TestWhatOneWouldSee(t *testing.T) {
	for _, e := range check.Catalogue() {
		bad, good := e.Labs()
		broken := func(text string) map[claims.Kind]bool {
			l, err := lab.Read("example", []byte(text))
			require.NoError(t, err, e.Code)
			p, err := plan.Build(l)
			require.NoError(t, err, e.Code)
			out := map[claims.Kind]bool{}
			for _, r := range simulator.New(p).Outcome().Claims {
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
		want := slices.Clone(breaks()[e.Code])
		var kinds []claims.Kind
		for k := range got {
			kinds = append(kinds, k)
		}
		slices.Sort(kinds)
		slices.Sort(want)
		assert.Equal(t, want, kinds, "%s: you would see: %s", e.Code, e.See)
	}
}
