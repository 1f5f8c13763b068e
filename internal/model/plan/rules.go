package plan

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
)

// Rule is a rule made concrete: names have become networks.
type Rule struct {
	Lab      *lab.Rule // nil for a default rule
	Text     string
	Line     int // in the lab file; 0 for a default rule
	Action   lab.Action
	Services []lab.Service
	From, To []Match
	Log      bool
}

// Place returns where the rule comes from: "line 50" of the lab file, or "default".
func (r *Rule) Place() string { return RulePlace(r.Line) }

// RulePlace returns the text for the line of a rule; 0 is a default rule.
func RulePlace(line int) string {
	if line == 0 {
		return "default"
	}
	return fmt.Sprintf("line %d", line)
}

// Match is one party of a rule.
type Match struct {
	Any      bool
	Outside  bool
	Own      bool           // the appliance itself, at whichever address
	Segment  *Segment       // traffic must also arrive from, or leave to, this segment
	Prefixes []netip.Prefix // any of these
}

// Flow is the first packet of a conversation, as a rule sees it.
type Flow struct {
	Source, Destination netip.Addr
	Proto               lab.Proto // icmp, tcp or udp
	Port                uint16    // destination port of tcp and udp
	In, Out             *Adapter  // the ports by which it passes a transparent appliance, else nil
	Own                 bool      // it is for the appliance itself, which no rule means by outside
	FromWAN             bool      // and it came in by a WAN port: only a rule that names the appliance, its address or any means it
}

func (r *Rule) matchesService(f Flow) bool {
	for _, s := range r.Services {
		if s.Proto != lab.Any && s.Proto != f.Proto {
			continue
		}
		if s.AllPorts() || f.Port >= s.From && f.Port <= s.To {
			return true
		}
	}
	return false
}

func matches(list []Match, a netip.Addr, outside, own, byName bool, port *Adapter) bool {
	for i := range list {
		m := &list[i]
		if m.otherSide(port) {
			continue
		}
		if m.Any || m.Outside && outside || m.Own && own {
			return true
		}
		for _, p := range m.Prefixes {
			if p.Contains(a) && (!byName || p.IsSingleIP()) {
				return true
			}
		}
	}
	return false
}

// otherSide reports whether a rule of a transparent appliance names another of its sides than the one
// of a port: there a segment's name is a side, as all sides share their addresses. port is nil for a
// router.
func (m *Match) otherSide(port *Adapter) bool {
	return port != nil && m.Segment != nil && m.Segment != port.Segment && m.Segment.On(port.Machine)
}

// On reports whether a machine has an adapter on the segment.
func (s *Segment) On(m *Machine) bool {
	return slices.ContainsFunc(m.Adapters, func(a *Adapter) bool { return a.Segment == s })
}

// Names reports whether the match can be what comes by, or leaves by, a port of a transparent
// appliance.
func (m *Match) Names(port *Adapter) bool { return !m.otherSide(port) }

// Outside reports whether the appliance has a on none of its inside networks.
func (m *Machine) Outside(a netip.Addr) bool {
	return !m.within.Contains(a)
}

// Decide returns the first rule of the appliance that matches, or nil with
// [lab.Deny] when none does.
func (m *Machine) Decide(f Flow) (*Rule, lab.Action) {
	fromOutside, toOutside := m.Outside(f.Source), m.Outside(f.Destination)
	if f.In != nil {
		fromOutside, toOutside = f.In.Role == lab.WAN, f.Out.Role == lab.WAN
	}
	toOutside = toOutside && !f.Own
	decides := func(r *Rule) bool {
		return r.matchesService(f) && matches(r.To, f.Destination, toOutside, f.Own, f.Own && f.FromWAN, f.Out) &&
			matches(r.From, f.Source, fromOutside, false, false, f.In)
	}
	found := -1
	if m.index.fits(m.Rules) {
		m.index.candidates(f.Source, f.Destination, func(i int32) bool {
			if decides(&m.Rules[i]) {
				found = int(i)
			}
			return found < 0
		})
	} else {
		for i := range m.Rules {
			if decides(&m.Rules[i]) {
				found = i
				break
			}
		}
	}
	if found < 0 {
		return nil, lab.Deny
	}
	return &m.Rules[found], m.Rules[found].Action
}

// NewTranslator makes a router that nobody planned: it lets everything from
// near's segment out by far and translates it, as a host does for machines
// that it joins to its own network.
func NewTranslator(name string, near, far *Adapter) *Machine {
	m := &Machine{Name: name, Adapters: []*Adapter{near, far}, Masq: []*Segment{near.Segment}}
	m.within.Insert(near.Segment.Subnet)
	m.Rules = []Rule{{
		Action: lab.Allow, Services: []lab.Service{{Proto: lab.Any}},
		From: []Match{{Prefixes: []netip.Prefix{near.Segment.Subnet}}}, To: []Match{{Outside: true}},
	}}
	return m
}

// AllowedServices returns, for each usual service, one of its protocol that the rules let
// pass from one address to another: itself, else the first port that some rule
// names. Rules of other addresses never decide, so they are set aside once. in and out are the ports
// of a transparent appliance, nil of a router.
func (m *Machine) AllowedServices(from, to netip.Addr, usual []lab.Service, in, out *Adapter) []lab.Service {
	fromOutside, toOutside := m.Outside(from), m.Outside(to)
	if in != nil {
		fromOutside, toOutside = in.Role == lab.WAN, out.Role == lab.WAN
	}
	var speak []*Rule
	for i := range m.Rules {
		if r := &m.Rules[i]; matches(r.To, to, toOutside, false, false, out) &&
			matches(r.From, from, fromOutside, false, false, in) {
			speak = append(speak, r)
		}
	}
	passes := func(s lab.Service) bool {
		for _, r := range speak {
			if r.matchesService(Flow{Proto: s.Proto, Port: s.From}) {
				return r.Action == lab.Allow
			}
		}
		return false
	}
	var list []lab.Service
	for _, u := range usual {
		if passes(u) {
			list = append(list, u)
			continue
		}
		for _, s := range m.named {
			if s.Proto == u.Proto && passes(s) {
				list = append(list, s)
				break
			}
		}
	}
	return list
}

// NamedServices returns up to most ports that rules name which speak of two addresses,
// whatever they say of them.
func (m *Machine) NamedServices(from, to netip.Addr, most int) []lab.Service {
	fromOutside, toOutside := m.Outside(from), m.Outside(to)
	var out []lab.Service
	for i := range m.Rules {
		r := &m.Rules[i]
		for _, s := range r.Services {
			if len(out) == most {
				return out
			}
			if s.To = s.From; s.From != 0 && !slices.Contains(out, s) &&
				matches(r.To, to, toOutside, false, false, nil) &&
				matches(r.From, from, fromOutside, false, false, nil) {
				out = append(out, s)
			}
		}
	}
	return out
}

// Kinds returns what tells the addresses apart that the rules tell apart: of those of one kind the
// same rules, or rules that differ in nothing else, speak in the same order, as sender and as
// receiver. Each call of what is returned takes time with the number of rules.
func (m *Machine) Kinds() func(netip.Addr) string {
	shapes := shapesOf(m.Rules)
	return func(a netip.Addr) string {
		outside := m.Outside(a)
		var sends, takes []byte
		for i := range m.Rules {
			if matches(m.Rules[i].From, a, outside, false, false, nil) {
				sends = binary.AppendUvarint(sends, shapes[i].to)
			}
			if matches(m.Rules[i].To, a, outside, false, false, nil) {
				takes = binary.AppendUvarint(takes, shapes[i].from)
			}
		}
		return fmt.Sprintf("%d ", len(sends)) + string(sends) + string(takes)
	}
}

// Uniform reports whether no rule names a part of a network alone, so that all its addresses are of
// one kind.
func (m *Machine) Uniform(network netip.Prefix) bool {
	for i := range m.Rules {
		for _, party := range [][]Match{m.Rules[i].From, m.Rules[i].To} {
			for _, x := range party {
				if slices.ContainsFunc(x.Prefixes, func(p netip.Prefix) bool {
					return p.Overlaps(network) && p.Bits() > network.Bits()
				}) {
					return false
				}
			}
		}
	}
	return true
}

// shape numbers what a rule is beside one of its parties: rules of one number differ in that party alone.
type shape struct{ from, to uint64 }

func shapesOf(rules []Rule) []shape {
	numbers := map[string]uint64{}
	number := func(r *Rule, side string, party []Match) uint64 {
		text := fmt.Sprint(side, r.Action, r.Services)
		for _, x := range party {
			name := ""
			if x.Segment != nil {
				name = x.Segment.Name
			}
			text += fmt.Sprint(x.Any, x.Outside, x.Own, name, x.Prefixes)
		}
		if _, ok := numbers[text]; !ok {
			numbers[text] = uint64(len(numbers))
		}
		return numbers[text]
	}
	out := make([]shape, len(rules))
	for i := range rules {
		r := &rules[i]
		out[i] = shape{number(r, "from ", r.From), number(r, "to ", r.To)}
	}
	return out
}

// nameServices lists the ports that rules name, each once.
func (m *Machine) nameServices() {
	seen := map[lab.Service]bool{}
	for i := range m.Rules {
		for _, s := range m.Rules[i].Services {
			if s.To = s.From; s.From != 0 && !seen[s] {
				seen[s] = true
				m.named = append(m.named, s)
			}
		}
	}
}

func (b *builder) rules() {
	for _, m := range b.plan.Appliances() {
		for _, a := range m.Adapters {
			if a.Role != lab.WAN {
				m.within.Insert(a.Segment.Subnet)
				if a.Segment.Subnet6.IsValid() {
					m.within.Insert(a.Segment.Subnet6)
				}
			}
		}
		src := m.Appliance
		switch {
		case src.Filter == "none":
			m.Rules = []Rule{{
				Text: "filter: none", Line: src.At("filter").Line, Action: lab.Allow,
				Services: []lab.Service{{Proto: lab.Any}}, From: []Match{{Any: true}}, To: []Match{{Any: true}},
			}}
		case !src.Has("rules"):
			for _, s := range insideSegments(m) {
				text := "allow any from " + s.Name + " to outside"
				m.Rules = append(m.Rules, Rule{
					Text: text, Action: lab.Allow,
					Services: []lab.Service{{Proto: lab.Any}},
					From:     []Match{{Segment: s, Prefixes: []netip.Prefix{s.Subnet}}}, To: []Match{{Outside: true}},
				})
			}
		}
		for i := range src.Rules {
			r := &src.Rules[i]
			m.Rules = append(m.Rules, Rule{
				Lab: r, Text: r.String(), Line: r.Pos.Line, Action: r.Action, Services: r.Services, Log: r.Log,
				From: b.parties(m, r.From), To: b.parties(m, r.To),
			})
		}
		m.nameServices()
		m.index = indexRules(m.Rules)
		if src.NAT.Masquerade == nil {
			m.Masq = slices.DeleteFunc(insideSegments(m), func(s *Segment) bool { return s.Bridged != nil })
		}
		for _, name := range src.NAT.Masquerade {
			m.Masq = append(m.Masq, b.plan.Segment(name))
		}
		for i := range src.NAT.Publish {
			p := &src.NAT.Publish[i]
			to := m.served(b.plan.Machine(p.To))
			m.Publishes = append(
				m.Publishes,
				Publish{Lab: p, Proto: p.Port.Proto, Port: p.Port.From, To: to, Target: p.Target.From},
			)
		}
		for i := range src.NAT.OneToOne {
			o := &src.NAT.OneToOne[i]
			m.OneToOne = append(m.OneToOne, OneToOne{o, o.Outside, m.served(b.plan.Machine(o.Inside))})
		}
	}
}

// served returns the guest's adapter on a segment that the appliance serves, else
// its first.
func (m *Machine) served(guest *Machine) *Adapter {
	for _, a := range guest.Adapters {
		if a.Segment.Port != nil && a.Segment.Port.Machine == m {
			return a
		}
	}
	return guest.Adapters[0]
}

// insideSegments returns the segments of the appliance's lan and dmz ports.
func insideSegments(m *Machine) []*Segment {
	var list []*Segment
	seen := map[*Segment]bool{}
	for _, a := range m.Adapters {
		if a.Role.Inside() && a.Segment.Subnet.IsValid() && !seen[a.Segment] { // an unused port is on none
			seen[a.Segment] = true
			list = append(list, a.Segment)
		}
	}
	return list
}

func (b *builder) parties(of *Machine, list []lab.Who) []Match {
	out := make([]Match, 0, len(list))
	for _, w := range list {
		switch w.Kind {
		case lab.WhoAny:
			out = append(out, Match{Any: true})
		case lab.WhoOutside:
			out = append(out, Match{Outside: true})
		case lab.WhoSegment:
			s := b.plan.Segment(w.Name)
			m := Match{Segment: s, Prefixes: []netip.Prefix{s.Subnet}}
			if s.Subnet6.IsValid() {
				m.Prefixes = append(m.Prefixes, s.Subnet6)
			}
			out = append(out, m)
		case lab.WhoPrefix:
			out = append(out, Match{Prefixes: []netip.Prefix{w.Prefix}})
		case lab.WhoGuest, lab.WhoAppliance:
			m := Match{Own: w.Name == of.Name}
			for _, a := range b.plan.Machine(w.Name).Adapters {
				if a.Address.IsValid() {
					m.Prefixes = append(m.Prefixes, netip.PrefixFrom(a.Address.Addr(), a.Address.Addr().BitLen()))
				}
				if a.Address6.IsValid() {
					m.Prefixes = append(m.Prefixes, netip.PrefixFrom(a.Address6.Addr(), 128))
				}
			}
			out = append(out, m)
		}
	}
	return out
}
