package listing

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"openbastion/internal/model/mac"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"pgregory.net/rapid"
)

// told writes what was read, a thing to a line.
func told(l Listing) string {
	var b strings.Builder
	for _, i := range l.Interfaces {
		b.WriteString("interface")
		say := func(key string, ok bool, v any) {
			if ok {
				fmt.Fprintf(&b, " %s=%v", key, v)
			}
		}
		say("device", i.Device != "", i.Device)
		say("label", i.Label != "", i.Label)
		say("number", i.Number != 0, i.Number)
		say("mac", i.Tail != "", mac.Pairs(i.Tail))
		for _, a := range i.Addresses {
			mask := "/?"
			if a.Masked {
				mask = fmt.Sprintf("/%d", a.Bits())
			}
			say("address", true, a.Addr().String()+mask)
		}
		say("link", i.Link != LinkUnknown, []string{"", "up", "down"}[i.Link])
		say("network", i.Network != "", i.Network)
		say("lease", i.Lease != LeaseUnsaid, []string{"", "yes", "no"}[i.Lease])
		say("from", i.LeaseServer.IsValid(), i.LeaseServer)
		say("gateway", i.NoGateway, "none")
		say("asked", i.Unanswered, "in vain")
		say("tag", i.Tag != 0, i.Tag)
		say("machine", i.Machine != "", i.Machine)
		b.WriteString("\n")
	}
	for _, r := range l.Routes {
		fmt.Fprintln(
			&b,
			strings.TrimSpace(strings.Join([]string{"route", r.Gateway.String(), r.Device, r.Machine}, " ")),
		)
	}
	for _, r := range l.Resolvers {
		fmt.Fprintln(&b, strings.TrimSpace(strings.Join([]string{"resolver", r.Address.String(), r.Machine}, " ")))
	}
	for _, n := range l.Neighbors {
		fmt.Fprintln(&b, "neighbor", n.Address, mac.Pairs(n.Tail))
	}
	for _, a := range l.Answers {
		fmt.Fprintf(&b, "answer %q to %q\n", a.Text, a.Question)
	}
	for _, s := range l.Slips {
		fmt.Fprintf(&b, "slip on line %d: %s\n", s.Line, s.Text)
	}
	for _, u := range l.Unread {
		fmt.Fprintf(&b, "unread line %d: %s\n", u.Line, u.Text)
	}
	return b.String()
}

// Each paste of the corpus gives what stands in the file beside it, written down
// from the paste. UPDATE=1 writes what is read now, to be read over.
func TestPastes(t *testing.T) {
	files, err := filepath.Glob("testdata/pastes/*.txt")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 80)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		got := told(Read(string(data)))
		beside := strings.TrimSuffix(file, ".txt") + ".read"
		if os.Getenv("UPDATE") != "" {
			require.NoError(t, os.WriteFile(beside, []byte(got), 0o644))
		}
		want, err := os.ReadFile(beside)
		require.NoError(t, err)
		assert.Equal(t, string(bytes.TrimSpace(want)), strings.TrimSpace(got), file)
	}
}

// invented returns what a listing says that its text does not: nothing is ever read that
// is not there, or else its line is asked about.
func invented(text string, l Listing) string {
	plain := decode(text)
	var lines []string
	for _, line := range strings.Split(plain, "\n") {
		lines = append(lines, plainLine(line))
	}
	low := strings.ToLower(strings.Join(lines, "\n") + "\n" + plain)
	bare := strings.NewReplacer(":", "", "-", "", ".", "", " ", "").Replace(low)
	slipped := len(l.Slips) > 0
	for _, i := range l.Interfaces {
		for _, a := range i.Addresses {
			if !strings.Contains(low, a.Addr().String()) && l.Sure(a.Line) {
				return "the address " + a.String()
			}
		}
		if i.Tail != "" && !strings.Contains(bare, i.Tail) && !slipped && !strings.Contains(low, shortened(i.Tail)) {
			return "the MAC address " + i.Tail
		}
	}
	for _, r := range l.Routes {
		if !strings.Contains(low, r.Gateway.String()) && l.Sure(r.Line) {
			return "the next hop " + r.Gateway.String()
		}
	}
	for _, r := range l.Resolvers {
		if !strings.Contains(low, r.Address.String()) && l.Sure(r.Line) {
			return "the resolver " + r.Address.String()
		}
	}
	return ""
}

// shortened writes a hardware address as systems do that leave zeros in front out.
func shortened(digits string) string {
	var parts []string
	for i := 0; i+1 < len(digits); i += 2 {
		parts = append(parts, strings.TrimPrefix(digits[i:i+2], "0"))
	}
	return strings.Join(parts, ":")
}

// Slips of people and of recognition, anywhere in any paste: what is read is what
// stands there, or it is asked about.
func TestNothingIsInvented(t *testing.T) {
	files, err := filepath.Glob("testdata/pastes/*.txt")
	require.NoError(t, err)
	slips := []func(*rapid.T, string) string{
		func(t *rapid.T, s string) string { return s[:len(s)/2] + s[(len(s)+1)/2:] },
		func(t *rapid.T, s string) string { return strings.Replace(s, "0", "O", 1) },
		func(t *rapid.T, s string) string { return strings.Replace(s, "1", "l", 1) },
		func(t *rapid.T, s string) string { return strings.Replace(s, ".", ",", 1) },
		func(t *rapid.T, s string) string { return strings.Replace(s, ".", "", 1) },
		func(t *rapid.T, s string) string { return strings.Replace(s, ":", ";", 1) },
		func(t *rapid.T, s string) string { return strings.ReplaceAll(s, ":", " ") },
		func(t *rapid.T, s string) string { return s + s },
		func(t *rapid.T, s string) string { return "" },
		func(t *rapid.T, s string) string { return strings.Replace(s, ".", "..", 1) },
		func(t *rapid.T, s string) string { return strings.ToUpper(s) },
	}
	rapid.Check(t, func(rt *rapid.T) {
		file := rapid.SampledFrom(files).Draw(rt, "paste")
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		words := strings.SplitAfter(string(data), " ")
		for range rapid.IntRange(0, 4).Draw(rt, "slips") {
			at := rapid.IntRange(0, len(words)-1).Draw(rt, "word")
			words[at] = rapid.SampledFrom(slips).Draw(rt, "slip")(rt, words[at])
		}
		text := strings.Join(words, "")
		if rapid.Bool().Draw(rt, "cut") {
			text = text[:rapid.IntRange(0, len(text)).Draw(rt, "length")]
		}
		require.Empty(rt, invented(text, Read(text)), "%s\n%s", file, text)
	})
}

// No text, however long and strange, makes the reader fail, invent, or keep more than
// its bounds.
func FuzzRead(f *testing.F) {
	files, _ := filepath.Glob("testdata/pastes/*.txt")
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(string(data))
	}
	f.Fuzz(func(t *testing.T, text string) {
		l := Read(text)
		if what := invented(text, l); what != "" {
			t.Fatal(what)
		}
		require.LessOrEqual(t, len(l.Interfaces), maxInterfaces)
		for _, i := range l.Interfaces {
			require.LessOrEqual(t, len(i.Tail), 12)
			require.LessOrEqual(t, i.Tag, 4094)
		}
	})
}

// The reader stays near linear, and within its bounds.
func TestLongListings(t *testing.T) {
	many := strings.Repeat("eth0 02:5b:ac:50:c2:01\n", 40_000)
	require.Len(t, Read(many).Interfaces, 1)
	var b strings.Builder
	for i := range 6000 {
		fmt.Fprintf(&b, "eth%d 02:5b:ac:50:%02x:%02x\n", i, i>>8, i&255)
	}
	require.LessOrEqual(t, len(Read(b.String()).Interfaces), maxInterfaces)
	for _, part := range []string{"a,", "1;2", "eth0:a,", "02 5b ac 50 c2 01 ", "[", `{"a":`, "<a>"} { // one line as long as may be
		l := Read(strings.Repeat(part, MaxSize/len(part)))
		require.LessOrEqual(t, len(l.Interfaces), maxInterfaces, part)
	}
	require.Contains(t, told(Read("eth0 10.83.16.1/24\n"+strings.Repeat("x ", 5000))), "unread line 2: all behind")
}

// A megabyte of what the corpus has is read in the time of a few breaths; compared with
// what it takes to look at every word of it once.
func BenchmarkRead(b *testing.B) {
	files, err := filepath.Glob("testdata/pastes/*.txt")
	require.NoError(b, err)
	var all strings.Builder
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(b, err)
		all.Write(data)
		all.WriteString("\n")
	}
	b.Run("corpus", func(b *testing.B) {
		b.SetBytes(int64(all.Len()))
		for range b.N {
			Read(all.String())
		}
	})
	b.Run("words", func(b *testing.B) {
		b.SetBytes(int64(all.Len()))
		for range b.N {
			for _, w := range strings.Fields(all.String()) {
				classified := word{text: w}
				classified.classify()
			}
		}
	})
}

// Files that systems write in old code pages and in two bytes are read as any.
func TestEncodings(t *testing.T) {
	data, err := os.ReadFile("testdata/pastes/ipconfig-german.txt")
	require.NoError(t, err)
	want := told(Read(string(data)))
	for what, encode := range map[string]*encoding.Encoder{
		"an old code page":     charmap.CodePage850.NewEncoder(),
		"a western code page":  charmap.Windows1252.NewEncoder(),
		"two bytes":            unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder(),
		"two bytes, turned":    unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder(),
		"two bytes, no mark":   unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder(),
		"UTF-8 with its marks": unicode.UTF8BOM.NewEncoder(),
	} {
		text, err := encode.String(string(data))
		require.NoError(t, err)
		assert.Equal(t, want, told(Read(text)), what)
	}
	assert.Equal(t, want, told(Read(strings.ReplaceAll(string(data), "\n", "\r\n"))), "line ends of desktops")
	assert.Equal(
		t,
		want,
		told(
			Read(
				strings.NewReplacer("ö", "\xef\xbf\xbd", "ä", "\xef\xbf\xbd", "ü", "\xef\xbf\xbd").
					Replace(string(data)),
			),
		),
		"letters that did not come through",
	)
}
