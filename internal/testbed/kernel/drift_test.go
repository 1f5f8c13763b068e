//go:build linux

package kernel

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/status"
)

// Whatever is changed by hand in a machine is told of that machine alone, is repaired, and what can be put back is
// found again as it was.
func TestDriftIsRepaired(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	l, err := Up(t.Context(), planned(t, edited(t)), Options{})
	require.NoError(t, err)
	defer l.Down()
	require.Empty(t, l.Drift())
	for _, c := range []struct {
		machine, by, found string
		gone               bool // it cannot be put back
	}{
		{"heron", "ip link set eth0 down", "eth0 is down", false},
		{"heron", "ip addr flush dev eth0", "eth0 lacks the address 10.83.16.", false},
		{"heron", "ip addr add 10.83.16.99/24 dev eth0", "eth0 has the address 10.83.16.99/24", false},
		{"heron", "ip link set eth0 down; ip link set eth0 address 02:00:00:00:00:77; ip link set eth0 up", "the MAC address 02:00:00:00:00:77", false},
		{"heron", "ip route del default", "no default route by 10.83.16.1 on eth0", false},
		{"heron", "ip route replace default via 10.83.16.77 metric 10", "a route default via 10.83.16.77 dev eth0", false},
		{"heron", "ip route add 198.51.100.0/24 via 10.83.16.77", "a route 198.51.100.0/24 via 10.83.16.77 dev eth0", false},
		{"heron", "ip route add default via 10.83.16.77 table 77; ip rule add fwmark 7 table 77 priority 500", "a routing rule 500 (table 77)", false},
		{"heron", "ip link add mv0 link eth0 type macvlan", "a device mv0 (macvlan)", true},
		{"heron", "nft add table inet mine", "packet filter rules of its own", true},
		{"heron", "sysctl -qw net.ipv4.ip_forward=1", "net.ipv4.ip_forward = 1; planned: 0", false},
		{"sluice", "nft flush chain inet bastion forward", "its packet filter rules were changed by hand", true},
		{"sluice", "nft delete table inet bastion", "its packet filter rules were changed by hand", true},
		{"sluice", "sysctl -qw net.ipv4.conf.all.rp_filter=0", "net.ipv4.conf.all.rp_filter = 0; planned: 1", false},
		{"sluice", "ip addr del 10.83.32.1/24 dev eth2", "eth2 lacks the address 10.83.32.1", false},
	} {
		x, err := l.byName(c.machine)
		require.NoError(t, err)
		if _, err := exec.LookPath(strings.Fields(c.by)[0]); err != nil {
			continue
		}
		require.NoError(t, x.space.Do(func() error { return exec.Command("sh", "-c", c.by).Run() }), c.by)
		found := l.Drift()
		require.NotEmpty(t, found, c.by)
		text := ""
		for _, d := range found {
			assert.Equal(t, c.machine, d.Machine, c.by)
			text += d.Found + "\n"
		}
		assert.Contains(t, text, c.found, c.by)
		done, err := l.Repair()
		require.NoError(t, err, c.by)
		assert.Equal(t, found, done, c.by)
		assert.Empty(t, l.Drift(), c.by)
		undone, err := l.UndoRepair()
		require.NoError(t, err, c.by)
		if c.gone {
			assert.Empty(t, undone, c.by)
			continue
		}
		assert.ElementsMatch(t, found, l.Drift(), c.by)
		_, err = l.Repair()
		require.NoError(t, err, c.by)
		assert.Equal(t, []status.Drift(nil), l.Drift(), c.by)
	}
}
