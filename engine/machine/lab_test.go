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

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/plan"
	"openbastion/core/rehearse"
	"openbastion/examples"
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

// options gives options with a kernel, or skips.
func options(t *testing.T, text []byte, l *lab.Lab) Options {
	qemu, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		t.Skip("QEMU is not on this machine")
	}
	dir := t.TempDir()
	inner := program(t)
	return Options{Folder: dir, Disks: filepath.Join(dir, "disks"), Beside: dir, Program: qemu, Inner: inner, Kernel: os.Getenv("BASTION_KERNEL"),
		Lab: text, File: "lab.yaml", Profiles: l.Profiles, Progress: func(text string) { t.Log(text) }}
}

func read(t *testing.T, text []byte) (*lab.Lab, *plan.Plan) {
	l, err := lab.Read("lab.yaml", text)
	require.NoError(t, err)
	l.Profiles = map[string]*lab.Profile{}
	p, err := plan.Build(l)
	require.NoError(t, err)
	return l, p
}

func TestSampleLab(t *testing.T) {
	text, err := examples.Labs.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	l, p := read(t, text)
	began := time.Now()
	up, err := Up(t.Context(), p, options(t, text, l))
	require.NoError(t, err)
	defer up.Down()
	t.Log("up in", time.Since(began))
	began = time.Now()
	doc, _, err := claims.Run(t.Context(), p, up)
	require.NoError(t, err)
	t.Log("verified in", time.Since(began))
	want, _, err := claims.Run(t.Context(), p, rehearse.New(p))
	require.NoError(t, err)
	for i, r := range doc.Claims {
		assert.Equal(t, want.Claims[i].Verdict, r.Verdict, "%s: %s; rehearsal: %s", r.ID, r.Saw, want.Claims[i].Saw)
	}
}
