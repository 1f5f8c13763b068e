package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/gaissmai/bart"

	"openbastion/core/lab"
	"openbastion/core/packetset"
	"openbastion/core/plan"
	"openbastion/core/subnet"
)

// rules are the findings about translation and rules.
func rules() []Entry {
	return []Entry{
		{
			Code: "untranslated", Severity: Error, Title: "Inside addresses go out as they are",
			See:    "Packets leave and no answer comes back.",
			Why:    "Upstream has no route to the inside; it can only answer the WAN address.",
			Remedy: "Masquerade the segment.",
			Old:    "    nat:\n",
			Bad:    "    nat:\n      masquerade: []\n",
			find:   (*checker).untranslated,
		},
		{
			Code: "no-way-out", Severity: Error, Title: "Expected outside, and no rule allows it",
			See:    "Guests reach the appliance and nothing beyond.",
			Why:    "What no rule allows is denied.",
			Remedy: "Write a rule that allows it.",
			Old:    "  - newt never reaches outside",
			Bad:    "  - newt reaches outside",
			find:   (*checker).noWayOut,
		},
		{
			Code: "private-wan-dropped", Severity: Error, Title: "Private sources dropped on a private WAN",
			See:    "The appliance gets no answer from the site's own machines: names do not resolve, and what is published does not answer them.",
			Why:    "The option drops packets from private addresses; a WAN on a private network has nothing else.",
			Remedy: "Take the option off.",
			Old:    "{role: wan, segment: road,",
			Bad:    "{role: wan, drop-private: true, segment: road,",
			find:   (*checker).privateWANDropped,
		},
		{
			Code: "nested-nat", Severity: Note, Title: "Another translation stands above",
			See:    "What is published answers on the site's network, and not beyond.",
			Why:    "The WAN address is private: the site translates once more.",
			Remedy: "To publish beyond the site, forward the port at the site's router as well.",
			Old:    "road: {reach: upstream, uplink: enp1, subnet: 203.0.113.0/24, gateway: 203.0.113.1}",
			Bad:    "road: {reach: upstream, uplink: enp1, subnet: 172.29.64.0/24, gateway: 172.29.64.1}",
			find:   (*checker).nestedNAT,
		},
		{
			Code: "publish-moving", Severity: Warning, Title: "Published, and its address may change",
			See:    "After some days the published page is another guest's.",
			Why:    "A port forward leads to an address; a lease may give the guest another.",
			Remedy: "Reserve an address for the guest.",
			Old:    "to: ferry, at",
			Bad:    "to: heron, at",
			find:   (*checker).publishMoving,
		},
		{
			Code: "publish-clash", Severity: Error, Title: "Two claims to one outside port",
			See:    "One of the two never answers.",
			Why:    "An outside port can lead to one place only.",
			Remedy: "Choose another outside port for one.",
			Old:    "- {port: tcp/8443, to: ferry, at: tcp/443}",
			Bad:    "- {port: tcp/8443, to: ferry, at: tcp/443}\n        - {port: tcp/8443, to: ferry, at: tcp/80}",
			find:   (*checker).publishClash,
		},
		{
			Code: "publish-denied", Severity: Error, Title: "Published, and denied by a rule",
			See:    "The published port does not answer from outside.",
			Why:    "Rules are looked at for what is published too.",
			Remedy: "Take the rule away, or allow the guest before it.",
			Old:    "      - deny any from pool to any",
			Bad:    "      - deny any from outside to any\n      - deny any from pool to any",
			find:   (*checker).publishDenied,
		},
		{
			Code: "admin-outside", Severity: Error, Title: "The admin page answers outside",
			See:    "Anybody upstream can try passwords.",
			Why:    "The admin page is for the inside.",
			Remedy: "Take admin off the WAN port.",
			Old:    "{role: wan, segment: road,",
			Bad:    "{role: wan, admin: true, segment: road,",
			find:   (*checker).adminOutside,
		},
		{
			Code: "plain-admin", Severity: Warning, Title: "An admin page in plain text",
			See:    "Anybody on the segment can read the password.",
			Why:    "Plain HTTP and telnet show everything to everybody.",
			Remedy: "Use HTTPS.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, admin: tcp/80, address: 10.83.16.1/24,",
			find:   (*checker).plainAdmin,
		},
		{
			Code: "open-inbound", Severity: Error, Title: "A rule lets everything in",
			See:    "Guests are reached from outside.",
			Why:    "A rule that allows any from outside to the inside undoes the appliance.",
			Remedy: "Publish the one port that is meant, and take the rule away.",
			Old:    "      - allow any from desks to outside",
			Bad:    "      - allow any from desks to outside\n      - allow any from outside to desks",
			find:   (*checker).openInbound,
		},
		{
			Code: "dead-rule", Severity: Warning, Title: "A rule that never decides",
			See:    "Nothing: it looks as if the rule did something.",
			Why:    "Earlier rules decide everything that it speaks of.",
			Remedy: "Take it away, or move it up.",
			Old:    "      - allow any from desks to outside",
			Bad:    "      - allow any from desks to outside\n      - deny tcp/25 from desks to outside",
			find:   (*checker).deadRule,
		},
		{
			Code: "unreachable-expectation", Severity: Error, Title: "An expectation that the rules contradict",
			See:    "A test that cannot come out as expected.",
			Why:    "The sentence says one thing and the rules another.",
			Remedy: "Change the rules or the sentence.",
			Old:    "  - newt never reaches outside",
			Bad:    "  - newt never reaches outside\n  - newt reaches heron tcp/22",
			find:   (*checker).unreachableExpectation,
		},
	}
}

// inside gives the addresses of an appliance's inside networks, outside the others.
func (c *checker) inside(m *plan.Machine) packetset.Line {
	if l, ok := c.insides[m]; ok {
		return l
	}
	var l packetset.Line
	for _, a := range m.Adapters {
		if a.Role != lab.WAN {
			l = l.Union(packetset.Prefixes(a.Segment.Subnet))
		}
	}
	if c.insides == nil {
		c.insides = map[*plan.Machine]packetset.Line{}
	}
	c.insides[m] = l
	return l
}

func (c *checker) outside(m *plan.Machine) packetset.Line { return packetset.All.Minus(c.inside(m)) }

// side gives the addresses of one side of a rule.
func (c *checker) side(m *plan.Machine, list []plan.Match) packetset.Line {
	var l packetset.Line
	for i := range list {
		switch x := &list[i]; {
		case x.Any:
			return packetset.All
		case x.Outside:
			l = l.Union(c.outside(m))
		default:
			l = l.Union(packetset.Prefixes(x.Prefixes...))
		}
	}
	return l
}

// sets gives the rules of an appliance as sets of packets, made once.
func (c *checker) sets(m *plan.Machine) []packetset.Packets {
	if list, ok := c.ruleSets[m]; ok {
		return list
	}
	list := make([]packetset.Packets, len(m.Rules))
	for i := range m.Rules {
		r := &m.Rules[i]
		list[i] = packetset.Packets{Source: c.side(m, r.From), Destination: c.side(m, r.To), Service: packetset.Services(r.Services)}
	}
	if c.ruleSets == nil {
		c.ruleSets = map[*plan.Machine][]packetset.Packets{}
	}
	c.ruleSets[m] = list
	return list
}

// source gives the addresses that an adapter has or may get.
func (c *checker) source(a *plan.Adapter) packetset.Line {
	if a.Address.IsValid() {
		return one(a)
	}
	return packetset.Prefixes(a.Segment.Subnet)
}

// one gives the adapter's address alone.
func one(a *plan.Adapter) packetset.Line {
	return packetset.Prefixes(netip.PrefixFrom(a.Address.Addr(), a.Address.Addr().BitLen()))
}

// passing gives the services that rules let pass from some source to some
// destination; for a part of them is enough.
func (c *checker) passing(m *plan.Machine, from, to packetset.Line) packetset.Line {
	return c.allowed(m, packetset.Packets{Source: from, Destination: to, Service: packetset.AllServices})
}

// allowed gives the services of the packets that the rules let pass.
func (c *checker) allowed(m *plan.Machine, p packetset.Packets) packetset.Line {
	var out packetset.Line
	left := []packetset.Packets{p}
	for i, r := range c.sets(m) {
		var next []packetset.Packets
		for _, part := range left {
			if !part.Meets(r) {
				next = append(next, part)
				continue
			}
			if m.Rules[i].Action == lab.Allow {
				out = out.Union(part.And(r).Service)
			}
			next = append(next, part.Minus(r)...)
		}
		if left = next; len(left) == 0 || len(left) > 1024 {
			break
		}
	}
	return out
}

func (c *checker) untranslated() {
	for _, m := range c.p.Appliances() {
		if m.Appliance.Kind != "routed" || len(m.WAN()) == 0 {
			continue
		}
		masq := map[*plan.Segment]bool{}
		for _, s := range m.Masq {
			masq[s] = true
		}
		done := map[*plan.Segment]bool{}
		for _, a := range m.Adapters {
			s := a.Segment
			if !a.Role.Inside() || masq[s] || done[s] || !subnet.Private(s.Subnet.Addr()) {
				continue
			}
			done[s] = true
			if len(c.passing(m, packetset.Prefixes(s.Subnet), c.outside(m))) > 0 {
				c.find(s.Name, m.Appliance.NAT.At("masquerade"), "add "+s.Name+" to masquerade, or leave masquerade out",
					"%s may go outside, and %s does not translate %s", s.Name, m.Name, s.Subnet)
			}
		}
	}
}

func (c *checker) privateWANDropped() {
	for _, m := range c.p.Appliances() {
		for _, a := range m.WAN() {
			if a.Port.DropPrivate && subnet.Private(a.Segment.Subnet.Addr()) {
				c.find(portName(a), a.Port.At("drop-private"), "write drop-private: false",
					"port %s of %s drops packets from private sources, and %s is private itself", a.Name, m.Name, a.Segment.Subnet).set(a.Port,
					"drop-private", "false")
			}
		}
	}
}

func (c *checker) nestedNAT() {
	for _, m := range c.p.Appliances() {
		for _, a := range m.WAN() {
			if a.Segment.Reach == lab.Upstream && subnet.Private(a.Segment.Subnet.Addr()) && !a.Segment.Assumed {
				c.find(portName(a), a.Pos, "to publish beyond the site, forward there as well",
					"the WAN of %s is on %s: another translation stands above it", m.Name, a.Segment.Subnet)
			}
		}
	}
}

func (c *checker) publishMoving() {
	for _, m := range c.p.Appliances() {
		for i := range m.Publishes {
			if v := &m.Publishes[i]; !v.To.Address.IsValid() {
				c.find(v.To.Machine.Name, v.Lab.Pos, "reserve an address for "+v.To.Machine.Name, "%s/%d is published to %s, whose lease may change",
					v.Proto, v.Port, v.To.Machine.Name)
			}
		}
	}
}

func (c *checker) publishClash() {
	for _, m := range c.p.Appliances() {
		taken := map[string]string{}
		for _, a := range m.WAN() {
			if a.Admin != 0 {
				taken[fmt.Sprintf("tcp/%d", a.Admin)] = "the admin page"
			}
		}
		for i := range m.Publishes {
			v := &m.Publishes[i]
			key := fmt.Sprintf("%s/%d", v.Proto, v.Port)
			if old, ok := taken[key]; ok {
				c.find(v.To.Machine.Name, v.Lab.Pos, "choose another outside port", "%s is published to %s, and %s has it already", key,
					v.To.Machine.Name, old)
				continue
			}
			taken[key] = "the publish to " + v.To.Machine.Name
		}
	}
}

func (c *checker) publishDenied() {
	for _, m := range c.p.Appliances() {
		for i := range m.Publishes {
			v := &m.Publishes[i]
			if !v.To.Address.IsValid() {
				continue
			}
			packets := packetset.Packets{Source: c.outside(m), Destination: one(v.To),
				Service: packetset.Service(lab.Service{Proto: v.Proto, From: v.Target, To: v.Target})}
			left := []packetset.Packets{packets}
			for j, r := range c.sets(m) {
				var next []packetset.Packets
				meets := false
				for _, part := range left {
					meets = meets || part.Meets(r)
					next = append(next, part.Minus(r)...)
				}
				if meets && m.Rules[j].Action == lab.Allow {
					break // some of the outside gets in, as a list of who may not can mean to
				}
				if left = next; len(left) == 0 {
					c.find(v.To.Machine.Name, v.Lab.Pos, "take the rule away, or allow it before", "%s/%d is published to %s, and the rule %q denies it",
						v.Proto, v.Port, v.To.Machine.Name, m.Rules[j].Text)
					break
				}
			}
		}
	}
}

func (c *checker) adminOutside() {
	for _, m := range c.p.Appliances() {
		for _, a := range m.WAN() {
			if a.Admin != 0 {
				c.find(portName(a), a.Port.At("admin"), "write admin: false", "the admin page of %s answers on its WAN, tcp/%d", m.Name,
					a.Admin).set(a.Port, "admin", "false")
			}
		}
	}
}

func (c *checker) plainAdmin() {
	for _, m := range c.p.Appliances() {
		for _, a := range m.Adapters {
			switch a.Admin {
			case 23, 80, 8080:
				c.find(portName(a), a.Port.At("admin"), "write admin: true, which is tcp/443",
					"the admin page of %s answers on tcp/%d, in plain text", m.Name, a.Admin).set(a.Port, "admin", "true")
			}
		}
	}
}

func (c *checker) openInbound() {
	for _, m := range c.p.Appliances() {
		for i, r := range c.sets(m) {
			rule := &m.Rules[i]
			if rule.Lab == nil || rule.Action != lab.Allow {
				continue
			}
			in := packetset.Packets{Source: c.outside(m), Destination: c.inside(m), Service: packetset.AllServices}
			if !r.Meets(in) || !bigger(r.Source.And(in.Source), 1<<16) {
				continue
			}
			left := []packetset.Packets{r.And(in)}
			for _, meant := range c.meantInbound(m) { // what is published needs its rule on many an appliance
				var next []packetset.Packets
				for _, p := range left {
					next = append(next, p.Minus(meant)...)
				}
				left = next
			}
			if len(left) == 0 {
				continue
			}
			f := c.find(fmt.Sprintf("%s rule %d", m.Name, i+1), rule.Lab.Pos, "publish the one port that is meant, and take the rule away",
				"%q lets packets from outside in", rule.Text)
			if !slices.ContainsFunc(rule.Services, func(s lab.Service) bool { return s.Proto == lab.Any || s.AllPorts() && s.Proto != lab.ICMP }) {
				f.as(Warning)
			}
		}
	}
}

// meantInbound gives what is published, and everything to guests with an outside
// address of their own.
func (c *checker) meantInbound(m *plan.Machine) []packetset.Packets {
	var out []packetset.Packets
	add := func(a *plan.Adapter, services packetset.Line) {
		if a.Address.IsValid() {
			out = append(out, packetset.Packets{Source: packetset.All, Destination: one(a), Service: services})
		}
	}
	for _, v := range m.Publishes {
		add(v.To, packetset.Service(lab.Service{Proto: v.Proto, From: v.Target, To: v.Target}))
	}
	for _, v := range m.OneToOne {
		add(v.To, packetset.AllServices)
	}
	return out
}

// bigger tells whether a line holds more than n numbers.
func bigger(l packetset.Line, n uint64) bool {
	total := uint64(0)
	for _, s := range l {
		total += s.To - s.From + 1
	}
	return total > n
}

// deadRule finds rules of which earlier ones together decide everything. For
// rules that speak of single sources the earlier ones that can matter are
// looked up by source.
func (c *checker) deadRule() {
	for _, m := range c.p.Appliances() {
		sets := c.sets(m)
		var bySource bart.Table[[]int]
		var wide []int
		for i := range m.Rules {
			rule := &m.Rules[i]
			narrow := len(rule.From) == 1 && len(rule.From[0].Prefixes) == 1 && !rule.From[0].Any && !rule.From[0].Outside
			var candidates []int
			if narrow {
				p := rule.From[0].Prefixes[0]
				for _, list := range bySource.Supernets(p) {
					candidates = append(candidates, list...)
				}
				for n, list := range bySource.Subnets(p) {
					if n != p {
						candidates = append(candidates, list...)
					}
				}
			} else {
				for j := range i {
					candidates = append(candidates, j)
				}
			}
			if narrow {
				candidates = append(candidates, wide...)
			}
			if rule.Lab != nil {
				c.deadAmong(m, i, sets, candidates)
			}
			if narrow {
				p := rule.From[0].Prefixes[0]
				list, _ := bySource.Get(p)
				bySource.Insert(p, append(list, i))
			} else {
				wide = append(wide, i)
			}
		}
	}
}

func (c *checker) deadAmong(m *plan.Machine, i int, sets []packetset.Packets, candidates []int) {
	var others []packetset.Packets
	var index []int
	slices.Sort(candidates)
	for _, j := range candidates {
		if sets[i].Service.Meets(sets[j].Service) && sets[i].Meets(sets[j]) {
			others, index = append(others, sets[j]), append(index, j)
		}
	}
	by, covered, ok := sets[i].Covered(others)
	if !ok || !covered && !sets[i].Empty() {
		return
	}
	var names []string
	for _, k := range by {
		names = append(names, fmt.Sprintf("rule %d (%s)", index[k]+1, m.Rules[index[k]].Text))
	}
	if len(names) > 4 {
		names = append(names[:4], fmt.Sprintf("and %d more", len(by)-4))
	}
	if len(names) == 0 {
		names = []string{"nothing: it speaks of no packet"}
	}
	c.find(fmt.Sprintf("%s rule %d", m.Name, i+1), m.Rules[i].Lab.Pos, "take it away, or move it up",
		"%q never decides: earlier ones do, %s", m.Rules[i].Text, strings.Join(names, ", "))
}

// sentence looks at an expectation by the rules alone: whether some packet it
// speaks of passes. known is false where rules are not what decides.
func (c *checker) sentence(e lab.Expectation) (passes, known, outside bool) {
	from, m := c.party(e.From)
	to, n := c.party(e.To)
	outside = e.To.Kind == lab.WhoOutside
	if m == nil {
		m = n
	}
	if m == nil || n != nil && n != m || e.From.Kind == lab.WhoOutside || e.From.Kind == lab.WhoAny {
		return false, false, outside
	}
	if outside {
		to = c.outside(m)
	}
	if len(from) == 0 || len(to) == 0 || from.Meets(to) {
		return false, false, outside
	}
	return len(c.allowed(m, packetset.Packets{Source: from, Destination: to, Service: packetset.Service(e.Service)})) > 0, true, outside
}

// party gives the addresses of one who of a sentence, and the appliance that
// stands before it.
func (c *checker) party(w lab.Who) (packetset.Line, *plan.Machine) {
	switch w.Kind {
	case lab.WhoSegment:
		s := c.p.Segment(w.Name)
		if s.Port != nil && s.Inside() {
			return packetset.Prefixes(s.Subnet), s.Port.Machine
		}
	case lab.WhoGuest:
		g := c.p.Machine(w.Name)
		if a := g.Adapters[0]; len(g.Adapters) == 1 && a.Segment.Port != nil && a.Segment.Inside() {
			return c.source(a), a.Segment.Port.Machine
		}
	case lab.WhoPrefix:
		return packetset.Prefixes(w.Prefix), nil
	}
	return nil, nil
}

func (c *checker) noWayOut() {
	for _, e := range c.p.Lab.Expect {
		if passes, known, outside := c.sentence(e); known && outside && !e.Never && !passes {
			c.find(e.From.String(), e.Pos, fmt.Sprintf("write a rule: allow any from %s to outside", e.From), "%q, and no rule lets it", e)
		}
	}
}

func (c *checker) unreachableExpectation() {
	for _, e := range c.p.Lab.Expect {
		passes, known, outside := c.sentence(e)
		switch {
		case !known || outside && !e.Never:
		case e.Never && passes:
			c.find(e.String(), e.Pos, "write a rule that denies it, or take the sentence away", "%q, and the rules let it", e)
		case !e.Never && !passes:
			c.find(e.String(), e.Pos, "write a rule that allows it, or take the sentence away", "%q, and the rules deny it", e)
		}
	}
}
