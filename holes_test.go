package openbastion

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// built is the lab that somebody built from another plan than the one that is judged.
type built struct {
	*simulator.Lab
	as *plan.Plan
}

func (b built) Open(ctx context.Context, _ *plan.Plan) (claims.Facts, error) {
	facts, err := b.Lab.Open(ctx, b.as)
	facts.Name = "built"
	return facts, err
}

func planned(text string) *plan.Plan {
	l, err := lab.Read("drawn", []byte(text))
	if err != nil {
		return nil
	}
	p, err := plan.Build(l)
	if err != nil {
		return nil
	}
	return p
}

// In a lab that is sound, an appliance that lets more pass than the plan says is found by what
// is tried: one rule is there that nobody planned, of services that an attacker would think of.
// A few differ by addresses alone that nobody has.
func TestHolesAreFound(t *testing.T) {
	tried, missed := 0, 0
	for _, seed := range drawn(t, 800) {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 13))}
		text := d.lab()
		p := planned(text)
		if p == nil || !strings.Contains(text, "    rules:\n") {
			continue
		}
		hole := fmt.Sprintf("allow %s from %s to %s", d.one("any", "icmp", "tcp", "udp", "tcp/80", "udp/7"),
			d.one("any", "outside", "fen", "tern", "wren"), d.one("any", "outside", "fen", "quay", "tern", "wren"))
		worse := strings.Replace(text, "    rules:\n", "    rules:\n      - "+hole+"\n", 1)
		q := planned(worse)
		if q == nil {
			continue
		}
		var lets []reachability.Change
		for _, c := range reachability.Compare(p, q) {
			if len(c.Added) > 0 {
				lets = append(lets, c)
			}
		}
		if len(lets) == 0 {
			continue
		}
		verdicts := func(as *plan.Plan) map[string]claims.Result {
			out := map[string]claims.Result{}
			doc, _, err := claims.Run(t.Context(), p, built{simulator.New(as), as})
			require.NoError(t, err)
			for _, r := range doc.Claims {
				out[r.ID] = r
			}
			return out
		}
		sound, holed := verdicts(p), verdicts(q)
		if slices.ContainsFunc(
			slices.Collect(maps.Values(sound)),
			func(r claims.Result) bool { return r.Verdict == claims.Broken },
		) {
			continue
		}
		tried++
		found := false
		for _, r := range holed {
			found = found || r.Verdict == claims.Broken
		}
		if found {
			continue
		}
		if missed++; os.Getenv("LABS") != "" {
			t.Logf("missed: seed %d, %s: %v\n%s", seed, hole, lets, text)
		}
	}
	t.Logf("%d holes, %d missed", tried, missed)
	allowed := 20 // one in as many
	if tried < 200 {
		allowed = 10 // of few one more may be among them
	}
	assert.LessOrEqual(t, missed*allowed, tried)
	assert.NotZero(t, tried)
}
