//go:build linux

package kernel

import (
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/status"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/packet"
)

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
		{"a DHCP request", packet.Datagram(ip, dhcp.ClientPort, dhcp.ServerPort, []byte("x")), true, true},
		{"a lease given", packet.Datagram(ip, dhcp.ServerPort, dhcp.ClientPort, []byte("x")), true, true},
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
	heron := l.stacks.machines[p.Machine("heron")].space
	witness := l.live.Facts().Witness.Address
	_, err := heron.ping(t.Context(), witness, 0, "x")
	require.NoError(t, err)
	_, _, err = heron.fetch(t.Context(), netip.AddrPortFrom(witness, 25), nil)
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
