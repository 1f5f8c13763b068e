package status

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A claim keeps since when it is as it is; what could not be asked without disturbing a guest stays as it was known.
func TestChecks(t *testing.T) {
	at := func(n int) time.Time { return time.Date(2026, 12, 2, 8, n, 0, 0, time.UTC) }
	var c Checks
	assert.Nil(t, c.Known())
	c.Take(at(0), []Check{{Claim: "a", Verdict: "holds"}, {Claim: "b", Verdict: "broken", Text: "x"}, {Claim: "c", Verdict: "holds"}}, false)
	c.Take(at(1), []Check{{Claim: "a", Verdict: "broken", Text: "y"}, {Claim: "b", Verdict: "broken", Text: "z"},
		{Claim: "c", Verdict: "unknown"}, {Claim: "d", Verdict: "unknown"}}, true)
	assert.Equal(t, &Checked{Oldest: at(0), Latest: at(1), Holds: 1, Broken: 2, Unknown: 1, Open: []Check{
		{"b", "broken", "z", at(1), at(0)}, {"a", "broken", "y", at(1), at(1)}, {"d", "unknown", "", at(1), at(1)},
	}}, c.Known())
	c.Take(at(2), []Check{{Claim: "a", Verdict: "holds"}, {Claim: "b", Verdict: "holds"}, {Claim: "c", Verdict: "unknown"}, {Claim: "d", Verdict: "holds"}}, false)
	assert.Equal(t, &Checked{Oldest: at(2), Latest: at(2), Holds: 3, Unknown: 1, Open: []Check{{"c", "unknown", "", at(2), at(2)}}}, c.Known())
	c.Forget()
	assert.Nil(t, c.Known())
}
