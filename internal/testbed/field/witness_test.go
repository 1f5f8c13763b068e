package field

import (
	"context"
	"crypto/ed25519"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/verify/claims"
)

var token = witness.Token{1, 2, 3}

// outside returns a witness on loopback, where it listens, and what it has seen.
func outside(t testing.TB, rate float64) (udp, tcp netip.AddrPort, seen func() []witness.Seen) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	var mu sync.Mutex
	var list []witness.Seen
	at := netip.MustParseAddr("127.0.0.1")
	w, err := Listen(
		at,
		Ports{UDP: []uint16{free(t)}, TCP: []uint16{free(t)}},
		witness.NewServer(key, token, [32]byte{1}, rate),
		func(s witness.Seen) {
			mu.Lock()
			defer mu.Unlock()
			list = append(list, s)
		},
	)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { w.Run(ctx); close(done) }()
	t.Cleanup(func() { cancel(); <-done })
	a := w.Addresses()
	return netip.MustParseAddrPort(a[0].String()), netip.MustParseAddrPort(a[1].String()), func() []witness.Seen {
		mu.Lock()
		defer mu.Unlock()
		return append([]witness.Seen{}, list...)
	}
}

// free returns a port that nobody listens on.
func free(t testing.TB) uint16 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).AddrPort().Port()
}

// By every way a guest learns which source the witness saw; with another token, by none.
func TestEveryWay(t *testing.T) {
	udp, tcp, seen := outside(t, 100)
	for way, to := range map[witness.Way]netip.AddrPort{witness.UDP: udp, witness.DNS: udp, witness.TCP: tcp, witness.HTTP: tcp} {
		g := Guest{Token: token.Bench("one"), Bench: "one"}
		r, signed, err := g.Ask(t.Context(), way, to, leaving{from: netip.MustParseAddr("127.0.0.1")})
		require.NoError(t, err, way)
		assert.Equal(t, "127.0.0.1", r.Source.Addr().String(), way)
		assert.Equal(t, way == witness.UDP || way == witness.DNS, r.Hops == 64, "%s: %d", way, r.Hops)
		again, err := witness.ReadReport(signed, g.Witness)
		require.NoError(t, err)
		assert.Equal(t, r, again)
		stranger := Guest{Token: witness.Token{9}, Bench: "one"}
		_, _, err = stranger.Ask(t.Context(), way, to, leaving{})
		require.Error(t, err, way)
		assert.True(t, outcomeOf(err).Is(outcome.NoAnswer, outcome.Closed), way)
	}
	assert.Len(t, seen(), 4)
	for way, to := range map[witness.Way]netip.AddrPort{witness.UDP: udp, witness.HTTP: tcp} { // answers are as large
		g := Guest{Token: token.Bench("one"), Bench: "one"}
		_, signed, err := g.Ask(t.Context(), way, to, leaving{size: claims.FullPacket})
		require.NoError(t, err, way)
		assert.Len(t, signed, witness.Size)
	}
}

// A stranger who holds as many connections as it gets, and floods, takes nobody else's place: each of
// thirty guests is answered within a second.
func TestStrangersTakeNoPlace(t *testing.T) {
	udp, tcp, _ := outside(t, 100)
	stranger := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 9)}
	for range 1000 {
		if c, err := net.DialTCP("tcp", stranger, net.TCPAddrFromAddrPort(tcp)); err == nil {
			t.Cleanup(func() { _ = c.Close() })
		}
	}
	flood, err := net.Dial("udp", udp.String())
	require.NoError(t, err)
	t.Cleanup(func() { _ = flood.Close() })
	junk := make([]byte, witness.Size)
	for range 100_000 {
		_, _ = flood.Write(junk)
	}
	for i := range 30 {
		g := Guest{Token: token.Bench("one"), Bench: "one"}
		begin := time.Now()
		for _, by := range []struct {
			way witness.Way
			to  netip.AddrPort
		}{{witness.TCP, tcp}, {witness.UDP, udp}} {
			_, _, err := g.Ask(t.Context(), by.way, by.to, leaving{from: netip.AddrFrom4([4]byte{127, 0, 1, byte(i + 1)})})
			require.NoError(t, err, "guest %d by %s", i, by.way)
		}
		assert.Less(t, time.Since(begin), time.Second)
	}
}

// What is no message is not answered, whatever carries it.
func TestSilence(t *testing.T) {
	udp, tcp, _ := outside(t, 100)
	for _, data := range []string{"hello\n", "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\n\r\nabc", "GET / HTTP/1.1\r\nHost: x\r\n\r\n"} {
		c, err := net.Dial("tcp", tcp.String())
		require.NoError(t, err)
		_, err = c.Write([]byte(data))
		require.NoError(t, err)
		require.NoError(t, c.(*net.TCPConn).CloseWrite())
		_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
		n, err := c.Read(make([]byte, 64))
		assert.Zero(t, n, data)
		assert.Error(t, err)
		c.Close()
		c, err = net.Dial("udp", udp.String())
		require.NoError(t, err)
		_, _ = c.Write([]byte(data))
		_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		n, _ = c.Read(make([]byte, 64))
		assert.Zero(t, n, data)
		c.Close()
	}
}

// FuzzDNS: whatever comes to a port, taking a message out of it ends well, and what was put
// in comes out.
func FuzzDNS(f *testing.F) {
	message := make([]byte, witness.Size)
	question, err := asDNS(7, false, message)
	require.NoError(f, err)
	f.Add(question)
	f.Fuzz(func(t *testing.T, data []byte) {
		id, response, m, ok := fromDNS(data)
		if !ok {
			return
		}
		again, err := asDNS(id, response, m)
		require.NoError(t, err)
		_, _, got, _ := fromDNS(again)
		assert.Equal(t, m, got)
	})
}

// BenchmarkWitness is whole questions, both times, over a socket of loopback: as fast as the
// witness answers them.
func BenchmarkWitness(b *testing.B) {
	udp, _, _ := outside(b, 1e12)
	c, err := net.Dial("udp", udp.String())
	require.NoError(b, err)
	defer c.Close()
	client := witness.NewClient(token, "", nil, witness.UDP, witness.Nonce{1})
	first, answer := client.Question(), make([]byte, witness.Size)
	exchange := func(m []byte) {
		_, err := c.Write(m)
		require.NoError(b, err)
		_, err = c.Read(answer)
		require.NoError(b, err)
	}
	exchange(first)
	_, _, err = client.Take(answer)
	require.NoError(b, err)
	second := client.Question()
	const window = 32
	var sent, got int
	_ = c.SetReadDeadline(time.Now().Add(time.Minute))
	b.ResetTimer()
	for got < 2*b.N {
		for ; sent < 2*b.N && sent-got < window; sent++ {
			m := first
			if sent%2 == 1 {
				m = second
			}
			if _, err := c.Write(m); err != nil {
				b.Fatal(err)
			}
		}
		if _, err := c.Read(answer); err != nil {
			b.Fatal(err)
		}
		got++
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "probes/s")
}
