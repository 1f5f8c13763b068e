package image

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVerify(t *testing.T) {
	data := []byte("an image")
	sum := sha256.Sum256(data)
	right, wrong := hex.EncodeToString(sum[:]), strings.Repeat("0", 64)
	for _, c := range []struct {
		what string
		dir  map[string]string
		want string // what comes of it: holds, broken, or a part of the error
	}{
		{"its own list", map[string]string{"x.iso.sha256": right}, "holds by x.iso.sha256, line 1"},
		{"its own before the folder's", map[string]string{"SHA256SUMS": wrong + "  x.iso", "x.iso.sha256": right + " *x.iso"},
			"holds by x.iso.sha256, line 1"},
		{"the folder's", map[string]string{"SHA256SUMS": wrong + "  y.iso\n" + right + "  x.iso"}, "holds by SHA256SUMS, line 2"},
		{"a text", map[string]string{"sha256sum.txt": "SHA256 (x.iso) = " + right}, "holds by sha256sum.txt, line 1"},
		{"altered", map[string]string{"CHECKSUMS": wrong + "  x.iso"}, "broken by CHECKSUMS, line 1"},
		{"none", map[string]string{"x.iso.sig": "?"}, "no list of checksums lies beside it"},
		{"no line for it", map[string]string{"SHA512SUMS": strings.Repeat("0", 128) + "  y.iso"},
			"SHA512SUMS has no line for x.iso (it has 1 sums)"},
		{"cut", map[string]string{"x.iso.sha256": right[:50]}, "is it cut short"},
		{"weak", map[string]string{"CHECKSUM": "MD5 (x.iso) = " + right[:32]}, "md5 is not trusted here"},
	} {
		dir := fstest.MapFS{"x.iso": {Data: data}}
		for name, text := range c.dir {
			dir[name] = &fstest.MapFile{Data: []byte(text)}
		}
		got := ""
		w, err := Beside(dir, "x.iso")
		if err == nil {
			var v []Verdict
			if v, err = Verify("x.iso", bytes.NewReader(data), []Wanted{w}); err == nil {
				got = map[bool]string{true: "holds", false: "broken"}[v[0].Holds] + " by " + v[0].From
			}
		}
		if err != nil {
			got = err.Error()
		}
		assert.Contains(t, got, c.want, c.what)
	}
	w, err := Typed("sha256", "SHA256 "+strings.ToUpper(right[:32])+" "+right[32:])
	require.NoError(t, err)
	assert.Equal(t, right, w.Digest)
	_, err = Typed("sha512", right)
	assert.ErrorContains(t, err, "a sha512 digest has 128 hexadecimal digits, and this one has 64 characters")
}

// A package beside its files: what is missing, altered or of another size is said.
func TestSiblings(t *testing.T) {
	disk := []byte("a disk")
	ovf := []byte(`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/2"><References><File id="f" href="d.img" size="6"/></References><VirtualSystem id="gate"/></Envelope>`)
	sum := func(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }
	whole := fstest.MapFS{"g.ovf": {Data: ovf}, "d.img": {Data: disk},
		"g.mf": {Data: fmt.Appendf(nil, "SHA256(g.ovf)= %s\nSHA256(d.img)= %s\n", sum(ovf), sum(disk))}}
	for _, c := range []struct {
		what   string
		change func(fstest.MapFS)
		want   string
	}{
		{"whole", func(fstest.MapFS) {}, ""},
		{"missing", func(d fstest.MapFS) { delete(d, "d.img") }, "d.img belongs to it and is not beside it"},
		{"altered", func(d fstest.MapFS) { d["d.img"] = &fstest.MapFile{Data: []byte("a risk")} }, "d.img is not what the manifest promises"},
		{"longer", func(d fstest.MapFS) { d["d.img"] = &fstest.MapFile{Data: []byte("a disk!")} },
			"d.img has 7 bytes, and the descriptor says 6"},
		{"a manifest of more", func(d fstest.MapFS) {
			d["g.mf"] = &fstest.MapFile{Data: []byte("SHA256(e.img)= " + sum(disk))}
		}, "its manifest names e.img, which is not there"},
	} {
		dir := fstest.MapFS{}
		for k, v := range whole {
			dir[k] = v
		}
		c.change(dir)
		got := Inspect("g.ovf", bytes.NewReader(ovf), int64(len(ovf)), Options{Siblings: dir})
		require.Equal(t, Descriptor, got.Kind)
		if c.want == "" {
			assert.Empty(t, got.Faults, c.what)
			assert.Len(t, got.Manifest, 2)
		} else {
			assert.Contains(t, strings.Join(got.Faults, " | "), c.want, c.what)
		}
	}
}

// How far a file has been read: in any order, but an index at its end is no
// progress.
func TestCounted(t *testing.T) {
	c := Counted{ReaderAt: zeroes{}}
	for _, x := range []struct{ at, want int64 }{{0, 1024}, {512, 1536}, {100, 1536}, {1 << 30, 1536}, {1 << 20, 1<<20 + 1024},
		{2048, 1<<20 + 1024}} {
		_, err := c.ReadAt(make([]byte, 1024), x.at)
		require.NoError(t, err)
		assert.Equal(t, x.want, c.Count(), "after %d", x.at)
	}
}

type zeroes struct{}

func (zeroes) ReadAt(b []byte, _ int64) (int, error) { return len(b), nil }

func (zeroes) Read(b []byte) (int, error) { clear(b); return len(b), nil }
