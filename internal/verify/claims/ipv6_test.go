package claims

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
)

// Each way in which IPv6 can differ from the plan is told by what it is.
func TestJudgeIPv6(t *testing.T) {
	build := func(six string) *plan.Plan {
		l, err := lab.Read("lab.yaml", []byte("bastion: 1\nlab: six\n"+six+
			"segments: {road: {reach: upstream}, desks: {reach: isolated}}\nappliances:\n  gate: {ports: [{role: wan, segment: road}, {role: lan, segment: desks}]}\nguests: {heron: desks}\n"))
		require.NoError(t, err)
		p, err := plan.Build(l)
		require.NoError(t, err)
		return p
	}
	p := build("ipv6: true\n")
	s, home := p.Segment("desks"), p.Machine("heron").Adapters[0]
	port, stranger := s.Port, mac.Address{2, 9}
	ours := Router{port.MAC.LinkLocal(), port.MAC, s.Subnet6}
	theirs := Router{stranger.LinkLocal(), stranger, netip.MustParsePrefix("2001:db8::/64")}
	for _, c := range []struct {
		what    string
		s       *plan.Segment
		routers []Router
		want    string
	}{
		{"as planned", s, []Router{ours}, ""},
		{"a stranger in its folder", s, []Router{ours, theirs}, "announces 2001:db8::/64 over IPv6 on desks; this is not planned"},
		{"the wrong prefix", s, []Router{{ours.Address, ours.MAC, theirs.Prefix}}, "announces 2001:db8::/64"},
		{"nobody", s, nil, "no router announces " + s.Subnet6.String() + " on desks; gate.lan should"},
		{"a router without a prefix", s, []Router{ours, {theirs.Address, theirs.MAC, netip.Prefix{}}}, "announces itself as a router"},
		{"none where none ", build("").Segment("desks"), nil, ""},
		{"one where none ", build("").Segment("desks"), []Router{theirs}, "this is not planned"},
	} {
		r := &Result{Verdict: Holds}
		judgeRouters(r, c.s, GotRouters{c.routers}, false)
		assert.Equal(t, c.want == "", r.Verdict == Holds, c.what)
		assert.Contains(t, r.Observed, c.want, c.what)
		assert.Equal(t, c.want != "", r.Remedy != "", c.what)
	}
	good := GotIPv6{Address: home.Address6, Router: port.MAC.LinkLocal(), Resolvers: []netip.Addr{port.Address6.Addr()}}
	for _, c := range []struct {
		what   string
		change func(o *GotIPv6)
		want   string
	}{
		{"as planned", func(*GotIPv6) {}, ""},
		{"no address", func(o *GotIPv6) { o.Address = netip.Prefix{} }, "heron has no IPv6 address on desks"},
		{"a foreign address", func(o *GotIPv6) { o.Address = netip.MustParsePrefix("2001:db8::5/64") },
			"planned: " + s.Subnet6.String()},
		{"a foreign router", func(o *GotIPv6) { o.Router = stranger.LinkLocal() }, "uses the IPv6 router " + stranger.LinkLocal().String()},
		{"no DNS server", func(o *GotIPv6) { o.Resolvers = nil }, "got over IPv6: no DNS server"},
	} {
		o := good
		c.change(&o)
		r := &Result{Verdict: Holds, Observed: "by IPv4"}
		judgeIPv6(r, home, port, o, false)
		assert.Equal(t, c.want == "", r.Verdict == Holds, c.what)
		assert.Contains(t, r.Observed, c.want, c.what)
	}
	already := &Result{Verdict: Broken, Observed: "worse"}
	judgeIPv6(already, home, port, GotIPv6{}, false)
	assert.Equal(t, "worse", already.Observed)
}
