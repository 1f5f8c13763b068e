package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// mostWants bounds the packets that are looked at for a sentence.
const mostWants = 256

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
	return len(
		c.allowed(m, packetset.Packets{Source: from, Destination: to, Service: packetset.Service(e.Service)}),
	) > 0, true, outside
}

// party returns the addresses of one who of a sentence, and the appliance that
// stands before it.
func (c *checker) party(w lab.Who) (packetset.Line, *plan.Machine) {
	switch w.Kind {
	case lab.WhoSegment:
		s := c.p.Segment(w.Name)
		if s.Port != nil && s.Inside() {
			return c.model().Lines(s), s.Port.Machine
		}
	case lab.WhoGuest:
		g := c.p.Machine(w.Name)
		if a := g.Adapters[0]; len(g.Adapters) == 1 && a.Segment.Port != nil && a.Segment.Inside() {
			return c.source(a), a.Segment.Port.Machine
		}
	case lab.WhoPrefix:
		return c.model().Space().Prefixes(w.Prefix), nil
	}
	return nil, nil
}

func (c *checker) unreachableExpectation() {
	for _, e := range c.p.Lab.Expect {
		if e.Never {
			c.forbiddenPasses(e)
		} else {
			c.wantedStopped(e)
		}
	}
}

// forbiddenPasses finds what a sentence forbids and an appliance lets pass.
func (c *checker) forbiddenPasses(e lab.Expectation) {
	ways, _ := c.model().Never(e.From, e.To, e.Service)
	i := slices.IndexFunc(ways, func(w *reachability.Escape) bool { return slices.ContainsFunc(w.Path, c.isAppliance) })
	if i < 0 {
		return
	}
	w := ways[i]
	by, remedy := "", "write a rule that denies it, or remove the sentence"
	if w.Rule != nil {
		by = fmt.Sprintf(", by the rule %q (%s)", w.Rule.Text, w.Rule.Place())
		remedy = "change that rule or put one before it that denies it, or remove the sentence"
	}
	c.find(e.String(), e.Pos, remedy, "%q, and %s gets there%s: %s", e, w.Packet, by, strings.Join(w.Path, " → "))
}

// wantedStopped finds what a sentence wants and the rules stop, for each sender, receiver and port of it.
func (c *checker) wantedStopped(e lab.Expectation) {
	if passes, known, outside := c.sentence(e); known && outside && !passes {
		return // no-path-outside names it
	}
	for _, w := range c.wants(e) {
		why, remedy := c.stopped(w)
		if why == "" || len(c.model().Ask(reachability.Running, w.from.who, w.to.who, w.service).Passages) > 0 {
			continue
		}
		c.find(e.String(), e.Pos, remedy+", or change the sentence", "%q, and %s", e, why)
		return
	}
}

// end is one sender or receiver of a sentence.
type end struct {
	who     lab.Who
	adapter *plan.Adapter // nil: outside
	address netip.Addr    // outside, where the sentence names one
}

func (x end) String() string {
	if x.adapter != nil {
		return x.adapter.Machine.Name
	}
	return x.who.String()
}

// want is one packet that a sentence wants to get through.
type want struct {
	from, to end
	service  lab.Service
}

func (w want) String() string { return fmt.Sprintf("%s from %s to %s", w.service, w.from, w.to) }

// wants returns the packets that a sentence wants; none where one of several is enough.
func (c *checker) wants(e lab.Expectation) []want {
	if e.Service.AllPorts() && e.Service.Proto != lab.ICMP {
		return nil // some packet of many: the proof decides that
	}
	var out []want
	receivers, services := c.ends(e.To, false), reachability.Ports(c.p, e.Service)
	for _, from := range c.ends(e.From, true) {
		for _, to := range receivers {
			for _, s := range services {
				if len(out) < mostWants {
					out = append(out, want{from, to, s})
				}
			}
		}
	}
	return out
}

// ends returns the machines that a sentence names, and each part of a prefix outside that sends.
func (c *checker) ends(w lab.Who, sends bool) []end {
	var out []end
	one := func(g *plan.Machine) {
		if a := g.Adapters[0]; len(g.Adapters) == 1 && a.Plugged && c.model().Alike(g) == g {
			out = append(out, end{who: lab.Who{Kind: lab.WhoGuest, Name: g.Name}, adapter: a})
		}
	}
	switch w.Kind {
	case lab.WhoOutside:
		out = append(out, end{who: w})
	case lab.WhoGuest:
		one(c.p.Machine(w.Name))
	case lab.WhoSegment:
		for _, a := range c.p.Segment(w.Name).Adapters {
			if a.Guest != nil {
				one(a.Machine)
			}
		}
	case lab.WhoPrefix:
		if !sends || slices.ContainsFunc(c.p.Adapters, func(a *plan.Adapter) bool { return w.Prefix.Contains(a.Likely()) }) {
			break
		}
		for _, a := range c.model().Outsiders(w.Prefix) {
			host := netip.PrefixFrom(a, a.BitLen())
			out = append(out, end{lab.Who{Kind: lab.WhoPrefix, Name: host.String(), Prefix: host}, nil, a})
		}
	}
	return out
}

// stopped returns which rule, or what is missing, stops a packet on its way, and the remedy; empty where nothing
// that the rules decide does.
func (c *checker) stopped(w want) (why, remedy string) {
	flow := plan.Flow{Proto: w.service.Proto, Port: w.service.From, Destination: reachability.Witness}
	if w.to.adapter != nil {
		flow.Destination = w.to.adapter.Likely()
	}
	if w.from.adapter == nil {
		return c.stoppedInward(w, flow)
	}
	gate := w.from.adapter.Gate()
	if gate == nil || w.to.adapter != nil && w.to.adapter.Segment == w.from.adapter.Segment {
		return "", ""
	}
	for _, o := range gate.Machine.WayOut(w.from.adapter.Segment, w.from.adapter.Likely()) {
		if o.By.Transparent() {
			break
		}
		flow.Source = o.Source
		if why, remedy = decided(o.By, flow, w); why != "" {
			return why, remedy
		}
		if slices.ContainsFunc(o.By.Adapters, func(a *plan.Adapter) bool {
			return w.to.adapter != nil && a.Segment == w.to.adapter.Segment
		}) {
			break
		}
	}
	return "", ""
}

// stoppedInward returns what stops a packet from outside to a guest.
func (c *checker) stoppedInward(w want, flow plan.Flow) (why, remedy string) {
	if w.to.adapter == nil || w.to.adapter.Gate() == nil {
		return "", ""
	}
	m := w.to.adapter.Gate().Machine
	leads := func(a *plan.Adapter) bool { return a.Segment.Reach == lab.Upstream && len(a.Segment.Lab.Routes) == 0 }
	if wans := m.WAN(); m.Transparent() || len(wans) == 0 || !slices.ContainsFunc(wans, leads) ||
		!slices.Contains(m.Masq, w.to.adapter.Segment) {
		return "", ""
	}
	if flow.Source = w.from.address; !flow.Source.IsValid() {
		flow.Source = reachability.Witness
	}
	for _, v := range m.OneToOne {
		if v.To == w.to.adapter {
			return decided(m, flow, w)
		}
	}
	if w.service.Proto == lab.ICMP {
		return "", ""
	}
	for _, v := range m.Publishes {
		if v.To == w.to.adapter && v.Proto == w.service.Proto && (v.Port == flow.Port || v.Target == flow.Port) {
			flow.Port = v.Target
			if r, _ := m.Decide(flow); r == nil {
				return "", "" // a forward needs no rule
			}
			return decided(m, flow, w)
		}
	}
	return fmt.Sprintf("%s does not forward %s to %s", m.Name, w.service, w.to),
		fmt.Sprintf("add {port: %s, to: %s} to publish of %s", w.service, w.to, m.Name)
}

// decided returns which rule of an appliance stops a packet, or that none allows it.
func decided(m *plan.Machine, f plan.Flow, w want) (why, remedy string) {
	switch r, action := m.Decide(f); {
	case action == lab.Allow:
		return "", ""
	case r == nil:
		return fmt.Sprintf("no rule of %s allows %s", m.Name, w), fmt.Sprintf("write a rule: allow %s", w)
	default:
		return fmt.Sprintf("the rule %q of %s (%s) stops %s", r.Text, m.Name, r.Place(), w),
			fmt.Sprintf("write a rule before it: allow %s", w)
	}
}
