package cli

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// payload is what a stranger would like a terminal to obey, or a reader not to
// see.
const payload = "x\x1b]0;owned\a\x1b[2J\u009b31m\u202egnp.exe\u2028\r\n> rm"

// Nothing that comes from outside reaches an output raw: not from lab files,
// profiles, wordings, listings, verdicts, archives, names of files.
func TestNothingRaw(t *testing.T) {
	t.Chdir(t.TempDir())
	run("demo", "--dir", ".")
	sample, err := os.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	write := func(name string, text string) {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	quoted := fmt.Sprintf("%q", payload)
	title := strings.Replace(string(sample), "title: Incident bench at the field station", "title: "+quoted, 1)
	write("title.yaml", title)
	write("key.yaml", strings.Replace(string(sample), "autostart: true", quoted+": true", 1))
	write("profile.yaml", "bastion-profile: 1\nname: "+quoted+"\nconsole: ["+quoted+"]\nasks: {side: "+quoted+"}\n")
	write("wording.yaml", "bastion-wording: 1\nname: w\nbridged: "+quoted+"\n")
	write("listing.txt", "eth0 "+payload+" 02:5b:ac:50:c2:01\n"+payload+"\n")
	write(
		"verdict.json",
		`{"schema":"openbastion.verdict/1","lab":"saltmarsh","verdict":"broken","claims":[{"id":"x.no-bypass","guest":"heron","kind":"cut","verdict":"broken","observed":"\u001b[2J\u202e","evidence":[],"escapes":[{"from":"\u001b[2J","to":"b","path":["heron","reedbed"],"packet":{"text":""},"tried":"\u202e"}]}]}`,
	)
	odd := "file " + strings.ReplaceAll(payload, "/", "-")
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: payload + ".iso", Size: 4, Mode: 0o644}))
	_, err = w.Write([]byte("none"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	write("odd.tar", b.String())
	write(odd, "nothing")
	for _, call := range [][]string{
		{"plan", "title.yaml"}, {"plan", "key.yaml"}, {"check", "title.yaml"}, {"rehearse", "title.yaml"}, {"draw", "title.yaml"},
		{"runbook", "title.yaml"}, {"profile", "check", "profile.yaml"}, {"runbook", "saltmarsh.yaml", "--wording", "wording.yaml"},
		{"map", "saltmarsh.yaml", "--listing", "listing.txt"}, {"compare", "saltmarsh.yaml", "--as", "heron", "listing.txt"},
		{"map", "saltmarsh.yaml", "--listing", "listing.txt", "--format", "json"},
		{"draw", "saltmarsh.yaml", "--with", "verdict.json"}, {"draw", "saltmarsh.yaml", "--with", "verdict.json", "--form", "svg"},
		{"image", "inspect", "odd.tar"}, {"image", "inspect", "odd.tar", "--format", "json"}, {"image", "unpack", "odd.tar"},
		{"image", "inspect", odd}, {"plan", odd}, {"explain", payload}, {payload}, {"plan", "--" + payload}, {"trace", "saltmarsh.yaml",
			payload, "outside", "icmp"},
		{"export", "saltmarsh.yaml", "--kind", payload}, {"new", payload, "--to", "-"}, {"rehearse", "saltmarsh.yaml", "--fault", payload},
	} {
		for _, color := range []string{"never", "always"} {
			out := run(append(append([]string{}, call...), "--color", color)...)
			for _, raw := range []string{"\x1b]", "\x1b[2J", "\u009b", "\u202e", "\u2028", "\r", "\a"} {
				assert.NotContains(t, out, raw, "%q of %v", raw, call)
			}
			if color == "never" {
				assert.NotContains(t, out, "\x1b", "%v", call)
			}
		}
	}
}
