//go:build linux

package machine

import (
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/sampling"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/machine/boot"
	"openbastion/internal/verify/claims"
)

// program builds the program as it runs in machines: without anything but itself.
var program = func() func(t *testing.T) string {
	var once sync.Once
	var name string
	return func(t *testing.T) string {
		once.Do(func() {
			dir, err := os.MkdirTemp("", "bastion-*")
			require.NoError(t, err)
			name = filepath.Join(dir, "bastion")
			c := exec.Command("go", "build", "-o", name, "openbastion/cmd/bastion")
			c.Env = append(os.Environ(), "CGO_ENABLED=0")
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
		})
		return name
	}
}()

// options returns options with a kernel, or skips.
func options(t *testing.T, text []byte, l *lab.Lab) Options {
	qemu, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		t.Skip("QEMU is not on this machine")
	}
	if boot.Cached() == "" {
		t.Skip("no package of a kernel was fetched")
	}
	dir := t.TempDir()
	inner := program(t)
	return Options{
		Folder:   dir,
		Disks:    filepath.Join(dir, "disks"),
		Beside:   dir,
		Program:  qemu,
		Inner:    inner,
		Kernel:   boot.Cached(),
		Lab:      text,
		File:     "lab.yaml",
		Profiles: l.Profiles,
		Progress: func(text string) { t.Log(text) },
	}
}

func read(t *testing.T, text []byte) (*lab.Lab, *plan.Plan) {
	l, err := lab.Read("lab.yaml", text)
	require.NoError(t, err)
	l.Profiles = map[string]*lab.Profile{}
	p, err := plan.Build(l)
	require.NoError(t, err)
	return l, p
}

// The sample lab and its leaky twin as virtual machines: each claim is as the rehearsal has
// it; of the guests some are virtual machines, and all of them with TEST_ALL.
func TestAgreesWithTheRehearsal(t *testing.T) {
	if !sampling.Turn(1, 2) {
		t.Skip("its turn is tomorrow")
	}
	for _, name := range sampling.Some(t, []string{"saltmarsh-leaky.yaml", "saltmarsh.yaml"}, 2) {
		t.Run(name, func(t *testing.T) {
			text, err := examples.Labs.ReadFile(name)
			require.NoError(t, err)
			l, p := read(t, text)
			o := options(t, text, l)
			if !sampling.All() {
				o.Only = []string{"sluice", "heron", "otter"}
			}
			began := time.Now()
			up, err := Up(t.Context(), p, o)
			require.NoError(t, err)
			defer up.Down()
			t.Log("up in", time.Since(began))
			agree(t, p, up)
		})
	}
}

// agree holds the verdict of machines against the rehearsal's.
func agree(t *testing.T, p *plan.Plan, up *Lab) {
	began := time.Now()
	doc, _, err := claims.Run(t.Context(), p, up)
	require.NoError(t, err)
	t.Logf("%d claims verified in %v", len(doc.Claims), time.Since(began))
	want, _, err := claims.Run(t.Context(), p, simulator.New(p))
	require.NoError(t, err)
	for i, r := range doc.Claims {
		assert.Equal(
			t,
			want.Claims[i].Verdict,
			r.Verdict,
			"%s: %s; rehearsal: %s",
			r.ID,
			r.Observed,
			want.Claims[i].Observed,
		)
	}
}
