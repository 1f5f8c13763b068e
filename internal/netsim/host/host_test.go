package host

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/packet"
)

// cord is a wire that everybody hears. Frames go through mangle, which may
// drop, double or delay them.
type cord struct {
	nodes  []*Node
	now    time.Duration
	queue  []sent
	count  int
	mangle func(n int) (copies int, delay time.Duration)
	frames []*packet.Packet
}

type sent struct {
	at   time.Duration
	from *Node
	p    *packet.Packet
}

func (c *cord) collect() {
	for _, n := range c.nodes {
		for _, e := range n.Drain() {
			p, err := packet.Decode(e.Frame)
			if err != nil {
				panic(err)
			}
			c.count++
			p.Number = c.count
			c.frames = append(c.frames, p)
			copies, delay := 1, time.Duration(0)
			if c.mangle != nil {
				copies, delay = c.mangle(c.count)
			}
			for range copies {
				c.queue = append(c.queue, sent{c.now + time.Millisecond + delay, n, p})
			}
		}
	}
}

func (c *cord) run(until time.Duration) {
	for {
		c.collect()
		slices.SortStableFunc(c.queue, func(a, b sent) int { return int(a.at - b.at) })
		next := until + 1
		if len(c.queue) > 0 {
			next = c.queue[0].at
		}
		var who *Node
		for _, n := range c.nodes {
			if at, ok := n.Deadline(); ok && at < next {
				next, who = max(at, c.now), n
			}
		}
		if next > until {
			c.now = until
			return
		}
		c.now = next
		if who != nil {
			who.Advance(c.now)
			continue
		}
		s := c.queue[0]
		c.queue = c.queue[1:]
		for _, n := range c.nodes {
			if n != s.from {
				n.Receive(c.now, 1, s.p)
			}
		}
	}
}

func host(name string, last byte) *Node {
	n := New(name)
	n.AddPort(Port{Adapter: 1, MAC: mac.Address{2, 0, 0, 0, 0, last},
		Address: netip.PrefixFrom(
			netip.AddrFrom4([4]byte{10, 83, 16, last}),
			24,
		), Gateway: netip.AddrFrom4([4]byte{10, 83, 16, 1})})
	return n
}

func at(n *Node, port uint16) netip.AddrPort {
	return netip.AddrPortFrom(n.Ports()[0].Address.Addr(), port)
}

func pair() (*cord, *Node, *Node) {
	a, b := host("heron", 20), host("otter", 21)
	return &cord{nodes: []*Node{a, b}}, a, b
}

func TestPingUDPNames(t *testing.T) {
	c, a, b := pair()
	b.HandleUDP(7, func(d Datagram) { b.SendUDP(b.Now(), 7, d.Remote, append([]byte("you said "), d.Data...)) })
	b.ServeNames(&dns.Resolver{Names: map[string]netip.Addr{"buoy.example.": netip.MustParseAddr("203.0.113.80")}})
	ping := a.Ping(0, at(b, 0).Addr(), 0, time.Second, []byte("x"))
	nobody := a.Ping(0, netip.MustParseAddr("10.83.16.99"), 0, 5*time.Second, nil)
	echo := a.Ask(0, at(b, 7), []byte("hello"), time.Second)
	shut := a.Ask(0, at(b, 9), []byte("hello"), time.Second)
	name := a.LookUp(0, at(b, 0).Addr(), "buoy.example")
	who := a.Inquire(0, a.Ports()[0], at(b, 0).Addr())
	c.run(20 * time.Second)
	assert.True(t, ping.Answered && ping.TTL == 64 && ping.Frame > 0)
	assert.Equal(t, outcome.Of(outcome.NoNeighbor), nobody.Outcome)
	assert.Equal(t, "you said hello", string(echo.Data))
	assert.Equal(t, outcome.By(outcome.Unreachable, netip.MustParseAddr("10.83.16.21")), shut.Outcome)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("203.0.113.80")}, name.Addrs)
	assert.Equal(t, []mac.Address{b.Ports()[0].MAC}, who.Answers)
	alone := New("alone")
	assert.Equal(t, outcome.Of(outcome.NoRoute), alone.Ping(0, at(a, 0).Addr(), 0, time.Second, nil).Outcome)
	assert.True(t, alone.Dial(0, at(a, 80)).Done && alone.Ask(0, at(a, 7), nil, time.Second).Done)
}

func TestForwarding(t *testing.T) {
	a, r, b := host("heron", 20), host("router", 1), New("buoy")
	r.Forwards = true
	far := netip.MustParsePrefix("203.0.113.1/24")
	r.AddPort(Port{Adapter: 2, MAC: mac.Address{2, 1}, Address: far})
	_ = b
	p, err := packet.Decode(
		packet.Echo(packet.IP{Source: at(a, 0).Addr(), Destination: netip.MustParseAddr("203.0.113.80")}, false, 1, 1,
			nil),
	)
	require.NoError(t, err)
	packet.SetLink(p.Bytes, r.Ports()[0].MAC, a.Ports()[0].MAC)
	for _, c := range []struct {
		what string
		edit func(p *packet.Packet)
		want string // the frame that leaves, by adapter
	}{
		{"forwarded", func(*packet.Packet) {}, "2 ARP: who has 203.0.113.80? from 02:01:00:00:00:00"},
		{"to everybody on the link", func(p *packet.Packet) { packet.SetLink(p.Bytes, mac.Broadcast, a.Ports()[0].MAC) }, ""},
		{"to another station", func(p *packet.Packet) { packet.SetLink(p.Bytes, mac.Address{2, 9}, a.Ports()[0].MAC) }, ""},
		{"one hop to live", func(p *packet.Packet) {
			for p.TTL > 1 {
				p.Hop()
			}
		}, "1 ARP: who has 10.83.16.20? from 02:00:00:00:00:01"},
		{"one hop to live and no route", func(p *packet.Packet) { // it knows no way, and :
			for p.TTL > 1 {
				p.Hop()
			}
			p.SetDestination(netip.MustParseAddr("198.51.100.1"), 1)
		}, "1 ARP: who has 10.83.16.20? from 02:00:00:00:00:01"},
		{"from its own address", func(p *packet.Packet) { p.SetSource(r.Ports()[0].Address.Addr(), 1) }, ""},
		{"from its own address on the other side", func(p *packet.Packet) { p.SetSource(far.Addr(), 1) }, ""},
		{"no route", func(p *packet.Packet) { p.SetDestination(netip.MustParseAddr("198.51.100.1"), 1) },
			"1 ARP: who has 10.83.16.20? from 02:00:00:00:00:01"},
	} {
		r.Ports()[0].neighbors, r.Ports()[1].neighbors = nil, nil
		r.Ports()[0].Gateway = netip.Addr{}
		q := p.Copy()
		c.edit(q)
		q, _ = packet.Decode(q.Bytes)
		r.Receive(0, 1, q)
		got := ""
		for _, e := range r.Drain() {
			f, _ := packet.Decode(e.Frame)
			got += fmt.Sprint(e.Adapter, " ", f)
		}
		assert.Equal(t, c.want, got, c.what)
	}
	r.Forwards = false
	r.Receive(0, 1, p)
	assert.Empty(t, r.Drain(), "a host passes nothing on")
}

// A survey hears every server until it is ended; its end forgets nobody else's.
func TestSurveys(t *testing.T) {
	c, a, b := pair()
	b.Ports()[0].Server = dhcp.NewServer(
		dhcp.Config{Address: b.Ports()[0].Address, From: netip.MustParseAddr("10.83.16.50"),
			To: netip.MustParseAddr("10.83.16.60"), Time: time.Hour},
	)
	port := a.Ports()[0]
	first := a.SurveyServers(0, port)
	c.run(time.Second)
	require.Len(t, first.Offers, 1)
	assert.Equal(t, b.Ports()[0].MAC, first.Offers[0].ServerMAC)
	second := a.SurveyServers(time.Second, port)
	a.EndSurvey(port, first)
	c.run(2 * time.Second)
	assert.Len(t, first.Offers, 1)
	assert.Len(t, second.Offers, 1)
	a.EndSurvey(port, second)
	assert.Empty(t, port.surveys)
}

func TestLeaseOnPort(t *testing.T) {
	server, client := host("sluice", 1), New("heron")
	server.Ports()[0].Server = dhcp.NewServer(
		dhcp.Config{Address: server.Ports()[0].Address, From: netip.MustParseAddr("10.83.16.50"),
			To: netip.MustParseAddr("10.83.16.60"), Time: time.Hour},
	)
	m := mac.Address{2, 7}
	changes := 0
	port := client.AddPort(Port{Adapter: 1, MAC: m, Client: &dhcp.Client{MAC: m}, Changed: func() { changes++ }})
	squatter := host("squatter", 50) // has the first address of the pool
	c := &cord{nodes: []*Node{server, client, squatter}}
	client.StartLease(0, port)
	c.run(60 * time.Second)
	assert.Equal(t, "10.83.16.51/24", port.Address.String(), "the address in use was declined")
	survey := client.SurveyServers(c.now, port)
	c.run(70 * time.Second)
	require.Len(t, survey.Offers, 1)
	assert.Equal(t, server.Ports()[0].MAC, survey.Offers[0].ServerMAC)
	client.SetLink(c.now, 1, false)
	assert.False(t, port.Up())
	client.SetLink(c.now, 1, true)
	c.run(100 * time.Second)
	assert.Equal(t, "10.83.16.51/24", port.Address.String())
	client.ReleaseLease(c.now, port)
	c.run(101 * time.Second)
	assert.False(t, port.Address.IsValid())
	assert.Equal(t, 3, changes)
}

func TestPages(t *testing.T) {
	c, a, b := pair()
	b.ServePages(80, func(from netip.AddrPort) string { return "hello " + from.Addr().String() })
	page, shut := a.Fetch(0, at(b, 80), "/", nil), a.Fetch(0, at(b, 81), "/", nil)
	c.run(10 * time.Second)
	assert.Equal(t, []any{"HTTP/1.0 200 OK", "hello 10.83.16.20", true}, []any{page.Status, page.Body, page.Connected})
	assert.Equal(t, outcome.By(outcome.Refused, netip.MustParseAddr("10.83.16.21")), shut.Outcome)
	b.SetLink(c.now, 1, false)
	silent := a.Fetch(c.now, at(b, 80), "/", nil)
	c.run(10 * time.Minute)
	assert.Equal(t, outcome.Of(outcome.NoAnswer), silent.Outcome)
	assert.Empty(t, a.conns)
	assert.Empty(t, b.conns, "TIME-WAIT ends")
}

// What one end writes the other end reads, whole and in order, over a wire
// that loses, doubles and reorders; and both ends close.
func TestTCPDelivers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c, a, b := pair()
		seed := rapid.Uint32().Draw(t, "seed") | 1
		loss := rapid.Uint32Range(0, 25).Draw(t, "loss")
		c.mangle = func(int) (int, time.Duration) {
			seed ^= seed << 13
			seed ^= seed >> 17
			seed ^= seed << 5
			copies := 1
			if r := seed % 100; r < loss {
				copies = 0
			} else if r < 2*loss {
				copies = 2
			}
			return copies, time.Duration(seed>>8%4) * time.Millisecond
		}
		up := bytes.Repeat(rapid.SliceOfN(rapid.Byte(), 1, 50).Draw(t, "up"), rapid.IntRange(0, 400).Draw(t, "times"))
		down := []byte("thank you")
		var gotUp, gotDown []byte
		var served *Conn
		b.Listen(80, func(s *Conn) {
			s.OnData = func(d []byte) { gotUp = append(gotUp, d...) }
			s.OnClose = func() { s.Write(down); s.Close() }
			s.OnDone = func() { served = s }
		})
		conn := a.Dial(0, at(b, 80))
		conn.OnData = func(d []byte) { gotDown = append(gotDown, d...) }
		conn.unsent = slices.Clone(up)
		conn.Close()
		c.run(time.Hour)
		// Either end gives up when five tries in a row were lost; the other then
		// waits for what never comes.
		if !conn.Outcome.Is(outcome.OK) || served != nil && !served.Outcome.Is(outcome.OK) {
			require.NotZero(t, loss, "%s: %v", conn.Outcome, c.frames)
			require.True(t, bytes.HasPrefix(up, gotUp) && bytes.HasPrefix(down, gotDown))
			return
		}
		require.True(t, bytes.Equal(up, gotUp), "%d of %d bytes", len(gotUp), len(up))
		require.Equal(t, down, gotDown)
		require.True(t, conn.Done && served != nil)
		for _, f := range c.frames {
			require.True(t, f.Type == packet.TypeARP || f.TransportValid())
		}
	})
}

// No frame, however strange, crashes a node or makes it answer with an
// invalid one.
func FuzzReceive(f *testing.F) {
	c, a, b := pair()
	b.ServePages(80, func(netip.AddrPort) string { return "x" })
	a.Fetch(0, at(b, 80), "/", nil)
	a.Ping(0, at(b, 0).Addr(), 1, time.Second, []byte("x"))
	c.run(time.Second)
	for _, p := range c.frames {
		f.Add(p.Bytes, p.Bytes)
	}
	for kind := dhcpv4.MessageTypeDiscover; kind <= dhcpv4.MessageTypeInform; kind++ {
		m, err := dhcpv4.New(dhcpv4.WithHwAddr([]byte{2, 0, 0, 0, 0, 9}), dhcpv4.WithMessageType(kind))
		require.NoError(f, err)
		ask := packet.Datagram(
			packet.IP{Source: netip.IPv4Unspecified(), Destination: everyone},
			dhcp.ClientPort,
			dhcp.ServerPort,
			m.ToBytes(),
		)
		packet.SetLink(ask, mac.Broadcast, mac.Address{2, 0, 0, 0, 0, 9})
		f.Add(ask, ask)
	}
	question, err := dns.Question(7, "buoy.example")
	require.NoError(f, err)
	name := packet.Datagram(packet.IP{Source: at(a, 0).Addr(), Destination: at(b, 0).Addr()}, 4000, dns.Port, question)
	packet.SetLink(name, b.Ports()[0].MAC, a.Ports()[0].MAC)
	f.Add(name, name)
	f.Fuzz(func(t *testing.T, x, y []byte) {
		_, a, b := pair()
		b.Forwards = true
		b.ServePages(80, func(netip.AddrPort) string { return "x" })
		b.ServeNames(&dns.Resolver{})
		b.Ports()[0].Server = dhcp.NewServer(
			dhcp.Config{Address: b.Ports()[0].Address, From: at(b, 0).Addr(), To: at(b, 0).Addr()},
		)
		a.Fetch(0, at(b, 80), "/", nil)
		a.SurveyServers(0, a.Ports()[0])
		for i, data := range [][]byte{x, y, x} {
			for _, n := range []*Node{a, b} {
				if p, err := packet.Decode(data); err == nil {
					n.Receive(time.Duration(i)*time.Second, 1, p)
				}
				n.Advance(time.Duration(i) * time.Second)
				for _, e := range n.Drain() {
					p, err := packet.Decode(e.Frame)
					if err != nil || p.IPv4 && !p.TransportValid() && p.Proto != packet.TCP && p.Proto != packet.UDP {
						t.Fatalf("%s sent %x: %v", n.Name, e.Frame, err)
					}
				}
			}
		}
	})
}
