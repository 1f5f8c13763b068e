package subnet

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What was likely meant by what is no address, and nothing where two answers are as
// likely.
func TestLikely(t *testing.T) {
	for text, want := range map[string]string{
		"10.66.6.6.254":  "10.66.6.254",
		"10.83.16.16.1":  "10.83.16.1",
		"1O.83.l6.1":     "10.83.16.1",
		"10,83,16,1":     "10.83.16.1",
		"10;83;16;1":     "10.83.16.1",
		"10..83.16.1":    "10.83.16.1",
		"10.83.016.01":   "10.83.16.1",
		"10.83.16.2554":  "10.83.16.254",
		"10.83.16.1144":  "10.83.16.144",
		"192.168300.1":   "",
		"10.8316.1":      "10.83.16.1",
		"10.83.16.500":   "",
		"10.83.16":       "",
		"10.83.16.1.9":   "",
		"ten.83.16.1":    "",
		"":               "",
		"10.83.16.1.1.1": "",
	} {
		got, ok := LikelyAddr(text)
		if assert.Equal(t, want != "", ok, text) && ok {
			assert.Equal(t, want, got.String(), text)
		}
	}
	for text, want := range map[string]string{
		"255.255.254.254.0": "255.255.254.0", "255.255.255.0.0": "255.255.255.0", "255.255.255.255.0": "255.255.255.0", "255,255,255,0": "255.255.255.0",
		"255.255.255.O": "255.255.255.0", "255.255.253.0": "", "10.83.16.1": "", "255.2555.255.0": "255.255.255.0",
	} {
		got, ok := LikelyMask(text)
		if assert.Equal(t, want != "", ok, text) && ok {
			assert.Equal(t, want, got.String(), text)
			assert.Equal(t, want, Mask(MaskLength(got)))
		}
	}
}

// One slip in any address is repaired to it, or to nothing; never to another, but where
// the slip makes one itself.
func TestOneSlipIsRepaired(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b [4]byte
		for i := range b {
			b[i] = rapid.Byte().Draw(t, "part")
		}
		a := netip.AddrFrom4(b)
		parts := strings.Split(a.String(), ".")
		at := rapid.IntRange(0, 3).Draw(t, "at")
		slips := map[string]string{
			"doubled": strings.Join(
				append(append(append([]string{}, parts[:at+1]...), parts[at]), parts[at+1:]...),
				".",
			),
			"letter O": strings.ReplaceAll(a.String(), "0", "O"),
			"letter l": strings.ReplaceAll(a.String(), "1", "l"),
			"commas":   strings.ReplaceAll(a.String(), ".", ","),
			"dots":     strings.Replace(a.String(), ".", "..", 1),
		}
		for what, text := range slips {
			got, ok := LikelyAddr(text)
			require.True(t, ok, "%s: %s", what, text)
			if what == "doubled" && got != a { // a part that stood twice already
				require.Contains(t, text, got.String()[:strings.IndexByte(got.String(), '.')])
				continue
			}
			require.Equal(t, a, got, "%s: %s", what, text)
		}
	})
}
