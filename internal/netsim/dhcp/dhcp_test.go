package dhcp

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
)

var addr = netip.MustParseAddr

func config() Config {
	return Config{
		Address: netip.MustParsePrefix(
			"10.83.16.1/24",
		), From: addr("10.83.16.50"), To: addr("10.83.16.53"), Router: addr("10.83.16.1"),
		DNS: []netip.Addr{addr("10.83.16.1")}, Domain: "saltmarsh.example", Time: time.Hour,
		Reservations: map[mac.Address]netip.Addr{{2, 9}: addr("10.83.16.20")},
	}
}

// bench joins clients with servers, and keeps the address each client holds.
type bench struct {
	servers []*Server
	held    map[*Client]netip.Addr
	taken   map[netip.Addr]bool // by machines that no server knows
	deaf    bool                // servers do not answer
	log     []dhcpv4.MessageType
}

func (b *bench) do(now time.Duration, c *Client, actions []Action) {
	for _, a := range actions {
		switch a.Kind {
		case Send:
			b.log = append(b.log, a.Message.MessageType())
			m, err := dhcpv4.FromBytes(a.Message.ToBytes()) // as it crosses a wire
			if err != nil {
				panic(err)
			}
			for i, s := range b.servers {
				if b.deaf || a.To != broadcast && a.To != s.Address.Addr() {
					continue
				}
				if r := s.Receive(now, m); r != nil {
					b.log = append(b.log, r.Message.MessageType())
					b.do(now, c, c.Receive(now, r.Message, mac.Address{2, 0xaa, byte(i)}, len(b.log)))
				}
			}
		case Probe:
			taken := b.taken[a.Address]
			for other, h := range b.held {
				taken = taken || other != c && h == a.Address
			}
			b.do(now, c, c.Probed(now, taken))
		case Configure:
			b.held[c] = a.Binding.Address.Addr()
		case Drop:
			delete(b.held, c)
		}
	}
}

func newBench(servers ...*Server) *bench {
	return &bench{servers: servers, held: map[*Client]netip.Addr{}, taken: map[netip.Addr]bool{}}
}

func TestFirstLease(t *testing.T) {
	b := newBench(NewServer(config()))
	c := &Client{MAC: mac.Address{2, 1}, Hostname: "heron"}
	b.do(0, c, c.Start(0))
	assert.Equal(t, []dhcpv4.MessageType{1, 2, 3, 5}, b.log, "discover, offer, request, ack")
	require.NotNil(t, c.Binding)
	assert.Equal(t, Binding{
		Address: netip.MustParsePrefix(
			"10.83.16.50/24",
		), Router: addr("10.83.16.1"), DNS: []netip.Addr{addr("10.83.16.1")},
		Domain: "saltmarsh.example",
		Server: addr("10.83.16.1"), ServerMAC: mac.Address{2, 0xaa, 0}, Duration: time.Hour, Frame: 4,
	}, *c.Binding)
	fixed := &Client{MAC: mac.Address{2, 9}}
	b.do(0, fixed, fixed.Start(0))
	assert.Equal(t, addr("10.83.16.20"), b.held[fixed], "reserved")
	assert.Equal(t, 2, b.servers[0].Leased(0))
}

// What is handed out is listed by address for as long as it is leased; who asks only for
// what goes beside an address gets none, and is answered where he says that he is, else
// everywhere.
func TestListed(t *testing.T) {
	b := newBench(NewServer(config()))
	s := b.servers[0]
	assert.Empty(t, s.List(0))
	for i := range 3 {
		c := &Client{MAC: mac.Address{2, byte(9 - i)}} // the first has a reservation
		b.do(0, c, c.Start(0))
	}
	var got []string
	for _, h := range s.List(0) {
		got = append(got, fmt.Sprint(h.Address, " ", h.Card, " ", h.Until))
	}
	assert.Equal(t, []string{"10.83.16.20 02:09:00:00:00:00 1h0m0s", "10.83.16.50 02:08:00:00:00:00 1h0m0s",
		"10.83.16.51 02:07:00:00:00:00 1h0m0s"}, got)
	assert.Empty(t, s.List(time.Hour+time.Second))
	for _, known := range []string{"", "10.83.16.77"} {
		m := (&Client{MAC: mac.Address{2, 5}}).message(0, dhcpv4.MessageTypeInform)
		want, to := broadcast, mac.Broadcast
		if known != "" {
			m.ClientIPAddr, want, to = toIP(addr(known)), addr(known), mac.Address{2, 5}
		}
		r := s.Receive(0, m)
		require.NotNil(t, r)
		assert.Equal(t, want, r.To)
		assert.Equal(t, to, r.ToMAC)
		assert.Zero(t, r.Message.IPAddressLeaseTime(0))
		assert.Len(t, s.List(0), 3)
	}
}

// A life of a lease, each step at its time: what the client sends and what
// state it is in afterwards.
func TestLife(t *testing.T) {
	s := NewServer(config())
	b := newBench(s)
	c := &Client{MAC: mac.Address{2, 1}}
	b.do(0, c, c.Start(0))
	at := func(d time.Duration) {
		t.Helper()
		b.log = nil
		deadline, ok := c.Deadline()
		require.True(t, ok)
		require.LessOrEqual(t, deadline, d, "state %d", c.State)
		b.do(d, c, c.Advance(d))
	}
	at(30 * time.Minute)
	assert.Equal(t, []dhcpv4.MessageType{3, 5}, b.log, "renewed at half its time")
	assert.Equal(t, Bound, c.State)
	b.deaf = true
	at(60 * time.Minute)
	assert.Equal(t, Renewing, c.State)
	at(30*time.Minute + 53*time.Minute)
	assert.Equal(t, Rebinding, c.State, "asks everybody at seven eighths")
	at(90 * time.Minute)
	assert.Empty(t, b.held, "given up at its end")
	assert.Equal(t, []dhcpv4.MessageType{1}, b.log, "and asked again")
	b.deaf = false
	at(100 * time.Minute)
	assert.Equal(t, addr("10.83.16.50"), b.held[c], "the same address again")
	b.do(0, c, c.Release(100*time.Minute))
	assert.Zero(t, s.Leased(100*time.Minute))
	assert.Empty(t, b.held)
	b.log = nil
	b.do(101*time.Minute, c, c.Restart(101*time.Minute))
	assert.Equal(t, []dhcpv4.MessageType{3, 5}, b.log, "after a restart it queries what it had")

	// The server has forgotten, and somebody else has the address: refused.
	b.servers[0] = NewServer(config())
	other := &Client{MAC: mac.Address{2, 2}}
	b.do(102*time.Minute, other, other.Start(102*time.Minute))
	b.log, c.Binding = nil, nil
	delete(b.held, c)
	b.do(103*time.Minute, c, c.Start(103*time.Minute))
	assert.Equal(t, addr("10.83.16.51"), b.held[c])
}

func TestRefusals(t *testing.T) {
	s := NewServer(config())
	b := newBench(s)
	c := &Client{MAC: mac.Address{2, 1}}
	b.taken[addr("10.83.16.50")] = true
	b.do(0, c, c.Start(0))
	assert.Contains(t, b.log, dhcpv4.MessageTypeDecline, "somebody has it already")
	at, _ := c.Deadline()
	b.do(at, c, c.Advance(at))
	assert.Equal(t, addr("10.83.16.51"), b.held[c])

	moved := &Client{MAC: mac.Address{2, 3}, last: addr("192.0.2.9")}
	b.log = nil
	b.do(at, moved, moved.Restart(at))
	assert.Equal(t, []dhcpv4.MessageType{3, 6}, b.log, "an address of another network is refused")
	assert.Equal(t, 1, moved.Refused)

	for i := range 9 { // two addresses are left
		x := &Client{MAC: mac.Address{2, 7, byte(i)}}
		b.do(at, x, x.Start(at))
	}
	assert.Equal(t, 3, len(b.held), "the pool is used up, without a word")
	again := &Client{MAC: mac.Address{2, 8}}
	later := at + 2*time.Hour
	clear(b.held)
	clear(b.taken)
	b.do(later, again, again.Start(later))
	assert.NotZero(t, b.held[again], "what has run out is given anew")
}

// Whatever clients do and servers miss, no address is ever bound twice, and
// every bound one is in the pool or reserved.
func TestNoAddressTwice(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := newBench(NewServer(config()))
		if rapid.Bool().Draw(t, "two servers") {
			c := config()
			c.Address, c.From, c.To = netip.MustParsePrefix("10.83.16.2/24"), addr("10.83.16.52"), addr("10.83.16.60")
			b.servers = append(b.servers, NewServer(c))
		}
		var clients []*Client
		for i := range rapid.IntRange(1, 8).Draw(t, "clients") {
			clients = append(clients, &Client{MAC: mac.Address{2, byte(i + 6)}})
		}
		now := time.Second
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now += time.Duration(rapid.Int64Range(0, int64(40*time.Minute)).Draw(t, "wait"))
			for _, c := range clients { // nobody sleeps through the end of a lease
				for {
					at, ok := c.Deadline()
					if !ok || at > now {
						break
					}
					b.do(at, c, c.Advance(at))
				}
			}
			c := rapid.SampledFrom(clients).Draw(t, "client")
			b.deaf = rapid.IntRange(0, 3).Draw(t, "deaf") == 0
			switch rapid.IntRange(0, 2).Draw(t, "do") {
			case 0:
				b.do(now, c, c.Release(now))
			case 1:
				if c.Binding == nil {
					b.do(now, c, c.Start(now))
				}
			}
			seen := map[netip.Addr]bool{}
			for c, a := range b.held {
				require.False(t, seen[a], "%s twice", a)
				seen[a] = true
				require.True(
					t,
					a == addr("10.83.16.20") || b.servers[0].inPool(a) || b.servers[len(b.servers)-1].inPool(a),
				)
				require.NotNil(t, c.Binding)
			}
		}
	})
}

func FuzzMessages(f *testing.F) {
	c := &Client{MAC: mac.Address{2, 1}}
	for _, a := range c.Start(0) {
		f.Add(a.Message.ToBytes())
	}
	s := NewServer(config())
	f.Add(s.Receive(0, c.message(0, dhcpv4.MessageTypeDiscover)).Message.ToBytes())
	for kind := dhcpv4.MessageTypeDiscover; kind <= dhcpv4.MessageTypeInform; kind++ {
		f.Add(c.message(0, kind).ToBytes())
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := dhcpv4.FromBytes(data)
		if err != nil {
			return
		}
		s := NewServer(config())
		if r := s.Receive(0, m); r != nil {
			_, _ = fmt.Sprint(r.Message.Summary()), r.Message.ToBytes()
			require.True(t, r.To.Is4(), "an answer goes somewhere")
		}
		c := &Client{MAC: mac.Address{2, 1}}
		c.Start(0)
		c.xid, m.ClientHWAddr = m.TransactionID, c.MAC[:]
		for i := range 3 {
			for _, a := range c.Receive(0, m, mac.Address{}, i) {
				if a.Kind == Probe {
					c.Probed(0, data[0]%2 == 0)
				}
			}
		}
	})
}

// What DHCPv6 tells beside an address comes back as it was said, to whoever
// asked and nobody else.
func TestInformation(t *testing.T) {
	asker, server := mac.Address{2, 1}, mac.Address{2, 2}
	dns := []netip.Addr{netip.MustParseAddr("fd00::1"), netip.MustParseAddr("fd00::2")}
	for _, domain := range []string{"", "saltmarsh.example"} {
		answer, ok := Inform(InformationRequest(asker, [3]byte{1, 2, 3}), server, dns, domain)
		require.True(t, ok)
		got, name, ok := ReadInformation(answer, [3]byte{1, 2, 3})
		require.True(t, ok)
		assert.Equal(t, dns, got)
		assert.Equal(t, domain, name)
		_, _, ok = ReadInformation(answer, [3]byte{1, 2, 4})
		assert.False(t, ok)
		_, ok = Inform(answer, server, dns, domain)
		assert.False(t, ok, "an answer is no question")
	}
}
