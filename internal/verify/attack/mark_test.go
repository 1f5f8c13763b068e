package attack

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Everything that is forged for a witness tells its run and its place by itself, also when a
// translation has given it another source on its way; each next hop has its own place.
func TestForgedTellTheirRun(t *testing.T) {
	p := planned(t, `
bastion: 1
lab: mudflat
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
  mire: {within: fen, reach: isolated, vlan: 40, subnet: 10.83.40.0/24}
appliances:
  weir:
    ports: [{role: wan, segment: moor}, {role: lan, segment: fen}, {role: lan, name: p1, segment: mire, over: lan}]
    rules: ["allow udp/53,udp/123,udp/161,tcp/22 from fen to outside"]
guests: {rail: fen, wren: fen}
`)
	rail := p.Machine("rail")
	known := Known{
		Witness:  reachability.Witness,
		Witness6: reachability.Witness6,
		Run:      0xfeed5eed,
		Addresses: map[claims.Ref][]netip.Addr{
			claims.RefTo(rail.Adapters[0]): {netip.MustParseAddr("10.83.17.9"), netip.MustParseAddr("2001:db8:17::9")}},
	}
	list := Escape(p, rail, known)
	require.Greater(t, len(list), 100)
	hops := map[string]bool{}
	for i, a := range list {
		require.Len(t, a.Hops, 1, a.Tried)
		require.True(t, strings.HasSuffix(a.Tried, ", with "+a.Hops[0].String()+" as next hop"), a.Tried)
		hops[a.Hops[0].Name] = true
		pkt, err := packet.Decode(a.Aim(0))
		require.NoError(t, err, a.Tried)
		if pkt.IPv4 && !pkt.Fragment && (pkt.Proto == packet.UDP || pkt.Proto == packet.TCP) {
			pkt.SetSource(netip.MustParseAddr("172.29.70.9"), 61000)
		}
		m, ok := MarkOf(pkt)
		if !ok {
			m, ok = MarkIn(pkt.Bytes)
		}
		assert.True(t, ok, a.Tried)
		assert.Equal(t, Mark{known.Run, i}, m, a.Tried)
	}
	assert.Equal(t, map[string]bool{"weir": true, "wren": true, "": true}, hops)
}

func FuzzMarkIn(f *testing.F) {
	f.Add([]byte(Mark{1, 2}.word()))
	f.Add([]byte("bastion-escape-0000000x-00000001"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if m, ok := MarkIn(data); ok {
			assert.Contains(t, strings.ToLower(string(data)), m.word())
		}
	})
}

// What answers an attempt to get inside is told from what only looks so.
func TestAnswers(t *testing.T) {
	own, guest := netip.MustParseAddr("172.29.70.1"), netip.MustParseAddr("10.83.17.9")
	var list Attempts
	for i, s := range []lab.Service{{Proto: lab.TCP, From: 80}, {Proto: lab.UDP, From: 7}, {Proto: lab.ICMP}} {
		list = append(list, Attempt{Frame: forge(mac.Address{2}, own, guest, s, Mark{Attempt: i})})
	}
	back := packet.IP{Source: guest, Destination: own}
	for name, c := range map[string]struct {
		frame []byte
		want  int
	}{
		"handshake":           {packet.Segment(back, packet.SegmentFields{Source: 80, Destination: 40000, Ack: markSYN<<24 + 1, Flags: packet.SYN | packet.ACK}, nil), 0},
		"another's handshake": {packet.Segment(back, packet.SegmentFields{Source: 80, Destination: 40000, Ack: 7, Flags: packet.SYN | packet.ACK}, nil), -1},
		"reset": {packet.Segment(back, packet.SegmentFields{Source: 80, Destination: 40000, Ack: markSYN<<24 + 1,
			Flags: packet.RST | packet.ACK}, nil), -1},
		"datagram":           {packet.Datagram(back, 7, 40000, []byte("hello")), 1},
		"another port":       {packet.Datagram(back, 8, 40000, []byte("hello")), -1},
		"echo":               {packet.Echo(back, true, 0xb5b5, 2, []byte(Mark{Attempt: 2}.word())), 2},
		"another echo":       {packet.Echo(back, true, 0xb5b5, 2, []byte("abc")), -1},
		"nothing listens":    {packet.ICMPError(back, 3, 3, list[1].Frame[14:]), 1},
		"the router says":    {packet.ICMPError(packet.IP{Source: netip.MustParseAddr("172.29.70.9"), Destination: own}, 3, 13, list[1].Frame[14:]), -1},
		"what was sent":      {list[1].Frame, -1},
		"another machine is": {packet.Datagram(packet.IP{Source: own, Destination: guest}, 7, 40000, nil), -1},
	} {
		p, err := packet.Decode(c.frame)
		require.NoError(t, err, name)
		n, ok := list.Answers(p)
		assert.Equal(t, c.want >= 0, ok, name)
		if ok {
			assert.Equal(t, c.want, n, name)
		}
	}
}
