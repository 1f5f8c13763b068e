package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/sampling"
)

// quietly runs a call in this process, and returns its status; a panic is an error of the test.
func quietly(t *testing.T, args ...string) (status int) {
	t.Helper()
	defer func() {
		if why := recover(); why != nil {
			t.Errorf("bastion %s: %v\n%s", strings.Join(args, " "), why, debug.Stack())
		}
	}()
	return Main(args, strings.NewReader(""), io.Discard, io.Discard)
}

// Whatever is pasted, of whichever machine it is said to be, no command that reads pastes crashes:
// pastes as they are, cut short, and with bytes changed.
func TestPastesNeverCrash(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	files, err := filepath.Glob("../observe/listing/testdata/pastes/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	dir := t.TempDir()
	for n, file := range sampling.Some(t, files, 6) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for damage, data := range [][]byte{text, text[:len(text)*2/3], bytes.ReplaceAll(text, []byte("1"), []byte("::")), append(text, text...)} {
			paste := filepath.Join(dir, fmt.Sprintf("%d-%d.txt", n, damage))
			require.NoError(t, os.WriteFile(paste, data, 0o600))
			for _, lab := range []string{"../../examples/saltmarsh.yaml", "../../examples/successor.yaml", "../../examples/bridge.yaml"} {
				for _, machine := range machinesOf(t, lab) {
					for _, call := range [][]string{{"map", lab, "--as", machine, "--listing", paste}, {"compare", lab, paste, "--as", machine}} {
						assert.LessOrEqual(t, quietly(t, call...), exitLacking, "%v", call)
					}
				}
			}
			assert.LessOrEqual(
				t,
				quietly(t, "adopt", "gate="+paste, "--to", filepath.Join(dir, fmt.Sprintf("%d-%d.yaml", n, damage))),
				exitLacking,
			)
		}
	}
}

// machinesOf returns an appliance and a guest of a lab.
func machinesOf(t *testing.T, file string) []string {
	t.Helper()
	a := &app{in: strings.NewReader(""), out: io.Discard, err: io.Discard}
	p, err := a.load(file)
	require.NoError(t, err)
	return []string{p.Appliances()[0].Name, p.Guests()[0].Name}
}
