package host

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
)

func prefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }
func address(text string) netip.Addr  { return netip.MustParseAddr(text) }

// The way to a destination: its network, else the longest route, else the first
// gateway that is not known to be dead.
func TestWays(t *testing.T) {
	n := New("gate")
	lan := n.AddPort(Port{Name: "lan", Adapter: 1, MAC: mac.Address{2, 1}, Address: prefix("10.83.16.1/24")})
	first := n.AddPort(Port{Name: "first", Adapter: 2, MAC: mac.Address{2, 2}, Address: prefix("172.29.64.2/24"),
		Gateway: address("172.29.64.1")})
	second := n.AddPort(Port{Name: "second", Adapter: 3, MAC: mac.Address{2, 3}, Address: prefix("172.29.65.2/24"),
		Gateway: address("172.29.65.1"), Also: []netip.Addr{address("172.29.65.9")}})
	n.Routes = []Route{
		{prefix("10.99.0.0/16"), address("10.83.16.9")},
		{prefix("10.99.7.0/24"), address("172.29.65.7")},
		{prefix("10.98.0.0/16"), address("192.0.2.1")},
	}
	way := func(to string) string {
		p, hop := n.Route(address(to))
		if p == nil {
			return "none"
		}
		return p.Name + " " + hop.String()
	}
	assert.Equal(t, "lan 10.83.16.44", way("10.83.16.44"))
	assert.Equal(t, "lan 10.83.16.9", way("10.99.1.1"))
	assert.Equal(t, "second 172.29.65.7", way("10.99.7.1"), "the longer route")
	assert.Equal(t, "first 172.29.64.1", way("10.98.1.1"), "a route whose next hop is nowhere is none")
	assert.Equal(t, "first 172.29.64.1", way("203.0.113.80"))
	first.Dead = true
	assert.Equal(t, "second 172.29.65.1", way("203.0.113.80"))
	second.Dead = true
	assert.Equal(t, "first 172.29.64.1", way("203.0.113.80"), "when all are dead, the first")
	n.SetLink(0, 2, false)
	assert.Equal(t, "second 172.29.65.1", way("203.0.113.80"))
	n.SetLink(0, 3, false)
	assert.Equal(t, "none", way("203.0.113.80"))
	n.SetLink(0, 2, true)
	n.SetLink(0, 3, true)

	// What was remembered of the links goes with a link, and comes with a new port.
	assert.Equal(t, "lan 10.83.16.44", way("10.83.16.44"))
	n.SetLink(0, 1, false)
	assert.Equal(t, "first 172.29.64.1", way("10.83.16.44"))
	n.SetLink(0, 1, true)
	assert.Equal(t, "lan 10.83.16.44", way("10.83.16.44"))
	n.AddPort(Port{Name: "near", Adapter: 4, MAC: mac.Address{2, 4}, Address: prefix("10.83.16.41/29")})
	assert.Equal(t, "near 10.83.16.44", way("10.83.16.44"), "the longest prefix")
	for i := range 3 * maxNear / 2 { // forged addresses do not pile up
		n.Route(netip.AddrFrom4([4]byte{11, byte(i >> 16), byte(i >> 8), byte(i)}))
	}
	assert.LessOrEqual(t, len(n.near), maxNear)

	assert.True(t, n.Local(address("172.29.65.9")), "one more address")
	n.Receive(
		0,
		3,
		mustDecode(
			packet.ARP(packet.ARPRequest, mac.Broadcast, mac.Address{2, 9}, address("172.29.65.1"), mac.Address{},
				address("172.29.65.9")),
		),
	)
	require.Len(t, n.Drain(), 1, "it answers for it")
	_ = lan
}

func mustDecode(frame []byte) *packet.Packet {
	p, err := packet.Decode(frame)
	if err != nil {
		panic(err)
	}
	return p
}

// A way out is dead after three silences of its next hop, and alive after one
// answer.
func TestWatch(t *testing.T) {
	gate, router := New("gate"), host("router", 1)
	port := gate.AddPort(
		Port{
			Adapter: 1,
			MAC:     mac.Address{2, 7},
			Address: prefix("10.83.16.2/24"),
			Gateway: router.Ports()[0].Address.Addr(),
		},
	)
	c := &cord{nodes: []*Node{gate, router}}
	gate.Watch(port)
	c.run(10 * time.Second)
	assert.False(t, port.Dead)
	router.SetLink(c.now, 1, false)
	c.run(c.now + 4*time.Second)
	assert.False(t, port.Dead, "not after the first silence")
	c.run(c.now + 10*time.Second)
	assert.True(t, port.Dead)
	router.SetLink(c.now, 1, true)
	c.run(c.now + 6*time.Second)
	assert.False(t, port.Dead)
}

// A bridge learns, floods what it does not know, and passes ARP and IPv4 only.
func TestBridge(t *testing.T) {
	n := New("veil")
	var ports []*Port
	for i := range 3 {
		ports = append(ports, n.AddPort(Port{Adapter: i + 1, MAC: mac.Address{2, 0, byte(i + 1)}}))
	}
	n.Join(ports...)
	a, b := mac.Address{2, 0xa}, mac.Address{2, 0xb}
	send := func(adapter int, from, to mac.Address, kind string) (out []int) {
		var f []byte
		switch kind {
		case "arp":
			f = packet.ARP(packet.ARPRequest, to, from, address("10.83.16.5"), mac.Address{}, address("10.83.16.6"))
		case "ping":
			f = packet.Echo(
				packet.IP{Source: address("10.83.16.5"), Destination: address("10.83.16.6")},
				false,
				1,
				1,
				nil,
			)
			packet.SetLink(f, to, from)
		default:
			f = packet.ARP(packet.ARPRequest, to, from, address("10.83.16.5"), mac.Address{}, address("10.83.16.6"))
			f[12], f[13] = 0x86, 0xdd
		}
		p, _ := packet.Decode(f)
		n.Receive(0, adapter, p)
		for _, e := range n.Drain() {
			out = append(out, e.Adapter)
		}
		return out
	}
	assert.Equal(t, []int{2, 3}, send(1, a, mac.Broadcast, "arp"), "to all others")
	assert.Equal(t, []int{1}, send(2, b, a, "ping"), "to where it was seen")
	assert.Equal(t, []int{2}, send(1, a, b, "ping"))
	assert.Empty(t, send(2, b, b, "ping"), "not back to where it came from")
	assert.Empty(t, send(1, a, mac.Broadcast, "ipv6"), "nothing but ARP and IPv4")
	n.SetLink(0, 3, false)
	assert.Equal(t, []int{2}, send(1, a, mac.Address{2, 0xc}, "ping"), "nothing to an unplugged port")
}
