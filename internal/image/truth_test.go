package image

import (
	"bytes"
	"encoding/binary"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/format/iso"
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
	cuts, flips := 0, 0
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
			assert.Contains(
				t,
				[]string{string(got.Kind), got.Is},
				strings.TrimSpace(map[bool]string{true: short, false: kind}[short != ""]),
				name,
			)
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
			assert.True(
				t,
				cut.Broken() || cut.Unknown() || cut.partly(),
				"%s cut at %d %% is told as ready: %v",
				name,
				percent,
				cut.Notes,
			)
		}
		if verdict == "ready" {
			flips += flipped(t, f, name, info.Size(), o, got)
		}
		f.Close()
	}
	t.Logf("%d files, %d cuts, %d flips", len(rows), cuts, flips)
}

// tables returns the sectors, of 512 bytes, in which tools put the tables of what a file
// is; those behind its end, counted from there.
func tables(got *Content) []int64 {
	switch {
	case got.Kind == Optical:
		return []int64{64, 68, 72} // descriptors; the folders are found below
	case got.Kind == RawDisk && got.Table != nil && got.Table.Scheme == "gpt":
		return []int64{0, 1, 2, -1, -33}
	case got.Kind == RawDisk:
		return []int64{0}
	case got.Virtual == nil || len(got.Companions) > 0 || got.Virtual.Layout == "fixed": // without its footer that is a plain disk
		return nil
	case strings.HasPrefix(got.Name, "small"): // clusters of 512 bytes
		return []int64{0, 1, 2}
	}
	return map[string][]int64{"qcow2": {0, 128, 256, 384, 512}, "vmdk": {0, 1, 21, 22}, "vdi": {0, 1}, "vhd": {0, 1, 2, 3, -1},
		"vhdx": {0, 128, 256, 384, 512, 4096}}[got.Virtual.Format]
}

// flipped turns one sector of a whole file's tables at a time, which is told.
func flipped(t *testing.T, f *os.File, name string, size int64, o Options, whole *Content) (n int) {
	b := make([]byte, 512)
	list := tables(whole)
	if whole.Kind == Optical {
		primary := make([]byte, iso.Sector)
		_, err := f.ReadAt(primary, 16*iso.Sector)
		require.NoError(t, err)
		le := binary.LittleEndian
		list = append(list, 4*int64(le.Uint32(primary[140:])), 4*int64(le.Uint32(primary[158:])))
	}
	for _, at := range list {
		if at < 0 {
			at += size / 512
		}
		_, err := f.ReadAt(b, at*512)
		if err != nil || len(bytes.Trim(b, "\x00")) == 0 ||
			whole.Kind == Optical && at <= 72 && string(b[1:6]) != "CD001" {
			continue
		}
		for i := range b {
			b[i] ^= 0xff
		}
		got := Inspect(filepath.Base(name), patched{f, at * 512, b}, size, o)
		told := got.Broken() || got.Unknown() || !slices.Equal(got.Notes, whole.Notes)
		assert.True(t, told, "%s with sector %d turned is told as before", name, at)
		n++
	}
	return n
}

// patched is a file with other bytes in one place.
type patched struct {
	io.ReaderAt
	at int64
	b  []byte
}

func (p patched) ReadAt(b []byte, at int64) (int, error) {
	n, err := p.ReaderAt.ReadAt(b, at)
	if from, to := max(at, p.at), min(at+int64(n), p.at+int64(len(p.b))); from < to {
		copy(b[from-at:to-at], p.b[from-p.at:])
	}
	return n, err
}

// zerosFrom reports whether a file is nothing but zeros from a place on.
func zerosFrom(t *testing.T, f *os.File, from int64) bool {
	b, err := io.ReadAll(io.NewSectionReader(f, from, 1<<40))
	require.NoError(t, err)
	return len(strings.Trim(string(b), "\x00")) == 0
}

// partly reports whether it is said that only a part was read.
func (c *Content) partly() bool {
	return strings.Contains(strings.Join(c.Notes, " "), "--whole")
}
