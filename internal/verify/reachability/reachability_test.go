package reachability

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

func planned(t testing.TB, text string) *plan.Plan {
	t.Helper()
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err, text)
	p, err := plan.Build(l)
	require.NoError(t, err, text)
	return p
}

const two = `bastion: 1
lab: two
ipv6: true
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
  quay: {reach: isolated, subnet: 10.83.33.0/24}
appliances:
  weir:
    ports:
      - {role: wan, segment: moor, address: 172.29.70.9/24}
      - {role: lan, name: fen, segment: fen, address: 10.83.17.1/24}
      - {role: lan, name: quay, segment: quay, address: 10.83.33.1/24}
    rules: [%s]
guests:
  tern: {segment: fen, reserve: 10.83.17.20}
  rail: {segment: quay, static: 10.83.33.20/24}
`

// Every packet of a small world, decided one by one by the plan's own reading of
// the rules, passes exactly when it is in the sets.
func TestSetsAgreeWithEachPacket(t *testing.T) {
	who := []string{
		"any",
		"outside",
		"fen",
		"quay",
		"tern",
		"rail",
		"10.83.17.0/28",
		"10.83.33.20",
		"172.29.70.50",
		"198.51.100.0/30",
		"fd00::/8",
	}
	services := []string{"any", "icmp", "tcp", "udp", "tcp/80", "tcp/79-81", "udp/53", "tcp/1-1023", "tcp/80,udp/53"}
	sources := []string{"10.83.17.2", "10.83.17.15", "10.83.17.16", "10.83.17.20", "10.83.17.255"}
	far := []string{
		"10.83.33.2",
		"10.83.33.20",
		"172.29.70.50",
		"172.29.70.51",
		"198.51.100.3",
		"198.51.100.4",
		"203.0.113.80",
	}
	var asked []lab.Service
	for _, s := range []string{"icmp", "tcp/79", "tcp/80", "tcp/82", "tcp/1024", "udp/53", "udp/54"} {
		v, err := lab.ParseService(s)
		require.NoError(t, err)
		asked = append(asked, v)
	}
	rapid.Check(t, func(rt *rapid.T) {
		var rules []string
		for range rapid.IntRange(0, 7).Draw(rt, "rules") {
			pick := func(list []string) string { return rapid.SampledFrom(list).Draw(rt, "word") }
			rules = append(
				rules,
				fmt.Sprintf("%q", fmt.Sprintf("%s %s from %s to %s", pick([]string{"allow", "allow", "deny", "refuse"}),
					pick(services), pick(who), pick(who))),
			)
		}
		p := planned(t, fmt.Sprintf(two, strings.Join(rules, ", ")))
		weir := p.Machine("weir")
		var named []netip.Prefix
		for _, a := range append(append([]string(nil), sources...), far...) {
			named = append(named, single(netip.MustParseAddr(a)))
		}
		m := New(p, netip.Addr{}, named...)
		exits, whole := m.cross(m.gates[weir], weir.Adapters[1], []flow{whole(m.space.All(), m.space.All())})
		require.True(t, whole)
		for _, from := range sources {
			for _, to := range far {
				for _, s := range asked {
					source, destination := netip.MustParseAddr(from), netip.MustParseAddr(to)
					_, action := weir.Decide(
						plan.Flow{Source: source, Destination: destination, Proto: s.Proto, Port: s.From},
					)
					in := false
					for _, e := range exits {
						for _, f := range e.flows {
							in = in || e.port != nil && m.space.Addresses(source).Within(f.sent.Source) &&
								m.space.Addresses(destination).
									Within(f.sent.Destination) &&
								packetset.Service(s).Within(f.sent.Service)
						}
					}
					require.Equal(t, action == lab.Allow, in, "%s from %s to %s by %v", s, from, to, rules)
				}
			}
		}
	})
}

// What passes over IPv6 is told apart from what passes over IPv4.
func TestBothVersions(t *testing.T) {
	p := planned(t, fmt.Sprintf(two, `"deny any from 10.83.17.0/24 to quay", "allow tcp/80 from any to quay"`))
	m := New(p, netip.Addr{})
	answer := m.Ask(
		Running,
		lab.Who{Kind: lab.WhoGuest, Name: "tern"},
		lab.Who{Kind: lab.WhoGuest, Name: "rail"},
		lab.Service{Proto: lab.Any},
	)
	require.Len(t, answer.Passages, 1)
	assert.True(
		t,
		answer.Passages[0].Packet.Source.Is6() && answer.Passages[0].Packet.Destination.Is6(),
		"%s",
		answer.Passages[0].Packet,
	)
	require.Len(t, m.Words(answer.Passages[0].Sets), 1)
	assert.Contains(t, m.Words(answer.Passages[0].Sets)[0], "tcp/80 from ")
}

// large is a lab of many segments, guests and rules; live rules are the most
// specific first, so that almost all of them decide something.
func large(segments, guests, rules int, live bool) string {
	r := rand.New(rand.NewPCG(7, 7))
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"bastion: 1\nlab: large\nsegments:\n  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}\n",
	)
	subnet := func(i int) string { return fmt.Sprintf("10.%d.%d", 100+i/250, i%250) }
	for i := range segments {
		fmt.Fprintf(&b, "  s%d: {reach: isolated, subnet: %s.0/24}\n", i, subnet(i))
	}
	b.WriteString("appliances:\n  gate:\n    ports:\n      - {role: wan, segment: moor, address: 172.29.70.9/24}\n")
	for i := range segments {
		fmt.Fprintf(&b, "      - {role: lan, name: p%d, segment: s%d, address: %s.1/24}\n", i, i, subnet(i))
	}
	b.WriteString("    rules:\n")
	side := func(k int) string {
		s := subnet(r.IntN(segments))
		bits := r.IntN(3)
		if live {
			bits = 2 - k*3/rules
		}
		switch bits {
		case 2:
			return fmt.Sprintf("%s.%d", s, 2+r.IntN(250))
		case 1:
			return fmt.Sprintf("%s.%d/27", s, 32*r.IntN(8))
		}
		return s + ".0/24"
	}
	for k := range rules {
		to := side(k)
		if r.IntN(4) == 0 {
			to = "outside"
		}
		fmt.Fprintf(
			&b,
			"      - %s tcp/%d from %s to %s\n",
			[]string{"allow", "deny"}[r.IntN(2)],
			[]int{22, 53, 80, 443, 8080, 8443}[r.IntN(6)],
			side(k),
			to,
		)
	}
	b.WriteString("guests:\n")
	for i := range guests {
		fmt.Fprintf(&b, "  g%d: s%d\n", i, i%segments)
	}
	return b.String()
}

// Who stands alike is looked at once, and the matrix says what asking each pair does.
func TestMatrixIsEachPair(t *testing.T) {
	files, err := filepath.Glob("../../../testdata/verdicts/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		l, err := lab.Read(file, data)
		if err != nil {
			continue // a lab that is refused
		}
		p, err := plan.Build(l)
		if err != nil || len(p.Guests()) > 12 {
			continue
		}
		m := New(p, netip.Addr{})
		who := map[string]lab.Who{}
		for _, w := range m.parties() {
			who[w.String()] = w
		}
		kinds := m.MatrixOfKinds()
		for _, c := range append(m.Matrix(), kinds.Cells...) {
			if c.From != c.To {
				assert.Equal(
					t,
					New(p, netip.Addr{}).served(who[c.From], who[c.To]),
					c.Services,
					"%s: %s to %s",
					file,
					c.From,
					c.To,
				)
			}
		}
	}
}

func BenchmarkProve(b *testing.B) {
	for _, size := range []struct {
		segments, guests, rules int
		live                    bool
	}{{3, 5, 10, false}, {100, 1000, 1000, true}, {100, 1000, 10_000, false}, {100, 1000, 10_000, true}} {
		p := planned(b, large(size.segments, size.guests, size.rules, size.live))
		b.Run(fmt.Sprintf("%d rules live %v", size.rules, size.live), func(b *testing.B) {
			for b.Loop() {
				New(p, netip.Addr{}).Prove()
			}
		})
	}
}

func ExampleModel_Ask() {
	l, err := lab.Read("lab.yaml", []byte(fmt.Sprintf(two, `"allow tcp/443 from fen to outside"`)))
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := plan.Build(l)
	if err != nil {
		fmt.Println(err)
		return
	}
	m := New(p, netip.Addr{})
	answer := m.Ask(
		Running,
		lab.Who{Kind: lab.WhoGuest, Name: "tern"},
		lab.Who{Kind: lab.WhoOutside},
		lab.Service{Proto: lab.Any},
	)
	for _, x := range answer.Passages {
		fmt.Println(strings.Join(x.Path, " > "))
		fmt.Println(x.Packet)
	}
	// Output:
	// tern > fen > weir > moor > outside
	// tcp/443 from 10.83.17.20 to 203.0.113.80
}
