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

// Where a finding's example fails a check, the first cause is the finding, with its line.
func TestFindingsAreTheCause(t *testing.T) {
	failing := 0
	for _, e := range check.Catalogue() {
		bad, _ := e.Labs()
		l, err := lab.Read("example", []byte(bad))
		require.NoError(t, err, e.Code)
		p, err := plan.Build(l)
		require.NoError(t, err, e.Code)
		d := Finish(p, simulator.New(p).Outcome())
		if d.Verdict == claims.Holds || e.Severity == check.Note {
			continue
		}
		failing++
		if assert.NotEmpty(t, d.Causes, e.Code) {
			codes := []string{d.Causes[0].Code}
			if e.Code == "sides-joined" { // a port moved away leaves a segment without one
				codes = append(codes, d.Causes[1].Code)
			}
			assert.Contains(t, codes, e.Code, d.Causes[0].Message)
			assert.Positive(t, d.Causes[0].Line, e.Code)
		}
	}
	assert.Greater(t, failing, 40)
}

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
