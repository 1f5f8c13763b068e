//go:build linux

package openbastion

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/sampling"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/kernel"
	"openbastion/internal/verify/claims"
)

// A lab that runs and becomes another one, again and again, is verified each time as a fresh start of that one
// is (CHAINS of them, each of STEPS, from FIRST), and has what a fresh start has in its namespaces.
func TestAppliedAsStartedAnew(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	chains, steps := 2, 3
	if sampling.All() {
		chains, steps = 12, 10
	}
	chains, steps = number("CHAINS", chains), number("STEPS", steps)
	for i := range chains {
		first := number("FIRST", 7000+100*sampling.Day()%90000) + i*(steps+1)
		t.Run(fmt.Sprint("from ", first), func(t *testing.T) {
			t.Parallel()
			appliedFrom(t, first, steps)
		})
	}
}

// drawnPlan returns the plan of a drawn lab, or nil where it has none.
func drawnPlan(seed int) (*plan.Plan, string) {
	text := dice{rand.New(rand.NewPCG(uint64(seed), 11))}.lab()
	l, err := lab.Read("drawn.yaml", []byte(text))
	if err != nil {
		return nil, text
	}
	p, err := plan.Build(l)
	if err != nil {
		return nil, text
	}
	return p, text
}

// freshly returns what the kernel says of a lab that is started for it.
func freshly(t *testing.T, ctx context.Context, p *plan.Plan) map[string]claims.Result {
	l, err := kernel.Up(ctx, p, kernel.Options{})
	require.NoError(t, err)
	defer l.Down()
	return results(t, ctx, p, l)
}

func appliedFrom(t *testing.T, first, steps int) {
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	var runs *kernel.Lab
	defer func() {
		if runs != nil {
			runs.Down()
		}
	}()
	for seed := first; seed <= first+steps; seed++ {
		p, text := drawnPlan(seed)
		if p == nil || strings.Contains(text, "within: moor") { // a stranger with the tag makes it chance
			continue
		}
		if runs == nil {
			l, err := kernel.Up(ctx, p, kernel.Options{})
			require.NoError(t, err, text)
			runs = l
			continue
		}
		began := time.Now()
		made, err := runs.Apply(ctx, p)
		require.NoError(t, err, text)
		runs = made.(*kernel.Lab)
		applied := time.Since(began)
		began = time.Now()
		fresh, err := kernel.Up(ctx, p, kernel.Options{})
		require.NoError(t, err, text)
		t.Logf("%d: applied in %v, a fresh start in %v", seed, applied.Round(time.Millisecond),
			time.Since(began).Round(time.Millisecond))
		for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			if slices.Equal(fresh.Inventory(), runs.Inventory()) {
				break // announcements of routers come when they come
			}
		}
		assert.Equal(t, fresh.Inventory(), runs.Inventory(), "%d: what its namespaces have", seed)
		assert.Empty(t, fresh.Drift(), "%d: nothing was changed by hand\n%s", seed, text)
		assert.Empty(t, runs.Drift(), "%d: nothing was changed by hand\n%s", seed, text)
		fresh.Down()
		want, found := results(t, ctx, p, simulator.New(p)), results(t, ctx, p, runs)
		for _, r := range want {
			if r.Verdict != found[r.ID].Verdict && r.Verdict != freshly(t, ctx, p)[r.ID].Verdict {
				continue // the kernel says so of a fresh start too
			}
			assert.Equal(t, r.Verdict, found[r.ID].Verdict, "%d, %s: rehearsal %q, applied %q\n%s", seed, r.ID, r.Observed,
				found[r.ID].Observed, text)
		}
	}
}
