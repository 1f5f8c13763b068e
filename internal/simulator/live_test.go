package simulator

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
)

// bench is a lab around one machine that is real: here a node outside the lab, on whose
// adapters frames come and go as on real ones.
type bench struct {
	t   *testing.T
	p   *plan.Plan
	v   *Live
	n   *host.Node
	m   *plan.Machine
	now time.Duration
	out [][]byte // frames that came out to whoever is joined
}

func liveLab(t *testing.T, text, name string, before func(*Live)) *bench {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	b := &bench{t: t, p: p, m: p.Machine(name)}
	b.v = NewLive(p, func(m *plan.Machine) bool { return m == b.m })
	if before != nil {
		before(b.v)
	}
	b.v.Start()
	b.v.Wait = b.run
	b.n = guest(b.m)
	for i, a := range b.m.Adapters {
		port := b.n.Ports()[i]
		port.Changed = func() { b.v.SetAddresses(a, port.Address, nil) }
		if port.Client != nil {
			b.n.StartLease(0, port)
		} else {
			port.Changed()
		}
	}
	b.run(10 * time.Second)
	return b
}

// run lets everything happen until a time.
func (b *bench) run(until time.Duration) {
	for {
		for _, e := range b.v.Drain() {
			if e.Adapter > len(b.v.Adapters) {
				b.out = append(b.out, e.Frame)
				continue
			}
			p, err := packet.Decode(e.Frame)
			require.NoError(b.t, err)
			b.n.Receive(b.now, b.v.Adapters[e.Adapter-1].Number, p)
		}
		sent := b.n.Drain()
		for _, e := range sent {
			b.v.Receive(
				b.now,
				1+slices.IndexFunc(b.v.Adapters, func(a *plan.Adapter) bool { return a.Number == e.Adapter }),
				e.Frame,
			)
		}
		if len(sent) > 0 {
			continue
		}
		next := until
		for _, deadline := range []func() (time.Duration, bool){b.v.Deadline, b.n.Deadline} {
			if at, ok := deadline(); ok && at < next {
				next = at
			}
		}
		if b.now = max(b.now, next); b.now >= until {
			b.v.Advance(until)
			b.n.Advance(until)
			if len(b.v.out) == 0 {
				return
			}
			continue
		}
		b.v.Advance(b.now)
		b.n.Advance(b.now)
	}
}

// pings reports whether the machine reaches an address, and as whom the witness saw it.
func (b *bench) pings(to netip.Addr) (bool, netip.Addr) {
	payload := fmt.Sprintf("%s%d", probemsg.PingPrefix, b.now)
	p := b.n.Ping(b.now, to, 0, time.Second, []byte(payload))
	b.run(b.now + 3*time.Second)
	return p.Answered, b.v.Saw(payload)
}

const around = `bastion: 1
lab: around
segments:
  causeway: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  sluice:
    ports:
      - {role: wan, segment: causeway, address: 172.29.64.9/24}
      - {role: lan, segment: reedbed, dhcp: {pool: 10.83.16.50-10.83.16.60}}
guests:
  heron: reedbed
  otter: reedbed
`

const doors = around + "  gannet: {adapters: [{segment: reedbed}, {segment: causeway}]}\n"

// A real machine lives in a lab that is not: it leases, gets out through the appliance as
// the appliance's address, and not while the WAN is unplugged.
func TestRealAmongSimulated(t *testing.T) {
	b := liveLab(t, around, "heron", nil)
	assert.Equal(t, []string{"heron"}, []string{b.v.Adapters[0].Machine.Name})
	assert.True(t, b.v.Real(b.m))
	assert.False(t, b.v.Real(b.p.Machine("otter")))
	assert.Equal(t, "10.83.16", b.n.Ports()[0].Address.Addr().String()[:8])
	witness := b.v.Facts().Witness.Address
	reached, as := b.pings(witness)
	assert.True(t, reached)
	assert.Equal(t, "172.29.64.9", as.String())
	otter, why := b.v.AddressOf(b.p.Machine("otter").Adapters[0], false)
	require.Empty(t, why)
	reached, _ = b.pings(otter)
	assert.True(t, reached, "a simulated neighbor answers")
	require.NoError(t, b.v.Set(t.Context(), claims.Unplugged))
	reached, _ = b.pings(witness)
	assert.False(t, reached)
	require.NoError(t, b.v.Set(t.Context(), claims.Running))
	reached, _ = b.pings(witness)
	assert.True(t, reached)
	var servers []string
	b.v.Servers(func(_ time.Duration, segment, server string, s *dhcp.Server) {
		servers = append(servers, fmt.Sprintf("%s on %s: %d", server, segment, len(s.List(0))))
	})
	assert.Contains(t, servers, "sluice on reedbed: 2")
}

// When a real guest is to be hostile somebody speaks from the switch in its place: what gets
// out is found, and afterwards it is itself again.
func TestHostileInItsPlace(t *testing.T) {
	for _, c := range []struct {
		text, name string
		escapes    bool
	}{{around, "heron", false}, {doors, "gannet", true}, {doors, "heron", true}} { // gannet passes on for heron
		b := liveLab(t, c.text, c.name, nil)
		require.NoError(t, b.v.Set(t.Context(), claims.Unplugged))
		forgot := 0
		b.v.Forget = func(*plan.Machine) { forgot++ }
		var got claims.GotAttack
		require.NoError(
			t,
			b.v.Ask(
				t.Context(),
				[]claims.Question{{ID: "a", When: claims.Unplugged, Ask: claims.AskAttack{By: c.name}}},
				func(a claims.Answer) { got, _ = a.Got.(claims.GotAttack) },
			),
		)
		assert.Greater(t, got.Attempts, 50, c.name)
		assert.Equal(t, c.escapes, len(got.Ways) > 0, "%s in %d guests", c.name, len(b.p.Guests()))
		require.NoError(t, b.v.Set(t.Context(), claims.Running))
		reached, _ := b.pings(b.v.Facts().Witness.Address)
		assert.True(t, reached, c.name)
	}
}

// A lease server that nobody planned answers beside the one that is; what is for nobody in
// the lab's world goes on to whoever is joined, and comes back.
func TestAddedAndJoined(t *testing.T) {
	var gate netip.Prefix
	far := netip.MustParseAddr("198.51.100.10")
	b := liveLab(t, around, "heron", func(v *Live) {
		v.AddServer(v.plan.Segment("reedbed"))
		gate = v.JoinOutside([]netip.Addr{far})
	})
	survey := b.n.SurveyServers(b.now, b.n.Ports()[0])
	b.run(b.now + 3*time.Second)
	assert.Len(t, survey.Offers, 2)
	b.n.EndSurvey(b.n.Ports()[0], survey)

	// The lease may be the stranger's: the way out is typed in.
	port := b.n.Ports()[0]
	port.Client, port.Address, port.Gateway = nil, netip.MustParsePrefix(
		"10.83.16.77/24",
	), netip.MustParseAddr(
		"10.83.16.1",
	)
	port.Changed()
	b.out = nil
	p := b.n.Ping(b.now, far, 0, 5*time.Second, []byte("x"))
	b.run(b.now + time.Second)
	require.NotEmpty(t, b.out)
	asked, err := packet.Decode(b.out[len(b.out)-1])
	require.NoError(t, err)
	assert.EqualValues(t, packet.TypeARP, asked.Type, "the router asks who has the gate's address")
	own := mac.Address{2, 7, 7, 7, 7, 7}
	b.v.Receive(
		b.now,
		len(b.v.Adapters)+1,
		packet.ARP(packet.ARPReply, asked.From, own, gate.Addr(), asked.From, netip.MustParseAddr("203.0.113.1")),
	)
	b.run(b.now + 100*time.Millisecond)
	sent, err := packet.Decode(b.out[len(b.out)-1])
	require.NoError(t, err)
	require.True(t, sent.Ping(false), "%s", sent)
	assert.Equal(t, far, sent.Destination)
	assert.Equal(t, "172.29.64.9", sent.Source.String(), "translated by the appliance")
	back := packet.Echo(
		packet.IP{Source: far, Destination: sent.Source, TTL: 60},
		true,
		uint16(sent.Data[4])<<8|uint16(sent.Data[5]),
		uint16(sent.Data[6])<<8|uint16(sent.Data[7]),
		sent.Data[8:],
	)
	packet.SetLink(back, sent.From, own)
	b.v.Receive(b.now, len(b.v.Adapters)+1, back)
	b.run(b.now + time.Second)
	assert.True(t, p.Answered)
	assert.Equal(
		t,
		map[netip.Prefix]netip.Addr{netip.MustParsePrefix("172.29.64.0/24"): netip.MustParseAddr("203.0.113.1")},
		b.v.BehindRouters(),
	)
	reached, _ := b.pings(b.v.Facts().Witness.Address)
	assert.True(t, reached, "the test server is where it was")
}

// A tagged port of a real appliance is an adapter of its own: what it sends is put on the
// wire with its tag, and what comes to it comes without.
func TestTaggedPortOfReal(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: tagged
segments:
  causeway: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, subnet: 10.83.16.0/24}
  tidepool: {reach: isolated, within: reedbed, vlan: 48, subnet: 10.83.48.0/24}
appliances:
  sluice:
    ports: [{role: wan, segment: causeway}, {role: lan, segment: reedbed}, {role: lan, name: quarantine, segment: tidepool, over: lan}]
guests:
  heron: {segment: reedbed, static: 10.83.16.10/24}
  newt: {segment: tidepool, static: 10.83.48.10/24}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	v := NewLive(p, func(m *plan.Machine) bool { return m.Appliance != nil })
	v.Start()
	require.Len(t, v.Adapters, 3)
	own := p.Machine("sluice").Adapters[1].MAC
	for _, c := range []struct {
		number int
		who    string
		want   int
	}{{2, "10.83.16.10", 1}, {3, "10.83.48.10", 1}, {2, "10.83.48.10", 0}, {3, "10.83.16.10", 0}} {
		v.Drain()
		v.Receive(
			time.Second,
			c.number,
			packet.ARP(packet.ARPRequest, mac.Broadcast, own, netip.MustParseAddr("10.83.99.1"), mac.Address{},
				netip.MustParseAddr(c.who)),
		)
		v.Advance(2 * time.Second)
		n := 0
		for _, e := range v.Drain() {
			if q, err := packet.Decode(e.Frame); err == nil && q.Type == packet.TypeARP && len(q.Body) >= 8 &&
				q.Body[7] == packet.ARPReply {
				n++
				assert.Equal(t, c.number, e.Adapter)
				assert.Zero(t, q.Tag, "it comes without its tag")
			}
		}
		assert.Equal(t, c.want, n, "%s asked by adapter %d", c.who, c.number)
	}
}
