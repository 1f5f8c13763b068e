package packet

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
)

func address6(t *rapid.T, name string) netip.Addr {
	b := rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, name)
	b[0] |= 0x20 // no IPv4 in disguise
	a, _ := netip.AddrFromSlice(b)
	return a
}

// What is built over IPv6 is read back the same, with checksums that hold, and
// one changed bit does not.
func TestSixRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := IP{
			Source:      address6(t, "source"),
			Destination: address6(t, "destination"),
			TTL:         rapid.Uint8Range(1, 255).Draw(t, "hops"),
		}
		data := rapid.SliceOfN(rapid.Byte(), 0, 100).Draw(t, "data")
		from, to := rapid.Uint16().Draw(t, "from"), rapid.Uint16().Draw(t, "to")
		var frame []byte
		kind := rapid.SampledFrom([]uint8{ICMP6, UDP, TCP}).Draw(t, "kind")
		switch kind {
		case ICMP6:
			frame, to = Echo(h, rapid.Bool().Draw(t, "reply"), from, 7, data), from
		case UDP:
			frame = Datagram(h, from, to, data)
		default:
			frame = Segment(h, SegmentFields{Source: from, Destination: to, Flags: SYN, MSS: 1440}, data)
		}
		p, err := Decode(frame)
		require.NoError(t, err)
		assert.True(t, p.IPv6 && p.IP() && !p.IPv4)
		assert.Equal(t, []any{h.Source, h.Destination, h.TTL, kind}, []any{p.Source, p.Destination, p.TTL, p.Proto})
		a, b, ok := p.Ports()
		assert.True(t, ok)
		assert.Equal(t, []uint16{from, to}, []uint16{a, b})
		assert.True(t, p.TransportValid())
		q := p.Copy()
		if h.TTL > 1 {
			q.Hop()
			again, err := Decode(q.Bytes)
			require.NoError(t, err)
			assert.Equal(t, h.TTL-1, again.TTL)
			assert.True(t, again.TransportValid())
		}
		at := rapid.IntRange(54, len(frame)-1).Draw(t, "at")
		frame[at] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		if r, err := Decode(frame); err == nil {
			assert.False(t, r.TransportValid())
		}
	})
}

// Errors quote what they are about, and say how much a way carries.
func TestErrorsSix(t *testing.T) {
	for _, pair := range [][2]string{{"fd00::1", "2001:db8::2"}, {"10.83.16.20", "203.0.113.80"}} {
		guest, far := netip.MustParseAddr(pair[0]), netip.MustParseAddr(pair[1])
		original, err := Decode(Datagram(IP{Source: guest, Destination: far}, 4000, 53, make([]byte, 1460)))
		require.NoError(t, err)
		for _, c := range []struct {
			frame   []byte
			carries int
		}{
			{ICMPError(IP{Source: far, Destination: guest}, Unreachable, AdminProhibited, original.Body), 0},
			{ICMPError(IP{Source: far, Destination: guest}, TimeExceeded, 0, original.Body), 0},
			{TooBig(IP{Source: far, Destination: guest}, 1492, original.Body), 1492},
		} {
			p, err := Decode(c.frame)
			require.NoError(t, err)
			assert.True(t, p.IsError() && p.TransportValid())
			assert.Equal(t, c.carries, p.Carries())
			source, destination, proto, data, ok := Quoted(p.Data)
			require.True(t, ok)
			from, to, _ := Ports(proto, data)
			assert.Equal(
				t,
				[]any{guest, far, uint8(UDP), uint16(4000), uint16(53)},
				[]any{source, destination, proto, from, to},
			)
		}
	}
}

// Extension headers are walked over; a fragment has no ports.
func TestExtensions(t *testing.T) {
	h := IP{Source: netip.MustParseAddr("fd00::1"), Destination: netip.MustParseAddr("fd00::2")}
	whole := Datagram(h, 4000, 53, []byte("hello"))
	with := func(first uint8, headers ...[]byte) []byte {
		var chain []byte
		for _, x := range headers {
			chain = append(chain, x...)
		}
		b := append(append(append([]byte{}, whole[:54]...), chain...), whole[54:]...)
		b[14+6] = first
		binary.BigEndian.PutUint16(b[14+4:], uint16(len(b)-54))
		return b
	}
	hop := []byte{UDP, 0, 1, 4, 0, 0, 0, 0}
	for name, c := range map[string]struct {
		frame    []byte
		fragment bool
		ports    bool
	}{
		"none":               {whole, false, true},
		"hop by hop":         {with(0, hop), false, true},
		"two":                {with(0, []byte{60, 0, 1, 4, 0, 0, 0, 0}, hop), false, true},
		"atomic fragment":    {with(44, []byte{UDP, 0, 0, 0, 0, 0, 0, 9}), false, true},
		"first fragment":     {with(44, []byte{UDP, 0, 0, 1, 0, 0, 0, 9}), true, false},
		"later fragment":     {with(44, []byte{UDP, 0, 1, 0, 0, 0, 0, 9}), true, false},
		"a header cut short": {with(0, []byte{UDP, 200, 1, 4, 0, 0, 0, 0}), true, false},
	} {
		p, err := Decode(c.frame)
		require.NoError(t, err, name)
		assert.Equal(t, c.fragment, p.Fragment, name)
		_, _, ok := p.Ports()
		assert.Equal(t, c.ports, ok, name)
	}
	assert.Equal(t, mac.Address{0x33, 0x33, 0xff, 0, 0, 1}, Group6(netip.MustParseAddr("ff02::1:ff00:1")))
}
