package cli

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The README's ten minutes, as a newcomer follows them: each command in order
// on a fresh folder with what it promises, each edit where it says.
func TestTenMinutes(t *testing.T) {
	data, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	_, path, ok := strings.Cut(string(data), "## Ten minutes")
	require.True(t, ok)
	path, _, _ = strings.Cut(path, "\n## ")
	dir := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	require.NoError(t, os.Symlink(self, dir+"/bastion"))
	t.Chdir(dir)
	file := ""
	commands, edits := 0, 0
	named := regexp.MustCompile("`([a-z/-]+\\.yaml)`")
	blocks := regexp.MustCompile("(?ms)^   ```([a-z]+)\n(.*?)^   ```$")
	at := 0
	for _, m := range blocks.FindAllStringSubmatchIndex(path, -1) {
		for _, n := range named.FindAllStringSubmatch(path[at:m[0]], -1) {
			file = n[1]
		}
		at = m[1]
		body := strings.TrimRight(strings.ReplaceAll("\n"+path[m[4]:m[5]], "\n   ", "\n"), "\n")[1:]
		if path[m[2]:m[3]] == "diff" {
			edit(t, file, body)
			edits++
			continue
		}
		for _, line := range strings.Split(body, "\n") {
			command, promise, _ := strings.Cut(line, " # ")
			if strings.HasPrefix(command, "make ") {
				command = "./bastion demo" // services once it is built
			}
			c := exec.Command("sh", "-c", strings.Replace(command, "./bastion", "bastion", 1))
			c.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "COLUMNS=200")
			out, _ := c.CombinedOutput()
			assert.Contains(t, string(out), strings.TrimSpace(promise), command)
			assert.NotContains(t, string(out), "called otherwise", command)
			broken := strings.Contains(promise, "failed")
			assert.Equal(t, map[bool]int{true: 1}[broken], c.ProcessState.ExitCode(), "%s\n%s", command, out)
			commands++
		}
	}
	assert.GreaterOrEqual(t, commands, 12)
	assert.Equal(t, 2, edits)
	for _, f := range []string{"lab.pcapng", "runbook.html", "lab.svg", "files"} {
		_, err := os.Stat(f)
		assert.NoError(t, err)
	}
}

// edit makes a change to a file that is written as a diff: runs of lines to
// take away, each followed by what goes there.
func edit(t *testing.T, file, diff string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	text := string(data)
	var old, now string
	apply := func() {
		if old != "" {
			require.Equal(t, 1, strings.Count(text, old), "%s holds once what the edit removes:\n%s", file, old)
			text = strings.Replace(text, old, now, 1)
		}
		old, now = "", ""
	}
	was := ""
	for _, l := range strings.Split(diff, "\n") {
		switch {
		case l[0] == '-' && was == "+":
			apply()
			old = l[1:] + "\n"
		case l[0] == '-':
			if !strings.Contains(text, old+l[1:]+"\n") {
				apply() // lines that do not follow each other in the file
			}
			old += l[1:] + "\n"
		default:
			now += l[1:] + "\n"
		}
		was = l[:1]
	}
	apply()
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
}
