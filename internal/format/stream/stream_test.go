package stream

import (
	"bytes"
	stdbzip2 "compress/bzip2"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pack packs data with a real program; the test is skipped where that is not.
func pack(t testing.TB, data []byte, tool ...string) []byte {
	if _, err := exec.LookPath(tool[0]); err != nil {
		t.Skip(tool[0] + " is not here")
	}
	c := exec.Command(tool[0], tool[1:]...)
	c.Stdin = bytes.NewReader(data)
	out, err := c.Output()
	require.NoError(t, err, "%v", tool)
	return out
}

// sample makes data that packs somewhat: words, noise and zeros.
func sample(size int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 7))
	var b bytes.Buffer
	for b.Len() < size {
		switch r.IntN(3) {
		case 0:
			for range 1 + r.IntN(2000) {
				fmt.Fprintf(&b, "word%d ", r.IntN(50))
			}
		case 1:
			for range r.IntN(4000) {
				b.WriteByte(byte(r.Uint32()))
			}
		default:
			b.Write(make([]byte, r.IntN(30000)))
		}
	}
	return b.Bytes()[:size]
}

func open(packed []byte) ([]byte, error) {
	r, err := Open(Detect(packed), bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// What real programs pack in any of their ways comes out as it was, by all
// cores and by one; and no change of a byte within goes unseen.
func TestUnpacksWhatToolsPack(t *testing.T) {
	for _, tool := range [][]string{
		{"gzip", "-c"}, {"gzip", "-1c"},
		{"bzip2", "-c"}, {"bzip2", "-1c"}, {"bzip2", "-5c"},
		{"xz", "-0c"}, {"xz", "-c", "-T2", "--block-size=100000"}, {"xz", "-c", "-T2", "--block-size=300000", "--check=sha256"},
		{"xz", "-c", "--check=crc32", "--block-size=70000"},
		{"zstd", "-qc"}, {"zstd", "-qc", "--no-check"}, {"zstd", "-qc", "-9"},
	} {
		for _, size := range []int{0, 1, 70_000, 500_000} {
			data := sample(size, uint64(size))
			packed := pack(t, data, tool...)
			got, err := open(packed)
			require.NoError(t, err, "%v of %d bytes", tool, size)
			require.True(t, bytes.Equal(data, got), "%v of %d bytes gives %d", tool, size, len(got))
			r, err := Peek(Detect(packed), bytes.NewReader(packed))
			require.NoError(t, err)
			got, err = io.ReadAll(r)
			require.NoError(t, err)
			require.True(t, bytes.Equal(data, got), "%v: by one core", tool)
			if n, told := Length(Detect(packed), bytes.NewReader(packed), int64(len(packed))); told {
				assert.EqualValues(t, size, n, "%v tells its length", tool)
			}
			k, whole := Detect(packed), int64(len(packed))
			assert.NoError(t, Ends(k, bytes.NewReader(packed), whole), "%v of %d bytes", tool, size)
			for _, cut := range []int64{whole - 1, whole / 2, 20} {
				if k != Gzip && cut > 14 && cut < whole {
					assert.Error(t, Ends(k, bytes.NewReader(packed), cut), "%v of %d bytes, cut at %d", tool, size, cut)
				}
			}
		}
		if len(tool) > 2 && tool[2] == "--no-check" {
			continue
		}
		packed := pack(t, sample(120_000, 3), tool...)
		r := rand.New(rand.NewPCG(1, 2))
		for range 6 {
			broken := bytes.Clone(packed)
			at := 12 + r.IntN(len(broken)-24)
			broken[at] ^= 1 << r.IntN(8)
			if got, err := open(broken); err == nil {
				assert.True(
					t,
					bytes.Equal(got, sample(120_000, 3)),
					"%v: a changed bit at %d gives other bytes and no error",
					tool,
					at,
				)
			}
		}
		for _, cut := range []int{len(packed) - 1, len(packed) / 2, 20} {
			_, err := open(packed[:cut])
			assert.Error(t, err, "%v cut at %d of %d", tool, cut, len(packed))
		}
	}
}

// Several streams one after another are one, as their programs have it.
func TestStreamsInARow(t *testing.T) {
	a, b := sample(400_000, 1), sample(1_200_000, 2)
	for _, tool := range [][]string{{"gzip", "-c"}, {"bzip2", "-c"}, {"xz", "-c"}, {"zstd", "-qc"}} {
		got, err := open(append(pack(t, a, tool...), pack(t, b, tool...)...))
		require.NoError(t, err, tool[0])
		assert.True(t, bytes.Equal(append(bytes.Clone(a), b...), got), tool[0])
	}
	_, err := open(append(pack(t, a, "bzip2", "-c"), "and something else"...))
	assert.ErrorContains(t, err, "data that is not a stream follows")
}

// What is sound and only packed in a way that is not read here is no damage.
func TestUnsupportedIsNoDamage(t *testing.T) {
	data := sample(300_000, 1)
	_, err := open([]byte("\x28\xb5\x2f\xfd\x21\x07\x00\x01\x00\x00")) // it names dictionary 7
	assert.ErrorContains(t, err, "with a custom dictionary")
	for _, c := range []struct {
		tool []string
		want string // why not; empty where it unpacks
	}{
		{[]string{"xz", "-c", "--lzma2=preset=0,dict=1GiB"}, ""},
		{[]string{"xz", "-c", "--lzma2=preset=0,dict=1536MiB"}, "1 GiB of memory that is used here: unpack it with xz -d"},
		{[]string{"xz", "-c", "--arm64", "--lzma2=preset=0"}, "an xz filter that is not supported here"},
		{[]string{"xz", "-c", "--x86", "--lzma2=preset=0"}, ""},
		{[]string{"xz", "-c", "--delta=dist=4", "--lzma2=preset=0"}, ""},
		{[]string{"zstd", "-qc", "--long=31", "-1"}, "unpack it with zstd -d --long=31"},
		{[]string{"zstd", "-qc", "--long=27", "-1"}, ""},
	} {
		packed := pack(t, data, c.tool...)
		got, err := open(packed)
		var unsupported *UnsupportedError
		if c.want == "" {
			require.NoError(t, err, "%v", c.tool)
			assert.True(t, bytes.Equal(data, got), "%v", c.tool)
		} else if assert.ErrorAs(t, err, &unsupported, "%v", c.tool) {
			assert.Contains(t, unsupported.Why, c.want)
		}
		if k := Detect(packed); k == XZ {
			assert.NoError(t, Ends(k, bytes.NewReader(packed), int64(len(packed))))
		}
	}
}

// Closing early ends the work: nothing waits for what nobody reads.
func TestCloseEarly(t *testing.T) {
	for _, tool := range [][]string{{"bzip2", "-1c"}, {"xz", "-c", "-T2", "--block-size=100000"}} {
		packed := pack(t, sample(1_500_000, 9), tool...)
		r, err := Open(Detect(packed), bytes.NewReader(packed), int64(len(packed)))
		require.NoError(t, err)
		_, err = io.ReadFull(r, make([]byte, 10))
		require.NoError(t, err)
		require.NoError(t, r.Close())
	}
}

// Whatever the ordinary decoder of bzip2 unpacks, the one on all cores unpacks
// to the same bytes.
func FuzzDecoders(f *testing.F) {
	for _, how := range [][]string{{"xz", "-0"}, {"xz", "--block-size=700"}, {"zstd", "-q"}, {"gzip"}, {"bzip2"}} {
		if _, err := exec.LookPath(how[0]); err == nil {
			f.Add(pack(f, sample(2000, 5), append(how, "-c")...))
		}
	}
	for _, head := range []string{"\xfd7zXZ\x00\x00\x04", "\x28\xb5\x2f\xfd\x24", "\x1f\x8b\x08\x00"} {
		f.Add([]byte(head))
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		k := Detect(packed)
		if k == "" {
			return
		}
		began := time.Now()
		Length(k, bytes.NewReader(packed), int64(len(packed)))
		_ = Ends(k, bytes.NewReader(packed), int64(len(packed)))
		r, err := Open(k, bytes.NewReader(packed), int64(len(packed)))
		if err == nil {
			_, _ = io.Copy(io.Discard, io.LimitReader(r, 1<<24))
			r.Close()
		}
		if spent := time.Since(began); spent > 5*time.Second {
			t.Errorf("%d bytes of %s took %v", len(packed), k, spent)
		}
	})
}

func FuzzBzip2(f *testing.F) {
	for size := range 3 {
		if _, err := exec.LookPath("bzip2"); err == nil {
			f.Add(pack(f, sample(size*1000, 5), "bzip2", "-1c"))
		}
	}
	f.Add([]byte("BZh91AY&SY"))
	f.Fuzz(func(t *testing.T, packed []byte) {
		if Detect(packed) != Bzip2 {
			return
		}
		want, err := io.ReadAll(io.LimitReader(stdbzip2.NewReader(bytes.NewReader(packed)), 1<<22))
		if err != nil || len(want) == 1<<22 {
			_, _ = open(packed)
			return
		}
		got, err := open(packed)
		if err == nil && !bytes.Equal(want, got) {
			t.Fatalf("%d bytes, and %d from the ordinary decoder", len(got), len(want))
		}
	})
}

func BenchmarkUnpack(b *testing.B) {
	data := sample(20_000_000, 4)
	for _, tool := range [][]string{{"gzip", "-c"}, {"bzip2", "-c"}, {"xz", "-0c"}, {"xz", "-0c", "-T2", "--block-size=2000000"},
		{"zstd", "-qc"}} {
		file := filepath.Join(b.TempDir(), "packed")
		require.NoError(b, os.WriteFile(file, pack(b, data, tool...), 0o600))
		b.Run(fmt.Sprint(tool), func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				f, err := os.Open(file)
				require.NoError(b, err)
				info, err := f.Stat()
				require.NoError(b, err)
				head := make([]byte, 6)
				_, _ = f.ReadAt(head, 0)
				r, err := Open(Detect(head), f, info.Size())
				require.NoError(b, err)
				_, err = io.Copy(io.Discard, struct{ io.Reader }{r})
				require.NoError(b, err)
				r.Close()
				f.Close()
			}
		})
	}
}
