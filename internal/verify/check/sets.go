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

// model returns the plan as sets of packets, made once.
func (c *checker) model() *reachability.Model {
	if c.proof == nil {
		c.proof = reachability.New(c.p, netip.Addr{})
	}
	return c.proof
}

// inside returns the addresses of an appliance's inside networks, outside the others.
func (c *checker) inside(m *plan.Machine) packetset.Line { return c.model().Inside(m) }

func (c *checker) outside(m *plan.Machine) packetset.Line {
	return c.model().Space().All().Minus(c.inside(m))
}

// sets returns the rules of an appliance as sets of packets.
func (c *checker) sets(m *plan.Machine) []packetset.Packets { return c.model().Rules(m) }

// source returns the addresses that an adapter has or may get.
func (c *checker) source(a *plan.Adapter) packetset.Line {
	if a.Address.IsValid() {
		return c.one(a)
	}
	return c.model().Lines(a.Segment)
}

// one returns the adapter's address alone.
func (c *checker) one(a *plan.Adapter) packetset.Line {
	return c.model().Space().Addresses(a.Address.Addr())
}

// passing returns the services that rules let pass from some source to some
// destination; for a part of them is enough.
func (c *checker) passing(m *plan.Machine, from, to packetset.Line) packetset.Line {
	return c.allowed(m, packetset.Packets{Source: from, Destination: to, Service: packetset.AllServices})
}

// allowed returns the services of the packets that the rules let pass.
func (c *checker) allowed(m *plan.Machine, p packetset.Packets) packetset.Line {
	var out packetset.Line
	sets := c.sets(m)
	matches, _ := p.FirstMatches(sets, packetset.All(sets), false, packetset.MaxMeetings)
	for _, x := range matches {
		if m.Rules[x.Rule].Action == lab.Allow {
			out = append(out, x.Service...)
		}
	}
	return packetset.Line{}.Union(out)
}

// meantInbound returns what is published, and everything to guests with an outside
// address of their own.
func (c *checker) meantInbound(m *plan.Machine) []packetset.Packets {
	var out []packetset.Packets
	add := func(a *plan.Adapter, services packetset.Line) {
		if a.Address.IsValid() {
			out = append(
				out,
				packetset.Packets{Source: c.model().Space().All(), Destination: c.one(a), Service: services},
			)
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

// deadRule finds rules of which earlier ones together decide everything.
func (c *checker) deadRule() {
	for _, m := range c.p.Running() {
		sets := c.sets(m)
		decides := make([]bool, len(sets))
		matches, ok := c.everything().FirstMatches(sets, packetset.All(sets), false, packetset.MaxMeetings)
		if !ok {
			continue // then nothing is said of any
		}
		for _, x := range matches {
			decides[x.Rule] = true
		}
		var near *neighbors
		for i := range m.Rules {
			if m.Rules[i].Lab == nil || decides[i] {
				continue
			}
			if near == nil {
				near = neighborsOf(sets)
			}
			c.dead(m, i, sets, near.before(i))
		}
	}
}

// everything returns all packets.
func (c *checker) everything() packetset.Packets {
	all := c.model().Space().All()
	return packetset.Packets{Source: all, Destination: all, Service: packetset.AllServices}
}

// neighbors finds the rules that speak of packets of another.
type neighbors struct {
	sets             []packetset.Packets
	source, services packetset.Index
}

func neighborsOf(sets []packetset.Packets) *neighbors {
	source, services := make([]packetset.Line, len(sets)), make([]packetset.Line, len(sets))
	for i, p := range sets {
		source[i], services[i] = p.Source, p.Service
	}
	return &neighbors{sets, packetset.NewIndex(source), packetset.NewIndex(services)}
}

// before returns the earlier rules that speak of packets of one.
func (n *neighbors) before(rule int) []int {
	p := n.sets[rule]
	var found []int
	if packetset.AllServices.Within(p.Service) {
		found = n.source.Meeting(p.Source)
	} else {
		found = n.services.Meeting(p.Service)
	}
	return slices.DeleteFunc(found, func(j int) bool { return j >= rule || !n.sets[j].Meets(p) })
}

// dead says of a rule that earlier ones decide all of it.
func (c *checker) dead(m *plan.Machine, i int, sets []packetset.Packets, index []int) {
	others := make([]packetset.Packets, len(index))
	for k, j := range index {
		others[k] = sets[j]
	}
	by, _, ok := sets[i].Covered(others)
	if !ok {
		by = packetset.All(others)
	}
	var names []string
	for _, k := range by {
		names = append(names, fmt.Sprintf("rule %d (%s)", index[k]+1, m.Rules[index[k]].Text))
	}
	if len(names) > 4 {
		names = append(names[:4], fmt.Sprintf("and %d more", len(by)-4))
	}
	if len(names) == 0 {
		names = []string{"nothing: it matches no packet"}
	}
	c.find(fmt.Sprintf("%s rule %d", m.Name, i+1), m.Rules[i].Lab.Pos, "remove it, or move it up",
		"%q never decides: earlier ones do, %s", m.Rules[i].Text, strings.Join(names, ", "))
}

func (c *checker) noWayOut() {
	if m := c.ring(); m != nil && !c.p.Lab.Closed {
		c.find(
			m.Name,
			m.Appliance.Pos,
			"give one appliance a WAN port on a segment with reach: upstream, or write closed: true at the top of the file",
			"the WAN of each appliance is on the inside of another, and none is on an upstream segment",
		)
	}
	for _, e := range c.p.Lab.Expect {
		if passes, known, outside := c.sentence(e); known && outside && !e.Never && !passes {
			c.find(
				e.From.String(),
				e.Pos,
				fmt.Sprintf("write a rule: allow any from %s to outside", e.From),
				"%q, and no rule lets it",
				e,
			)
		}
	}
}

func (c *checker) isAppliance(name string) bool {
	m := c.p.Machine(name)
	return m != nil && m.Appliance != nil
}
