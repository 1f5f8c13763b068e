//go:build linux

package kernel

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
)

// What ended a ping is told of its own alone: an error that quotes another of the same
// machine's, with whatever is in it, neither answers it nor ends it.
func TestErrorsAreOfTheirOwnPing(t *testing.T) {
	to, other := netip.MustParseAddr("10.83.48.50"), netip.MustParseAddr("203.0.113.80")
	from := &net.IPAddr{IP: net.IP{10, 83, 32, 1}}
	const id, payload = 0x3442, "open bastion probe 00000007"
	quote := func(to netip.Addr, id int) []byte {
		m := icmp.Message{
			Type: ipv4.ICMPTypeEcho,
			Body: &icmp.Echo{ID: id, Seq: 1, Data: []byte("B4 4B 4B \x34\x42 " + payload)},
		}
		inner, err := m.Marshal(nil)
		require.NoError(t, err)
		h := ipv4.Header{
			Version:  4,
			Len:      ipv4.HeaderLen,
			TotalLen: ipv4.HeaderLen + len(inner),
			ID:       0x3442,
			TTL:      1,
			Protocol: 1,
			Src:      net.IP{10, 83, 32, 10},
			Dst:      to.AsSlice(),
		}
		head, err := h.Marshal()
		require.NoError(t, err)
		return append(head, inner...)
	}
	for _, body := range []struct {
		kind icmp.Type
		make func([]byte) icmp.MessageBody
	}{
		{ipv4.ICMPTypeTimeExceeded, func(b []byte) icmp.MessageBody { return &icmp.TimeExceeded{Data: b} }},
		{ipv4.ICMPTypeDestinationUnreachable, func(b []byte) icmp.MessageBody { return &icmp.DstUnreach{Data: b} }},
	} {
		for _, c := range []struct {
			to   netip.Addr
			id   int
			ours bool
		}{{to, id, true}, {to, id + 1, false}, {other, id, false}, {other, 9, false}} {
			data, err := (&icmp.Message{Type: body.kind, Body: body.make(quote(c.to, c.id))}).Marshal(nil)
			require.NoError(t, err)
			_, ours, err := pinged(1, data, from, to, id, payload)
			assert.Equal(t, c.ours, ours || err != nil, "%v to %s, %d", body.kind, c.to, c.id)
		}
	}
}

// FuzzQuotes: whatever an error quotes, reading it ends well.
func FuzzQuotes(f *testing.F) {
	f.Add([]byte{0x45, 19: 1, 27: 0})
	f.Add([]byte{0x6f, 47: 0})
	f.Add([]byte{0x4f, 60: 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, to := range []string{"10.83.48.50", "2001:db8::1"} {
			quotes(data, netip.MustParseAddr(to), 7)
		}
	})
}
