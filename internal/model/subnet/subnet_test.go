package subnet

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParsePrefix(t *testing.T) {
	for text, want := range map[string]string{
		"10.83.16.0/24":              "10.83.16.0/24",
		"10.83.16.7/255.255.255.0":   "10.83.16.7/24",
		"10.83.16.0/0.0.0.255":       "10.83.16.0/24",
		"10.83.16.0/255.255.255.255": "10.83.16.0/32",
		" 10.0.0.0 / 8 ":             "10.0.0.0/8",
		"fd12:3456::1/64":            "fd12:3456::1/64",
	} {
		got, err := ParsePrefix(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String(), text)
	}
	for text, fault := range map[string]string{
		"10.83.16.0":                 "write 10.83.16.0/24",
		"10.83.16.0/33":              "0 to 32",
		"10.83.16.0/255.255.255.0.0": "did you mean 255.255.255.0?",
		"10.83.16.0.24/24":           "did you mean 10.83.16.0/24?",
		"10.83.16/24":                "3 parts",
		"10.83.256.0/24":             "256 is over 255",
		"10.83.016.0/24":             "octal",
		"10.83.x.0/24":               `"x" is not a number`,
		"10.0.0.0/255.0.255.0":       "nearest valid mask is 255.0.0.0",
		"10.0.0.0/255.255.255.300":   "not a number from 0 to 255",
		"fe80::1%eth0/64":            "not an IPv6 address",
	} {
		_, err := ParsePrefix(text)
		assert.ErrorContains(t, err, fault, text)
	}
}

func TestArithmetic(t *testing.T) {
	for _, c := range []struct {
		prefix, first, last, broadcast, mask string
		usable                               int
	}{
		{"10.83.16.0/24", "10.83.16.1", "10.83.16.254", "10.83.16.255", "255.255.255.0", 254},
		{"10.83.16.64/26", "10.83.16.65", "10.83.16.126", "10.83.16.127", "255.255.255.192", 62},
		{"10.0.0.4/31", "10.0.0.4", "10.0.0.5", "10.0.0.5", "255.255.255.254", 2},
		{"10.0.0.4/32", "10.0.0.4", "10.0.0.4", "10.0.0.4", "255.255.255.255", 1},
		{"0.0.0.0/0", "0.0.0.1", "255.255.255.254", "255.255.255.255", "0.0.0.0", 1<<32 - 2},
	} {
		p := netip.MustParsePrefix(c.prefix)
		assert.Equal(t, []string{c.first, c.last, c.broadcast, c.mask},
			[]string{First(p).String(), Last(p).String(), Broadcast(p).String(), Mask(p.Bits())}, c.prefix)
		assert.Equal(t, c.usable, Usable(p), c.prefix)
	}
	assert.Equal(t, "0.0.0.255", Wildcard(24))
	assert.False(t, Add(netip.MustParseAddr("255.255.255.255"), 1).IsValid())
	assert.True(t, Private(netip.MustParseAddr("100.64.3.4")) && !Private(netip.MustParseAddr("203.0.113.80")))
}

func TestMasksAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		bits := rapid.IntRange(1, 31).Draw(t, "bits")
		addr := netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "addr")))
		for _, mask := range []string{Mask(bits), Wildcard(bits)} {
			p, err := ParsePrefix(addr.String() + "/" + mask)
			require.NoError(t, err)
			require.Equal(t, netip.PrefixFrom(addr, bits), p)
		}
		n := rapid.IntRange(1, 1<<20).Draw(t, "n")
		length := LengthFor(n)
		require.GreaterOrEqual(t, 1<<(32-length)-2, n)
		require.True(t, length == 30 || 1<<(31-length)-2 < n, "a longer prefix would do")
	})
}
