package hostinfo

import (
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
)

func prefixes(list ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func TestFollows(t *testing.T) {
	wired := Adapter{Name: "enp1", Kind: Wired, Up: true, Addresses: prefixes("172.29.64.5/24", "fe80::1/64")}
	air := Adapter{Name: "wlp2", Kind: Wireless, Up: true, Addresses: prefixes("172.29.64.6/24")}
	for _, c := range []struct {
		what   string
		report Report
		says   []string
		nets   string
	}{
		{"a wired machine", Report{Adapters: []Adapter{air, wired}, Default: "enp1", Available: 10 * lab.GiB, Accelerated: Yes},
			[]string{"Bridge the WAN to enp1", "10.83.0.0/16", "8GiB of memory is left", "7 guests", "can be accelerated here"}, "[172.29.64.0/24]"},
		{"wireless", Report{Adapters: []Adapter{air}, Default: "wlp2"}, []string{"wlp2, which is wireless", "join: nat"}, "[172.29.64.0/24]"},
		{"a guest itself", Report{Adapters: []Adapter{{Name: "eth0", Kind: Virtual, Up: true}}, Default: "eth0"},
			[]string{"a guest or a container itself"}, "[]"},
		{"no path outside", Report{Accelerated: No, Why: "no device", Available: lab.GiB},
			[]string{"No adapter is connected", "too little for an appliance", "cannot be accelerated here (no device)"}, "[]"},
		{"much in use", Report{Adapters: []Adapter{wired}, Routes: prefixes("10.0.0.0/8", "172.16.0.0/12", "10.83.4.0/24", "169.254.0.0/16")},
			[]string{"Free for a lab: 192.168.100.0/24."}, "[10.0.0.0/8 172.16.0.0/12]"},
	} {
		text := strings.Join(c.report.Follows(), "\n")
		for _, s := range c.says {
			assert.Contains(t, text, s, c.what)
		}
		nets := c.report.Networks()
		assert.Equal(t, c.nets, lines(nets), c.what)
	}
}

func lines(list []netip.Prefix) string {
	var s []string
	for _, p := range list {
		s = append(s, p.String())
	}
	return "[" + strings.Join(s, " ") + "]"
}

// In a namespace with made-up adapters the survey sees those and no others.
func TestLookInNamespace(t *testing.T) {
	if os.Getenv("BASTION_SURVEY_CHILD") != "" {
		r := Look(".")
		names := map[string]Adapter{}
		for _, a := range r.Adapters {
			names[a.Name] = a
		}
		require.Contains(t, names, "made0")
		assert.Equal(
			t,
			[]any{Virtual, true, "02:0b:00:00:00:07"},
			[]any{names["made0"].Kind, names["made0"].Up, names["made0"].MAC},
		)
		assert.False(t, names["made1"].Up)
		assert.NotContains(t, names, "lo")
		assert.Equal(t, []any{"made0", "172.29.64.1"}, []any{r.Default, r.Gateway.String()})
		assert.Equal(t, "[10.99.0.0/16 172.29.64.0/24]", lines(r.Networks()))
		assert.NotZero(t, r.Memory)
		return
	}
	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("making a namespace takes root on Linux")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("ip is not here to make adapters")
	}
	script := `set -e
ip link add made0 address 02:0b:00:00:00:07 type veth peer name peer0
ip link add made1 type veth peer name peer1
ip link set peer0 up
ip addr add 172.29.64.5/24 dev made0
ip link set made0 up
ip route add default via 172.29.64.1
ip route add 10.99.0.0/16 via 172.29.64.9
exec "$0" -test.run TestLookInNamespace -test.v`
	c := exec.Command("unshare", "--net", "sh", "-c", script, os.Args[0])
	c.Env = append(os.Environ(), "BASTION_SURVEY_CHILD=1")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "PASS")
}
