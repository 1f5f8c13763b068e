package field

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
)

// A system has one list of resolvers: those of another adapter, and those of IPv6, are not taken
// for what an adapter's lease told; one that nobody planned is.
func TestResolversOfAnAdapter(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`
bastion: 1
lab: mudflat
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
  quay: {reach: isolated, subnet: 10.83.33.0/24}
appliances:
  weir:
    ports:
      - {role: wan, segment: moor}
      - {role: lan, segment: fen, dhcp: {dns: [self, 198.51.100.10]}}
      - {role: lan, name: p1, segment: quay, dhcp: {dns: [198.51.100.10, self]}}
guests: {tern: {adapters: [{segment: fen}, {segment: quay}, {segment: moor}]}}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	tern := p.Machine("tern")
	for name, c := range map[string]struct {
		system string
		by     [3]string
	}{
		"as planned":    {"10.83.17.1 198.51.100.10 10.83.33.1 172.29.70.1 2001:db8::1", [3]string{"10.83.17.1 198.51.100.10", "198.51.100.10 10.83.33.1", "172.29.70.1"}},
		"a strange one": {"10.83.17.1 9.9.9.9", [3]string{"10.83.17.1 9.9.9.9", "9.9.9.9", "9.9.9.9"}},
		"none":          {"", [3]string{}},
	} {
		s := &Probe{plan: p, self: tern, system: System{Resolvers: list(c.system)}}
		for i, want := range c.by {
			assert.ElementsMatch(t, list(want), s.toldBy(tern.Adapters[i]), "%s, adapter %d", name, i+1)
		}
	}
}

func list(text string) (out []netip.Addr) {
	for _, f := range strings.Fields(text) {
		out = append(out, netip.MustParseAddr(f))
	}
	return out
}

// What a system has and the plan has not is named by what it is; what leads nowhere by itself, and next hops of the
// plan, are not.
func TestUnplanned(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`
bastion: 1
lab: mudflat
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
appliances:
  weir: {ports: [{role: wan, segment: moor}, {role: lan, segment: fen}]}
guests: {tern: {segment: fen}}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	tern := p.Machine("tern")
	home := Adapter{Name: "eth0", MAC: tern.Adapters[0].MAC, Up: true, Known: true, Addresses: prefixes("10.83.17.50/24"),
		Gateway: netip.MustParseAddr("10.83.17.1")}
	all := func(x Adapter) System {
		x.MAC, x.Known = mac.Address{2, 9}, true
		return System{Adapters: []Adapter{home, x}}
	}
	route := func(to, via string) System {
		hop, _ := netip.ParseAddr(via)
		return System{Adapters: []Adapter{home}, Routes: []Route{{netip.MustParsePrefix(to), hop, "eth0"}}}
	}
	renamed := home
	renamed.MAC = mac.Address{2, 7}
	for name, c := range map[string]struct {
		system System
		want   string
		why    string
	}{
		"as planned":                 {System{Adapters: []Adapter{home}}, "", ""},
		"its MAC address is another": {System{Adapters: []Adapter{renamed}}, "", ""},
		"a second one":               {all(Adapter{Name: "eth1", Up: true, Addresses: prefixes("172.29.70.9/24")}), "adapter eth1 (172.29.70.9/24)", ""},
		"one that is down":           {all(Adapter{Name: "eth1", Addresses: prefixes("172.29.70.9/24")}), "adapter eth1 (172.29.70.9/24)", "it is down"},
		"wireless":                   {all(Adapter{Name: "wlan0", Kind: wireless, Up: true, NoCarrier: true}), "wireless adapter wlan0", "it has no link"},
		"over USB":                   {all(Adapter{Name: "usb0", Kind: usb, Up: true}), "USB adapter usb0", ""},
		"tagged on the planned":      {all(Adapter{Name: "eth0.30", Kind: tagged, Over: "eth0", Up: true}), "VLAN adapter eth0.30", ""},
		"a tunnel":                   {all(Adapter{Name: "wg0", Kind: tunnel, Up: true, Addresses: prefixes("10.9.0.2/32")}), "tunnel wg0 (10.9.0.2/32)", ""},
		"a tunnel never set up":      {all(Adapter{Name: "sit0", Kind: tunnel}), "", ""},
		"a bridge":                   {all(Adapter{Name: "br0", Up: true, Internal: true, Addresses: prefixes("10.200.0.1/24")}), "", ""},
		"in a namespace":             {all(Adapter{Name: "eth0", Up: true, Within: "box"}), "adapter eth0 in namespace box", ""},
		"the planned next hop":       {route("0.0.0.0/0", "10.83.17.1"), "", ""},
		"another next hop":           {route("0.0.0.0/0", "10.83.17.9"), "route default via 10.83.17.9 dev eth0", ""},
		"one to a prefix":            {route("203.0.113.0/24", "10.83.17.9"), "route 203.0.113.0/24 via 10.83.17.9 dev eth0", ""},
		"everything on its link":     {route("0.0.0.0/0", ""), "route default dev eth0", ""},
		"announced over IPv6":        {route("::/0", "fe80::9"), "route default via fe80::9 dev eth0", ""},
		"a proxy": {System{Adapters: []Adapter{home}, Proxies: []netip.AddrPort{netip.MustParseAddrPort("10.83.17.9:3128")}},
			"proxy 10.83.17.9:3128", ""},
		"the appliance as proxy": {System{Adapters: []Adapter{home}, Proxies: []netip.AddrPort{netip.MustParseAddrPort("10.83.17.1:3128")}}, "", ""},
	} {
		tied, remarks := c.system.tie(tern)
		assert.NotNil(t, tied[tern.Adapters[0]], name)
		assert.Equal(t, name == "its MAC address is another", len(remarks) == 1, name)
		var got []string
		why := ""
		for _, w := range c.system.unplanned(tern, tied) {
			got = append(got, w.Unplanned.String())
			why = w.Why
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), name)
		assert.Equal(t, c.why, why, name)
	}
}

func prefixes(text string) (out []netip.Prefix) { return []netip.Prefix{netip.MustParsePrefix(text)} }
