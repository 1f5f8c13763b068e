//go:build linux

package upstream

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
)

// joined returns two stacks on one wire: an upstream, and a guest of the lab.
func joined(t *testing.T, o Options) (up, guest *Upstream) {
	o.Address = netip.MustParsePrefix("100.64.0.254/24")
	up, err := New([6]byte{2, 0, 0, 0, 0, 1}, o)
	require.NoError(t, err)
	guest, err = New([6]byte{2, 0, 0, 0, 0, 2}, Options{Address: netip.MustParsePrefix("100.64.0.7/24"),
		Routes: map[netip.Prefix]netip.Addr{netip.MustParsePrefix("0.0.0.0/0"): netip.MustParseAddr("100.64.0.254")}})
	require.NoError(t, err)
	a, b := net.Pipe()
	go up.Serve(a)
	go guest.Serve(b)
	t.Cleanup(up.Close)
	t.Cleanup(guest.Close)
	return up, guest
}

func full(at string) tcpip.FullAddress {
	a := netip.MustParseAddrPort(at)
	return tcpip.FullAddress{NIC: nic, Addr: tcpip.AddrFrom4(a.Addr().As4()), Port: a.Port()}
}

// fetch gets a page from within the lab.
func (u *Upstream) fetch(ctx context.Context, at string) (string, error) {
	c := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return gonet.DialContextTCP(ctx, u.stack, full(at), ipv4.ProtocolNumber)
	}}}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at+"/", nil)
	if err != nil {
		return "", err
	}
	r, err := c.Do(q)
	if err != nil {
		return "", err
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	return string(b), err
}

// Connections and datagrams of the lab reach what is allowed, are counted by source, and
// reach nothing else: neither this machine, nor what is not on the list.
func TestUpstream(t *testing.T) {
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, strings.Repeat("tide ", 40_000))
	}))
	defer page.Close()
	echo, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer echo.Close()
	go func() {
		b := make([]byte, 1500)
		for {
			n, from, err := echo.ReadFrom(b)
			if err != nil {
				return
			}
			_, _ = echo.WriteTo(append([]byte("heard "), b[:n]...), from)
		}
	}()
	var mu sync.Mutex
	var dialed []string
	up, guest := joined(t, Options{
		Allow: []netip.Prefix{
			netip.MustParsePrefix("198.51.100.0/24"),
			netip.MustParsePrefix("127.0.0.0/8"),
			netip.MustParsePrefix("192.0.2.99/32"),
		},
		Own:       func() []netip.Addr { return []netip.Addr{netip.MustParseAddr("192.0.2.99")} },
		Resolvers: []netip.Addr{netip.MustParseAddr("127.0.0.53")},
		Dial: func(ctx context.Context, network string, to netip.AddrPort) (net.Conn, error) {
			mu.Lock()
			dialed = append(dialed, network+" "+to.String())
			mu.Unlock()
			switch {
			case to.Port() == 81:
				return nil, errors.New("nobody there")
			case network == "tcp":
				return (&net.Dialer{}).DialContext(ctx, "tcp", page.Listener.Addr().String())
			}
			return (&net.Dialer{}).DialContext(ctx, "udp", echo.LocalAddr().String())
		}})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()

	body, err := guest.fetch(ctx, "198.51.100.7:80")
	require.NoError(t, err)
	assert.Len(t, body, 200_000)
	for _, to := range []string{"100.64.0.254:53", "198.51.100.9:5353"} {
		at := full(to)
		c, err := gonet.DialUDP(guest.stack, nil, &at, ipv4.ProtocolNumber)
		require.NoError(t, err)
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		_, err = c.Write([]byte("who"))
		require.NoError(t, err)
		b := make([]byte, 100)
		n, err := c.Read(b)
		require.NoError(t, err, to)
		assert.Equal(t, "heard who", string(b[:n]))
		c.Close()
	}
	for _, to := range []string{"198.51.100.7:81", "203.0.113.9:80", "127.0.0.1:80", "192.0.2.99:80", "169.254.169.254:80", "224.0.0.1:80", "100.64.0.254:80"} {
		short, stop := context.WithTimeout(ctx, time.Second)
		_, err := guest.fetch(short, to)
		stop()
		assert.Error(t, err, to)
	}
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(
		t,
		[]string{"tcp 198.51.100.7:80", "udp 127.0.0.53:53", "udp 198.51.100.9:5353", "tcp 198.51.100.7:81"},
		dialed,
	)
	asked, err := packet.Decode(
		packet.ARP(packet.ARPRequest, mac.Broadcast, mac.Address{2, 1}, netip.MustParseAddr("100.64.0.7"),
			mac.Address{}, netip.MustParseAddr("100.64.0.9")),
	)
	require.NoError(t, err)
	assert.True(t, up.forOthers(asked), "it answers for nobody else")
	counts := up.Counts()
	require.Len(t, counts, 1)
	assert.Equal(t, "100.64.0.7", counts[0].Source.String())
	assert.Equal(t, 3, counts[0].Conversations)
	assert.GreaterOrEqual(t, counts[0].Refused, 5)
}
