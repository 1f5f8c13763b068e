package reachability

import (
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dns"
)

// exit is what an appliance lets out: by a port, or, with none, into itself.
type exit struct {
	port  *plan.Adapter
	flows []flow
}

// network returns the addresses that an appliance takes to live at a port.
func (m *Model) network(a *plan.Adapter) packetset.Line {
	var l packetset.Line
	switch {
	case a.Address.IsValid():
		l = m.space.Prefixes(a.Address)
	case a.How == plan.FromAbove && (given(a.Segment) || a.Port != nil && a.Port.Address.How == "pppoe"):
		l = m.space.Prefixes(a.Segment.Subnet)
	}
	if a.Address6.IsValid() {
		l = l.Union(m.space.Prefixes(a.Segment.Subnet6))
	}
	return l
}

// given reports whether it is a segment on which somebody gives addresses to who asks for one: what is
// upstream, unless the file says that nobody does, or whoever is planned to.
func given(s *plan.Segment) bool {
	return slices.ContainsFunc(s.Network(), func(s *plan.Segment) bool {
		_, v := s.LeaseService()
		return v != nil || s.HostPool != nil || s.Lab.Leases != "" && s.Lab.Leases != "none" ||
			s.Lab.Leases == "" && (s.Reach == lab.Upstream || s.HostLeg.IsValid())
	})
}

// cross returns what a gate makes of flows that come in at a port. whole is false
// when they fell into too many parts to look at them all.
func (m *Model) cross(g *gate, in *plan.Adapter, flows []flow) (out []exit, whole bool) {
	if g.transparent && in.Role != lab.Manage {
		return m.bridge(g, in, flows)
	}
	arrived, at := m.arriving(g, in, flows)
	whole = true
	if m.itselfToo {
		if own := m.delivered(g, in, arrived, at); len(own) > 0 {
			out = append(out, exit{flows: own})
		}
	}
	for i, port := range g.machine.Adapters {
		if !port.Plugged || g.transparent {
			continue
		}
		var there []flow
		for _, f := range arrived {
			if near := f.to(g.nets[i]); !near.now.Empty() && (port != in || f.rewritten.destination) {
				there = append(there, near)
			}
			if far := f.to(g.far); !far.now.Empty() && port != in && g.leadsFar(i) {
				there = append(there, far)
			}
		}
		if len(there) == 0 {
			continue
		}
		e, ok := m.leave(g, in, port, there, g.between(at, i))
		whole = whole && ok
		if len(e.flows) > 0 {
			out = append(out, e)
		}
	}
	return out, whole
}

// arriving returns what a gate takes from a port, turned towards what it publishes, and
// the port's place.
func (m *Model) arriving(g *gate, in *plan.Adapter, flows []flow) (arrived []flow, at int) {
	at = slices.Index(g.machine.Adapters, in)
	var checked []flow
	for _, f := range flows {
		for _, family := range []packetset.Line{m.space.IPv4(), m.space.IPv6()} {
			f := f.from(g.sources[at].And(family)).to(family)
			if f.published = false; !f.now.Empty() { // another gate's publishing is nothing to this one
				checked = append(checked, f)
			}
		}
	}
	return m.rewrite(g, in, checked), at
}

// rewrite turns what goes to a published port or to an address of a guest's own
// towards the guest.
func (m *Model) rewrite(g *gate, in *plan.Adapter, flows []flow) []flow {
	var out []flow
	for _, f := range flows {
		if !f.now.Destination.Meets(g.wan) {
			out = append(out, f)
			continue
		}
		if rest := f.to(m.space.All().Minus(g.wan.And(g.fixed))); !rest.now.Empty() {
			out = append(out, rest)
		}
		first := f.to(g.wan)
		first.maybe = first.maybe ||
			!first.now.Destination.Meets(g.fixed) && !g.wan.Minus(g.fixed).Within(f.now.Destination)
		left := []flow{first}
		for i := range g.machine.Publishes {
			v := &g.machine.Publishes[i]
			to := m.target(g, v.To)
			if len(to) == 0 {
				continue
			}
			port := packetset.Packets{Source: m.space.All(), Destination: g.wan,
				Service: packetset.Service(lab.Service{Proto: v.Proto, From: v.Port, To: v.Port})}
			var next []flow
			for _, f := range left {
				if hit := f.and(port); !hit.now.Empty() {
					hit.published, hit.public = true, v
					out = append(out, hit.turned(to,
						packetset.Service(lab.Service{Proto: v.Proto, From: v.Target, To: v.Target})))
				}
				for _, rest := range f.now.Minus(port) {
					next = append(next, f.set(rest))
				}
			}
			left = next
		}
		for _, v := range g.machine.OneToOne {
			if !v.To.Address.IsValid() {
				continue
			}
			outside := m.space.Addresses(v.Outside)
			for i, f := range left {
				if hit := f.to(outside); !hit.now.Empty() {
					hit.published = in.Address.IsValid() && in.Address.Contains(v.To.Address.Addr())
					out = append(out, hit.turned(m.space.Addresses(v.To.Address.Addr()), nil))
					left[i] = f.to(m.space.All().Minus(outside))
				}
			}
		}
		for _, f := range left {
			if !f.now.Empty() {
				out = append(out, f)
			}
		}
	}
	return out
}

// target returns the addresses to which a gate sends what it publishes to an adapter:
// the fixed one, or what it leases to it itself.
func (m *Model) target(g *gate, to *plan.Adapter) packetset.Line {
	if to.Address.IsValid() {
		return m.space.Addresses(to.Address.Addr())
	}
	if server, v := to.Segment.LeaseService(); v != nil && server.Machine == g.machine {
		return m.addresses(to)
	}
	return nil
}

// leave applies the rules that speak of what goes out by a port, and translates it.
func (m *Model) leave(g *gate, in, out *plan.Adapter, flows []flow, speak []int) (exit, bool) {
	passed, _, whole := decide(g.machine, g.rules, speak, flows, false)
	e := exit{port: out}
	for _, f := range passed {
		six := f.from(m.space.IPv6())
		if !six.now.Empty() {
			e.flows = append(e.flows, six)
		}
		f = f.from(m.space.IPv4())
		if out.Role == lab.WAN {
			for _, v := range g.machine.OneToOne {
				if !v.To.Address.IsValid() {
					continue
				}
				own := m.space.Addresses(v.To.Address.Addr())
				if hit := f.from(own); !hit.now.Empty() {
					e.flows = append(e.flows, hit.as(m.space.Addresses(v.Outside)))
					f = f.from(m.space.All().Minus(own))
				}
			}
		}
		var masked packetset.Line
		switch {
		case out == in:
			masked = m.space.All()
		case out.Role == lab.WAN:
			masked = g.masked
		}
		if hit := f.from(masked); !hit.now.Empty() {
			e.flows = append(e.flows, hit.as(m.addresses(out)))
		}
		if rest := f.from(m.space.All().Minus(masked)); !rest.now.Empty() {
			e.flows = append(e.flows, rest)
		}
	}
	return e, whole
}

// delivered returns what the appliance itself answers: what a rule lets reach it,
// and from inside ping, names and the admin page.
func (m *Model) delivered(g *gate, in *plan.Adapter, flows []flow, at int) []flow {
	var own []flow
	for _, f := range flows {
		was := f.now.Destination
		if f = f.to(g.own); !f.now.Empty() && !f.rewritten.destination {
			f.maybe = f.maybe || !f.now.Destination.Meets(g.fixed) && !g.own.Minus(g.fixed).Within(was)
			own = append(own, f)
		}
	}
	if own == nil {
		return nil
	}
	rules := m.itself(g, in.Role == lab.WAN)
	var speak []int
	for _, k := range g.speaking(at) {
		if !rules[k].Empty() {
			speak = append(speak, k)
		}
	}
	passed, left, _ := decide(g.machine, rules, speak, own, true)
	for _, f := range left {
		for _, answer := range m.answers(g, in) {
			if hit := f.and(answer); !hit.now.Empty() {
				passed = append(passed, hit)
			}
		}
	}
	return passed
}

// itself returns the rules of a gate as they mean the appliance itself.
func (m *Model) itself(g *gate, fromWAN bool) []packetset.Packets {
	which := 0
	if fromWAN {
		which = 1
	}
	if g.itself[which] == nil {
		g.itself[which] = make([]packetset.Packets, len(g.rules))
		for i := range g.rules {
			r := g.rules[i]
			r.Destination = m.named(g, g.machine.Rules[i].To, fromWAN).And(g.own)
			g.itself[which][i] = r
		}
	}
	return g.itself[which]
}

// named returns the addresses that a rule names, other than by saying outside; from a
// WAN a rule means the appliance only when it names it, its address or any.
func (m *Model) named(g *gate, list []plan.Match, byName bool) packetset.Line {
	var l packetset.Line
	for _, x := range list {
		if x.Any {
			return m.space.All()
		}
		if x.Own {
			l = l.Union(g.own)
		}
		for _, p := range x.Prefixes {
			if !x.Outside && (!byName || p.IsSingleIP()) {
				l = l.Union(m.space.Prefixes(p))
			}
		}
	}
	return l
}

// answers returns what an appliance answers itself where no rule speaks of it.
func (m *Model) answers(g *gate, in *plan.Adapter) []packetset.Packets {
	var out []packetset.Packets
	add := func(to packetset.Line, s lab.Service) {
		out = append(out, packetset.Packets{Source: m.space.All(), Destination: to, Service: packetset.Service(s)})
	}
	inside := in.Role != lab.WAN
	if inside {
		add(g.own, lab.Service{Proto: lab.ICMP})
		for _, p := range []lab.Proto{lab.UDP, lab.TCP} {
			add(g.own, lab.Service{Proto: p, From: dns.Port, To: dns.Port})
		}
	}
	for _, a := range g.machine.Adapters {
		for _, s := range a.Admin {
			if inside || in.Admin != nil {
				add(m.addresses(a), lab.Service{Proto: lab.TCP, From: s.Port, To: s.Port})
			}
		}
	}
	return out
}

// bridge applies a transparent appliance's rules to what passes from one of its
// sides to the others: IPv4, as it passes nothing else.
func (m *Model) bridge(g *gate, in *plan.Adapter, flows []flow) (out []exit, whole bool) {
	whole = true
	var four []flow
	for _, f := range flows {
		f.published = false // that is the other appliance's
		if f = f.from(m.space.IPv4()).to(m.space.IPv4()); !f.now.Empty() {
			four = append(four, f)
		}
	}
	flows = four
	for _, port := range g.machine.Adapters {
		if port == in || port.Role == lab.Manage || !port.Plugged {
			continue
		}
		rules := m.bridged(g, in, port)
		passed, _, ok := decide(g.machine, rules, packetset.All(rules), flows, false)
		whole = whole && ok
		if len(passed) > 0 {
			out = append(out, exit{port, passed})
		}
	}
	return out, whole
}
