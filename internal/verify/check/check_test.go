package check

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/profiles"
)

func findings(t require.TestingT, text, on string) []Finding {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err, text)
	data, err := profiles.Files.ReadFile("reference.yaml")
	require.NoError(t, err)
	profile, err := lab.ReadProfile("reference", data)
	require.NoError(t, err)
	l.Profiles = map[string]*lab.Profile{"": profile, "reference": profile}
	p, err := plan.Build(l)
	require.NoError(t, err, text)
	var day time.Time
	if on != "" {
		day, err = time.Parse(time.DateOnly, on)
		require.NoError(t, err)
	}
	return Run(p, day)
}

func codes(list []Finding) map[string]int {
	out := map[string]int{}
	for _, f := range list {
		out[f.Code]++
	}
	return out
}

// consequences are the codes that an example cannot have its own without.
var consequences = map[string][]string{
	"no-lan":                  {"no-gateway", "forward-clash", "host-forwards"},
	"no-wan":                  {"unattached-port", "forward-clash", "host-forwards", "wireless-bridge"},
	"sides-joined":            {"unattached-port", "no-gateway", "shared-roles"},
	"no-gateway":              {},
	"vlan-clash":              {"overlap"},
	"site-overlap":            {},
	"off-subnet":              {"forward-denied"},
	"tight-subnet":            {},
	"wan-no-gateway":          {},
	"private-wan-blocked":     {"double-nat", "local-network-reachable"},
	"local-network-reachable": {"double-nat"},
	"no-dhcp-yet":             {"switched-off"},
	"unmanaged":               {"unattached-port"},
	"double-nat":              {"off-subnet"},
	"bridge-loop":             {"no-gateway", "needless-relaxation"},
	"twin-appliance":          {"two-dhcp-servers"},
	"no-path-outside":         {},
	"dual-homed-guest":        {},
	"forward-denied":          {},
	"default-clash":           {},
	"shared-roles":            {},
	"duplicate-address":       {},
}

// Every code is found in the lab that has it, with its place, a sentence and a
// mend; the same lab mended has no finding; and the example has no other.
func TestCatalogue(t *testing.T) {
	seen := map[string]bool{}
	for _, e := range Catalogue() {
		t.Run(e.Code, func(t *testing.T) {
			require.False(t, seen[e.Code], "twice in the catalogue")
			seen[e.Code] = true
			bad, good := e.Labs()
			require.NotEqual(t, bad, good)
			list := findings(t, bad, e.On)
			found := codes(list)
			require.NotZero(t, found[e.Code], "not found: %v", found)
			allowed := map[string]bool{e.Code: true}
			for _, c := range consequences[e.Code] {
				allowed[c] = true
			}
			for _, f := range list {
				assert.True(t, allowed[f.Code], "also %s: %s", f.Code, f.Message)
				if f.Code != e.Code {
					continue
				}
				assert.True(t, f.Severity.AtLeast(Note) && e.Severity.AtLeast(f.Severity))
				assert.NotZero(t, f.At.Line, "no place")
				assert.NotEmpty(t, f.Subject)
				assert.NotEmpty(t, f.Remedy)
				assert.NotEmpty(t, f.See)
			}
			for _, f := range findings(t, good, e.On) {
				assert.Contains(
					t,
					[]string{"double-nat", "local-network-reachable"},
					f.Code,
					"the mended lab has %s: %s",
					f.Code,
					f.Message,
				)
			}

			// What can be mended mechanically is, and the finding is gone.
			mended, n := Mend([]byte(bad), list)
			mechanical := false
			for _, f := range list {
				mechanical = mechanical || f.Code == e.Code && len(f.mends) > 0
			}
			if mechanical {
				require.NotZero(t, n)
				for _, f := range findings(t, string(mended), e.On) {
					assert.False(
						t,
						f.Code == e.Code && f.Severity == e.Severity,
						"still there after the mend:\n%s",
						mended,
					)
				}
			}
		})
	}
	contract, err := os.ReadFile("testdata/codes.txt")
	require.NoError(t, err)
	for _, line := range strings.Fields(string(contract)) {
		code, severity, _ := strings.Cut(line, ":")
		e, ok := Lookup(code)
		require.True(t, ok, "%s is in the contract and not in the catalogue", code)
		assert.True(t, e.Severity.AtLeast(Severity(severity)), code)
	}
}

// The pages of the catalogue are documentation too: make docs writes them.
func TestPagesAreCurrent(t *testing.T) {
	want, err := Markdown()
	require.NoError(t, err)
	have, err := os.ReadFile("../../../docs/findings.md")
	require.NoError(t, err)
	require.True(t, want == string(have), "docs/findings.md is old: run make docs")
	for _, e := range Catalogue() {
		page, err := PageOf(e)
		require.NoError(t, err)
		assert.NotEmpty(t, page.Message, "%s: its example has no finding to show", e.Code)
		assert.NotEmpty(t, append(page.Before, page.After...), e.Code)
	}
}

func TestAccept(t *testing.T) {
	e, _ := Lookup("double-nat")
	bad, _ := e.Labs()
	text := bad + "accept:\n  - {code: double-nat, because: the site is a lab too}\n  - {code: shadowed-rule, because: once}\n"
	list := findings(t, text, "")
	require.Len(t, list, 2)
	assert.Equal(t, []string{"accepted-in-vain", "double-nat"}, []string{list[0].Code, list[1].Code})
	assert.Equal(t, "the site is a lab too", list[1].Accepted)
}

func TestSamples(t *testing.T) {
	for file, want := range map[string]map[string]int{
		"saltmarsh.yaml":       {"local-network-reachable": 1, "double-nat": 1, "unpinned-order": 1},
		"saltmarsh-leaky.yaml": {"local-network-reachable": 1, "double-nat": 1, "unpinned-order": 1, "two-dhcp-servers": 1, "dual-homed-guest": 1},
	} {
		data, err := os.ReadFile("../../../examples/" + file)
		require.NoError(t, err)
		assert.Equal(t, want, codes(findings(t, string(data), "")), file)
	}
}

func BenchmarkCheck(b *testing.B) {
	for _, n := range []int{100, 1000, 10000} {
		segments := max(1, n/50)
		var s strings.Builder
		s.WriteString("bastion: 1\nlab: big\nsegments:\n  up: {reach: upstream}\n")
		for i := range segments {
			fmt.Fprintf(&s, "  s%d: {reach: isolated}\n", i)
		}
		s.WriteString("appliances:\n  gate:\n    ports:\n      - {role: wan, segment: up}\n")
		for i := range segments {
			fmt.Fprintf(&s, "      - {role: lan, segment: s%d}\n", i)
		}
		s.WriteString("    rules:\n")
		for i := range n {
			fmt.Fprintf(&s, "      - allow tcp/%d from g%d to outside\n", 1+i%60000, i)
		}
		s.WriteString("guests:\n")
		for i := range n {
			fmt.Fprintf(&s, "  g%d: s%d\n", i, i%segments)
		}
		l, err := lab.Read("big.yaml", []byte(s.String()))
		if err != nil {
			b.Fatal(err)
		}
		p, err := plan.Build(l)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				Run(p, time.Time{})
			}
		})
	}
}

// Whatever a lab file says, once it is read it can be planned, shown, checked,
// mended and pinned, or is refused in words.
func FuzzLab(f *testing.F) {
	for _, e := range Catalogue() {
		bad, _ := e.Labs()
		f.Add([]byte(bad))
	}
	for _, file := range []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"} {
		data, err := os.ReadFile("../../../examples/" + file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		l, err := lab.Read("lab.yaml", data)
		if err != nil {
			return
		}
		p, err := plan.Build(l)
		if err != nil {
			return
		}
		p.Document()
		list := Run(p, time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC))
		mended, _ := Mend(data, list)
		_, _ = lab.Read("lab.yaml", mended)
		pinned, _ := p.Pin(data)
		if _, err := lab.Read("lab.yaml", pinned); err != nil {
			t.Fatalf("a pinned lab is not read: %v", err)
		}
		if len(p.Adapters) < 12 && len(p.Segments) < 12 {
			simulator.New(p).Outcome()
		}
	})
}

// Labs that are as they are on purpose have neither an error nor a finding of the named code.
func TestByDesign(t *testing.T) {
	for code, text := range map[string]string{
		"bridge-loop": `
segments: {road: {reach: upstream}, inner: {reach: isolated}}
appliances:
  veil: {kind: transparent, ports: [{role: wan, segment: road}, {role: lan, segment: inner}, {role: unused}, {role: unused, name: spare}]}
guests: {heron: inner}`,
		"shared-roles": `
segments: {road: {reach: upstream}, inner: {reach: isolated}, console: {reach: isolated}}
appliances:
  gate: {ports: [{role: wan, segment: road}, {role: lan, segment: inner}, {role: manage, segment: console}, {role: manage, name: probe, segment: console}]}
guests: {heron: inner, desk: console}`,
		"no-gateway": `
segments: {road: {reach: upstream}, mid: {reach: isolated}, inner: {reach: isolated}}
appliances:
  gate: {ports: [{role: wan, segment: road}, {role: lan, segment: mid, address: 10.5.0.1/24}]}
guests:
  core: {forwards: true, adapters: [{segment: mid, static: 10.5.0.2/24, gateway: 10.5.0.1}, {segment: inner, static: 10.6.0.1/24}]}
  leaf: {segment: inner, static: 10.6.0.9/24, gateway: 10.6.0.1}`,
		"no-wan": `
closed: true
segments: {inner: {kind: isolated}}
appliances:
  gate: {ports: [{role: lan, segment: inner}]}
guests: {heron: inner}`,
		"dhcp-on-site": `
segments: {road: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1, pool: 172.29.64.100-172.29.64.200}}
appliances:
  stick: {kind: one-armed, ports: [{role: lan, segment: road, address: 172.29.64.9/24, dhcp: none}]}
guests: {heron: {segment: road, static: 172.29.64.20/24, gateway: 172.29.64.9}}`,
	} {
		for _, f := range findings(t, "bastion: 1\nlab: mudflat"+text, "") {
			assert.NotEqual(t, Error, f.Severity, "%s: %s: %s", code, f.Code, f.Message)
			assert.NotEqual(t, code, f.Code, f.Message)
		}
	}
}
