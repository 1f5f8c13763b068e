//go:build linux

package kernel

import (
	"context"
	"net"
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/drive"
)

// A segment goes on in another namespace, where the kernel's own VXLAN is the far end: a
// machine there gets its lease from the lab's appliance and reaches outside through it.
func TestSegmentSpansMachines(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	here, err := NewSpace()
	require.NoError(t, err)
	defer here.Close()
	there, err := NewSpace()
	require.NoError(t, err)
	defer there.Close()
	veth := &netlink.Veth{
		LinkAttrs:     netlink.LinkAttrs{Name: "up"},
		PeerName:      "up",
		PeerNamespace: netlink.NsFd(there.fd),
	}
	require.NoError(t, here.links.LinkAdd(veth))
	address := func(s *Space, device, at string) {
		link, err := s.links.LinkByName(device)
		require.NoError(t, err)
		a, err := netlink.ParseAddr(at)
		require.NoError(t, err)
		require.NoError(t, s.links.AddrAdd(link, a))
		require.NoError(t, s.up(device))
	}
	address(here, "up", "192.0.2.1/24")
	address(there, "up", "192.0.2.2/24")
	wire := &netlink.Vxlan{
		LinkAttrs: netlink.LinkAttrs{Name: "reeds", MTU: 1450},
		VxlanId:   48,
		Port:      4789,
		Learning:  true,
		Group:     net.IPv4(192, 0, 2, 1),
		SrcAddr:   net.IPv4(192, 0, 2, 2),
	}
	if err := there.links.LinkAdd(wire); err != nil {
		t.Skipf("this kernel has no VXLAN: %v", err)
	}

	p := planOf(t, "saltmarsh.yaml")
	live := simulator.NewTrunked(p, func(*plan.Machine) bool { return false })
	number := live.Extend(p.Segment("reedbed"))
	live.Start()
	var tunnel *drive.Tunnel
	require.NoError(t, here.Do(func() (err error) {
		tunnel, err = drive.OpenTunnel(
			netip.MustParseAddrPort("192.0.2.1:4789"),
			netip.MustParseAddrPort("192.0.2.2:4789"),
			48,
			number,
		)
		return err
	}))
	defer tunnel.Close()
	d, err := drive.New(live, tunnel)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() { _ = d.Run(ctx) }()

	address(there, "reeds", "10.83.16.77/24")
	link, err := there.links.LinkByName("reeds")
	require.NoError(t, err)
	require.NoError(t, there.links.RouteAdd(&netlink.Route{LinkIndex: link.Attrs().Index, Gw: net.IPv4(10, 83, 16, 1)}))
	// By ping: what a kernel leaves undone of the checksums of TCP and UDP within a tunnel, a
	// real adapter does, and between namespaces nobody.
	assert.Eventually(t, func() bool {
		payload := probemsg.PingPrefix + "00000001"
		got, err := there.reach(ctx, lab.Service{Proto: lab.ICMP}, live.Facts().Witness.Address, payload, 0)
		var source netip.Addr
		d.Do(ctx, func(time.Duration) { source = live.Saw(payload) })
		return err == nil && got.Answered && source == netip.MustParseAddr("172.29.64.128")
	}, 10*time.Second, 200*time.Millisecond, "the test server, through the appliance")
}
