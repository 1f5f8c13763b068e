//go:build linux

package kernel

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/testbed/drive"
)

// cannon sends frames by a machine's adapter, and counts what comes back that nobody
// asked for.
type cannon struct {
	frames [][]byte
	came   []*packet.Packet
}

func (c *cannon) Receive(_ time.Duration, _ int, frame []byte) {
	if p, err := packet.Decode(frame); err == nil {
		c.came = append(c.came, p)
	}
}
func (c *cannon) Advance(time.Duration)           {}
func (c *cannon) Deadline() (time.Duration, bool) { return 0, false }
func (c *cannon) Drain() []host.Emission {
	n := min(len(c.frames), 16)
	out := make([]host.Emission, 0, n)
	for _, f := range c.frames[:n] {
		out = append(out, host.Emission{Adapter: 1, Frame: f})
	}
	c.frames = c.frames[n:]
	return out
}

// fire sends frames from a machine's device, and gives what came there meanwhile.
func fire(t *testing.T, x *machine, device string, frames [][]byte) []*packet.Packet {
	c := &cannon{frames: frames}
	var a *drive.Adapter
	require.NoError(t, x.space.Do(func() (err error) { a, err = drive.Open(device, 1); return err }))
	defer a.Close()
	d, err := drive.New(c, a)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	for left := 1; left > 0; time.Sleep(time.Millisecond) {
		d.Do(ctx, func(time.Duration) { left = len(c.frames) })
	}
	time.Sleep(50 * time.Millisecond)
	cancel()
	require.NoError(t, <-ended)
	return c.came
}

// seeds are messages that servers understand, from a client with a hardware address of
// its own.
func seeds(t *testing.T, r *rand.Rand, server netip.Addr) [][]byte {
	var own mac.Address
	for i := range own {
		own[i] = byte(r.Uint32())
	}
	own[0] = own[0]&^1 | 2
	var out [][]byte
	for _, kind := range []dhcpv4.MessageType{dhcpv4.MessageTypeDiscover, dhcpv4.MessageTypeRequest, dhcpv4.MessageTypeDecline, dhcpv4.MessageTypeRelease,
		dhcpv4.MessageTypeInform} {
		m, err := dhcpv4.New(
			dhcpv4.WithHwAddr(own[:]),
			dhcpv4.WithMessageType(kind),
			dhcpv4.WithOption(dhcpv4.OptHostName("x")),
		)
		require.NoError(t, err)
		frame := packet.Datagram(
			packet.IP{Source: netip.IPv4Unspecified(), Destination: netip.MustParseAddr("255.255.255.255"), TTL: 64},
			dhcp.ClientPort,
			dhcp.ServerPort,
			m.ToBytes(),
		)
		packet.SetLink(frame, mac.Broadcast, own)
		out = append(out, frame)
	}
	q, err := dns.Question(uint16(r.Uint32()), "buoy.example")
	require.NoError(t, err)
	frame := packet.Datagram(
		packet.IP{Source: netip.MustParseAddr("10.83.16.77"), Destination: server, TTL: 64},
		4000,
		dns.Port,
		q,
	)
	packet.SetLink(frame, mac.Broadcast, own)
	return append(
		out,
		frame,
		packet.ARP(packet.ARPRequest, mac.Broadcast, own, netip.MustParseAddr("10.83.16.77"), mac.Address{}, server),
	)
}

// mutated changes a few bytes of a frame, cuts it, or doubles a part of it.
func mutated(r *rand.Rand, frame []byte) []byte {
	f := append([]byte{}, frame...)
	for range 1 + r.IntN(4) {
		switch r.IntN(4) {
		case 0:
			f = f[:14+r.IntN(len(f)-13)]
		case 1:
			at := r.IntN(len(f))
			f = append(f[:at:at], append(append([]byte{}, f[at:]...), f[at:]...)...)[:min(1500, 2*len(f)-at)]
		default:
			f[r.IntN(len(f))] = byte(r.Uint32())
		}
	}
	return f
}

// What a guest sends to a lab's lease server and resolver, malformed or in great number,
// ends neither: FUZZ seconds of it, from inside and from outside. The WAN side is given
// nothing at all.
func TestServersSurvive(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	last := 2 * time.Second
	if n, err := strconv.Atoi(os.Getenv("FUZZ")); err == nil {
		last = time.Duration(n) * time.Second
	}
	p := planOf(t, "saltmarsh-leaky.yaml") // whose otter is on both sides
	l, err := Up(t.Context(), p, Options{})
	require.NoError(t, err)
	defer l.Down()
	otter, sluice := l.stacks.machines[p.Machine("otter")], l.stacks.machines[p.Machine("sluice")]
	r := rand.New(rand.NewPCG(uint64(last), 5))
	lan, wan := netip.MustParseAddr("10.83.16.1"), sluice.now(p.Machine("sluice").Adapters[0]).Address.Addr()
	require.True(t, wan.IsValid())
	sent := 0
	for began := time.Now(); time.Since(began) < last; {
		for device, server := range map[string]netip.Addr{"eth0": lan, "eth1": wan} {
			var frames [][]byte
			for range 20 {
				for _, f := range seeds(t, r, server) {
					frames = append(frames, f, mutated(r, f))
				}
			}
			sent += len(frames)
			for _, came := range fire(t, otter, device, frames) {
				if device != "eth1" || came.From != p.Machine("sluice").Adapters[0].MAC || came.Proto != packet.UDP {
					continue
				}
				from, _, _ := came.Ports()
				assert.NotContains(t, []uint16{dhcp.ServerPort, dns.Port}, from, "the WAN side is given %s", came)
			}
		}
	}
	t.Logf("%d frames", sent)
	select {
	case err := <-l.Failed():
		t.Error(err)
	default:
	}
	// The pool is used up by clients that are none; who has a lease keeps it, who has a
	// reservation gets it, and names are answered.
	got := otter.space.lookUp(t.Context(), lan, "buoy.example")
	assert.True(t, got.Answered, "%+v", got)
	assert.NotEmpty(t, l.Status().Leases)
	for _, s := range l.leaseServers(t, sluice) {
		assert.LessOrEqual(t, s.Leased(0), 1<<10, "a server holds no more than its pool")
	}
}

// leaseServers returns the lease servers of a machine.
func (l *Lab) leaseServers(t *testing.T, x *machine) (list []*dhcp.Server) {
	l.stacks.shadows.Do(l.ctx, func(time.Duration) {
		for _, p := range x.ports {
			if p.Server != nil {
				list = append(list, p.Server)
			}
		}
	})
	require.NotEmpty(t, list)
	return list
}

// A socket that is full of frames is told: nobody takes silence for an answer then.
func TestLostFramesAreCounted(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	p := planOf(t, "saltmarsh.yaml")
	l, err := Up(t.Context(), p, Options{})
	require.NoError(t, err)
	defer l.Down()
	heron := l.stacks.machines[p.Machine("heron")]
	r := rand.New(rand.NewPCG(1, 2))
	assert.Zero(t, l.Machines.Lost())
	started, stop := make(chan struct{}), make(chan struct{})
	go l.switches.Do(l.ctx, func(time.Duration) { close(started); <-stop }) // the switch does not read meanwhile
	<-started
	var frames [][]byte
	for range 12000 {
		frames = append(frames, append(seeds(t, r, netip.MustParseAddr("10.83.16.1"))[0], make([]byte, 1000)...))
	}
	fire(t, heron, "eth0", frames)
	close(stop)
	assert.Positive(t, l.Machines.Lost())
	assert.Eventually(
		t,
		func() bool { return l.Machines.Lost() == 0 },
		5*time.Second,
		50*time.Millisecond,
		"each is counted once",
	)
}
