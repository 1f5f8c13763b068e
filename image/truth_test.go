package image

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Files that people's tools make, and real boot images that packages carry, with what each
// is: whole ones are told with what starts them, all others are not told as ready. Each
// whole one is cut at three places, which is told too, or that only the beginning was read.
func TestTruth(t *testing.T) {
	for _, need := range []string{"bash", "qemu-img", "genisoimage", "xorriso", "mcopy", "openssl"} {
		if _, err := exec.LookPath(need); err != nil {
			t.Skip(need + " is not here")
		}
	}
	dir := t.TempDir()
	script, err := filepath.Abs("testdata/truth.sh")
	require.NoError(t, err)
	c := exec.Command("bash", script)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	table, err := os.ReadFile(filepath.Join(dir, "truth.tsv"))
	require.NoError(t, err)
	rows := strings.Split(strings.TrimSpace(string(table)), "\n")
	cuts := 0
	for _, line := range rows {
		row := strings.Split(line, "\t")
		require.Len(t, row, 4, line)
		name, verdict, kind, boots := row[0], row[1], row[2], row[3]
		f, err := os.Open(filepath.Join(dir, name))
		require.NoError(t, err)
		info, err := f.Stat()
		require.NoError(t, err)
		o := Options{Siblings: Folder(filepath.Dir(filepath.Join(dir, name)))}
		got := Inspect(filepath.Base(name), f, info.Size(), o)
		ready := !got.Broken() && !got.Unknown()
		assert.Equal(t, verdict == "ready", ready, "%s is %s: %v %v", name, verdict, got.Faults, got.Notes)
		short := map[string]string{"gz": "gzip", "bz2": "bzip2", "zst": "zstd"}[kind]
		if kind != "-" && verdict != "broken" {
			assert.Contains(t, []string{string(got.Kind), got.Is}, strings.TrimSpace(map[bool]string{true: short, false: kind}[short != ""]), name)
		}
		if boots != "-" {
			assert.Equal(t, strings.ReplaceAll(boots, "none", ""), got.Boots, name)
		}
		assert.NotEmpty(t, got.Next, name)
		for _, percent := range []int64{99, 60, 1} {
			n := info.Size() * percent / 100
			if verdict != "ready" || n == info.Size() || zerosFrom(t, f, n) {
				continue // nothing is lost with what is cut off
			}
			cuts++
			cut := Inspect(filepath.Base(name), io.NewSectionReader(f, 0, n), n, o)
			assert.True(t, cut.Broken() || cut.Unknown() || cut.partly(), "%s cut at %d %% is told as ready: %v", name, percent, cut.Notes)
		}
		f.Close()
	}
	t.Logf("%d files, %d cuts", len(rows), cuts)
}

// zerosFrom tells whether a file is nothing but zeros from a place on.
func zerosFrom(t *testing.T, f *os.File, from int64) bool {
	b, err := io.ReadAll(io.NewSectionReader(f, from, 1<<40))
	require.NoError(t, err)
	return len(strings.Trim(string(b), "\x00")) == 0
}

// partly tells whether it is said that only a part was read.
func (c *Content) partly() bool {
	return strings.Contains(strings.Join(c.Notes, " "), "--whole")
}
