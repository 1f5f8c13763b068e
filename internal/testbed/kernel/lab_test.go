//go:build linux

package kernel

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

func planOf(t *testing.T, name string) *plan.Plan {
	data, err := examples.Labs.ReadFile(name)
	require.NoError(t, err)
	return planned(t, string(data))
}

// planned returns the plan of a lab file's text.
func planned(t testing.TB, text string) *plan.Plan {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err, text)
	p, err := plan.Build(l)
	require.NoError(t, err, text)
	return p
}

// verdicts returns what a stage says of each claim.
func verdicts(t *testing.T, p *plan.Plan, s claims.Stage) map[string]claims.Result {
	doc, _, err := claims.Run(t.Context(), p, s)
	require.NoError(t, err)
	out := map[string]claims.Result{}
	for _, r := range doc.Claims {
		out[r.ID] = r
	}
	return out
}

// The kernel says of each claim what the rehearsal says.
func agree(t *testing.T, p *plan.Plan) {
	began := time.Now()
	l, err := Up(t.Context(), p, Options{})
	require.NoError(t, err)
	up := time.Since(began)
	began = time.Now()
	got := verdicts(t, p, l)
	verified := time.Since(began)
	began = time.Now()
	l.Down()
	t.Logf("%s: up in %v, %d claims verified in %v, down in %v", p.Name, up, len(got), verified, time.Since(began))
	for id, r := range got { // silence is held against a control
		if r.Kind == claims.NoBypass && r.Verdict == claims.Holds && got["heron.outside"].Verdict == claims.Holds {
			assert.Contains(t, fmt.Sprint(r.Evidence), "the control: with the WAN plugged", id)
		}
	}
	for id, want := range verdicts(t, p, simulator.New(p)) {
		assert.Equal(
			t,
			want.Verdict,
			got[id].Verdict,
			"%s: rehearsal %q, kernel %q",
			id,
			want.Observed,
			got[id].Observed,
		)
	}
}

func TestAgreesWithTheRehearsal(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	names := []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"}
	if one := os.Getenv("LAB"); one != "" {
		names = []string{one}
	}
	for _, name := range names {
		t.Run(name, func(t *testing.T) { agree(t, planOf(t, name)) })
	}
}
