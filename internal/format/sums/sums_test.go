package sums

import (
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The programs that people take digests with write the lists that are read here,
// names with oddities too, and each digest is the one computed here.
func TestReadsWhatHashProgramsWrite(t *testing.T) {
	dir := t.TempDir()
	plain := []string{"sluice.iso", "two words (2).img"}
	odd := append([]string{`back\slash`, "new\nline"}, plain...)
	for _, n := range odd {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), []byte(n), 0o600))
	}
	for _, c := range []struct {
		call  string
		list  string // the list's own name
		names []string
		want  string // the algorithm
	}{
		{"sha256sum", "", odd, "sha256"},
		{"sha256sum --tag", "", odd, "sha256"},
		{"sha512sum -b", "", odd, "sha512"},
		{"sha512sum --tag", "", odd, "sha512"},
		{"sha384sum", "", odd, "sha384"},
		{"sha224sum --tag", "", odd, "sha224"},
		{"sha1sum", "", odd, "sha1"},
		{"b2sum", "B2SUMS", odd, "blake2b"},
		{"b2sum --tag", "", odd, "blake2b"},
		{"b2sum -l 256 --tag", "", odd, "blake2b-256"},
		{"cksum -a sha384", "", odd, "sha384"},
		{"cksum -a sha256 --base64", "", plain, "sha256"},
		{"cksum -a sha512 --base64 --untagged", "", plain, "sha512"},
		{"openssl dgst -sha256", "", plain, "sha256"},
		{"openssl dgst -sha512", "", plain, "sha512"},
		{"openssl dgst -sha3-256", "", plain, "sha3-256"},
		{"openssl dgst -sha512-256", "", plain, "sha512-256"},
		{"openssl dgst -blake2b512", "", plain, "blake2b"},
		{"openssl dgst -r -sha256", "", plain, "sha256"},
	} {
		call := strings.Fields(c.call)
		if _, err := exec.LookPath(call[0]); err != nil {
			t.Logf("skipped: %s is not here", call[0])
			continue
		}
		run := exec.Command(call[0], append(call[1:], c.names...)...)
		run.Dir = dir
		out, err := run.Output()
		if err != nil { // an older one without that algorithm
			t.Logf("skipped: %s: %v", c.call, err)
			continue
		}
		list, err := Read(
			c.list,
			[]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n# images of today\n"+string(out)+
				"\n-----BEGIN PGP SIGNATURE-----\n\niQIz\n"),
		)
		require.NoError(t, err)
		require.Len(t, list.Sums, len(c.names), "%v\n%s", c.call, out)
		assert.True(t, list.Signed)
		for _, n := range c.names {
			s := list.For(n)
			require.Len(t, s, 1, "%v: %q", c.call, n)
			assert.Equal(t, c.want, s[0].Algorithm, c.call)
			h, err := New(s[0].Algorithm)
			require.NoError(t, err)
			h.Write([]byte(n))
			assert.Equal(t, s[0].Digest, hex.EncodeToString(h.Sum(nil)), "%v: %q", c.call, n)
		}
	}
}

func TestForms(t *testing.T) {
	a, b, c := strings.Repeat("a", 64), strings.Repeat("b", 128), strings.Repeat("c", 64)
	base := strings.Repeat("qqqq", 10) + "qqo="
	for _, x := range []struct{ what, text, name, want string }{
		{"alone", a + "\n", "x.iso", a},
		{"alone, with its algorithm", "SHA-256: " + a, "x.iso", a},
		{"alone, joined", "sha256:" + a, "x.iso", a},
		{"alone, as integrity in pages", "sha256-" + base, "x.iso", a},
		{"from a pipe", a + "  -", "x.iso", a},
		{"from a pipe, tagged", "SHA2-256(stdin)= " + a, "x.iso", a},
		{"from a pipe, of old", "(stdin)= " + a, "x.iso", a},
		{"in a folder", a + "  ./images/x.iso\n" + c + "  y.iso", "x.iso", a},
		{"the stronger", a + "  x.iso\n" + b + "  x.iso\n", "x.iso", b},
		{"the exact one", c + "  old/x.iso\n" + a + "  x.iso\n", "x.iso", a},
		{"another file's", a + "  y.iso\n" + c + "  z.iso\n", "x.iso", ""},
		{"upper case, and a byte order mark", "\ufeff" + strings.ToUpper(a) + " *x.iso\r\n", "x.iso", a},
		{"tabs", a + "\tx.iso\n", "x.iso", a},
		{"base64 and a name", base + "  x.iso\n", "x.iso", a},
		{"tagged base64", "SHA256 (x.iso) = " + base, "x.iso", a},
		{"a table", "\nAlgorithm       Hash                           Path\n---------       ----                           ----\nSHA256          " +
			strings.ToUpper(a) + "       C:\\Users\\heron\\x.iso\n", "x.iso", a},
		{"a block", "\n\nAlgorithm : SHA256\nHash      : " + strings.ToUpper(a) + "\nPath      : C:\\Users\\heron\\long\\\n            x.iso\n\n", "x.iso", a},
		{"digits on the next line", "SHA256 hash of x.iso:\r\n" + a + "\r\nHash: command completed successfully.\r\n", "x.iso", a},
		{"digits in pairs", "SHA256 hash of file x.iso:\n" + strings.TrimSpace(strings.Repeat("aa ", 32)) + "\n", "x.iso", a},
		{"a release file", "Origin: sample\nMD5Sum:\n " + a[:32] + " 4096 images/x.iso\nSHA256:\n " + a + "     4096 images/x.iso\n", "x.iso", a},
		{"under a heading", "# SHA-256 checksums\n" + a + "  x.iso\n", "x.iso", a},
	} {
		for _, encoded := range [][]byte{[]byte(x.text), utf16le(x.text, true), utf16le(x.text, false)} {
			list, err := Read("", encoded)
			require.NoError(t, err, x.what)
			s := list.For(x.name)
			require.Equal(t, x.want != "", len(s) > 0, x.what)
			if len(s) > 0 {
				assert.Equal(t, x.want, s[0].Digest, x.what)
			}
		}
	}
	for text, want := range map[string]string{
		a[:63] + "  x.iso":                        "is it cut short",
		a[:40] + "ab  x.iso":                      "is it cut short",
		"SHA256 (x.iso) = " + b:                   "SHA-256 has 64 hexadecimal digits",
		"SHA-256 (x.iso) = zz":                    "SHA-256 has 64 hexadecimal digits",
		"Algorithm Hash Path\nSHA256 AAAA… x.iso": "is it cut short",
		strings.Repeat("\n", 2e5):                 "more than",
	} {
		_, err := Read("", []byte(text))
		assert.ErrorContains(t, err, want)
	}
}

// utf16le writes a text as some consoles do, with a byte order mark or without.
func utf16le(text string, mark bool) []byte {
	var out []byte
	if mark {
		text = "\ufeff" + strings.TrimPrefix(text, "\ufeff")
	} else {
		text = strings.TrimPrefix(text, "\ufeff")
	}
	for _, u := range utf16.Encode([]rune(text)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}

// A name of an algorithm is known in every writing, has one title, and is
// computed or refused with a reason.
func TestAlgorithms(t *testing.T) {
	for written, want := range map[string]string{"SHA256": "SHA-256", "sha-512": "SHA-512", "SHA2-384": "SHA-384", "SHA512/256": "SHA-512/256",
		"BLAKE2b-512": "BLAKE2b", "b2sum": "BLAKE2b", "BLAKE2s": "BLAKE2s", "SHA3-256": "SHA3-256", "sha3_512": "SHA3-512", "MD5": "MD5",
		"RIPEMD160": "RIPEMD-160", "sha1sums": "SHA-1", "b3": "BLAKE3", "Path": "", "SHA257": ""} {
		name := Named(written)
		require.Equal(t, want == "", name == "", written)
		if want != "" {
			assert.Equal(t, want, Title(name), written)
		}
	}
	for name, a := range algorithms() {
		h, err := New(name)
		assert.Equal(t, err == nil, Computed(name), name)
		if err != nil {
			assert.ErrorContains(t, err, "look for a list with SHA-256", name)
			assert.Zero(t, Worth(name), name)
			continue
		}
		assert.Equal(t, a.digits, 2*h.Size(), name)
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"SHA256 (a) = " + strings.Repeat("0", 64), strings.Repeat("0", 64) + " *a\\nb",
		"Algorithm : SHA256\nHash : 00\nPath : a\n b", "SHA256 hash of a:\n00", "Algorithm Hash Path\nSHA1 0 a", "SHA256:\n 00 1 a"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := Read("SHA512SUMS", text)
		if err != nil {
			return
		}
		for _, s := range list.Sums {
			if _, err := hex.DecodeString(s.Digest); err != nil || len(s.Digest) != algorithms()[s.Algorithm].digits {
				t.Fatalf("%+v", s)
			}
		}
		list.For("a")
	})
}
