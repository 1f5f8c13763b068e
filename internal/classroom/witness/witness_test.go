package witness

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var (
	clock = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	home  = netip.MustParseAddrPort("172.29.64.7:40000")
)

// pair returns a witness, the token of its lab, and a witness's public key.
func pair(rate float64) (*Server, Token, ed25519.PublicKey) {
	key := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize))
	token := Token{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16}
	return NewServer(key, token, [32]byte{9}, rate), token, key.Public().(ed25519.PublicKey)
}

// A guest asks, is told to ask again, and gets a report of where it came from, signed; by the
// lab's token and by a bench's.
func TestAskAndReport(t *testing.T) {
	for _, bench := range []string{"", "saltmarsh-07"} {
		s, token, public := pair(10)
		if bench != "" {
			token = token.Bench(bench)
		}
		c := NewClient(token, bench, nil, UDP, Nonce{1})
		answer, seen := s.Handle(0, clock, home, UDP, 61, c.Question())
		require.Len(t, answer, Size)
		assert.Nil(t, seen, "it may be a lie until the cookie comes back")
		_, done, err := c.Take(answer)
		require.NoError(t, err)
		require.False(t, done)
		assert.True(t, c.Witness.Equal(public))
		answer, seen = s.Handle(time.Second, clock, home, UDP, 61, c.Question())
		require.NotNil(t, seen)
		require.Len(t, answer, Size)
		r, done, err := c.Take(answer)
		require.NoError(t, err)
		assert.True(t, done)
		assert.Equal(t, Report{Nonce{1}, seen.Cookie, home, 61, UDP, clock.Unix(), Heard{}, false}, r)
		assert.Equal(t, bench, seen.Bench)
	}
}

// Without the token nobody is answered; a question of another source, another way, another
// bench or an older time is not seen; a report that was altered anywhere is not taken.
func TestNobodyElse(t *testing.T) {
	s, token, public := pair(1000)
	c := NewClient(token.Bench("a"), "a", public, UDP, Nonce{2})
	first := c.Question()
	for _, other := range []*Client{NewClient(Token{}, "", nil, UDP, Nonce{}), NewClient(token, "a", nil, UDP, Nonce{}),
		NewClient(token.Bench("b"), "a", nil, UDP, Nonce{}), NewClient(token.Bench("a"), "", nil, UDP, Nonce{})} {
		answer, _ := s.Handle(0, clock, home, UDP, 0, other.Question())
		assert.Nil(t, answer)
	}
	answer, _ := s.Handle(0, clock, home, TCP, 0, first)
	assert.Nil(t, answer, "it was made for another way")
	answer, _ = s.Handle(0, clock, home, UDP, 0, first)
	_, _, err := c.Take(answer)
	require.NoError(t, err)
	second := c.Question()
	_, seen := s.Handle(0, clock, netip.MustParseAddrPort("203.0.113.9:40000"), UDP, 0, second)
	assert.Nil(t, seen, "it was sent on by another")
	_, seen = s.Handle(10*time.Minute, clock, home, UDP, 0, second)
	assert.Nil(t, seen, "it is old")
	report, seen := s.Handle(time.Second, clock, home, UDP, 0, second)
	require.NotNil(t, seen)
	for i := range report {
		altered := bytes.Clone(report)
		altered[i] ^= 0x10
		_, done, err := c.Take(altered)
		assert.False(t, done)
		assert.Error(t, err, "byte %d", i)
	}
	for i := range second {
		altered := bytes.Clone(second)
		altered[i] ^= 0x10
		_, seen := s.Handle(time.Second, clock, home, UDP, 0, altered)
		assert.Nil(t, seen, "byte %d", i)
	}
	_, _, err = NewClient(
		token.Bench("a"),
		"a",
		make(ed25519.PublicKey, ed25519.PublicKeySize),
		UDP,
		Nonce{2},
	).Take(report)
	assert.ErrorIs(t, err, ErrSigned, "another witness was named")
}

// Whatever is sent, by how many and how often: an answer is never longer than what came, and
// what the witness keeps is bounded.
func TestBounds(t *testing.T) {
	s, token, _ := pair(5)
	answered := 0
	for range 1000 {
		if a, _ := s.Handle(0, clock, home, UDP, 0, NewClient(token, "", nil, UDP, Nonce{}).Question()); a != nil {
			answered++
		}
	}
	assert.Equal(t, 50, answered, "ten seconds' worth at once")
	a, _ := s.Handle(2*time.Second, clock, home, UDP, 0, NewClient(token, "", nil, UDP, Nonce{}).Question())
	assert.NotNil(t, a, "and again later")
	for i := range mostSources + 5000 {
		from := netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), 1)
		s.Handle(3*time.Second, clock, from, UDP, 0, NewClient(token.Bench("flood"), "flood", nil, UDP, Nonce{}).Question())
		stranger := fmt.Sprint(i)
		s.Handle(3*time.Second, clock, from, UDP, 0, NewClient(Token{9}, stranger, nil, UDP, Nonce{}).Question())
	}
	assert.Len(t, s.sources["flood"], mostSources, "a bench takes its own places alone")
	assert.LessOrEqual(t, len(s.keys), 2, "names without a token fill no memory")
	a, _ = s.Handle(
		time.Minute,
		clock,
		netip.MustParseAddrPort("[2001:db8::9]:5"),
		UDP,
		0,
		NewClient(token, "", nil, UDP, Nonce{}).Question(),
	)
	assert.NotNil(t, a, "those that were silent are forgotten")
}

// A witness tells whoever has the token which forged packets of a run it heard, each once and
// in parts that fit; once it cannot keep all, it no longer says that it listens.
func TestHeard(t *testing.T) {
	s, token, public := pair(1e9)
	s.Listening, s.Opens = true, true
	ask := func(run uint32, first int) Heard {
		c := NewClient(token, "", public, UDP, Nonce{4})
		c.AskOf(run, first)
		for {
			answer, _ := s.Handle(0, clock, home, UDP, 61, c.Question())
			require.Len(t, answer, Size)
			r, done, err := c.Take(answer)
			require.NoError(t, err)
			if done {
				assert.True(t, r.Opens)
				return r.Heard
			}
		}
	}
	assert.Equal(t, Heard{Run: 7, Listening: true}, ask(7, 0))
	for i := range 120 {
		assert.True(t, s.Hear(7, 3*i))
		assert.False(t, s.Hear(7, 3*i), "it came twice")
	}
	assert.False(t, s.Hear(7, MostAttempts))
	assert.False(t, s.Hear(0, 1))
	var got []uint16
	for len(got) < 120 {
		h := ask(7, len(got))
		assert.Equal(t, 120, h.Count)
		require.NotEmpty(t, h.Attempts)
		got = append(got, h.Attempts...)
	}
	for i, a := range got {
		assert.EqualValues(t, 3*i, a)
	}
	assert.Equal(t, Heard{}, ask(0, 0), "nobody asked")
	for i := range uint32(mostRuns + 10) {
		s.Hear(i+100, 1)
	}
	assert.LessOrEqual(t, len(s.heard.runs), mostRuns+2)
	h := ask(7, 0)
	assert.Equal(t, 120, h.Count)
	assert.True(t, h.Listening, "what strangers make up takes nothing from who has a token")
	assert.False(t, ask(100, 0).Listening, "it may have been let go")
}

// A token survives being written down, and one that was copied wrongly is told.
func TestToken(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		token := Token(rapid.SliceOfN(rapid.Byte(), tokenSize, tokenSize).Draw(t, "token"))
		text := token.String()
		got, err := ParseToken(text)
		require.NoError(t, err)
		require.Equal(t, token, got)
		at := rapid.IntRange(0, len(text)-1).Draw(t, "at")
		other := rapid.SampledFrom([]byte("0123456789abcdefghjkmnpqrstvwxyz")).Draw(t, "other")
		wrong := text[:at] + string(other) + text[at+1:]
		if got, err := ParseToken(wrong); text[at] != '-' && wrong != text && err == nil {
			require.Equal(t, token, got, "only bits that stand for nothing differ")
		}
	})
	_, err := ParseToken("let me in")
	assert.ErrorContains(t, err, "not a valid token")
}

var update = flag.Bool("vectors", false, "write the test vectors")

// What is written down in docs/witness-vectors.txt is what this program says, so that others
// can be built by it.
func TestVectors(t *testing.T) {
	s, token, public := pair(10)
	bench := token.Bench("saltmarsh-07")
	c := NewClient(bench, "saltmarsh-07", public, UDP, Nonce{0xaa, 0xbb})
	out := fmt.Sprintf(
		"token %s\nbench saltmarsh-07\nbench-token %s\nwitness-key %x\nwitness-code %s\nevidence-key %x\nsource %s\nhops 61\ntime %d\n",
		token,
		bench,
		[]byte(public),
		Code(public),
		[]byte(bench.Evidence().Public().(ed25519.PublicKey)),
		home,
		clock.Unix(),
	)
	for _, name := range []string{"ask", "again", "ask-with-cookie", "report"} {
		question := c.Question()
		answer, _ := s.Handle(0, clock, home, UDP, 61, question)
		if name == "ask" || name == "ask-with-cookie" {
			out += name + " " + hex.EncodeToString(question) + "\n"
			continue
		}
		out += name + " " + hex.EncodeToString(answer) + "\n"
		_, _, err := c.Take(answer)
		require.NoError(t, err)
	}
	s.Listening = true
	s.Hear(0xfeed5eed, 3)
	s.Hear(0xfeed5eed, 260)
	c.AskOf(0xfeed5eed, 0)
	question := c.Question()
	report, _ := s.Handle(0, clock, home, UDP, 61, question)
	out += fmt.Sprintf("ask-of-run %x\nreport-of-run %x\n", question, report)
	const file = "../../../docs/witness-vectors.txt"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(out), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), out)
}

// Whatever comes to a witness or a guest, nothing but what is theirs counts.
func FuzzMessages(f *testing.F) {
	s, token, public := pair(1e9)
	c := NewClient(token, "", public, UDP, Nonce{3})
	f.Add(c.Question())
	again, _ := s.Handle(0, clock, home, UDP, 9, c.Question())
	f.Add(again)
	_, _, err := c.Take(again)
	require.NoError(f, err)
	report, _ := s.Handle(0, clock, home, UDP, 9, c.Question())
	f.Add(report)
	f.Fuzz(func(t *testing.T, data []byte) {
		answer, _ := s.Handle(0, clock, home, UDP, 9, data)
		assert.LessOrEqual(t, len(answer), len(data))
		if r, done, err := NewClient(token, "", public, UDP, Nonce{3}).Take(data); done {
			require.NoError(t, err)
			assert.Equal(t, report, data)
			assert.Equal(t, home, r.Source)
		}
	})
}

// BenchmarkHandle is a whole question, both times, as a witness deals with it.
func BenchmarkHandle(b *testing.B) {
	s, token, public := pair(1e12)
	c := NewClient(token, "", public, UDP, Nonce{3})
	first := c.Question()
	again, _ := s.Handle(0, clock, home, UDP, 9, first)
	_, _, err := c.Take(again)
	require.NoError(b, err)
	second := c.Question()
	for b.Loop() {
		s.Handle(0, clock, home, UDP, 9, first)
		s.Handle(0, clock, home, UDP, 9, second)
	}
}
