//go:build linux

package field

import (
	"net/netip"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/netsim/packet"
)

// What a router says of another datagram is not taken for ours.
func TestExpired(t *testing.T) {
	to := netip.MustParseAddrPort("192.0.2.1:33434")
	ours := packet.Datagram(packet.IP{Source: netip.MustParseAddr("10.83.16.9"), Destination: to.Addr()}, 40001, to.Port(), []byte("x"))[14:]
	word := func(kind byte, quoted []byte) []byte { return append([]byte{kind, 0, 0, 0, 0, 0, 0, 0}, quoted...) }
	assert.True(t, expired(word(11, ours), 40001, to))
	assert.True(t, expired(word(11, ours[:28]), 40001, to), "it quotes eight bytes behind the header")
	for name, b := range map[string][]byte{"another port": word(11, packet.Datagram(packet.IP{Source: to.Addr(), Destination: to.Addr()},
		40002, to.Port(), nil)[14:]), "unreachable": word(3, ours), "cut": word(11, ours[:22]), "nothing": nil, "no packet": word(11, make([]byte, 28))} {
		assert.False(t, expired(b, 40001, to), name)
	}
}

// Both ways to find the first router find it, where packets of one's own may be sent: in a network
// of its own, behind a router that is another one.
func TestFirstHop(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
	if os.Getenv("HOP_INSIDE") != "" {
		time.Sleep(100 * time.Millisecond) // the link comes up
		for name, find := range map[string]func() (netip.Addr, error){
			"by the error queue": func() (netip.Addr, error) { return firstHop(t.Context(), netip.AddrPortFrom(anywhere, hopPort)) },
			"by what comes in":   func() (netip.Addr, error) { return hopByICMP(t.Context(), netip.AddrPortFrom(anywhere, hopPort)) },
		} {
			at, err := find()
			require.NoError(t, err, name)
			assert.Equal(t, "10.83.16.1", at.String(), name)
		}
		return
	}
	const script = `set -e
unshare -n sleep 20 & far=$!
trap 'kill $far' EXIT
sleep 0.3
ip link add near type veth peer name in0
ip link set in0 netns $far
ip addr add 10.83.16.9/24 dev near; ip link set near up; ip route add default via 10.83.16.1
nsenter -n -t $far sh -c 'ip addr add 10.83.16.1/24 dev in0; ip link set in0 up; ip link set lo up; ip route add default dev lo
	mount -t proc proc /proc 2>/dev/null; echo 1 >/proc/sys/net/ipv4/ip_forward'
"$0" -test.run '^TestFirstHop$' -test.v`
	c := exec.Command("unshare", "-nm", "sh", "-c", script, os.Args[0])
	c.Env = append(os.Environ(), "HOP_INSIDE=1")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "--- PASS: TestFirstHop")
}

// A test server listens on its own machine's adapters, never on those of other namespaces, also where these have its address.
func TestOutward(t *testing.T) {
	at := netip.MustParseAddr("198.51.100.20")
	here := []netip.Prefix{netip.PrefixFrom(at, 24)}
	named := func(list []Adapter) (out []string) {
		for _, a := range list {
			out = append(out, a.Name)
		}
		return out
	}
	gate := netip.MustParseAddr("192.0.2.1")
	s := System{Adapters: []Adapter{
		{Name: "p0", Up: true, Within: "lab", Addresses: here, Gateway: gate}, {Name: "down", Addresses: here}, {Name: "in0", Up: true},
	}}
	assert.Equal(t, []string{"in0"}, named(s.outward(at)))
	s.Adapters = append(s.Adapters, Adapter{Name: "up0", Up: true, Gateway: gate})
	assert.Equal(t, []string{"up0"}, named(s.outward(netip.Addr{})))
	s.Adapters = append(s.Adapters, Adapter{Name: "eth1", Up: true, Addresses: here})
	assert.Equal(t, []string{"eth1"}, named(s.outward(at)))
}
