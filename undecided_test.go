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

	"openbastion/internal/export"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// open are places of a lab file where `later` may stand in for a value.
var open = regexp.MustCompile(`(?:segment: |reach: |\n  [a-z0-9]+: )([a-z0-9]+)`)

// invalid returns the lines of all exports of a plan that show a value which is none.
func invalid(p *plan.Plan) []string {
	var found []string
	for _, k := range export.Kinds() {
		files, err := k.Files(p)
		if err != nil {
			continue
		}
		for _, f := range files {
			for line := range strings.Lines(string(f.Data)) {
				if regexp.MustCompile(`invalid (Prefix|IP|AddrPort)`).MatchString(line) || strings.Contains(line, plan.Nowhere) {
					found = append(found, f.Name+": "+line)
				}
			}
		}
	}
	return found
}

// What is judged with something undecided is judged right whatever is decided: a
// claim that holds then holds in the decided lab, and one that is broken there for
// good is broken here. All labs with worked-out truths, with each of their places
// left open in turn.
func TestUndecidedIsUnknown(t *testing.T) {
	files, err := filepath.Glob("testdata/verdicts/*.yaml")
	require.NoError(t, err)
	if testing.Short() {
		files = files[:len(files)/4]
	}
	judge := func(text []byte) (map[string]claims.Result, *plan.Plan) {
		l, err := lab.Read("lab.yaml", text)
		if err != nil {
			return nil, nil
		}
		p, err := plan.Build(l)
		if err != nil {
			return nil, nil
		}
		out := map[string]claims.Result{}
		for _, r := range simulator.New(p).Outcome().Claims {
			out[r.ID] = r
		}
		return out, p
	}
	tried, unknown := 0, 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		decided, _ := judge(text)
		for _, at := range open.FindAllSubmatchIndex(text, -1) {
			from, to := at[2], at[3]
			left := slices.Concat(text[:from], []byte("later"), text[to:])
			got, p := judge(left)
			if got == nil || len(p.Lab.Open) == 0 {
				continue
			}
			tried++
			assert.Empty(t, invalid(p), "%s with %q open", file, text[at[0]:to])
			for id, r := range got {
				was, same := decided[id]
				if r.Verdict == claims.Unknown {
					unknown++
				}
				if same && r.Verdict == claims.Holds {
					assert.NotEqual(
						t,
						claims.Broken,
						was.Verdict,
						"%s with %q open: %s holds (%s); decided: %s\n%s",
						file,
						text[at[0]:to],
						id,
						r.Observed,
						was.Observed,
						left,
					)
				}
				if same && r.Verdict == claims.Broken {
					assert.Equal(
						t,
						claims.Broken,
						was.Verdict,
						"%s with %q open: %s is broken (%s); decided: %s\n%s",
						file,
						text[at[0]:to],
						id,
						r.Observed,
						was.Observed,
						left,
					)
				}
			}
		}
	}
	t.Logf("%d places left open, %d claims unknown", tried, unknown)
	assert.NotZero(t, unknown)
}
