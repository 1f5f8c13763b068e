package reachability

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Packet is one concrete packet, as it is sent.
type Packet struct {
	Source          netip.Addr `json:"source"`
	Destination     netip.Addr `json:"destination"`
	Protocol        lab.Proto  `json:"protocol"`
	SourcePort      uint16     `json:"source_port,omitempty"`
	DestinationPort uint16     `json:"destination_port,omitempty"`
}

func (p Packet) String() string {
	s := lab.Service{Proto: p.Protocol, From: p.DestinationPort, To: p.DestinationPort}
	return fmt.Sprintf("%s from %s to %s", s, p.Source, p.Destination)
}

// sourcePort is that of every packet that is shown.
const sourcePort = 40000

// Passage is a set of packets that get from one place to another by one way.
type Passage struct {
	Path   []string            // machines and segments in turn
	Sets   []packetset.Packets // as they are sent
	Rule   *plan.Rule          // the last that let them pass, or nil
	Packet Packet              // one of them
	Public bool                // it goes to what an appliance publishes
	Maybe  bool                // all of them depend on which address a lease gives
	From   *plan.Adapter
	To     *plan.Adapter // nil: outside, or the appliance that ends the path
}

// Answer is what passes from some places to others.
type Answer struct {
	Passages []Passage
	Partial  bool // the rules cut the packets into too many parts: more may pass
}

// places returns where those who are named stand: guests' adapters, and true when
// the outside is among them.
func (m *Model) places(w lab.Who) (list []*plan.Adapter, outside bool) {
	for _, g := range m.plan.Guests() {
		for _, a := range g.Adapters {
			in := w.Kind == lab.WhoAny || w.Kind == lab.WhoSegment && a.Segment.Name == w.Name ||
				w.Kind == lab.WhoGuest && g.Name == w.Name ||
				w.Kind == lab.WhoPrefix && m.addresses(a).Meets(m.space.Prefixes(w.Prefix))
			if in && a.Plugged {
				list = append(list, a)
			}
		}
	}
	switch w.Kind {
	case lab.WhoOutside, lab.WhoAny:
		outside = true
	case lab.WhoPrefix:
		outside = !m.space.Prefixes(w.Prefix).Within(m.insides())
	case lab.WhoSegment:
		outside = m.of[m.plan.Segment(w.Name)].outer
	}
	return list, outside
}

// meant returns the addresses that a party stands for, where it is no machine.
func (m *Model) meant(w lab.Who) packetset.Line {
	switch w.Kind {
	case lab.WhoPrefix:
		return m.space.Prefixes(w.Prefix)
	case lab.WhoSegment:
		return m.lines[m.plan.Segment(w.Name)]
	}
	return m.space.All()
}

// insides returns the addresses of all segments that do not lead outside.
func (m *Model) insides() packetset.Line {
	var l packetset.Line
	for _, d := range m.domains {
		for _, s := range d.segments {
			if !d.leadsOut() {
				l = l.Union(m.lines[s])
			}
		}
	}
	return l
}

// Ask returns what passes from those named to those named, by a service, in a
// condition. Guests among the first are hostile, and so are the others where they
// can pass something on.
func (m *Model) Ask(c Condition, from, to lab.Who, service lab.Service) Answer {
	return m.ask(c, from, to, service, 0)
}

// ask is Ask that is content with most passages, 0 for all; it then looks once only
// at guests that stand alike.
func (m *Model) ask(c Condition, from, to lab.Who, service lab.Service, most int) Answer {
	var out Answer
	looked := map[*spread]bool{}
	targets := map[*plan.Machine]bool{}
	there, _ := m.places(to)
	for _, a := range there {
		targets[a.Machine] = true
	}
	if to.Kind == lab.WhoAppliance && !m.itselfToo {
		m.itselfToo = true
		clear(m.spreads)
		clear(m.crossed)
	}
	list, outside := m.places(from)
	seen := map[*plan.Machine]bool{}
	add := func(s *spread, who *plan.Machine) {
		if most > 0 && (looked[s] && len(out.Passages) == 0 || len(out.Passages) >= most) {
			return
		}
		looked[s] = !targets[who] // who is meant itself does not count for the others
		out.Partial = out.Partial || s.partial
		out.Passages = append(out.Passages, m.arrive(s, who, from, to, service)...)
	}
	for _, a := range list {
		if seen[a.Machine] {
			continue
		}
		seen[a.Machine] = true
		if from.Kind == lab.WhoSegment {
			add(m.spreadOf(c, a.Machine.Name, a), a.Machine)
		} else {
			add(m.spreadOf(c, a.Machine.Name, plugged(a.Machine)...), a.Machine)
		}
	}
	if from.Kind == lab.WhoAppliance { // its own packets pass no rule of its own
		by := m.plan.Machine(from.Name)
		add(m.spreadOf(c, by.Name, plugged(by)...), by)
	}
	if outside {
		if s := m.fromOutside(c); from.Kind == lab.WhoPrefix || from.Kind == lab.WhoSegment {
			add(s.sentFrom(m.meant(from)), nil)
		} else {
			add(s, nil)
		}
	}
	return out
}

// sentFrom returns a spread with only what is sent from some addresses.
func (s *spread) sentFrom(source packetset.Line) *spread {
	out := &spread{hostile: s.hostile, partial: s.partial}
	for _, l := range s.landed {
		flows := keep(l.flows, func(f flow) (flow, bool) { return f.sentBy(source), true })
		away := keep(l.away, func(f flow) (flow, bool) { return f.sentBy(source), true })
		if len(flows)+len(away) > 0 {
			l.flows, l.away = flows, away
			out.landed = append(out.landed, l)
		}
	}
	return out
}

// plugged returns the adapters of a machine that are plugged in.
func plugged(g *plan.Machine) []*plan.Adapter {
	return slices.DeleteFunc(slices.Clone(g.Adapters), func(a *plan.Adapter) bool { return !a.Plugged })
}

// spreadOf returns what somebody hostile with some adapters gets packets to.
func (m *Model) spreadOf(c Condition, name string, adapters ...*plan.Adapter) *spread {
	var from []start
	key := fmt.Sprint(c)
	for _, a := range adapters {
		d := m.of[a.Segment]
		if !slices.ContainsFunc(from, func(s start) bool { return s.on == d }) {
			from = append(from, start{d, name})
			key += " " + d.name()
		}
	}
	if len(from) > 1 { // it passes on itself; the others of its kind go by other ways
		key += " " + name
	}
	if m.spreads[key] == nil {
		m.spreads[key] = m.spread(c, from...)
	}
	return m.spreads[key]
}

// fromOutside returns what the outside gets packets to.
func (m *Model) fromOutside(c Condition) *spread {
	key := fmt.Sprint(c, " outside")
	if m.spreads[key] == nil {
		var from []start
		for _, d := range m.domains {
			if d.leadsOut() {
				from = append(from, start{d, "outside"})
			}
		}
		m.spreads[key] = m.spread(c, from...)
	}
	return m.spreads[key]
}

// arrive returns the passages of a spread that end where somebody named stands.
func (m *Model) arrive(s *spread, who *plan.Machine, from, to lab.Who, service lab.Service) []Passage {
	services := packetset.Service(service)
	wanted := func(f flow) (flow, bool) {
		hit := f.and(packetset.Packets{Source: m.space.All(), Destination: m.space.All(), Service: services})
		if hit.now.Empty() && f.public != nil && services.Meets(f.sent.Service) {
			hit = f
		}
		return hit, !hit.now.Empty()
	}
	var out []Passage
	name := "outside"
	if who != nil {
		name = who.Name
	}
	list, outside := m.places(to)
	prefix := m.meant(to)
	for _, a := range list {
		if a.Machine == who {
			continue
		}
		exactly := wanted
		if to.Kind == lab.WhoPrefix {
			exactly = func(f flow) (flow, bool) { return wanted(f.to(prefix)) }
		}
		out = append(out, m.arriveAt(s, name, who, a, exactly)...)
	}
	if len(out) == 0 && (to.Kind == lab.WhoPrefix || to.Kind == lab.WhoSegment) {
		out = m.arriveFree(s, name, who, prefix.And(m.insides()), wanted)
	}
	if outside && who != nil {
		way, flows := m.outside(s, func(f flow) (flow, bool) { return wanted(f.to(prefix)) })
		if way != nil {
			out = append(out, m.passage(renamed(way, name), flows, who, nil))
		}
	}
	if to.Kind == lab.WhoAppliance {
		for _, l := range s.landed {
			if l.on != nil || l.by.Machine.Name != to.Name {
				continue
			}
			if flows := keep(l.flows, wanted); len(flows) > 0 {
				out = append(out, m.passage(renamed(l.path, name), flows, who, l.by))
			}
		}
	}
	return out
}

// arriveFree returns the first passage to addresses inside that no machine of the plan has: whoever takes one there
// is reached.
func (m *Model) arriveFree(
	s *spread,
	name string,
	who *plan.Machine,
	to packetset.Line,
	wanted func(flow) (flow, bool),
) []Passage {
	if to = to.Minus(m.busy()); len(to) == 0 {
		return nil
	}
	for _, l := range s.landed {
		if l.on == nil {
			continue
		}
		var there packetset.Line
		for _, x := range l.on.segments {
			there = there.Union(m.lines[x])
		}
		there = there.And(to)
		flows := keep(l.flows, func(f flow) (flow, bool) {
			f.maybe = true // no machine of the plan takes it in
			return wanted(f.to(there))
		})
		if len(flows) > 0 && flows[0].public == nil {
			return []Passage{m.passage(renamed(l.path, name), flows, who, nil)}
		}
	}
	return nil
}

// arriveAt returns the passages that end at a guest's adapter.
func (m *Model) arriveAt(
	s *spread,
	name string,
	who *plan.Machine,
	a *plan.Adapter,
	wanted func(flow) (flow, bool),
) []Passage {
	d := m.of[a.Segment]
	at := m.addresses(a)
	if path := s.hostile[d]; path != nil && !slices.Contains(path[1:], a.Machine.Name) { // else it was there before
		if f, ok := wanted(whole(m.space.All(), at)); ok {
			return []Passage{m.passage(append(renamed(path, name), a.Machine.Name), []flow{f}, who, a)}
		}
	}
	var out []Passage
	for _, l := range s.landed {
		if l.on != d {
			continue
		}
		if flows := m.takenIn(a, l.flows, wanted); len(flows) > 0 {
			out = append(out, m.passage(append(renamed(l.path, name), a.Machine.Name), flows, who, a))
		}
	}
	return out
}

// takenIn returns what an adapter takes in of flows that come to its domain.
func (m *Model) takenIn(a *plan.Adapter, flows []flow, wanted func(flow) (flow, bool)) []flow {
	at := m.addresses(a)
	return keep(flows, func(f flow) (flow, bool) {
		if f.public != nil {
			return wanted(f.only(a))
		}
		f.maybe = f.maybe || len(m.fixed(a)) == 0 && !at.Within(f.now.Destination)
		return wanted(f.to(at))
	})
}

func keep(flows []flow, wanted func(flow) (flow, bool)) []flow {
	var out []flow
	for _, f := range flows {
		if f, ok := wanted(f); ok && !f.now.Empty() {
			out = append(out, f)
		}
	}
	return out
}

// renamed returns a path that starts at another machine of the same segment.
func renamed(path []string, name string) []string {
	if len(path) > 3 && path[2] == name { // it is the first that passes on
		return slices.Clone(path[2:])
	}
	out := slices.Clone(path)
	out[0] = name
	return out
}

// passage makes a passage of flows that took one way.
func (m *Model) passage(path []string, flows []flow, who *plan.Machine, to *plan.Adapter) Passage {
	p := Passage{Path: path, Rule: flows[0].rule, To: to}
	sure := slices.DeleteFunc(slices.Clone(flows), func(f flow) bool { return f.maybe })
	if p.Maybe = len(sure) == 0; !p.Maybe {
		flows = sure
	}
	for _, f := range flows {
		p.Sets = append(p.Sets, f.sent)
	}
	if who != nil {
		p.From = who.Adapters[0]
		for _, a := range who.Adapters {
			if a.Plugged && m.of[a.Segment].name() == path[1] {
				p.From = a
				break
			}
		}
	}
	p.Packet, p.Public = m.concrete(flows, p.From, to)
	return p
}

// busy returns the addresses that somebody in the plan has.
func (m *Model) busy() packetset.Line {
	if m.taken == nil {
		list := []packetset.Line{}
		for _, a := range m.plan.Adapters {
			list = append(list, m.fixed(a))
		}
		for _, s := range m.plan.Segments {
			list = append(list, m.space.Addresses(s.Gateway))
		}
		m.taken = packetset.Join(list...)
	}
	return m.taken
}

// Sources that are nobody's, where any will do (RFC 5737, RFC 3849).
var (
	stranger  = netip.AddrFrom4([4]byte{198, 51, 100, 7})
	stranger6 = netip.MustParseAddr("2001:db8:7::7")
)

// concrete returns one packet of some flows, as a practitioner would send it: with
// the sender's own address, to the witness, by a usual service.
func (m *Model) concrete(flows []flow, from, to *plan.Adapter) (best Packet, public bool) {
	score := -1
	var own, far []netip.Addr
	if from != nil {
		own = []netip.Addr{from.Address.Addr(), from.Address6.Addr()}
		d := m.of[from.Segment]
		free := m.lines[from.Segment].And(m.space.IPv4()).Minus(m.space.Addresses(from.Segment.Gateway))
		for _, a := range append(append([]*plan.Adapter(nil), d.ports...), d.guests...) {
			if a != from && a.Address.IsValid() {
				free = free.Minus(m.space.Addresses(a.Address.Addr()))
			}
		}
		if !from.Address.IsValid() {
			own = append(own, m.space.Any(m.addresses(from).And(free)))
		}
		own = append(own, m.space.Any(free))
	} else {
		own = []netip.Addr{m.witness}
	}
	if far = []netip.Addr{m.witness, Witness6}; to != nil {
		far = []netip.Addr{to.Address.Addr(), to.Address6.Addr()}
	}
	for _, f := range flows[:min(len(flows), 64)] {
		s, ok := packetset.AnyService(
			f.sent.Service,
			lab.Service{Proto: lab.ICMP},
			lab.Service{Proto: lab.TCP, From: 80, To: 80},
			lab.Service{Proto: lab.TCP, From: 443, To: 443},
			lab.Service{Proto: lab.UDP, From: 53, To: 53},
		)
		if !ok {
			s = lab.Service{Proto: lab.Any}
		}
		p := Packet{Protocol: s.Proto, DestinationPort: s.From}
		for _, family := range []packetset.Line{m.space.IPv4(), m.space.IPv6()} {
			source, destination := f.sent.Source.And(family), f.sent.Destination.And(family)
			if p.Source = m.space.Any(source, append(slices.Clone(own), stranger, stranger6)...); !p.Source.IsValid() ||
				len(destination) == 0 {
				continue
			}
			if p.Destination = m.space.Any(destination, far...); !slices.Contains(far, p.Destination) {
				p.Destination = m.space.Any(destination, m.space.Any(destination.Minus(m.busy())))
			}
			break
		}
		if p.Protocol == lab.TCP || p.Protocol == lab.UDP {
			p.SourcePort = sourcePort
		}
		n := 0
		if slices.Contains(own, p.Source) {
			n += 2
		}
		if slices.Contains(far, p.Destination) {
			n++
		}
		if ok {
			n += 4
		}
		if p.Destination.IsValid() && n > score {
			best, score, public = p, n, f.public != nil
		}
	}
	return best, public
}
