package openbastion

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Labs whose truth was worked out beforehand: their first lines say whether the
// whole verdict holds (0) or does not (1), and why.
func TestVerdicts(t *testing.T) {
	dir := "testdata/verdicts"
	if d := os.Getenv("VERDICTS"); d != "" {
		dir = d
	}
	files, err := filepath.Glob(dir + "/*.yaml")
	require.NoError(t, err)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".yaml"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			l, err := lab.Read(file, text)
			require.NoError(t, err)
			p, err := plan.Build(l)
			require.NoError(t, err)
			r := simulator.New(p)
			doc := verdict.Finish(p, r.Outcome())
			assert.Empty(t, doc.Proof.Disagree)
			want := strings.Contains(string(text), "# rehearse: 0")
			assert.Equal(t, want, doc.Verdict == claims.Holds, "%s\n%s", text, told(doc))
			for _, m := range regexp.MustCompile(`(?m)^# claim: (\S+) (\S+)$`).FindAllStringSubmatch(string(text), -1) {
				at := slices.IndexFunc(doc.Claims, func(r claims.Result) bool { return r.ID == m[1] })
				if assert.GreaterOrEqual(t, at, 0, m[1]) {
					assert.Equal(t, claims.Verdict(m[2]), doc.Claims[at].Verdict, "%s\n%s", m[1], text)
				}
			}
		})
	}
}

// told returns what does not hold.
func told(doc verdict.Document) string {
	var b strings.Builder
	for _, r := range doc.Claims {
		if r.Verdict != claims.Holds {
			b.WriteString(r.ID + " " + string(r.Verdict) + ": " + r.Observed + "\n")
		}
	}
	for _, f := range doc.Findings {
		b.WriteString("finding " + f.Code + " " + f.Subject + ": " + f.Message + "\n")
	}
	return b.String()
}
