//go:build linux

package kernel

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

	"openbastion/core/lease"
	"openbastion/core/mac"
	"openbastion/core/packet"
	"openbastion/core/status"
)

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
		f := packet.Datagram(packet.IP{Source: netip.MustParseAddr(from), Destination: netip.MustParseAddr(to), TTL: 64}, 4000, 53, []byte("x"))
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
		{"an inside address from somebody who is no appliance", 0, udp("10.83.16.50", "203.0.113.80", stranger, gate),
			"10.83.16.50 on causeway: udp from 10.83.16.50:4000 to 203.0.113.80:53"},
		{"an inside address beyond upstream", 2, udp("10.83.16.50", "203.0.113.80", stranger, gate),
			"10.83.16.50 on beyond: udp from 10.83.16.50:4000 to 203.0.113.80:53"},
		{"the appliance, translated", 0, udp("172.29.64.128", "203.0.113.80", wan, gate), ""},
		{"the appliance, not translated", 0, udp("10.83.16.50", "203.0.113.80", wan, gate), ""},
		{"what stays inside", 1, udp("10.83.16.50", "203.0.113.80", heron.Adapters[0].MAC, gate), ""},
		{"a question to everybody", 0, udp("0.0.0.0", "255.255.255.255", own, mac.Broadcast), ""},
		{"no IP", 0, packet.ARP(packet.ARPRequest, mac.Broadcast, own, netip.MustParseAddr("172.29.64.129"), mac.Address{}, netip.MustParseAddr("172.29.64.1")), ""},
		{"a frame that is none", 0, []byte{1, 2, 3}, ""},
	} {
		w := newWatch(p, segments)
		for range 3 { // told once in a while, however often it is sent
			w.Record(c.segment, time.Time{}, c.frame)
		}
		counted, escapes := w.seen()
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
	w := newWatch(p, segments)
	for i := range 3 * maxEscapes {
		w.Record(0, time.Time{}, udp("172.29.64.129", netip.AddrFrom4([4]byte{203, 0, byte(i >> 8), byte(i)}).String(), own, gate))
	}
	_, escapes := w.seen()
	assert.Len(t, escapes, maxEscapes, "the latest are kept")
	assert.Contains(t, escapes[maxEscapes-1].Packet, "203.0.1.43:53")
}

// A capture holds what a segment carried, up to its size, in a form that an analyser
// reads; what is there already is not written over.
func TestCaptures(t *testing.T) {
	p := planOf(t, "saltmarsh.yaml")
	dir := t.TempDir()
	c, err := newCaptures(dir, 64<<10, []string{"reedbed", "beyond"}, p)
	require.NoError(t, err)
	frame := packet.ARP(packet.ARPRequest, mac.Broadcast, mac.Address{2, 1}, netip.MustParseAddr("10.83.16.9"), mac.Address{}, netip.MustParseAddr("10.83.16.1"))
	for range 3000 {
		c.Record(0, time.Time{}, frame)
	}
	c.Record(1, time.Time{}, frame)
	assert.Len(t, c.notes(), 1)
	assert.Contains(t, strings.Join(c.notes(), ""), "the capture of reedbed is full")
	time.Sleep(2 * flushed) // what was seen is on disk while the lab runs
	info, err := os.Stat(filepath.Join(dir, "beyond.pcapng"))
	require.NoError(t, err)
	assert.Greater(t, info.Size(), int64(len(frame)))
	c.close()
	info, err = os.Stat(filepath.Join(dir, "reedbed.pcapng"))
	require.NoError(t, err)
	assert.LessOrEqual(t, info.Size(), int64(64<<10+1024))
	_, err = newCaptures(dir, 1<<20, []string{"reedbed"}, p)
	assert.ErrorIs(t, err, os.ErrExist)
	if tshark, err := exec.LookPath("tshark"); err == nil {
		out, err := exec.Command(tshark, "-r", filepath.Join(dir, "reedbed.pcapng"), "-T", "fields", "-e", "arp.dst.proto_ipv4").Output()
		require.NoError(t, err)
		lines := strings.Fields(string(out))
		assert.Greater(t, len(lines), 500)
		assert.Equal(t, "10.83.16.1", lines[len(lines)-1])
	}
	_, err = newCaptures(filepath.Join(dir, "nowhere"), 1<<20, []string{"reedbed"}, p)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// Shadows let in what is their business: leases, router announcements, questions who has
// an address and their answers; and leave all else to the kernel.
func TestBusiness(t *testing.T) {
	a, b := mac.Address{2, 1}, mac.Address{2, 2}
	ip := packet.IP{Source: netip.MustParseAddr("10.83.16.9"), Destination: netip.MustParseAddr("10.83.16.1"), TTL: 64}
	six := packet.IP{Source: netip.MustParseAddr("fe80::1"), Destination: netip.MustParseAddr("fe80::2"), TTL: 255}
	ndp := func(kind byte) []byte {
		return packet.Message6(six, append([]byte{kind, 0, 0, 0}, make([]byte, 20)...))
	}
	for _, c := range []struct {
		name           string
		frame          []byte
		sent, received bool
	}{
		{"who has an address", packet.ARP(packet.ARPRequest, mac.Broadcast, a, ip.Source, mac.Address{}, ip.Destination), true, false},
		{"it is here", packet.ARP(packet.ARPReply, a, b, ip.Destination, a, ip.Source), false, true},
		{"a lease asked for", packet.Datagram(ip, lease.ClientPort, lease.ServerPort, []byte("x")), true, true},
		{"a lease given", packet.Datagram(ip, lease.ServerPort, lease.ClientPort, []byte("x")), true, true},
		{"a name", packet.Datagram(ip, 4000, 53, []byte("x")), false, false},
		{"an information request", packet.Datagram(six, 546, 547, []byte("x")), true, true},
		{"an answer to one", packet.Datagram(six, 547, 546, []byte("x")), true, true},
		{"who is a router", ndp(133), true, true},
		{"a router is here", ndp(134), true, true},
		{"who is a neighbor", ndp(135), true, false},
		{"a neighbor is here", ndp(136), false, true},
		{"a ping by IPv6", packet.Message6(six, []byte{128, 0, 0, 0, 0, 1, 0, 1}), false, false},
	} {
		p, err := packet.Decode(c.frame)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.sent, concerns(p, true), "%s, sent", c.name)
		assert.Equal(t, c.received, concerns(p, false), "%s, received", c.name)
	}
}

// A lab that runs tells what happened in it: addresses, traffic, leases, the rules that
// were met, translated flows, and what rules with log saw.
func TestStatusTells(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	l, p := running(t, `bastion: 1
lab: told
segments:
  causeway: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  sluice:
    ports: [{role: wan, segment: causeway, address: 172.29.64.9/24}, {role: lan, segment: reedbed}]
    rules:
      - refuse tcp/25 from reedbed to outside log
      - allow any from reedbed to outside
guests:
  heron: reedbed
  otter: {segment: reedbed, static: 10.83.16.77/24, gateway: 10.83.16.1, dns: [10.83.16.1]}
`)
	heron := l.machines[p.Machine("heron")].space
	witness := l.live.Facts().Witness.Address
	_, err := heron.ping(t.Context(), witness, 0, "x")
	require.NoError(t, err)
	_, _, err = heron.fetch(t.Context(), netip.AddrPortFrom(witness, 25))
	require.Error(t, err, "the rule refuses it")
	got := l.heron().lookUp(t.Context(), netip.MustParseAddr("10.83.16.1"), "buoy.example")
	require.True(t, got.Answered)
	var s status.Lab
	assert.Eventually(t, func() bool { s = l.Status(); return len(s.Log) > 0 }, 2*time.Second, 20*time.Millisecond)
	assert.Equal(t, "1", s.Log[0].Rule[:1])
	assert.Equal(t, []string{"tcp", "lan", "wan"}, []string{s.Log[0].Protocol, s.Log[0].In, s.Log[0].Out})
	assert.Equal(t, netip.AddrPortFrom(witness, 25), s.Log[0].To)
	assert.EqualValues(t, 1, s.Rules[0].Hits.Packets)
	assert.True(t, s.Rules[0].Blocks)
	assert.EqualValues(t, 1, s.Rules[1].Hits.Packets)
	translated := false
	for _, f := range s.Flows {
		translated = translated || f.Protocol == "icmp" && f.Translated() && f.AnswerTo.Addr().String() == "172.29.64.9"
	}
	assert.True(t, translated, "%v", s.Flows)
	var leased []string
	for _, x := range s.Leases {
		leased = append(leased, x.Hostname+" "+x.Address.String()+" "+x.Server)
		assert.WithinDuration(t, time.Now().Add(8*time.Hour), x.Until, 5*time.Second)
	}
	require.Len(t, leased, 1)
	assert.Regexp(t, `^heron 10\.83\.16\.\d+ sluice$`, leased[0])
	for _, m := range s.Machines {
		assert.Equal(t, "kernel", m.How, m.Name)
		for _, a := range m.Adapters {
			assert.True(t, a.Address.IsValid() && a.Plugged, "%s %s", m.Name, a.Name)
			assert.Positive(t, a.Sent.Packets+a.Received.Packets, "%s %s", m.Name, a.Name)
		}
	}
	assert.Empty(t, s.Escapes)
}
