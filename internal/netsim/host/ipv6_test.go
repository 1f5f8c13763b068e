package host

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/packet"
)

// link joins nodes by adapter 1 and runs them to a time; lose drops frames.
func link(to time.Duration, lose func(frame int) bool, nodes ...*Node) {
	sent := 0
	for now := time.Duration(0); now <= to; now += 100 * time.Millisecond {
		for _, n := range nodes {
			if at, ok := n.Deadline(); ok && at <= now {
				n.Advance(now)
			}
		}
		for busy := true; busy; {
			busy = false
			for _, n := range nodes {
				for _, e := range append([]Emission(nil), n.Drain()...) {
					busy = true
					if sent++; lose != nil && lose(sent) {
						continue
					}
					for _, o := range nodes {
						if o != n {
							p, _ := packet.Decode(e.Frame)
							o.Receive(now, 1, p)
						}
					}
				}
			}
		}
	}
}

var (
	prefix6 = netip.MustParsePrefix("fd00:1:2:3::/64")
	own6    = netip.MustParsePrefix("fd00:1:2:3::1/64")
)

func router6() *Node {
	n := New("router")
	n.Forwards = true
	n.AddPort(Port{Adapter: 1, MAC: mac.Address{2, 1},
		IPv6: &IPv6{Addresses: []netip.Prefix{own6}, Announces: &Announcement{Prefix: prefix6, Lifetime: time.Hour,
			DNS: []netip.Addr{own6.Addr()}, Domain: "a.example"}}})
	n.ServeInformation()
	return n
}

func guest6(id byte) *Node {
	n := New("guest")
	n.AddPort(Port{Adapter: 1, MAC: mac.Address{2, id}, IPv6: &IPv6{Accepts: true}})
	return n
}

// A guest finds router, prefix and resolvers, also when frames are lost, and
// reaches the router and another guest; it gives up nothing.
func TestSix(t *testing.T) {
	for _, every := range []int{0, 3, 5} {
		r, a, b := router6(), guest6(7), guest6(8)
		for _, n := range []*Node{r, a, b} {
			n.StartSix(0, n.Ports()[0])
		}
		link(50*time.Second, func(frame int) bool { return every > 0 && frame%every == 0 }, r, a, b)
		for _, n := range []*Node{a, b} {
			s := n.Ports()[0].IPv6
			assert.Equal(t, n.Ports()[0].MAC.LinkLocal(), s.Link)
			assert.Equal(t, []netip.Prefix{netip.PrefixFrom(n.Ports()[0].MAC.In(prefix6), 64)}, s.Addresses)
			assert.Equal(t, mac.Address{2, 1}.LinkLocal(), s.Router)
			assert.Equal(t, []netip.Addr{own6.Addr()}, s.DNS)
			assert.Equal(t, "a.example", s.Domain)
		}
		for _, to := range []netip.Addr{own6.Addr(), b.Ports()[0].IPv6.Addresses[0].Addr()} {
			p := a.Ping(50*time.Second, to, 0, time.Second, []byte("x"))
			b.HandleUDP(9, func(d Datagram) {})
			link(60*time.Second, nil, r, a, b)
			assert.True(t, p.Answered, "%s: %s", to, p.Outcome)
		}
		far := a.Ping(60*time.Second, netip.MustParseAddr("2001:db8::1"), 0, time.Second, nil)
		link(70*time.Second, nil, r, a, b)
		assert.Equal(t, outcome.By(outcome.Unreachable, netip.MustParseAddr("fd00:1:2:3::1")), far.Outcome)
	}
}

// Of two with the same hardware address neither takes the address, and nothing
// from beyond the link is believed.
func TestSixDoubt(t *testing.T) {
	a, b := guest6(7), guest6(7)
	b.Ports()[0].MAC = mac.Address{2, 7}
	a.StartSix(0, a.Ports()[0])
	b.StartSix(0, b.Ports()[0])
	// A switch would pass the frames: the sender's own address is not a reason to look away here.
	for _, n := range []*Node{a, b} {
		for _, e := range append([]Emission(nil), n.Drain()...) {
			p, _ := packet.Decode(e.Frame)
			p.From = mac.Address{2, 99}
			for _, o := range []*Node{a, b} {
				if o != n {
					o.Receive(0, 1, p)
				}
			}
		}
	}
	a.Advance(2 * time.Second)
	b.Advance(2 * time.Second)
	assert.False(t, a.Ports()[0].IPv6.Link.IsValid())
	assert.Equal(t, 1, a.Ports()[0].IPv6.Dropped)

	r, g := router6(), guest6(5)
	r.StartSix(0, r.Ports()[0])
	g.StartSix(0, g.Ports()[0])
	r.Advance(time.Second)
	for _, e := range append([]Emission(nil), r.Drain()...) {
		p, _ := packet.Decode(append([]byte(nil), e.Frame...))
		p.Hop() // as if a router had passed it on
		g.Receive(time.Second, 1, p)
	}
	assert.Empty(t, g.Ports()[0].IPv6.Heard)
}

// Whatever arrives, nothing stops the node.
func FuzzSix(f *testing.F) {
	for _, n := range []*Node{router6(), guest6(7)} {
		n.StartSix(0, n.Ports()[0])
		n.Advance(time.Second)
		for _, e := range n.Drain() {
			f.Add(append([]byte(nil), e.Frame...))
		}
	}
	f.Fuzz(func(t *testing.T, frame []byte) {
		for _, n := range []*Node{router6(), guest6(7)} {
			n.StartSix(0, n.Ports()[0])
			n.Advance(time.Second)
			if p, err := packet.Decode(frame); err == nil {
				n.Receive(time.Second, 1, p)
			}
			n.Drain()
		}
	})
}
