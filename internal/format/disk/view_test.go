package disk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// openIn opens companions in a folder.
func openIn(dir string) Opener {
	return func(name string) (io.ReaderAt, int64, error) {
		b, err := os.ReadFile(filepath.Join(dir, filepath.Base(name)))
		return bytes.NewReader(b), int64(len(b)), err
	}
}

func viewOf(t *testing.T, dir, name string) (*Virtual, *View) {
	b, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	v, err := ReadVirtual(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err, name)
	w, err := v.Open(bytes.NewReader(b), int64(len(b)), openIn(dir))
	require.NoError(t, err, name)
	assert.LessOrEqual(t, w.End, int64(len(b)), "%s: a whole file holds all that its tables speak of", name)
	assert.Empty(t, w.Missing, name)
	assert.Empty(t, v.Fault, name)
	return v, w
}

// What a guest sees of a disk is the same bytes, in whatever container the usual tool has
// put them: packed, split, growing, upon another, with holes of all sizes.
func TestViewIsWhatAGuestSees(t *testing.T) {
	if _, err := exec.LookPath("qemu-img"); err != nil {
		t.Skip("qemu-img is not here")
	}
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(16, 1))
	raw := make([]byte, 9<<20)
	for range 60 { // runs of data, of one byte, and of nothing
		at := r.IntN(len(raw)/512) * 512
		n := min(512<<r.IntN(12), len(raw)-at)
		switch r.IntN(3) {
		case 0:
			for k := range n {
				raw[at+k] = byte(r.Uint32())
			}
		case 1:
			copy(raw[at:at+n], bytes.Repeat([]byte("marsh"), n/5))
		default:
			clear(raw[at : at+n])
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "disk.raw"), raw, 0o600))
	tool := func(args ...string) error {
		c := exec.Command("qemu-img", args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%v: %s", err, out)
		}
		return nil
	}
	for k, c := range [][]string{
		{"qcow2"}, {"qcow2", "-o", "compat=0.10"}, {"qcow2", "-o", "extended_l2=on"}, {"qcow2", "-o", "cluster_size=512"},
		{"qcow2", "-o", "cluster_size=2M"}, {"qcow2", "-c"}, {"qcow2", "-c", "-o", "compression_type=zstd"}, {"qcow2", "-c", "-o",
			"cluster_size=4k"},
		{"qcow2", "-o", "data_file=apart.data,data_file_raw=on"}, {"qcow2", "-o", "preallocation=metadata"},
		{"vmdk"}, {"vmdk", "-o", "subformat=monolithicFlat"}, {"vmdk", "-o", "subformat=twoGbMaxExtentSparse"},
		{"vmdk", "-o", "subformat=twoGbMaxExtentFlat"}, {"vmdk", "-o", "subformat=streamOptimized"}, {"vdi"}, {"vdi", "-o", "static=on"},
		{"vpc", "-o", "force_size=on"}, {"vpc", "-o", "force_size=on,subformat=fixed"}, {"vhdx"}, {"vhdx", "-o", "subformat=fixed"},
		{"vhdx", "-o", "block_size=1M"},
	} {
		name := fmt.Sprintf("disk%d.%s", k, c[0])
		if err := tool(append(append([]string{"convert", "-q", "-f", "raw", "-O"}, c...), "disk.raw", name)...); err != nil {
			t.Logf("%v: %v", c, err) // a tool that is older
			continue
		}
		v, w := viewOf(t, dir, name)
		require.GreaterOrEqual(t, v.Size, int64(len(raw)), "%v", c)
		got := make([]byte, len(raw))
		_, err := w.ReadAt(got, 0)
		require.NoError(t, err, "%v", c)
		require.True(t, bytes.Equal(raw, got), "%v: a guest sees other bytes", c)
		for range 50 { // and in any order, of any length
			at, n := r.IntN(len(raw)-1), 1+r.IntN(100_000)
			part := make([]byte, min(n, len(raw)-at))
			_, err := w.ReadAt(part, int64(at))
			require.NoError(t, err)
			require.True(t, bytes.Equal(raw[at:at+len(part)], part), "%v at %d", c, at)
		}
		_, err = w.ReadAt(got, v.Size)
		assert.ErrorIs(t, err, io.EOF)
		if c[0] == "qcow2" { // upon another, with something written over it
			over := "over-" + name
			require.NoError(t, tool("create", "-q", "-f", "qcow2", "-b", name, "-F", "qcow2", over))
			_, above := viewOf(t, dir, over)
			_, err := above.ReadAt(got, 0)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(raw, got), "%v: upon it", c)
		}
	}
	cut, err := os.ReadFile(filepath.Join(dir, "disk0.qcow2"))
	require.NoError(t, err)
	v, err := ReadVirtual(bytes.NewReader(cut), int64(len(cut)))
	require.NoError(t, err)
	v.Backing = "none.qcow2"
	w, err := v.Open(bytes.NewReader(cut), int64(len(cut)), func(string) (io.ReaderAt, int64, error) {
		return nil, 0,
			errors.New("not there")
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"none.qcow2"}, w.Missing)
}

// A chain of disks that leads back to itself ends.
func TestDisksUponThemselves(t *testing.T) {
	b := qcow2()
	put64(b, 8, 512)
	put32(b, 16, 4)
	copy(b[512:], "self")
	v, err := ReadVirtual(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	w, err := v.Open(bytes.NewReader(b), int64(len(b)), func(string) (io.ReaderAt, int64, error) {
		return bytes.NewReader(b), int64(len(b)),
			nil
	})
	require.NoError(t, err)
	_, err = w.ReadAt(make([]byte, 100), 1<<20)
	assert.NoError(t, err)
}

// Crafted containers end in an error or in bytes, in bounded time and memory.
func FuzzView(f *testing.F) {
	if _, err := exec.LookPath("qemu-img"); err == nil {
		dir := f.TempDir()
		raw := filepath.Join(dir, "disk.raw")
		_ = os.WriteFile(raw, bytes.Repeat([]byte("marsh ends here\n"), 512), 0o600)
		for _, c := range [][]string{{"qcow2", "-o", "cluster_size=512"}, {"qcow2", "-c", "-o", "cluster_size=512"}, {"vmdk"}, {"vpc"}} {
			out := filepath.Join(dir, "out")
			if exec.Command("qemu-img", append(append([]string{"convert", "-f", "raw", "-O"}, c...), raw, out)...).
				Run() ==
				nil {
				if b, err := os.ReadFile(out); err == nil && len(b) < 1<<16 {
					f.Add(b, 512)
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, data []byte, at int) {
		v, err := ReadVirtual(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		w, err := v.Open(bytes.NewReader(data), int64(len(data)), func(string) (io.ReaderAt, int64, error) {
			return bytes.NewReader(data),
				int64(len(data)), nil
		})
		if err != nil {
			return
		}
		_, _ = w.ReadAt(make([]byte, 4096), int64(at))
		_, _ = ReadTable(w, v.Size)
	})
}
