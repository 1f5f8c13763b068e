package simulator

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
)

// Labs of every shape that can be drafted hold all their claims, by bridging
// and by the host's translation.
func TestShapesHold(t *testing.T) {
	for _, shape := range draft.Shapes {
		for _, nat := range []bool{false, true} {
			o := draft.Options{}
			o.Lab, o.Shape, o.NAT, o.Guests = "bench", shape.Name, nat, 2
			text, err := draft.Write(o)
			require.NoError(t, err, shape.Name)
			open := verdicts(run(t, []byte(text)))
			if shape.Name == "later-server" {
				delete(open, "server.behind") // it is switched off
			}
			assert.Empty(t, open, "%s, nat %v", shape.Name, nat)
		}
	}
}

const twoWays = `bastion: 1
lab: twoways
segments:
  first: {reach: upstream, subnet: 172.29.64.0/24}
  second: {reach: upstream, subnet: 172.29.65.0/24}
  inner: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  gate:
    ports:
      - {role: wan, segment: first}
      - {role: wan, name: backup, segment: second}
      - {role: lan, segment: inner}
    nat: {publish: [{port: tcp/8080, to: heron, at: tcp/80}]}
guests:
  heron: {segment: inner, reserve: 10.83.16.20}
`

// With two uplinks the second is taken while the first is cut or its router is
// silent, and the first again afterwards; what comes in by the second is
// answered by the second.
func tcp(port uint16) lab.Service { return lab.Service{Proto: lab.TCP, From: port, To: port} }
func udp(port uint16) lab.Service { return lab.Service{Proto: lab.UDP, From: port, To: port} }

// reached asks whether a service reaches one adapter from another; nil is the
// witness.
func reached(l *Lab, from, to *plan.Adapter, s lab.Service) claims.GotReach {
	l.start()
	return claims.AskOne(context.Background(), l, claims.AskReach{From: claims.RefTo(from), To: claims.RefTo(to),
		Service: s}).Got.(claims.GotReach)
}

func TestFailOver(t *testing.T) {
	l := build(t, []byte(twoWays))
	l.start()
	heron := l.plan.Machine("heron").Adapters[0]
	gate := l.members[l.plan.Machine("gate")]
	first := l.routers[l.plan.Segment("first")]
	source := func() string {
		o := reached(l, heron, nil, udp(7))
		if !o.Answered {
			return o.Outcome.String()
		}
		return netip.PrefixFrom(o.Source, 24).Masked().String()
	}
	assert.Equal(t, "172.29.64.0/24", source())
	l.world.setLink(gate, 1, false)
	assert.Equal(t, "172.29.65.0/24", source(), "the cable is out")
	l.world.setLink(gate, 1, true)
	l.world.run(l.world.now + 10*time.Second)
	assert.Equal(t, "172.29.64.0/24", source(), "and in again")
	l.world.setLink(first, 1, false)
	l.world.run(l.world.now + 20*time.Second)
	assert.Equal(t, "172.29.65.0/24", source(), "the router is silent")
	l.world.setLink(first, 1, true)
	l.world.run(l.world.now + 20*time.Second)
	assert.Equal(t, "172.29.64.0/24", source())
	in := reached(l, nil, l.plan.Machine("gate").Adapters[1], tcp(8080))
	assert.Equal(t, "heron", in.Who, "published on both: %s", in.Outcome)
}

const veiled = `bastion: 1
lab: veiled
segments:
  street: {reach: upstream, subnet: 172.29.64.0/24}
  behind: {reach: isolated}
appliances:
  veil:
    kind: transparent
    ports:
      - {role: wan, segment: street}
      - {role: lan, segment: behind}
guests:
  heron: behind
  otter: behind
expect:
  - heron reaches outside
`

// Each lab, changed, breaks the claims named, as they say, or none.
func TestMoreMistakes(t *testing.T) {
	sample := string(example(t, "saltmarsh.yaml"))
	for _, c := range []struct {
		what, lab, old, new string
		broken              map[string]string // all that do not hold
	}{
		{"a strict switch stops a bridge", veiled, "reach: upstream,", "reach: upstream, foreign-macs: refuse,",
			map[string]string{"heron.gateway": "no address", "otter.gateway": "", "heron.dns": "", "otter.dns": "", "heron.outside": "",
				"otter.outside": "", "veil.inbound": "nothing could be tried", "expect-1.expect": "", "behind.full-size": ""}},
		{"a bridge filters", veiled, "appliances:\n  veil:", "appliances:\n  veil:\n    rules: [allow any from otter to outside]",
			map[string]string{"expect-1.expect": "heron to outside does not get through"}},
		{"a guest beside the bridge", veiled, "  otter: behind", "  otter: {adapters: [{segment: behind}, {segment: street}]}",
			map[string]string{"otter.no-bypass": "otter → street → lighthouse", "heron.no-bypass": "heron → behind → otter → street", "otter.behind": "",
				"heron.behind": ""}},
		{"a strict switch is nobody's trouble", sample, "boathouse:                     # a published web server",
			"boathouse:\n    foreign-macs: refuse", nil},
		{"private sources dropped on a private WAN", sample, "{role: wan, segment: causeway, address: dhcp}",
			"{role: wan, segment: causeway, address: dhcp, drop-private: true}",
			map[string]string{"heron.dns": "", "otter.dns": "", "ferry.dns": ""}},
	} {
		data := strings.Replace(c.lab, c.old, c.new, 1)
		require.NotEqual(t, c.lab, data, c.what)
		doc := run(t, []byte(data))
		got := verdicts(doc)
		for id, saw := range c.broken {
			if assert.Contains(t, got, id, c.what) {
				assert.Contains(t, got[id].Observed, saw, c.what)
			}
		}
		for id, r := range got {
			assert.Contains(t, c.broken, id, "%s: %s", c.what, r.Observed)
		}
	}
}

// A guest with an outside address of its own is seen under it, and is reached
// at it where a rule lets it; from inside too.
func TestOneToOne(t *testing.T) {
	text := strings.Replace(twoWays, "publish: [{port: tcp/8080, to: heron, at: tcp/80}]",
		"one-to-one: [{outside: 172.29.64.9, inside: heron}]", 1)
	text = strings.Replace(
		text,
		"    nat:",
		"    rules: [allow any from inner to outside, allow tcp/443 from outside to heron]\n    nat:",
		1,
	) + "  otter: inner\n"
	l := build(t, []byte(text))
	heron, otter := l.plan.Machine("heron").Adapters[0], l.plan.Machine("otter").Adapters[0]
	assert.Equal(t, "172.29.64.9", reached(l, heron, nil, udp(7)).Source.String())
	assert.NotEqual(t, "172.29.64.9", reached(l, otter, nil, udp(7)).Source.String())
	for _, c := range []struct {
		from *station
		port uint16
		who  string
	}{{l.buoy, 443, "heron"}, {l.buoy, 80, ""}, {l.members[otter.Machine], 443, "heron"}} {
		finish := l.reach(c.from, netip.MustParseAddr("172.29.64.9"), tcp(c.port), 0)
		l.world.run(l.world.now + answerTime)
		assert.Equal(t, c.who, finish().got.(claims.GotReach).Who, "%s to tcp/%d", c.from.name, c.port)
	}
}

// A guest hands out leases where the file says so, and is not alone when
// another does as well.
func TestGuestServesLeases(t *testing.T) {
	text := `bastion: 1
lab: own
segments:
  up: {reach: upstream}
  inner: {reach: isolated, subnet: 10.83.16.0/24, dhcp: keeper}
appliances:
  gate: {ports: [{role: wan, segment: up}, {role: lan, segment: inner, address: 10.83.16.1/24}]}
guests:
  keeper: {segment: inner, static: 10.83.16.2/24, gateway: 10.83.16.1, dns: [10.83.16.1]}
  heron: inner
`
	doc := run(t, []byte(text))
	assert.Empty(t, verdicts(doc))
	for _, r := range doc.Claims {
		if r.ID == "inner.one-dhcp" {
			assert.Contains(t, r.Observed, "only keeper")
		}
	}
	doc = run(
		t,
		[]byte(
			strings.Replace(
				text,
				"address: 10.83.16.1/24}",
				"address: 10.83.16.1/24, dhcp: {pool: 10.83.16.50-10.83.16.60}}",
				1,
			),
		),
	)
	assert.Contains(t, verdicts(doc), "inner.one-dhcp")
}

// A WAN that takes its address from a PPPoE session carries everything: the
// claims hold, segments are clamped to what fits, and a cut session comes back.
func TestSessionOnWAN(t *testing.T) {
	text := strings.Replace(
		string(example(t, "saltmarsh.yaml")),
		"segment: causeway, address: dhcp",
		"segment: causeway, address: pppoe",
		1,
	)
	l := build(t, []byte(text))
	l.start()
	sluice := l.plan.Machine("sluice")
	wan := l.members[sluice].node.Ports()[0]
	assert.Equal(t, "172.29.64.64/32 172.29.64.1", wan.Address.String()+" "+wan.Gateway.String())
	sizes := map[uint16]bool{}
	l.world.watch = func(s *station, segment int, p *packet.Packet) {
		if s == l.members[sluice] && p.IPv4 && p.Proto == packet.TCP && header.TCP(p.Data).Flags()&header.SYN != 0 &&
			l.world.Segments[segment] != "reedbed" {
			sizes[header.TCP(p.Data).MSS()] = true
		}
	}
	heron := l.plan.Machine("heron").Adapters[0]
	o := reached(l, heron, nil, tcp(80))
	l.world.watch = nil
	assert.Equal(t, "172.29.64.64", o.Source.String())
	assert.Equal(t, map[uint16]bool{1452: true}, sizes)
	l.plugWAN(false)
	assert.False(t, wan.Address.IsValid())
	l.plugWAN(true)
	l.world.run(l.world.now + 10*time.Second)
	assert.True(t, wan.Address.IsValid())
	assert.Empty(t, verdicts(l.Outcome()))
}

// Two ports on one segment, joined on purpose, are one door: the second stays
// quiet, as the spanning tree has it (IEEE 802.1D), or frames would circle.
func TestJoinedPorts(t *testing.T) {
	text := strings.Replace(twoWays, "      - {role: lan, segment: inner}\n",
		"      - {role: lan, segment: inner}\n      - {role: lan, name: spare, segment: inner, joins: lan}\n", 1)
	assert.Empty(t, verdicts(run(t, []byte(text))))
}

// Faults are felt by those they should be, and all claims hold once they are over.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ fault, want string }{
		{"reboot=sluice", "heron all ended otter all ended ferry all ended newt all none"},
		{"reboot=heron", "heron all ended otter none goes ferry none goes newt none none"},
		{"unplug=sluice.wan", "heron all goes otter all goes ferry all goes newt none none"},
		{"unplug=sluice.lan", "heron all goes otter all goes ferry none goes newt all none"},
		{"unplug=ferry.1", "heron none goes otter none goes ferry all goes newt none none"},
		{"slow=boathouse:3s", "heron none goes otter none goes ferry all goes newt none none"},
		{"loss=boathouse:50%", "heron none goes otter none goes ferry some goes newt none none"},
		{"reorder=reedbed", "heron none goes otter none goes ferry none goes newt none none"},
	} {
		l := build(t, example(t, "saltmarsh.yaml"))
		f, err := ParseFault(l.plan, c.fault)
		require.NoError(t, err)
		var got []string
		for _, s := range l.Suffer(f) {
			lost := "some"
			switch s.Lost {
			case 0:
				lost = "none"
			case s.Tries:
				lost = "all"
			}
			talk, _, _ := strings.Cut(strings.ReplaceAll(s.Talk, ":", ""), " ")
			got = append(got, s.Guest, lost, talk)
			assert.True(t, s.Back, "%s: %s is back", c.fault, s.Guest)
		}
		assert.Equal(t, c.want, strings.Join(got, " "), c.fault)
		assert.Empty(t, verdicts(l.Outcome()), c.fault)
	}
	for text, want := range map[string]string{
		"unplug=heran": "no machine", "unplug=heron.9": "no adapter", "reboot=sluice.wan": "no adapter", "slow=reedbed:1h": "a delay is",
		"loss=reedbed:0": "a loss", "reorder=reedbed:3": "a delay is", "burn=sluice": "a fault is", "slow=heron": "no segment", "": "a fault is",
	} {
		_, err := ParseFault(build(t, example(t, "saltmarsh.yaml")).plan, text)
		assert.ErrorContains(t, err, want, text)
	}
}

// What a hostile guest can invent gets out where a neighbor passes everything
// on, and is recognised outside.
func TestMalformedPacketsAreRecognised(t *testing.T) {
	l := build(t, example(t, "saltmarsh-leaky.yaml"))
	l.start()
	l.plugWAN(false)
	otter := l.plan.Machine("otter")
	heron := l.plan.Machine("heron")
	l.members[otter].node.Forwards, l.members[otter].node.Spreads = true, true
	r := l.newRound(l.members[heron], attack.Escape(l.plan, heron, l.known()), l.outside)
	for i := range r.attempts {
		r.attempts[i].Hops = append(r.attempts[i].Hops, attack.Hop{MAC: otter.Adapters[0].MAC, Name: "otter"})
	}
	l.world.watch = l.tap(r)
	l.fire(r, func(t *attack.Attempt) bool { return t.Malformed })
	got := map[string]bool{}
	for token := range r.caught {
		what, _, _ := strings.Cut(r.attempts[token].Tried, ",")
		got[what] = true
	}
	for _, want := range []string{"IPv6 in IPv4 to the test server", "a GRE tunnel to the test server", "a later fragment",
		"udp/123 from its own address"} {
		assert.True(t, got[want], "%s is seen outside: %v", want, got)
	}
	for _, never := range []string{"udp/7 with the tag 4094", "IPv6 from a public address"} {
		assert.False(t, got[never], never)
	}
}

// A packet that is too big for a session is told so, by the router that meets
// the session first, and one that fits passes.
func TestPathMTU(t *testing.T) {
	l := build(t, []byte(strings.Replace(string(example(t, "saltmarsh.yaml")), "segment: causeway, address: dhcp",
		"segment: causeway, address: pppoe", 1)))
	l.start()
	heron := l.members[l.plan.Machine("heron")]
	for _, c := range []struct {
		size int
		want string
	}{{1464, "answered"}, {1465, "too big (from 10.83.16.1): the path carries 1492 bytes"}} {
		p := heron.node.Ping(l.world.now, l.witness, 0, time.Second, make([]byte, c.size))
		l.world.pump(heron)
		l.world.run(l.world.now + 5*time.Second)
		assert.Equal(t, c.want, p.Outcome.String(), c.size)
	}
	for _, r := range l.Outcome().Claims {
		assert.Equal(t, claims.Holds, r.Verdict, "%s: %s", r.ID, r.Observed)
		if r.ID == "reedbed.full-size" {
			assert.Contains(t, r.Observed, "up to 1,492 bytes pass to the test server and back, and larger packets are reported")
		}
	}
}

// Packets that a segment loses without a report break the claim on full size of the segments that send by it, and no other.
func TestLargePacketsLost(t *testing.T) {
	for narrow, broken := range map[string][]string{
		"causeway": {"reedbed.full-size", "boathouse.full-size"}, "reedbed": {"reedbed.full-size"}, "tidepool": nil,
	} {
		l := build(t, example(t, "saltmarsh.yaml"))
		l = NewTroubled(l.plan, Trouble{Narrow: map[*plan.Segment]int{l.plan.Segment(narrow): 1000}})
		var got []string
		for _, r := range l.Outcome().Claims {
			if r.Verdict != claims.Holds {
				got = append(got, r.ID)
				assert.Equal(t, claims.Code("full-size-lost"), r.Reason.Code, r.ID)
			}
		}
		assert.ElementsMatch(t, broken, got, narrow)
	}
}

// In a lab with IPv6 the rules hold for both; who else announces is found, and
// leads out.
func TestSix(t *testing.T) {
	sample := string(example(t, "saltmarsh.yaml"))
	six := strings.Replace(sample, "\nsegments:", "\nipv6: true\nsegments:", 1)
	doc := run(t, []byte(six))
	assert.Equal(t, claims.Holds, doc.Verdict, verdicts(doc))
	for _, r := range doc.Claims {
		switch r.ID {
		case "heron.gateway":
			assert.Contains(t, r.Observed, "over IPv6 fd43:")
		case "reedbed-boathouse.segments":
			assert.Contains(t, r.Observed, "icmp, udp/7, tcp/80 over IPv6 allowed by the rules")
		case "boathouse-reedbed.segments":
			assert.Contains(t, r.Observed, "over IPv6 blocked by the rules")
		}
	}
	for name, text := range map[string]string{"with": six, "without": sample} {
		broken := verdicts(
			run(t, []byte(strings.Replace(text, "  reedbed:", "  reedbed:\n    router-advertisements: true", 1))),
		)
		for _, id := range []string{"reedbed.one-dhcp", "heron.no-bypass", "otter.no-bypass"} {
			assert.Contains(t, broken, id, name)
		}
		assert.NotContains(t, broken, "ferry.no-bypass", name)
	}
}

// A guest that lies to its segment takes a neighbor's place, which is told and
// is no escape; afterwards nobody believes it any more.
func TestLies(t *testing.T) {
	for _, six := range []string{"", "ipv6: true\n"} {
		l := build(t, []byte(strings.Replace(string(example(t, "saltmarsh.yaml")), "segments:", six+"segments:", 1)))
		doc := l.Outcome()
		assert.Equal(t, claims.Holds, doc.Verdict, verdicts(doc))
		told := map[string]bool{}
		for _, r := range doc.Claims {
			for _, e := range r.Evidence {
				if strings.Contains(e.Text, "can ARP-spoof otter towards sluice") || strings.Contains(e.Text,
					"can ARP-spoof heron towards sluice") {
					told[r.ID] = true
				}
			}
		}
		assert.Equal(t, map[string]bool{"heron.no-bypass": true, "otter.no-bypass": true}, told)
		heron, otter := l.plan.Machine("heron").Adapters[0], l.plan.Machine("otter").Adapters[0]
		_, port := l.portOf(l.plan.Segment("reedbed").Port)
		for _, a := range []*plan.Adapter{heron, otter} {
			m, ok := port.Neighbor(l.addressOf(a))
			assert.True(t, !ok || m == a.MAC, "sluice still believes that %s is at %s", a.Machine.Name, m)
			_, own := l.portOf(a)
			if own.IPv6 != nil {
				for _, p := range own.IPv6.Addresses {
					assert.True(t, a.Segment.Subnet6.Contains(p.Addr()), "%s keeps %s", a.Machine.Name, p)
				}
			}
		}
	}
}
