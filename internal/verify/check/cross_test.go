package check

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// unfelt tells why an error of the catalogue breaks no claim of a rehearsal.
var unfelt = map[string]string{
	"no-nic-driver":      "the rehearsal's machines have drivers for everything",
	"no-disk-driver":     "the rehearsal's machines have no disks",
	"undersized":         "the rehearsal's machines need no memory",
	"host-full":          "the rehearsal's host is as large as it must be",
	"site-overlap":       "the networks that the host is on besides are not rehearsed",
	"open-inbound":       "what a rule lets in is what its author wants",
	"wan-no-gateway":     "the plan takes the segment's gateway, and says so",
	"narrow-mask":        "only neighbors are out of reach, and no claim is about neighbors",
	"reserved-address":   "the reference DHCP server distributes what it is told to",
	"no-cable":           "every computer of a rehearsal has its cable",
	"host-behind":        "what the host itself does is not rehearsed",
	"wrong-return-route": "replies to what is translated need no route",
	"vlan-clash":         "nobody is on the tags that clash",
}

// What check calls an error breaks a claim of the rehearsal, or it is known
// why not; and what breaks isolation in the rehearsal is an error of check.
func TestFindingsAndClaimsAgree(t *testing.T) {
	kinds := 0
	for k, m := range mistakes {
		what := fmt.Sprintf("%d %s", k, m.code)
		s := newSound(3)
		m.make(s, 2)
		l, err := lab.Read("lab.yaml", []byte(s.String()))
		require.NoError(t, err, what)
		p, err := plan.Build(l)
		require.NoError(t, err, what)
		failing := map[string]bool{}
		for _, f := range findings(t, s.String(), "2026-11-12") {
			if f.Severity == Error {
				failing[f.Code] = true
			}
		}
		r := simulator.New(p)
		broken := 0
		for _, c := range r.Outcome().Claims {
			if c.Verdict == claims.Holds {
				continue
			}
			broken++
			if c.Verdict == claims.Broken &&
				(c.Kind == claims.NoBypass || c.Kind == claims.Blocked || c.Kind == claims.Inbound) {
				assert.NotEmpty(t, failing, "%s: %s is broken, and check has no error: %s", what, c.ID, c.Observed)
			}
		}
		if broken > 0 {
			kinds++
		}
		if failing[m.code] && broken == 0 {
			assert.Contains(t, unfelt, m.code, "%s is an error, and every claim holds", what)
		}
	}
	assert.GreaterOrEqual(t, kinds, 30, "kinds of mistakes that a rehearsal feels")
	t.Logf("%d of %d kinds of mistakes break a claim", kinds, len(mistakes))
}
