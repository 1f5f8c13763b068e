package openbastion

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/sampling"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// dice draws labs in which much can go wrong: several appliances beside and behind
// each other, tags, hosts, IPv6, guests with several adapters, rules of every
// form, published ports, addresses of a guest's own, and sentences about it all.
type dice struct{ *rand.Rand }

func (d dice) one(list ...string) string { return list[d.IntN(len(list))] }

func (d dice) often(percent int) bool { return d.IntN(100) < percent }

func (d dice) lab() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("bastion: 1\nlab: drawn")
	if d.often(25) {
		line("ipv6: true")
	}
	line("site: {uplinks: {enp1: wired}}\nsegments:")
	join := d.one("", "", ", join: nat", ", uplink: enp1")
	line("  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1%s}", join)
	second := d.often(20)
	if second {
		line("  mere: {reach: upstream, subnet: 172.29.80.0/24, gateway: 172.29.80.1%s}", d.one("", ", uplink: enp1"))
	}
	inside := []string{"fen", "quay", "pond"}[:1+d.IntN(3)]
	reaches := map[string]string{}
	for i, s := range inside {
		reaches[s] = "reach: isolated"
		switch {
		case i > 0 && d.often(15):
			reaches[s] = fmt.Sprintf("reach: isolated, within: %s, vlan: %d", inside[0], 40+i)
		case d.often(10):
			reaches[s] = d.one("reach: host", "reach: host, host-forwards: true")
		case i > 0 && d.often(5) && join != ", join: nat":
			reaches[s] = fmt.Sprintf("reach: isolated, within: moor, vlan: %d", 60+i)
		case d.often(4):
			reaches[s] = "reach: isolated, router-advertisements: true"
		}
		line("  %s: {%s, subnet: 10.83.%d.0/24}", s, reaches[s], 17+16*i)
	}
	back := d.often(25)
	if back {
		line("  back: {reach: isolated, subnet: 10.83.60.0/24}")
	}
	chain := d.often(20)
	if chain {
		line("  deep: {reach: isolated, subnet: 10.83.99.0/24}")
	}
	bridged := b.Len()
	guests := []string{"tern", "wren", "rail", "crake", "newt"}[:2+d.IntN(4)]
	line("appliances:\n  weir:\n    ports:")
	line("      - {role: wan, segment: moor%s}", d.one("", ", address: 172.29.70.9/24"))
	for i, s := range inside {
		over := ""
		switch {
		case strings.Contains(reaches[s], "within: moor"):
			over = ", over: wan"
		case strings.Contains(reaches[s], "within"):
			over = ", over: p0"
		}
		line(
			"      - {role: %s, name: p%d, segment: %s%s%s}",
			d.one("lan", "lan", "dmz"),
			i,
			s,
			over,
			d.one("", "", ", admin: true"),
		)
	}
	segments := append([]string(nil), inside...)
	if chain {
		segments = append(segments, "deep")
	}
	if second {
		line("      - {role: wan, name: spare, segment: mere}")
	}
	if d.often(10) {
		line(
			"      - {role: manage, name: desk, segment: %s, address: %s/24, admin: true}",
			inside[0],
			d.address(inside[0], 9),
		)
	}
	d.policy(line, guests, segments)
	veil := d.often(20)
	if veil {
		line(
			"  veil:\n    kind: transparent\n    ports: [{role: wan, segment: %s}, {role: lan, segment: veiled}]",
			d.one("moor", inside[0]),
		)
		segments = append(segments, "veiled")
		text := b.String()
		b.Reset()
		b.WriteString(text[:bridged] + "  veiled: {reach: isolated}\n" + text[bridged:])
		d.policy(line, guests, segments)
	}
	if chain {
		line("  dyke:\n    ports: [{role: wan, segment: %s}, {role: lan, segment: deep}]", inside[len(inside)-1])
		d.policy(line, guests, segments)
	}
	line("guests:")
	all := append(append([]string(nil), segments...), "moor")
	if back {
		all = append(all, "back")
	}
	for i, g := range guests {
		s := d.one(segments...)
		switch {
		case d.often(15):
			t := d.one(all...)
			line("  %s: {adapters: [{segment: %s}, {segment: %s}], forwards: %s}", g, s, t, d.one("false", "true"))
		case d.often(25) && s != "veiled":
			line("  %s: {segment: %s, reserve: %s}", g, s, d.address(s, 20+i))
		case d.often(5):
			line("  %s: {segment: %s, plugged: false}", g, s)
		case d.often(5):
			line("  %s: {segment: moor, outside: true}", g)
		case d.often(8):
			line("  %s: moor", g)
		default:
			line("  %s: %s", g, s)
		}
	}
	line("expect:")
	for range 1 + d.IntN(3) {
		line(
			"  - %s %s %s%s",
			d.one(append(guests, "outside", inside[0])...),
			d.one("never reaches", "never reaches", "reaches"),
			d.one(
				append(guests, "outside", "weir", inside[0])...),
			d.one("", "", " tcp/80", " icmp", " udp/53", " tcp/443"),
		)
	}
	return b.String()
}

func (d dice) address(segment string, host int) string {
	third := map[string]int{"fen": 17, "quay": 33, "pond": 49, "back": 60, "deep": 99}[segment]
	return fmt.Sprintf("10.83.%d.%d", third, host)
}

// policy draws rules and translation.
func (d dice) policy(line func(string, ...any), guests, segments []string) {
	if d.often(12) {
		line("    nat: {one-to-one: [{outside: 172.29.70.%d, inside: %s}]}", 30+d.IntN(4), d.one(guests...))
	} else if d.often(30) {
		line("    nat: {publish: [{port: tcp/%s, to: %s, at: tcp/%s}]}", d.one("80", "8080", "443"), d.one(guests...), d.one("80", "443"))
	}
	if d.often(35) {
		return
	}
	line("    rules:")
	who := func(more ...string) string {
		list := append(append(append([]string{"any"}, segments...), guests...), more...)
		list = append(list, "10.83.17.0/25", "10.83.33.200", "outside", "172.29.70.50")
		return d.one(list...)
	}
	for range 1 + d.IntN(6) {
		line(
			"      - %s %s from %s to %s",
			d.one("allow", "allow", "deny", "refuse"),
			d.one(
				"any",
				"any",
				"tcp",
				"tcp/80",
				"tcp/443",
				"udp",
				"udp/53",
				"icmp",
				"tcp/1000-2000",
			),
			who(),
			who("weir"),
		)
	}
}

// number returns a number of the environment.
// drawn returns the seeds of the labs that a run draws: LABS of them from FIRST, where the environment
// says so; else all of them where everything is tried, and an eighth of them, another one each day.
func drawn(t *testing.T, all int) []int {
	n, first := all, 0
	if !sampling.All() {
		n = all / 8
		first = sampling.Day() % 8 * n
	}
	n, first = number("LABS", n), number("FIRST", first)
	t.Logf("labs %d to %d (FIRST, LABS)", first, first+n-1)
	var out []int
	for i := range n {
		out = append(out, first+i)
	}
	return out
}

func number(name string, otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return otherwise
}

// Proof and rehearsal agree on labs that nobody thought of.
func TestProofAndRehearsalAgree(t *testing.T) {
	n, first := number("LABS", 150), number("FIRST", 0)
	made, pairs, bad := 0, 0, 0
	for seed := first; seed < first+n; seed++ {
		text := dice{rand.New(rand.NewPCG(uint64(seed), 11))}.lab()
		p := planned(text)
		if p == nil {
			continue
		}
		doc := simulator.New(p).Outcome()
		made++
		for _, c := range doc.Claims {
			if c.Kind == "cut" || c.Kind == "held" || c.Kind == "expect" || c.Kind == "between" || c.Kind == "behind" {
				pairs++
			}
		}
		if len(doc.Proof.Disagree) > 0 {
			bad++
		}
		if bad < 12 {
			assert.Empty(t, doc.Proof.Disagree, "seed %d\n%s", seed, text)
		}
	}
	t.Logf("%d labs, %d claims that the proof decides, %d labs in which it disagrees", made, pairs, bad)
	require.Greater(t, made, n/2)
}

// A flow passes when it is traced exactly when the sentence that it does holds, where
// nothing is published.
func TestTracesAgreeWithSentences(t *testing.T) {
	asked := 0
	for seed := number("FIRST", 0); seed < number("FIRST", 0)+number("LABS", 300); seed++ {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 15))}
		text := d.lab()
		p := planned(text)
		if p == nil || strings.Contains(text, "publish") {
			continue
		}
		ends := map[string]*plan.Adapter{"outside": nil}
		for _, g := range p.Guests() {
			if a := g.Adapters[0]; len(g.Adapters) == 1 && a.Plugged && !g.Guest.Outside {
				ends[g.Name] = a
			}
		}
		text = text[:strings.Index(text, "expect:\n")] + "expect:\n"
		var flows [][3]string
		for range 6 {
			names := slices.Sorted(maps.Keys(ends))
			if f := [3]string{d.one(names...), d.one(names...), d.one("tcp/80", "icmp", "udp/7", "tcp/443")}; f[0] != f[1] {
				flows = append(flows, f)
				text += fmt.Sprintf("  - %s reaches %s %s\n", f[0], f[1], f[2])
			}
		}
		if p = planned(text); p == nil || len(flows) == 0 {
			continue
		}
		verdicts := judged(text)
		for i, f := range flows {
			service, err := lab.ParseService(f[2])
			require.NoError(t, err)
			again := func(name string) *plan.Adapter {
				if ends[name] == nil {
					return nil
				}
				return p.Machine(name).Adapters[0]
			}
			r, ok := verdicts[fmt.Sprintf("expect-%d.expect", i+1)]
			if !ok {
				continue
			}
			asked++
			trace := simulator.New(p).Trace(again(f[0]), again(f[1]), service)
			assert.Equal(
				t,
				r.Verdict == claims.Holds,
				trace.Passed,
				"seed %d, %v: %s; traced: %s\n%s",
				seed,
				f,
				r.Observed,
				trace.Died,
				text,
			)
		}
	}
	require.NotZero(t, asked)
}
