package sums

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The coreutils write the lists that are read here, names with oddities too.
func TestReadsWhatCoreutilsWrite(t *testing.T) {
	dir := t.TempDir()
	names := []string{"sluice.iso", "two words (2).img", `back\slash`, "new\nline"}
	for _, n := range names {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), []byte(n), 0o600))
	}
	for _, tool := range [][]string{{"sha256sum"}, {"sha256sum", "--tag"}, {"sha512sum", "-b"}, {"sha512sum", "--tag"}, {"sha1sum"}} {
		if _, err := exec.LookPath(tool[0]); err != nil {
			t.Skip(tool[0] + " is not here")
		}
		c := exec.Command(tool[0], append(tool[1:], names...)...)
		c.Dir = dir
		out, err := c.Output()
		require.NoError(t, err)
		list, err := Read("-----BEGIN SIGNED MESSAGE-----\nHash: SHA512\n\n# images of today\n" + string(out) + "\n")
		require.NoError(t, err)
		require.Len(t, list, len(names), "%v\n%s", tool, out)
		for _, n := range names {
			s, ok := Find(list, n)
			require.True(t, ok, "%v: %q", tool, n)
			h, err := New(s.Algorithm)
			require.NoError(t, err)
			h.Write([]byte(n))
			assert.Equal(t, s.Digest, hexOf(h.Sum(nil)), "%v: %q", tool, n)
		}
	}
}

func hexOf(b []byte) string {
	const digits = "0123456789abcdef"
	var s strings.Builder
	for _, c := range b {
		s.WriteByte(digits[c>>4])
		s.WriteByte(digits[c&15])
	}
	return s.String()
}

func TestFind(t *testing.T) {
	a, b, c := strings.Repeat("a", 64), strings.Repeat("b", 128), strings.Repeat("c", 64)
	for _, x := range []struct{ what, text, name, want string }{
		{"alone", a + "\n", "x.iso", a},
		{"in a folder", a + "  ./images/x.iso\n" + c + "  y.iso", "x.iso", a},
		{"the stronger", a + "  x.iso\n" + b + "  x.iso\n", "x.iso", b},
		{"the exact one", c + "  old/x.iso\n" + a + "  x.iso\n", "x.iso", a},
		{"another file's", a + "  y.iso\n" + c + "  z.iso\n", "x.iso", ""},
		{"upper case, and a byte order mark", "\ufeff" + strings.ToUpper(a) + " *x.iso\r\n", "x.iso", a},
	} {
		list, err := Read(x.text)
		require.NoError(t, err, x.what)
		s, ok := Find(list, x.name)
		assert.Equal(t, x.want != "", ok, x.what)
		assert.Equal(t, x.want, s.Digest, x.what)
	}
	for text, want := range map[string]string{
		a[:63] + "  x.iso":        "is it cut short",
		a[:40] + "ab  x.iso":      "is it cut short",
		"SHA256 (x.iso) = " + b:   "has 64 hexadecimal digits",
		"SHA-256 (x.iso) = zz":    "has 64 hexadecimal digits",
		strings.Repeat("\n", 2e5): "more than",
	} {
		_, err := Read(text)
		assert.ErrorContains(t, err, want)
	}
	_, err := New("md5")
	assert.ErrorContains(t, err, "not trusted")
}

func FuzzRead(f *testing.F) {
	f.Add("SHA256 (a) = " + strings.Repeat("0", 64))
	f.Add(strings.Repeat("0", 64) + " *a\\nb")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Read(text)
		if err != nil {
			return
		}
		for _, s := range list {
			if len(s.Digest) != known(s.Algorithm) {
				t.Fatalf("%+v", s)
			}
		}
		Find(list, "a")
	})
}
