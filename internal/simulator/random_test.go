package simulator

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// Few in everyday runs; -rapid.checks=1000 for the long one.
func TestMain(m *testing.M) {
	flag.Parse()
	set := false
	flag.Visit(func(f *flag.Flag) { set = set || f.Name == "rapid.checks" })
	if !set {
		_ = flag.Set("rapid.checks", "12")
	}
	os.Exit(m.Run())
}

// randomLab writes a sound lab: one or two uplinks, some segments, each with an
// adapter of its own or tagged, guests of every kind, rules, publishes, outside
// addresses, perhaps a second appliance behind the first.
func randomLab(t *rapid.T) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	coin := func(what string) bool { return rapid.Bool().Draw(t, what) }
	one := func(what string, of ...string) string { return rapid.SampledFrom(of).Draw(t, what) }

	line(
		"bastion: 1\nlab: %s\nipv6: %t\nsegments:",
		"x"+rapid.StringMatching(`[a-z]{1,7}`).Draw(t, "lab"),
		coin("ipv6"),
	)
	join := one("join", "bridged", "nat")
	subnet := one("upstream", "172.29.64", "203.0.113", "192.168.77")
	line("  road: {reach: upstream, join: %s, subnet: %s.0/24, gateway: %s.1}", join, subnet, subnet)
	second := coin("second uplink")
	if second {
		line("  lane: {reach: upstream, subnet: 172.29.65.0/24}")
	}
	n := rapid.IntRange(1, 4).Draw(t, "segments")
	ports := []string{"{role: wan, segment: road}"}
	if join == "bridged" && coin("static WAN") {
		ports[0] = fmt.Sprintf("{role: wan, segment: road, address: %s.7/24, gateway: %s.1}", subnet, subnet)
	} else if join == "bridged" && coin("session") {
		ports[0] = "{role: wan, segment: road, address: pppoe}"
	}
	if second {
		ports = append(ports, "{role: wan, name: backup, segment: lane}")
	}
	var guests, rules, publishes, addresses []string
	limited := coin("rules")
	for i := 1; i <= n; i++ {
		tagged := i > 1 && coin("tagged")
		extra := ""
		if coin("strict") {
			extra = ", foreign-macs: refuse"
		}
		switch {
		case tagged:
			line("  s%d: {reach: isolated, within: s1, vlan: %d, subnet: 10.83.%d.0/24%s}", i, 10+i, 16*i, extra)
		case coin("host leg"):
			line("  s%d: {reach: host, subnet: 10.83.%d.0/24%s}", i, 16*i, extra)
		default:
			line("  s%d: {reach: isolated, subnet: 10.83.%d.0/24%s}", i, 16*i, extra)
		}
		role := one("role", "lan", "dmz")
		if tagged && coin("over") {
			ports = append(ports, fmt.Sprintf("{role: %s, name: p%d, segment: s%d, over: p1}", role, i, i))
		} else {
			ports = append(ports, fmt.Sprintf("{role: %s, name: p%d, segment: s%d}", role, i, i))
		}
		for k := range rapid.IntRange(1, 3).Draw(t, "guests") {
			name := fmt.Sprintf("g%d-%d", i, k)
			switch kind := one("kind", "lease", "reserve", "static"); kind {
			case "lease":
				guests = append(guests, fmt.Sprintf("%s: s%d", name, i))
			default:
				at := fmt.Sprintf("reserve: 10.83.%d.%d", 16*i, 20+k)
				if kind == "static" {
					at = fmt.Sprintf("static: 10.83.%d.%d/24", 16*i, 20+k)
				}
				guests = append(guests, fmt.Sprintf("%s: {segment: s%d, %s}", name, i, at))
				if coin("publish") {
					publishes = append(
						publishes,
						fmt.Sprintf("{port: %s/%d, to: %s, at: tcp/443}", "tcp", 9000+10*i+k, name),
					)
				} else if subnet == "172.29.64" && join == "bridged" && !strings.Contains(ports[0], "pppoe") && coin("outside address") {
					addresses = append(addresses, fmt.Sprintf("{outside: 172.29.64.%d, inside: %s}", 20+4*i+k, name))
				}
			}
		}
		if limited {
			switch one("rule", "all", "web", "none", "refused") {
			case "all":
				rules = append(rules, fmt.Sprintf("allow any from s%d to outside", i))
			case "web":
				rules = append(rules, fmt.Sprintf("allow tcp/443,udp/53 from s%d to outside", i))
			case "refused":
				rules = append(rules, fmt.Sprintf("refuse any from s%d to any", i))
			}
			if other := rapid.IntRange(1, n).Draw(t, "other"); other != i && coin("between") {
				rules = append(
					rules,
					fmt.Sprintf("allow %s from s%d to s%d", one("service", "any", "icmp", "tcp/80", "udp/7"), i, other),
				)
			}
		}
	}
	chain := coin("chain")
	if chain {
		line("  inner: {reach: isolated, subnet: 10.83.200.0/24}")
	}
	line("appliances:\n  gate:\n    ports:")
	for _, p := range ports {
		line("      - %s", p)
	}
	if publishes != nil || addresses != nil {
		line("    nat: {publish: [%s], one-to-one: [%s]}", strings.Join(publishes, ", "), strings.Join(addresses, ", "))
	}
	if limited && rules != nil {
		line("    rules: [\"%s\"]", strings.Join(rules, `", "`))
	}
	if chain {
		line("  second:\n    ports: [{role: wan, segment: s1}, {role: lan, segment: inner}]")
		guests = append(guests, "deep: inner")
	}
	line("guests:\n  %s", strings.Join(guests, "\n  "))
	return b.String()
}

// Whatever check finds no error in holds all its claims.
func TestSoundLabsHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := randomLab(t)
		if rapid.IntRange(0, 4).Draw(t, "drafted") == 0 {
			data, err := draft.Write(draft.Options{
				Lab: "drawn", Shape: rapid.SampledFrom(draft.Shapes).Draw(t, "shape").Name, NAT: rapid.Bool().Draw(t, "nat"),
				Guests: rapid.IntRange(1, 6).Draw(t, "guests each"), Benches: rapid.IntRange(1, 6).Draw(t, "benches"),
			})
			require.NoError(t, err)
			text = string(data)
		}
		l, err := lab.Read("lab.yaml", []byte(text))
		require.NoError(t, err, text)
		p, err := plan.Build(l)
		require.NoError(t, err, text)
		for _, f := range check.Run(p, time.Time{}) {
			if f.Severity == check.Error {
				t.Skip(f.Code)
			}
		}
		doc := New(p).Outcome()
		want := claims.Holds
		for _, g := range p.Guests() {
			if g.Off { // nobody has seen it
				want = claims.Unknown
			}
		}
		require.Equal(t, want, doc.Verdict, "%v\n%s", verdicts(doc), text)
	})
}
