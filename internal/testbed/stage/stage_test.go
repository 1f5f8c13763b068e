package stage

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/claims"
)

func planOf(t *testing.T, name string) *plan.Plan {
	data, err := examples.Labs.ReadFile(name)
	require.NoError(t, err)
	l, err := lab.Read(name, data)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

// What a guest sends beyond the appliance is an escape; what the appliance sends for it,
// what stays inside, what goes to everybody and what an outside guest sends is none.
func TestEscapesAreSeen(t *testing.T) {
	p := planOf(t, "saltmarsh-leaky.yaml")
	segments := []string{"causeway", "reedbed", "beyond"}
	otter, sluice, heron := p.Machine("otter"), p.Machine("sluice"), p.Machine("heron")
	own := otter.Adapters[1].MAC
	wan := sluice.Adapters[0].MAC
	stranger := mac.Address{2, 9, 9, 9, 9, 9}
	udp := func(from, to string, sender, receiver mac.Address) []byte {
		f := packet.Datagram(
			packet.IP{Source: netip.MustParseAddr(from), Destination: netip.MustParseAddr(to), TTL: 64},
			4000,
			53,
			[]byte("x"),
		)
		packet.SetLink(f, receiver, sender)
		return f
	}
	gate := mac.Address{2, 1, 1, 1, 1, 1}
	for _, c := range []struct {
		name    string
		segment int
		frame   []byte
		want    string
	}{
		{"by its own second adapter", 0, udp("172.29.64.129", "203.0.113.80", own, gate),
			"otter on causeway: udp from 172.29.64.129:4000 to 203.0.113.80:53"},
		{"with a forged source", 0, udp("198.51.100.7", "203.0.113.80", own, gate), "otter on causeway: udp from 198.51.100.7:4000 to 203.0.113.80:53"},
		{"an inside address from someone who is no appliance", 0, udp("10.83.16.50", "203.0.113.80", stranger, gate),
			"10.83.16.50 on causeway: udp from 10.83.16.50:4000 to 203.0.113.80:53"},
		{"an inside address beyond upstream", 2, udp("10.83.16.50", "203.0.113.80", stranger, gate),
			"10.83.16.50 on beyond: udp from 10.83.16.50:4000 to 203.0.113.80:53"},
		{"an inside address that someone outside pretends to have", 0, udp("10.83.32.10", "10.83.16.50", stranger, wan), ""},
		{"the appliance, translated", 0, udp("172.29.64.128", "203.0.113.80", wan, gate), ""},
		{"the appliance, not translated", 0, udp("10.83.16.50", "203.0.113.80", wan, gate), ""},
		{"what stays inside", 1, udp("10.83.16.50", "203.0.113.80", heron.Adapters[0].MAC, gate), ""},
		{"a question to everybody", 0, udp("0.0.0.0", "255.255.255.255", own, mac.Broadcast), ""},
		{"no IP", 0, packet.ARP(packet.ARPRequest, mac.Broadcast, own, netip.MustParseAddr("172.29.64.129"), mac.Address{}, netip.MustParseAddr("172.29.64.1")), ""},
		{"a frame that is none", 0, []byte{1, 2, 3}, ""},
	} {
		w := NewWatch(p, segments)
		for range 3 { // told once in a while, however often it is sent
			w.Record(c.segment, time.Time{}, c.frame)
		}
		counted, escapes := w.Seen()
		assert.EqualValues(t, 3, counted[c.segment].Carried.Packets, c.name)
		assert.EqualValues(t, 3*len(c.frame), counted[c.segment].Carried.Bytes, c.name)
		var got []string
		for _, e := range escapes {
			got = append(got, e.Guest+" on "+e.Segment+": "+e.Packet)
		}
		if c.want == "" {
			assert.Empty(t, got, c.name)
		} else {
			assert.Equal(t, []string{c.want}, got, c.name)
		}
	}
	w := NewWatch(p, segments)
	for i := range 3 * maxEscapes {
		w.Record(
			0,
			time.Time{},
			udp("172.29.64.129", netip.AddrFrom4([4]byte{203, 0, byte(i >> 8), byte(i)}).String(), own, gate),
		)
	}
	_, escapes := w.Seen()
	assert.Len(t, escapes, maxEscapes, "the latest are kept")
	assert.Contains(t, escapes[maxEscapes-1].Packet, "203.0.1.43:53")
}

// A capture holds what a segment carried, up to its size, in a form that an analyser
// reads; what is there already is not written over.
func TestCaptures(t *testing.T) {
	p := planOf(t, "saltmarsh.yaml")
	dir := t.TempDir()
	c, err := NewCaptures(dir, 64<<10, []string{"reedbed", "beyond"}, p)
	require.NoError(t, err)
	frame := packet.ARP(
		packet.ARPRequest,
		mac.Broadcast,
		mac.Address{2, 1},
		netip.MustParseAddr("10.83.16.9"),
		mac.Address{},
		netip.MustParseAddr("10.83.16.1"),
	)
	for range 3000 {
		c.Record(0, time.Time{}, frame)
	}
	c.Record(1, time.Time{}, frame)
	assert.Len(t, c.Notes(), 1)
	assert.Contains(t, strings.Join(c.Notes(), ""), "the capture of reedbed is full")
	time.Sleep(2 * flushed) // what was seen is on disk while the lab runs
	info, err := os.Stat(filepath.Join(dir, "beyond.pcapng"))
	require.NoError(t, err)
	assert.Greater(t, info.Size(), int64(len(frame)))
	c.Close()
	info, err = os.Stat(filepath.Join(dir, "reedbed.pcapng"))
	require.NoError(t, err)
	assert.LessOrEqual(t, info.Size(), int64(64<<10+1024))
	_, err = NewCaptures(dir, 1<<20, []string{"reedbed"}, p)
	assert.ErrorIs(t, err, os.ErrExist)
	if tshark, err := exec.LookPath("tshark"); err == nil {
		out, err := exec.Command(tshark, "-r", filepath.Join(dir, "reedbed.pcapng"), "-T", "fields", "-e", "arp.dst.proto_ipv4").
			Output()
		require.NoError(t, err)
		lines := strings.Fields(string(out))
		assert.Greater(t, len(lines), 500)
		assert.Equal(t, "10.83.16.1", lines[len(lines)-1])
	}
	_, err = NewCaptures(filepath.Join(dir, "nowhere"), 1<<20, []string{"reedbed"}, p)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// An answer by which something passed stays one, whatever was lost meanwhile.
func TestEscaped(t *testing.T) {
	for _, c := range []struct {
		got  claims.Got
		want bool
	}{
		{claims.GotAttack{}, false}, {claims.GotAttack{Ways: []claims.Way{{}}}, true}, {claims.GotScan{}, false},
		{claims.GotScan{Open: []lab.Service{{}}}, true}, {claims.GotScan{Ways: []claims.Way{{}}}, true}, {claims.GotPacket{}, false},
		{claims.GotPacket{Took: []string{"buoy"}}, true}, {claims.GotReach{Answered: true}, false}, {nil, false},
	} {
		assert.Equal(t, c.want, escaped(c.got), "%+v", c.got)
	}
}
