package dns

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"
)

var (
	guest    = netip.MustParseAddrPort("10.83.16.50:40000")
	upstream = netip.MustParseAddr("172.29.64.1")
	buoy     = netip.MustParseAddr("203.0.113.80")
)

func pair() (near, far *Resolver) {
	far = &Resolver{Names: map[string]netip.Addr{"buoy.example.": buoy}, Zones: []string{"example."}}
	return &Resolver{Names: map[string]netip.Addr{"heron.saltmarsh.example.": netip.MustParseAddr("10.83.16.50")},
		Zones: []string{"saltmarsh.example."}, Upstreams: []netip.Addr{upstream}}, far
}

func ask(t *testing.T, r *Resolver, now time.Duration, id uint16, name string) []Out {
	q, err := Question(id, name)
	require.NoError(t, err)
	return r.Query(now, netip.Addr{}, guest, false, q)
}

func TestResolver(t *testing.T) {
	near, far := pair()
	for _, c := range []struct {
		name  string
		local bool
		addrs []netip.Addr
		code  dnsmessage.RCode
	}{
		{"heron.saltmarsh.example", true, []netip.Addr{netip.MustParseAddr("10.83.16.50")}, dnsmessage.RCodeSuccess},
		{"HERON.saltmarsh.example", true, []netip.Addr{netip.MustParseAddr("10.83.16.50")}, dnsmessage.RCodeSuccess},
		{"otter.saltmarsh.example", true, nil, dnsmessage.RCodeNameError},
		{"buoy.example", false, []netip.Addr{buoy}, dnsmessage.RCodeSuccess},
		{"buoy.example", true, []netip.Addr{buoy}, dnsmessage.RCodeSuccess}, // remembered
		{"reef.example", false, nil, dnsmessage.RCodeNameError},
	} {
		out := ask(t, near, 0, 7, c.name)
		require.Len(t, out, 1, c.name)
		if !c.local {
			require.Equal(t, netip.AddrPortFrom(upstream, Port), out[0].To, c.name)
			local := out[0].Local
			assert.True(t, near.Waiting(local))
			assert.Empty(t, ask(t, near, 0, 8, c.name), "the same question once only")
			answer := far.Query(0, netip.Addr{}, netip.AddrPortFrom(upstream, local), false, out[0].Data)
			forged := append([]byte(nil), answer[0].Data...)
			assert.Empty(t, near.Answer(0, local, netip.AddrPortFrom(guest.Addr(), Port), forged), "not who was asked")
			forged[0]++
			assert.Empty(t, near.Answer(0, local, netip.AddrPortFrom(upstream, Port), forged), "another identifier")
			out = near.Answer(0, local, netip.AddrPortFrom(upstream, Port), answer[0].Data)
			require.Len(t, out, 2, "both who asked are told")
		}
		assert.Equal(t, []any{guest, uint16(Port)}, []any{out[0].To, out[0].Local})
		addrs, code, ok := ReadAnswer(out[0].Data, 7)
		assert.True(t, ok)
		assert.Equal(t, []any{c.addrs, c.code}, []any{addrs, code}, c.name)
	}
	assert.Len(t, ask(t, near, time.Hour, 9, "buoy.example"), 1)
	assert.Equal(
		t,
		netip.AddrPortFrom(upstream, Port),
		ask(t, near, 2*time.Hour, 9, "reef.example")[0].To,
		"forgotten in time",
	)
}

func TestNobodyUpstream(t *testing.T) {
	near, _ := pair()
	require.Len(t, ask(t, near, 0, 7, "buoy.example"), 1)
	for try := 2; try <= maxTries; try++ {
		at, ok := near.Deadline()
		require.True(t, ok)
		require.Empty(t, near.Advance(at-1))
		require.Equal(t, upstream, near.Advance(at)[0].To.Addr())
	}
	at, _ := near.Deadline()
	_, code, ok := ReadAnswer(near.Advance(at)[0].Data, 7)
	assert.True(t, ok)
	assert.Equal(t, dnsmessage.RCodeServerFailure, code)
	_, waits := near.Deadline()
	assert.False(t, waits)
	_, code, _ = ReadAnswer(ask(t, &Resolver{}, 0, 7, "buoy.example")[0].Data, 7)
	assert.Equal(t, dnsmessage.RCodeServerFailure, code, "nobody to ask")
}

func FuzzQuery(f *testing.F) {
	q, _ := Question(1, "buoy.example")
	f.Add(q)
	f.Fuzz(func(t *testing.T, data []byte) {
		near, far := pair()
		for _, o := range near.Query(0, netip.Addr{}, guest, false, data) {
			if o.Local != Port {
				near.Answer(0, o.Local, netip.AddrPortFrom(upstream, Port), data)
				for _, a := range far.Query(0, netip.Addr{}, guest, false, o.Data) {
					near.Answer(0, o.Local, netip.AddrPortFrom(upstream, Port), a.Data)
				}
			}
		}
		ReadAnswer(data, 1)
	})
}

// An answer that has no room is cut and says so; by TCP it comes whole. A name
// of the resolver's own is the address at which it was asked.
func TestRoomAndSelf(t *testing.T) {
	r := &Resolver{Upstreams: []netip.Addr{upstream}, Self: map[string]bool{"sluice.example.": true}}
	ask := func(name string, stream bool, edns bool) []Out {
		q := dnsmessage.Message{Header: dnsmessage.Header{ID: 9, RecursionDesired: true},
			Questions: []dnsmessage.Question{
				{Name: dnsmessage.MustNewName(name), Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET},
			}}
		if edns {
			var h dnsmessage.ResourceHeader
			require.NoError(t, h.SetEDNS0(4096, 0, false))
			q.Additionals = []dnsmessage.Resource{{Header: h, Body: &dnsmessage.OPTResource{}}}
		}
		b, err := q.Pack()
		require.NoError(t, err)
		return r.Query(0, netip.MustParseAddr("10.83.32.1"), guest, stream, b)
	}
	out := ask("sluice.example.", false, false)
	addrs, _, _ := ReadAnswer(out[0].Data, 9)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.83.32.1")}, addrs)

	out = ask("many.example.", false, false)
	require.Len(t, out, 1)
	var question dnsmessage.Message
	require.NoError(t, question.Unpack(out[0].Data))
	for range 60 {
		question.Answers = append(
			question.Answers,
			dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: question.Questions[0].Name,
				Class: dnsmessage.ClassINET, TTL: 60}, Body: &dnsmessage.AResource{A: [4]byte{192, 0, 2, 1}}},
		)
	}
	question.Response = true
	b, err := question.Pack()
	require.NoError(t, err)
	for _, o := range append(r.Answer(0, out[0].Local, netip.AddrPortFrom(upstream, Port), b), ask("many.example.", false, true)...) {
		var m dnsmessage.Message
		require.NoError(t, m.Unpack(o.Data))
		whole := len(m.Answers) == 60
		assert.Equal(t, !whole, m.Truncated)
		assert.LessOrEqual(t, len(o.Data), mostRoom)
	}
	assert.Greater(t, len(ask("many.example.", true, false)[0].Data), plainRoom, "by TCP it comes whole")
	for i := range 3 * maxCached {
		r.cache[dnsmessage.Question{Type: dnsmessage.Type(i)}] = cached{until: time.Duration(i)}
		if len(r.cache) > maxCached {
			r.thin(0)
		}
		require.LessOrEqual(t, len(r.cache), maxCached+1)
	}
}
