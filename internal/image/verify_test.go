package image

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/blake2b"
)

func TestVerify(t *testing.T) {
	data := []byte("an image")
	sum := sha256.Sum256(data)
	right, wrong, other := hex.EncodeToString(sum[:]), strings.Repeat("0", 64), strings.Repeat("1", 64)
	strong, b2, old := sha512.Sum512(data), blake2b.Sum512(data), sha1.Sum(data)
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
		{"none", map[string]string{"x.iso.sig": "?"}, "no list of checksums in its folder"},
		{"no line for it", map[string]string{"SHA512SUMS": strings.Repeat("0", 128) + "  y.iso"},
			"SHA512SUMS has no line for x.iso, and none of its 1 digests is the file's"},
		{"cut", map[string]string{"x.iso.sha256": right[:50]}, "is it cut short"},
		{"weak", map[string]string{"CHECKSUM": "MD5 (x.iso) = " + right[:32]}, "MD5 is not trusted here"},
		{"named after it", map[string]string{"x-CHECKSUM": "SHA256 (x.iso) = " + right, "CHECKSUM": wrong + "  x.iso"},
			"holds by x-CHECKSUM, line 1"},
		{"with a date", map[string]string{"CHECKSUM.SHA256-sample-2": "SHA256 (x.iso) = " + right}, "holds by CHECKSUM.SHA256-sample-2, line 1"},
		{"the stronger list", map[string]string{"x.iso.md5": right[:32], "x.iso.sha512": hex.EncodeToString(strong[:])}, "holds by x.iso.sha512"},
		{"renamed", map[string]string{"SHA256SUMS": wrong + "  y.iso\n" + right + "  z.iso"},
			"holds by SHA256SUMS, line 2; SHA256SUMS has no line for x.iso, and calls the file with this digest z.iso"},
		{"two folders, one of them it", map[string]string{"SHA256SUMS": wrong + "  a/x.iso\n" + right + "  b/x.iso"},
			"holds by SHA256SUMS, line 2; it is the one that SHA256SUMS has as b/x.iso"},
		{"two folders, neither", map[string]string{"SHA256SUMS": wrong + "  a/x.iso\n" + other + "  b/x.iso"},
			"broken by SHA256SUMS, line 1; SHA256SUMS has the name in 2 folders, and the file "},
		{"a list that contradicts itself", map[string]string{"SHA256SUMS": wrong + "  x.iso\n" + right + "  x.iso"},
			"broken by SHA256SUMS, line 2; lines 1 and 2 of SHA256SUMS contradict each other"},
		{"said twice", map[string]string{"SHA256SUMS": right + "  x.iso\n" + right + "  x.iso"}, "holds by SHA256SUMS, line 1"},
		{"another algorithm of that length", map[string]string{"sums.txt": hex.EncodeToString(b2[:]) + "  x.iso"},
			"holds by sums.txt, line 1; sums.txt does not name its digests: this one is BLAKE2b"},
		{"of old", map[string]string{"SHA1SUMS": hex.EncodeToString(old[:]) + "  x.iso"}, "holds by SHA1SUMS, line 1; SHA-1 can be forged"},
		{"signed within", map[string]string{"SHA256SUMS.asc": "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n" + right + "  x.iso\n"},
			"holds by SHA256SUMS.asc, line 4; SHA256SUMS.asc is signed; its signature was not checked here"},
		{"signed beside", map[string]string{"SHA256SUMS": right + "  x.iso\n", "SHA256SUMS.gpg": "\x89\x02"}, "gpg --verify SHA256SUMS.gpg SHA256SUMS"},
		{"signed otherwise", map[string]string{"SHA256SUMS": right + "  x.iso\n", "SHA256SUMS.minisig": "untrusted comment: s"},
			"minisign -V -m SHA256SUMS"},
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
				got = map[bool]string{true: "holds", false: "broken"}[v[0].Holds] + " by " + strings.Join(
					append([]string{v[0].From}, v[0].Notes...),
					"; ",
				)
			}
		}
		if err != nil {
			got = err.Error()
		}
		assert.Contains(t, got, c.want, c.what)
	}
	w, err := Typed("sha256", "SHA256 "+strings.ToUpper(right[:32])+" "+right[32:])
	require.NoError(t, err)
	assert.Equal(t, right, w.Lines[0].Digest)
	w, err = Typed("", "sha384: "+right+right[:32])
	require.NoError(t, err)
	assert.Equal(t, "sha384", w.Lines[0].Algorithm)
	for text, want := range map[string]string{"": "is not a digest", "md5:" + right[:32]: "MD5 is not trusted", "blake3:" + right: "BLAKE3 is not computed"} {
		_, err = Typed("", text)
		assert.ErrorContains(t, err, want)
	}
	_, err = Typed("sha512", right)
	assert.ErrorContains(t, err, "SHA-512 has 128 hexadecimal digits, and this one has 64 characters")
}

// A package beside its files: what is missing, altered or of another size is said.
func TestSiblings(t *testing.T) {
	disk := []byte("a disk")
	ovf := []byte(
		`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/2"><References><File id="f" href="d.img" size="6"/></References><VirtualSystem id="gate"/></Envelope>`,
	)
	sum := func(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }
	whole := fstest.MapFS{"g.ovf": {Data: ovf}, "d.img": {Data: disk},
		"g.mf": {Data: fmt.Appendf(nil, "SHA256(g.ovf)= %s\nSHA256(d.img)= %s\n", sum(ovf), sum(disk))}}
	for _, c := range []struct {
		what   string
		change func(fstest.MapFS)
		want   string
	}{
		{"whole", func(fstest.MapFS) {}, ""},
		{"missing", func(d fstest.MapFS) { delete(d, "d.img") }, "d.img belongs to it and is not in its folder"},
		{"altered", func(d fstest.MapFS) { d["d.img"] = &fstest.MapFile{Data: []byte("a risk")} }, "d.img does not match the manifest"},
		{"longer", func(d fstest.MapFS) { d["d.img"] = &fstest.MapFile{Data: []byte("a disk!")} },
			"d.img has 7 bytes, but the descriptor says 6"},
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
