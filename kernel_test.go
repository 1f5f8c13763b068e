//go:build linux

package openbastion

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
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

// results returns what a stage says of each claim.
func results(t *testing.T, ctx context.Context, p *plan.Plan, s claims.Stage) map[string]claims.Result {
	doc, _, err := claims.Run(ctx, p, s)
	require.NoError(t, err)
	out := map[string]claims.Result{}
	for _, r := range doc.Claims {
		out[r.ID] = r
	}
	return out
}

// differing runs a lab on the kernel and in the rehearsal and says claim by claim where
// they differ.
func differing(t *testing.T, p *plan.Plan) (claimed int, differ []string) {
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	l, err := kernel.Up(ctx, p, kernel.Options{})
	require.NoError(t, err)
	defer l.Down()
	real := results(t, ctx, p, l)
	for id, want := range results(t, ctx, p, simulator.New(p)) {
		claimed++
		if got := real[id]; got.Verdict != want.Verdict {
			differ = append(
				differ,
				fmt.Sprintf(
					"%s: rehearsal %s %q, kernel %s %q",
					id,
					want.Verdict,
					want.Observed,
					got.Verdict,
					got.Observed,
				),
			)
		}
	}
	return claimed, differ
}

// The kernel and the rehearsal agree, claim by claim, on labs that nobody thought of
// (KERNEL of them, from FIRST), and on those whose truth was worked out.
func TestKernelAndRehearsalAgree(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	labs := map[string]string{}
	drawn := 2
	if sampling.All() {
		drawn = 8
	}
	for seed := number("FIRST", 0); seed < number("FIRST", 0)+number("KERNEL", drawn); seed++ {
		labs[fmt.Sprint("drawn ", seed)] = dice{rand.New(rand.NewPCG(uint64(seed), 11))}.lab()
	}
	dir := "testdata/verdicts"
	if d := os.Getenv("VERDICTS"); d != "" {
		dir = d
	}
	files, err := filepath.Glob(dir + "/*.yaml")
	require.NoError(t, err)
	if os.Getenv("KERNEL") != "" && os.Getenv("VERDICTS") == "" {
		files = nil
	} else if os.Getenv("KERNEL") == "" {
		files = sampling.Some(t, files, 16)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		if strings.Contains(file, "dup") || strings.Contains(string(text), "# check: duplicate-address") {
			continue // which of two machines with one address answers is chance on a real wire
		}
		labs[filepath.Base(file)] = string(text)
	}
	for name, text := range labs {
		l, err := lab.Read(name, []byte(text))
		if err != nil {
			continue
		}
		p, err := plan.Build(l)
		if err != nil {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel() // most of a lab's time is waiting for silence
			n, differ := differing(t, p)
			t.Logf("%d claims", n)
			assert.Empty(t, differ, text)
		})
	}
}
