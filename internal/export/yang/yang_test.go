package yang

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// decide walks over access list entries as a device does.
func decide(by *plan.Machine, list []entry, f plan.Flow) string {
	in := func(network string, a netip.Addr) bool {
		return network == "" || netip.MustParsePrefix(network).Contains(a)
	}
	for _, e := range list {
		m := e.Matches
		if m == nil {
			return e.Actions.Forwarding
		}
		if m.In != "" && !by.Outside(f.Source) || m.Out != "" && !by.Outside(f.Destination) {
			continue
		}
		if ip := m.IPv6; ip != nil {
			continue // the flows are of IPv4
		}
		if ip := m.IPv4; ip != nil &&
			(ip.Protocol != 0 && ip.Protocol != protocol(f.Proto) || !in(ip.From4, f.Source) || !in(ip.To4,
				f.Destination)) {
			continue
		}
		at := map[lab.Proto]*transport{lab.TCP: m.TCP, lab.UDP: m.UDP}
		fits := true
		for p, x := range at {
			if x == nil {
				continue
			}
			ok := x.Ports.Operator == "eq" && x.Ports.Port == f.Port ||
				x.Ports.Operator == "" && x.Ports.Lower <= f.Port && f.Port <= x.Ports.Upper
			fits = fits && p == f.Proto && ok
		}
		if fits {
			return e.Actions.Forwarding
		}
	}
	return "none"
}

// Access list entries decide on every flow as the rules they were made from.
func TestEntriesDecideAsRules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		who := []string{
			"any",
			"outside",
			"desks",
			"tills",
			"heron",
			"10.83.16.0/28",
			"172.29.64.9",
			"desks,outside",
			"heron,tills",
		}
		what := []string{"any", "icmp", "tcp", "udp", "tcp/80", "tcp/80-443", "udp/53,tcp/25", "icmp,udp/7"}
		var rules []string
		for range rapid.IntRange(0, 6).Draw(t, "rules") {
			rules = append(
				rules,
				fmt.Sprintf(
					"%s %s from %s to %s",
					rapid.SampledFrom([]string{"allow", "deny", "refuse"}).Draw(t, "action"),
					rapid.SampledFrom(what).
						Draw(t, "what"),
					rapid.SampledFrom(who).Draw(t, "from"),
					rapid.SampledFrom(who).Draw(t, "to"),
				),
			)
		}
		list := "[]"
		if rules != nil {
			list = "[" + `"` + strings.Join(rules, `", "`) + `"` + "]"
		}
		l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: acls
segments:
  road: {reach: upstream, subnet: 172.29.64.0/24}
  desks: {reach: isolated, subnet: 10.83.16.0/24}
  tills: {reach: isolated, subnet: 10.83.17.128/25}
appliances:
  gate:
    ports: [{role: wan, segment: road}, {role: lan, segment: desks}, {role: dmz, segment: tills}]
    rules: `+list+`
guests: {heron: {segment: desks, static: 10.83.16.9/24}, owl: tills}
`))
		require.NoError(t, err)
		p, err := plan.Build(l)
		require.NoError(t, err)
		m := p.Appliances()[0]
		all := entries(m)
		address := rapid.SampledFrom(
			[]string{"10.83.16.9", "10.83.16.200", "10.83.17.130", "10.83.17.3", "172.29.64.9", "8.8.8.8", "0.0.0.1",
				"255.255.255.254"},
		)
		for range 20 {
			f := plan.Flow{Source: netip.MustParseAddr(address.Draw(t, "source")),
				Destination: netip.MustParseAddr(address.Draw(t, "destination")),
				Proto:       rapid.SampledFrom([]lab.Proto{lab.ICMP, lab.TCP, lab.UDP}).Draw(t, "proto"),
				Port:        rapid.SampledFrom([]uint16{7, 25, 53, 80, 200, 443, 8443}).Draw(t, "port")}
			_, action := m.Decide(f)
			want := "ietf-access-control-list:" + map[lab.Action]string{lab.Allow: "accept", lab.Deny: "drop", lab.Refuse: "reject"}[action]
			assert.Equal(t, want, decide(m, all, f), "%+v by %v", f, rules)
		}
		files, err := Files(p)
		require.NoError(t, err)
		require.True(t, json.Valid(files[0].Data))
	})
}
