//go:build linux

package openbastion

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/machine"
	"openbastion/internal/testbed/machine/boot"
	"openbastion/internal/verify/claims"
)

// Virtual machines and the rehearsal agree, claim by claim, on labs that nobody thought of:
// MACHINES of them by hand, from FIRST, as each takes half a minute. INSIDE is the program,
// linked statically.
func TestMachinesAndRehearsalAgree(t *testing.T) {
	wanted := number("MACHINES", 0)
	if wanted == 0 {
		t.Skip("by hand: MACHINES=10 INSIDE=./bastion")
	}
	qemu, err := exec.LookPath("qemu-system-x86_64")
	if err != nil || boot.Cached() == "" {
		t.Skip("needs QEMU and the package of a kernel")
	}
	made, claimed := 0, 0
	for seed := number("FIRST", 0); made < wanted; seed++ {
		text := dice{rand.New(rand.NewPCG(uint64(seed), 11))}.lab()
		l, err := lab.Read("lab.yaml", []byte(text))
		if err != nil {
			continue
		}
		p, err := plan.Build(l)
		if err != nil || len(p.Machines) > 7 {
			continue
		}
		made++
		dir := t.TempDir()
		o := machine.Options{
			Folder:    dir,
			Disks:     dir,
			Beside:    dir,
			Program:   qemu,
			Inner:     os.Getenv("INSIDE"),
			Kernel:    boot.Cached(),
			Lab:       []byte(text),
			File:      "lab.yaml",
			Profiles:  l.Profiles,
			Reference: true,
		}
		claimed += differingMachines(t, p, o, fmt.Sprint("drawn ", seed), text)
	}
	t.Logf("%d labs, %d claims", made, claimed)
}

func differingMachines(t *testing.T, p *plan.Plan, o machine.Options, name, text string) (claimed int) {
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	up, err := machine.Up(ctx, p, o)
	if !assert.NoError(t, err, "%s\n%s", name, text) {
		return 0
	}
	defer up.Down()
	got, _, err := claims.Run(ctx, p, up)
	require.NoError(t, err)
	want, _, err := claims.Run(ctx, p, simulator.New(p))
	require.NoError(t, err)
	var differ []string
	for i, r := range want.Claims {
		if g := got.Claims[i]; g.Verdict != r.Verdict {
			differ = append(
				differ,
				fmt.Sprintf("%s: rehearsal %s %q, machines %s %q", r.ID, r.Verdict, r.Observed, g.Verdict, g.Observed),
			)
		}
	}
	assert.Empty(t, differ, "%s\n%s", name, text)
	t.Logf("%s: %d machines, %d claims, %d differ", name, len(p.Machines), len(want.Claims), len(differ))
	return len(want.Claims)
}
