package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// zipped packs data as gzip.
func zipped(t *testing.T, data io.Reader) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, 9)
	require.NoError(t, err)
	_, err = io.Copy(w, data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestNoLayerUnpacksWithoutEnd(t *testing.T) {
	defer func(was int64) { freeRatio = was }(freeRatio)
	freeRatio = 16 << 20 // so that the test need not unpack a gigabyte
	dir := t.TempDir()
	tools(t, dir, "truncate -s 1T x.img && tar -S --format=pax -cf x.tar x.img", "truncate", "tar")
	sparse, err := os.ReadFile(filepath.Join(dir, "x.tar"))
	require.NoError(t, err)
	var z bytes.Buffer
	zw := zip.NewWriter(&z)
	m, err := zw.Create("x.img.gz")
	require.NoError(t, err)
	_, err = m.Write(zipped(t, io.LimitReader(zeroes{}, 24<<20)))
	require.NoError(t, err)
	require.NoError(t, zw.Close())
	for name, data := range map[string][]byte{
		"x.zip": z.Bytes(),
		"x.tar": sparse,
	} {
		t.Run(name, func(t *testing.T) {
			require.Less(t, len(data), 100_000)
			file, size := bytes.NewReader(data), int64(len(data))
			c := Inspect(name, file, size, Options{})
			choice, err := c.Pick("")
			require.NoError(t, err, "%v", c.Faults)
			r, err := choice.Open(file, size, true)
			require.NoError(t, err)
			defer r.Close()
			n, err := io.Copy(io.Discard, r)
			require.ErrorIs(t, err, ErrRatio)
			assert.LessOrEqual(t, n, freeRatio)
		})
	}
}

func TestTwoMembersOfOneNameAreTold(t *testing.T) {
	for _, names := range [][2]string{{"x.img", "x.img"}, {"x.img", "./x.img"}, {"X.img", `x.IMG`}} {
		var z, b bytes.Buffer
		zw, tw := zip.NewWriter(&z), tar.NewWriter(&b)
		for i, n := range names {
			m, err := zw.Create(n)
			require.NoError(t, err)
			content := bytes.Repeat([]byte{byte(i + 1)}, 600)
			_, err = m.Write(content)
			require.NoError(t, err)
			require.NoError(t, tw.WriteHeader(&tar.Header{Name: n, Size: 600, Mode: 0o600}))
			_, err = tw.Write(content)
			require.NoError(t, err)
		}
		require.NoError(t, zw.Close())
		require.NoError(t, tw.Close())
		for kind, data := range map[string][]byte{"x.zip": z.Bytes(), "x.tar": b.Bytes()} {
			c := Inspect(kind, bytes.NewReader(data), int64(len(data)), Options{})
			assert.True(t, c.Broken(), "%s with %v", kind, names)
			if _, err := c.Pick(names[0]); names[0] == names[1] {
				assert.ErrorContains(t, err, "more than one member")
			}
		}
	}
}

func TestFoldersGivePlainFilesOnly(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("x"), 0o600))
	if err := syscall.Mkfifo(filepath.Join(dir, "b"), 0o600); err != nil {
		t.Skip("no pipes here: ", err)
	}
	require.NoError(t, os.Symlink("b", filepath.Join(dir, "c")))
	f, err := Folder(dir).Open("a")
	require.NoError(t, err)
	f.Close()
	for _, pipe := range []string{"b", "c"} {
		_, err = Folder(dir).Open(pipe)
		assert.ErrorIs(t, err, ErrNotPlain)
	}
}
