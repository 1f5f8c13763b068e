//go:build linux

package kernel

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/testbed/stage"
	"openbastion/internal/testbed/supervisor"
)

const commanded = `bastion: 1
lab: commanded
segments:
  causeway: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  sluice:
    ports:
      - {role: wan, segment: causeway, address: 172.29.64.9/24}
      - {role: lan, name: desk-side, segment: reedbed, address: 10.83.16.1/24, dhcp: none}
guests:
  heron: {segment: reedbed, static: 10.83.16.10/24, gateway: 10.83.16.1}
`

// A command finds the devices, up and bare, with what is planned in its environment; what
// it sets up is what the lab knows from then on, and what it fails of is told.
func TestCommands(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	p := planned(t, commanded)
	sluice := p.Machine("sluice")
	for _, c := range []struct{ command, fails, wan, way string }{
		{`ip addr add $BASTION_WAN_ADDRESS dev $BASTION_WAN; ip route add default via 172.29.64.1; ip addr add 10.83.16.1/24 dev $BASTION_DESK_SIDE`, "",
			"172.29.64.9/24", "172.29.64.1"},
		{`test "$BASTION_APPLIANCE" = sluice || exit 3; ip -4 -o addr show dev $BASTION_WAN | grep -q inet && exit 4; ip link show $BASTION_WAN | grep -q UP || exit 5`,
			"", "", ""},
		{`ip addr add 172.29.64.77/24 dev eth0; sleep 30 & sleep 30`, "", "172.29.64.77/24", ""}, // it stays, and the lab goes on
		{`echo one; echo two >&2; echo three; echo four; exit 9`, "its command ended with status 9: two; three; four", "", ""},
		{`exit 1`, "its command ended with status 1: it printed nothing", "", ""},
		{`kill -KILL $$`, "its command ended with status 137", "", ""},
	} {
		l, err := Up(t.Context(), p, Options{Commands: map[string]string{"sluice": c.command}})
		if c.fails != "" {
			assert.ErrorContains(t, err, c.fails)
			continue
		}
		require.NoError(t, err, c.command)
		s := l.stacks.machines[sluice].now(sluice.Adapters[0])
		address, way := "", ""
		if s.Address.IsValid() {
			address = s.Address.String()
		}
		if s.Gateway.IsValid() {
			way = s.Gateway.String()
		}
		assert.Equal(t, []string{c.wan, c.way}, []string{address, way}, c.command)
		status := l.Status()
		assert.Empty(t, status.Rules, "its rules are not those of the plan")
		assert.Contains(t, strings.Join(l.Remarks(), "\n"), "set up by your command")
		l.Down()
	}
}

// What a command says is kept from its end, however much it says.
func TestTail(t *testing.T) {
	kept := supervisor.NewTail(maxSaid)
	for i := range 100000 {
		_, err := fmt.Fprintf(kept, "line %d\n", i)
		require.NoError(t, err)
	}
	assert.Equal(t, "line 99997; line 99998; line 99999", kept.Last(lastLines))
	assert.LessOrEqual(t, len(kept.Bytes()), maxSaid)
	assert.Empty(t, supervisor.NewTail(maxSaid).Last(lastLines))
}

// A probe that got nothing says why in few words.
func TestOutcome(t *testing.T) {
	for want, err := range map[string]error{
		"answered": nil, "no answer": os.ErrDeadlineExceeded, "refused": &net.OpError{Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)},
		"no route": fmt.Errorf("dial: %w", syscall.ENETUNREACH), "unreachable": syscall.EHOSTUNREACH, "prohibited": syscall.EACCES,
		"odd": &net.OpError{Op: "dial", Err: errors.New("odd")}, "plain": errors.New("plain"),
	} {
		assert.Equal(t, want, stage.Outcome(err).String())
	}
}

// Machines are waited for where somebody is planned to hand out leases, and a moment
// elsewhere.
func TestPatience(t *testing.T) {
	for _, c := range []struct {
		segment string
		want    time.Duration
	}{
		{"{reach: upstream}", Served}, {"{reach: upstream, dhcp: none}", unserved}, {"{reach: host}", unserved}, {"{reach: host, dhcp: host}", Served}, {"{reach: isolated}", unserved},
		{"{reach: isolated, dhcp: upstream}", Served}, {"{reach: host, dhcp: none}", unserved},
	} {
		p := planned(t, "bastion: 1\nlab: x\nsegments:\n  s: "+c.segment+"\nguests:\n  heron: s\n")
		assert.Equal(t, c.want, Patience(p.Machine("heron").Adapters[0]), c.segment)
	}
}

// Names of kernel settings and of devices lead nowhere else in the file system.
func TestSettingNames(t *testing.T) {
	for name, want := range map[string]bool{"net.ipv4.ip_forward": true, "net.ipv6.conf.all.disable_ipv6": true, "": false, "..": false, "net..ipv4": false,
		"net/ipv4": false, "net.ipv4.conf.eth0.10": true, "net.ipv4;": false, "NET": false, "../../etc/passwd": false} {
		assert.Equal(t, want, settingName(name), name)
	}
	for _, device := range []string{"", ".", "..", "a/b", "a\x00"} {
		assert.ErrorContains(t, setFor("ipv4", device, "x", "1"), "not a device name")
	}
	assert.ErrorContains(t, set("../x", "1"), "not a kernel setting")
	assert.NoError(t, set("net.ipv4.no_such_setting", "1"), "a kernel without it has not what it governs")
}

// What is made is told beforehand: a namespace a machine, a cable an adapter, and what is
// not of the kernel.
func TestChangesAreTold(t *testing.T) {
	p := planOf(t, "saltmarsh.yaml")
	list := Changes(p)
	count := func(part string) (n int) {
		for _, line := range list {
			n += strings.Count(line, part)
		}
		return n
	}
	assert.Equal(t, len(p.Guests()), count("for guest "))
	assert.Equal(t, len(p.Appliances()), count("for appliance "))
	assert.Equal(t, len(p.Adapters), count("a cable from"))
	assert.Equal(
		t,
		[]string{
			"a socket on adapter enp1 that receives and sends frames there for causeway; the adapter is unchanged",
		},
		HostChanges(p),
	)
	assert.Len(t, HostChanges(planned(t, commanded)), 3)
	assert.LessOrEqual(t, len(HostLink(strings.Repeat("x", 60))), 15, "a device's name is no longer (IFNAMSIZ)")
	assert.NotEqual(t, HostLink("a"), HostLink("b"))
	ours, theirs, err := linkNetwork("saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, ours.Masked(), theirs.Masked())
	assert.NotEqual(t, ours.Addr(), theirs.Addr())
	assert.True(t, linkPool.Contains(ours.Addr()) && linkPool.Contains(theirs.Addr()))
	assert.NotContains(t, []netip.Addr{ours.Masked().Addr()}, ours.Addr())
}
