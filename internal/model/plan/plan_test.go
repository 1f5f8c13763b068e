package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

func build(t require.TestingT, text string) *Plan {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err, text)
	p, err := Build(l)
	require.NoError(t, err, text)
	return p
}

const two = `bastion: 1
lab: saltmarsh
site: {networks: [172.29.64.0/24]}
segments:
  causeway: {reach: upstream}
  reedbed: {reach: isolated}
  tidepool: {reach: isolated, within: reedbed, vlan: 48}
appliances:
  sluice:
    ports:
      - {role: wan, segment: causeway}
      - {role: lan, segment: reedbed}
      - {role: lan, name: quarantine, segment: tidepool, over: lan}
    rules:
      - allow tcp/443 from otter to outside
      - deny any from tidepool to any
      - allow any from any to outside
guests:
  heron: reedbed
  otter: reedbed
  newt: tidepool
`

func TestBuild(t *testing.T) {
	p := build(t, two)
	causeway, reedbed, tidepool := p.Segment("causeway"), p.Segment("reedbed"), p.Segment("tidepool")
	assert.Equal(t, "172.29.64.0/24", causeway.Subnet.String(), "bridged onto the only network of the site")
	assert.Equal(t, "172.29.64.1", causeway.Gateway.String())
	assert.True(t, reedbed.Planned && tidepool.Planned && !reedbed.Subnet.Overlaps(tidepool.Subnet))
	assert.Equal(t, []*Segment{reedbed, tidepool}, reedbed.Wire.Segments)
	assert.Equal(t, 48, tidepool.Tag)

	sluice := p.Machine("sluice")
	lan, quarantine := sluice.Adapters[1], sluice.Adapters[2]
	assert.Equal(t, lan, quarantine.Over)
	assert.Equal(
		t,
		[]any{2, lan.MAC},
		[]any{quarantine.Number, quarantine.MAC},
		"a port over another shares its adapter",
	)
	assert.Equal(t, subnet.First(reedbed.Subnet), reedbed.Gateway)
	assert.True(t, lan.Manages(443), "the admin page answers on the first inside port")
	assert.Equal(t, []*Segment{reedbed, tidepool}, sluice.Masq)

	otter := p.Machine("otter").Adapters[0]
	assert.Equal(t, Reservation, otter.How, "a guest that rules name keeps its address")
	assert.Equal(t, []*Adapter{otter}, lan.Leases.Reservations)
	assert.Equal(t, Lease, p.Machine("heron").Adapters[0].How)

	outside := netip.MustParseAddr("203.0.113.80")
	for _, c := range []struct {
		from   netip.Addr
		port   uint16
		rule   int
		action lab.Action
	}{
		{otter.Address.Addr(), 443, 0, lab.Allow},
		{tidepool.Subnet.Addr().Next(), 443, 1, lab.Deny},
		{lan.Leases.Pool.From, 80, 2, lab.Allow},
	} {
		rule, action := sluice.Decide(Flow{Source: c.from, Destination: outside, Proto: lab.TCP, Port: c.port})
		assert.Equal(t, &sluice.Rules[c.rule], rule)
		assert.Equal(t, c.action, action)
	}
	rule, action := sluice.Decide(Flow{Source: outside, Destination: lan.Leases.Pool.From, Proto: lab.TCP, Port: 80})
	assert.Nil(t, rule)
	assert.Equal(t, lab.Deny, action)

	d := p.Document()
	assert.Equal(t, "openbastion.plan/1", d.Schema)
	assert.Len(t, d.Adapters, 6)
}

// normal takes out of a plan's document what may differ once it is pinned:
// whether values were chosen, and in which line a rule stands.
func normal(p *Plan) Document {
	d := p.Document()
	for i := range d.Segments {
		d.Segments[i].Planned, d.Segments[i].Assumed = false, false
	}
	for i := range d.Adapters {
		d.Adapters[i].Planned = false
	}
	for i := range d.Addresses {
		d.Addresses[i].Planned = false
	}
	for i := range d.Leases {
		d.Leases[i].Planned = false
	}
	for i := range d.Rules {
		d.Rules[i].Line = 0
	}
	for i := range d.Machines {
		d.Machines[i].Why = nil
	}
	return d
}

func pinned(t require.TestingT, text string) {
	p := build(t, text)
	data, n := p.Pin([]byte(text))
	require.NotZero(t, n)
	l, err := lab.Read("pinned.yaml", data)
	require.NoError(t, err, string(data))
	q, err := Build(l)
	require.NoError(t, err)
	require.Equal(t, normal(p), normal(q), string(data))
	again, n := q.Pin(data)
	require.Zero(t, n, "everything is in the file already")
	require.Equal(t, string(data), string(again))
}

func TestPinnedPlansStay(t *testing.T) {
	pinned(t, two)
	pinned(t, strings.ReplaceAll(
		two,
		"  heron: reedbed\n",
		"  heron:\n    # a comment\n    segment: reedbed   # another\n  gannet:\n    adapters:\n      - segment: reedbed\n      - {segment: tidepool}\n",
	))
	rapid.Check(t, func(t *rapid.T) {
		head, segments, ports, guests := anyLab(t)
		pinned(t, assemble(head, segments, ports, guests))
	})
}

// Each kind of appliance is planned in its own way.
func TestKinds(t *testing.T) {
	transparent := build(t, `bastion: 1
lab: t
segments:
  behind: {reach: isolated}
  before: {reach: upstream, subnet: 192.0.2.0/24, gateway: 192.0.2.1}
  service: {reach: host}
appliances:
  veil:
    kind: transparent
    ports: [{role: wan, segment: before}, {role: lan, segment: behind}, {role: manage, segment: service}]
guests: {heron: behind}
`)
	veil := transparent.Machine("veil")
	assert.Equal(
		t,
		[]How{NoAddress, NoAddress, Static},
		[]How{veil.Adapters[0].How, veil.Adapters[1].How, veil.Adapters[2].How},
	)
	assert.Equal(
		t,
		"192.0.2.0/24",
		transparent.Segment("behind").Subnet.String(),
		"both sides are one network, in either order",
	)
	assert.Equal(t, "192.0.2.1", transparent.Segment("behind").Gateway.String())
	assert.True(t, veil.Adapters[2].Manages(443), "managed on its own port")
	assert.Equal(t, FromAbove, transparent.Machine("heron").Adapters[0].How)

	armed := build(t, `bastion: 1
lab: o
segments: {house: {reach: upstream, subnet: 192.0.2.0/24, gateway: 192.0.2.1, dhcp: none}}
appliances: {arm: {kind: one-armed, ports: [{role: lan, segment: house}]}}
guests: {heron: house, otter: {segment: house, static: 192.0.2.9/24}}
`)
	arm := armed.Machine("arm").Adapters[0]
	assert.Equal(t, []string{"192.0.2.2/24", "192.0.2.1"}, []string{arm.Address.String(), arm.Gateway.String()})
	require.NotNil(t, arm.Leases)
	assert.Equal(t, arm.Address.Addr(), arm.Leases.Router, "leases point guests at it")
	assert.Equal(t, arm.Address.Addr(), armed.Machine("otter").Adapters[0].Gateway)

	chain := build(t, `bastion: 1
lab: c
segments: {up: {reach: upstream}, between: {reach: isolated}, inner: {reach: isolated}}
appliances:
  second: {ports: [{role: wan, segment: between}, {role: lan, segment: inner}, {role: lan, segment: inner, joins: lan}]}
  first: {ports: [{role: wan, segment: up}, {role: lan, segment: between}]}
guests: {heron: inner}
`)
	assert.Equal(
		t,
		[]string{"first", "second", "heron"},
		[]string{chain.Order[0].Name, chain.Order[1].Name, chain.Order[2].Name},
		"from the outside in",
	)
	assert.True(t, chain.Segment("between").Inside())
	joined := chain.Machine("second").Adapters[2]
	assert.Equal(t, []any{NoAddress, (*Service)(nil)}, []any{joined.How, joined.Leases})
}

// Every port is asked about in adapter order, the machine once, in the order
// of the profile's topics.
func TestAnswers(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(strings.Replace(two, "  sluice:\n", "  sluice:\n    profile: own\n", 1)))
	require.NoError(t, err)
	l.Profiles = map[string]*lab.Profile{"own": {
		Console: []lab.Topic{
			lab.Named,
			lab.Side,
			lab.Tags,
			lab.Addressed,
		}, Pages: []lab.Topic{lab.Leasing, lab.Change, lab.Private},
		Asks: map[lab.Topic]string{lab.Tags: "any tags?"}, Change: []string{"the password"},
	}}
	p, err := Build(l)
	require.NoError(t, err)
	var asked []string
	for _, a := range p.Answers {
		asked = append(asked, a.Stage+" "+string(a.Topic))
		if a.Port != nil {
			assert.Contains(t, a.About, strconv.Itoa(a.Port.Number))
		}
		if a.Topic == lab.Tags {
			assert.True(t, strings.HasPrefix(a.Note, "Prompt: any tags."), a.Note, "a profile's own words")
		}
	}
	m := p.Machine("sluice")
	var want []string
	want = append(want, "console name")
	for _, a := range m.Adapters {
		want = append(want, "console side")
		if a.Over == nil {
			want = append(want, "console tags")
		}
		if a.How == Static {
			want = append(want, "console address")
		}
	}
	for _, a := range m.Adapters {
		if a.Role != lab.WAN {
			want = append(want, "pages leases")
		}
	}
	assert.Equal(t, append(want, "pages change", "pages private"), asked)
	before := slices.Clone(m.Adapters[0].Devices)
	named := p.AnswersWith(m, map[*Adapter]Real{m.Adapters[0]: {Device: "xyz9"}})
	assert.Contains(t, named[1].Answer, "xyz9")
	assert.Equal(t, before, m.Adapters[0].Devices, "the plan stays as it was")
}

func TestSizes(t *testing.T) {
	text := strings.Replace(
		two,
		"  sluice:\n",
		"  sluice:\n    duties: [filter, proxy, intrusion-detection]\n    throughput: 2Gbit\n    needs: {disk: 99GiB}\n",
		1,
	)
	profile := &lab.Profile{Name: "p", NICs: []string{"e1000"}, Needs: lab.Needs{Memory: 6 * lab.GiB}}
	for site, want := range map[string]Spec{
		"":                                     {CPUs: 5, Memory: 6 * lab.GiB, Disk: 99 * lab.GiB},
		"cpus: 2, memory: 4GiB, disk: 50GiB, ": {CPUs: 2, Memory: 4 * lab.GiB, Disk: 50 * lab.GiB},
	} {
		l, err := lab.Read("lab.yaml", []byte(strings.Replace(text, "site: {", "site: {"+site, 1)))
		require.NoError(t, err)
		l.Profiles = map[string]*lab.Profile{"": profile}
		p, err := Build(l)
		require.NoError(t, err)
		s := p.Machine("sluice").Spec
		assert.Equal(
			t,
			[]any{want.CPUs, want.Memory, want.Disk, want.Memory},
			[]any{s.CPUs, s.Memory, s.Disk, s.MemoryFloor},
		)
		assert.Equal(t, []any{"e1000", 1}, []any{s.NIC, s.Queues}, "no queues on a model that has none")
		assert.Contains(t, strings.Join(s.Why, "; "), "3GiB, 16GiB disk for intrusion-detection")
		assert.Contains(
			t,
			strings.Join(s.Why, "; "),
			"not below what this kind of appliance needs; not below what the image needs",
		)
	}
}

func TestSpaceAndSix(t *testing.T) {
	p := build(t, `bastion: 1
lab: s
ipv6: true
space: 10.83.0.0/23
segments:
  up: {reach: upstream, subnet: 192.0.2.0/24}
  a: {reach: isolated, hosts: 40}
  b: {reach: isolated, hosts: 90}
  c: {reach: isolated, hosts: 20}
  d: {reach: isolated, hosts: 12}
appliances: {g: {ports: [{role: wan, segment: up}, {role: lan, segment: a}, {role: lan, segment: b}, {role: lan, segment: c}, {role: lan,
	segment: d}]}}
`)
	var nets []string
	for _, s := range p.Segments[1:] {
		nets = append(nets, s.Subnet.String())
		assert.True(t, s.Subnet6.IsValid() && s.Subnet6.Bits() == 64 && s.Subnet6.Addr().IsPrivate())
		assert.Equal(t, s.Subnet6.Addr().Next(), s.Port.Address6.Addr())
	}
	assert.Equal(
		t,
		[]string{"10.83.0.0/26", "10.83.0.128/25", "10.83.0.64/27", "10.83.0.96/27"},
		nets,
		"packed, small ones into the gaps",
	)
	l, err := lab.Read(
		"lab.yaml",
		[]byte("bastion: 1\nlab: s\nspace: 10.83.0.0/28\nsegments: {a: {reach: isolated, hosts: 40}}"),
	)
	require.NoError(t, err)
	_, err = Build(l)
	assert.ErrorContains(t, err, "no free subnet of length /26 is left in 10.83.0.0/28")
}

func TestCannotPlan(t *testing.T) {
	for change, want := range map[string]string{
		"tidepool: {reach: isolated, within: reedbed, vlan: 48}\n  ring: {reach: isolated, within: rang, vlan: 7}\n  rang: {reach: isolated, within: ring, vlan: 8}": "within itself",
		"tidepool: {reach: isolated, within: reedbed, vlan: 48, subnet: 'fd00::/64'}":                                                                                "fd00::/64 is an IPv6 network, and a segment has an IPv4 one",
	} {
		l, err := lab.Read(
			"lab.yaml",
			[]byte(strings.Replace(two, "tidepool: {reach: isolated, within: reedbed, vlan: 48}", change, 1)),
		)
		require.NoError(t, err)
		_, err = Build(l)
		assert.ErrorContains(t, err, want)
	}
}

// anyLab draws a lab file of any size and the text of a segment and a guest
// that could be added at its end.
func anyLab(t *rapid.T) (head string, segments, ports, guests []string) {
	n := rapid.IntRange(1, 30).Draw(t, "segments")
	site := rapid.SampledFrom([]string{"", "site: {networks: [172.29.64.0/24]}\n",
		"site: {networks: [10.0.0.0/9, 192.168.0.0/16]}\n"}).Draw(t, "site")
	head = "bastion: 1\nlab: " + rapid.StringMatching(`[a-z]{1,8}`).Filter(func(s string) bool {
		_,
			err := lab.Read("", []byte("bastion: 1\nlab: "+s))
		return err == nil
	}).Draw(t, "lab") + "\n" + site + rapid.SampledFrom([]string{"", "ipv6: true\n"}).Draw(t, "six")
	segments = []string{"  up: {reach: upstream}"}
	ports = []string{"      - {role: wan, segment: up}"}
	for i := range n {
		s := fmt.Sprintf("  s%d: {reach: %s", i, rapid.SampledFrom([]string{"isolated", "host"}).Draw(t, "reach"))
		subnetGiven := rapid.IntRange(0, 9).Draw(t, "how")
		switch {
		case subnetGiven == 0:
			s += fmt.Sprintf(", subnet: 172.16.%d.0/24", i)
		case subnetGiven < 4:
			s += fmt.Sprintf(", hosts: %d", rapid.IntRange(12, 600).Draw(t, "hosts"))
		}
		segments = append(segments, s+"}")
		ports = append(ports, fmt.Sprintf("      - {role: lan, segment: s%d}", i))
		if subnetGiven > 0 && rapid.IntRange(0, 4).Draw(t, "second") == 0 {
			ports = append(ports, fmt.Sprintf("      - {role: manage, name: m%d, segment: s%d}", i, i))
		}
		for j := range rapid.IntRange(0, 6).Draw(t, "guests") {
			guests = append(guests, fmt.Sprintf("  g%d-%d: s%d", i, j, i))
			if subnetGiven == 0 && j == 0 && rapid.Bool().Draw(t, "fixed") {
				guests[len(guests)-1] = fmt.Sprintf(
					"  g%d-%d: {segment: s%d, %s}",
					i,
					j,
					i,
					rapid.SampledFrom([]string{fmt.Sprintf("static: 172.16.%d.77/24", i), fmt.Sprintf("reserve: 172.16.%d.60", i)}).
						Draw(t, "given"),
				)
			}
		}
	}
	return
}

func assemble(head string, segments, ports, guests []string) string {
	return head + "segments:\n" + strings.Join(
		segments,
		"\n",
	) + "\nappliances:\n  gate:\n    ports:\n" + strings.Join(
		ports,
		"\n",
	) + "\nguests:\n  first: s0\n" + strings.Join(
		guests,
		"\n",
	)
}

func TestPlansAreSound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		head, segments, ports, guests := anyLab(t)
		p := build(t, assemble(head, segments, ports, guests))

		var nets []netip.Prefix
		nets = append(nets, p.Lab.Site.Networks...)
		for _, s := range p.Segments {
			if s.Reach == lab.Upstream && !s.Planned {
				continue // it is the site's
			}
			q, overlaps := subnet.Overlap(s.Subnet, nets)
			require.False(t, overlaps, "%s %s overlaps %s", s.Name, s.Subnet, q)
			nets = append(nets, s.Subnet)
			if s.Lab.Hosts > 0 {
				require.GreaterOrEqual(t, subnet.Usable(s.Subnet), s.Lab.Hosts+2)
			}
		}
		owner := map[netip.Addr]string{}
		take := func(s *Segment, a netip.Addr, who string) {
			require.True(t, s.Subnet.Contains(a) && !subnet.Reserved(s.Subnet, a), "%s has %s on %s", who, a, s.Subnet)
			require.Empty(t, owner[a], "%s has the address of %s", who, owner[a])
			owner[a] = who
		}
		macs := map[mac.Address]bool{}
		for _, a := range p.Adapters {
			if a.Address.IsValid() {
				take(a.Segment, a.Address.Addr(), a.Machine.Name)
			}
			if six := a.Address6; six.IsValid() {
				require.Empty(t, owner[six.Addr()], "%s", six)
				owner[six.Addr()] = a.Machine.Name
			}
			require.False(t, macs[a.MAC] || a.MAC.IsGroup() || !a.MAC.IsLocal(), "%s", a.MAC)
			macs[a.MAC] = true
		}
		for _, s := range p.Segments {
			if s.HostLeg.IsValid() {
				take(s, s.HostLeg.Addr(), "host")
			}
			if s.Port == nil {
				continue
			}
			pool := s.Port.Leases.Pool
			for a, who := range owner {
				m := p.Machine(who)
				reserved := m != nil && m.Guest != nil && m.Adapters[0].How == Reservation
				require.False(
					t,
					pool.Contains(a) && !reserved,
					"the pool %s of %s holds %s of %s",
					pool,
					s.Name,
					a,
					who,
				)
			}
			require.True(
				t,
				s.Subnet.Contains(pool.From) && s.Subnet.Contains(pool.To) && pool.From.Compare(pool.To) <= 0,
			)
			require.False(t, pool.Contains(s.Subnet.Addr()) || pool.Contains(subnet.Broadcast(s.Subnet)))
		}

		// What is added at the end changes nothing before it.
		q := build(
			t,
			assemble(
				head,
				append(segments, "  last: {reach: isolated}"),
				append(ports, "      - {role: lan, segment: last}"),
				append(guests, "  late: last", "  newest: s0"),
			),
		)
		for i, s := range p.Segments {
			require.Equal(t, s.Subnet, q.Segments[i].Subnet)
			require.Equal(t, s.HostLeg, q.Segments[i].HostLeg)
		}
		for _, a := range p.Adapters {
			for _, b := range q.Machine(a.Machine.Name).Adapters {
				if b.Name == a.Name {
					require.Equal(t, []any{a.MAC, a.Address, a.Shown()}, []any{b.MAC, b.Address, b.Shown()})
				}
			}
		}
	})
}

func BenchmarkBuild(b *testing.B) {
	for _, n := range []int{100, 1000, 10000} {
		var segments, ports, guests []string
		segments, ports = []string{"  up: {reach: upstream}"}, []string{"      - {role: wan, segment: up}"}
		for i := range max(1, n/50) {
			segments = append(segments, fmt.Sprintf("  s%d: {reach: isolated}", i))
			ports = append(ports, fmt.Sprintf("      - {role: lan, segment: s%d}", i))
		}
		for i := range n {
			guests = append(guests, fmt.Sprintf("  g%d: s%d", i, i%max(1, n/50)))
		}
		l, err := lab.Read("lab.yaml", []byte(assemble("bastion: 1\nlab: big\n", segments, ports, guests)))
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := Build(l); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
