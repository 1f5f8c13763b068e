package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/api"
)

// What commands print as JSON is as the schema of its document says, and holds no null list.
func TestDocumentsFitTheirSchemas(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", dir)
	t.Setenv("XDG_CACHE_HOME", dir)
	lab := "../../examples/saltmarsh.yaml"
	listing := filepath.Join(dir, "console.txt")
	require.NoError(
		t,
		os.WriteFile(
			listing,
			[]byte("wan  eth0  02:5b:ac:50:c2:01  172.29.64.7/24\nlan  eth1  02:5b:ac:50:c2:02  10.83.16.1/24\n"),
			0o600,
		),
	)
	sums := filepath.Join(dir, "console.txt.sha256")
	require.NoError(t, os.WriteFile(sums, []byte(strings.Repeat("0", 64)+"  console.txt\n"), 0o600))
	calls := [][]string{
		{
			"version",
		}, {"survey"}, {"demo"}, {"status"}, {"profile", "list"}, {"profile", "check", "reference"}, {"explain", "nat"}, {"explain", "dual-homed-guest"},
		{
			"image",
			"inspect",
			listing,
		}, {"image", "verify", listing, "--sums", sums}, {"map", lab, "--listing", listing, "--as", "sluice"},
		{
			"compare",
			lab,
			listing,
			"--as",
			"sluice",
		}, {"diagnose", lab, "--listing", "sluice=" + listing}, {"start", lab, "--dry-run"},
	}
	for _, file := range []string{lab, "../../examples/saltmarsh-leaky.yaml"} {
		for _, c := range [][]string{{"plan"}, {"check"}, {"rehearse"}, {"prove"}, {"prove", "--matrix"}, {"prove", "--any-one-fault"},
			{"prove", "--ask", "heron to outside"}, {"rehearse", "--against", lab}, {"rehearse", "--fault", "reboot=sluice"}, {"diagnose", "--table"}} {
			calls = append(calls, append([]string{c[0], file}, c[1:]...))
		}
		calls = append(calls, []string{"trace", file, "heron", "outside", "tcp/443"}, []string{"prove", file, lab})
	}
	seen := map[string]bool{}
	for _, call := range calls {
		var out, errs bytes.Buffer
		status := Main(append(call, "--format", "json"), strings.NewReader(""), &out, &errs)
		if !assert.LessOrEqual(t, status, 1, "%v: %s", call, &errs) {
			continue
		}
		assert.NoError(t, api.Validate(out.Bytes()), "%v", call)
		assert.NotRegexp(
			t,
			`"(claims|findings|evidence|adapters|names|rules|notes|changes|replays|bypasses)": null`,
			out.String(),
			"%v",
			call,
		)
		_, name, _ := strings.Cut(out.String(), `"schema": "`)
		name, _, _ = strings.Cut(name, `"`)
		seen[name] = true
	}
	for _, file := range exampleLabs(t) {
		for _, c := range []string{"plan", "check", "rehearse", "prove"} {
			var out, errs bytes.Buffer
			assert.LessOrEqual(t, Main([]string{c, file, "--format", "json"}, nil, &out, &errs), 1, &errs)
			assert.NoError(t, api.Validate(out.Bytes()), "%s %s", c, file)
		}
	}
	assert.Greater(t, len(seen), 18, "%v", seen)
	for _, name := range api.Names() {
		var out, errs bytes.Buffer
		assert.Zero(t, Main([]string{"schema", "--of", name}, nil, &out, &errs), "%s: %s", name, &errs)
	}
}
