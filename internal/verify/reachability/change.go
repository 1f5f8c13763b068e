package reachability

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Change is what a change of a lab lets through, or stops, from one to another.
type Change struct {
	From    string   `json:"from"`
	To      string   `json:"to"`
	Added   []string `json:"added"`   // what passes now and did not, as rules would say it
	Removed []string `json:"removed"` // what passed and does not now
	Packet  Packet   `json:"packet"`
	Path    []string `json:"path"`  // of a packet that is let through, or was
	Whole   bool     `json:"whole"` // the sets could be compared to the end
}

// Compare returns what passes between those whom two plans share, now and before.
func Compare(before, now *plan.Plan) []Change {
	var named []netip.Prefix
	for _, p := range []*plan.Plan{before, now} {
		named = append(named, boundaries(p)...)
	}
	old, m := New(before, netip.Addr{}, named...), New(now, netip.Addr{}, named...)
	var out []Change
	for _, from := range m.parties() {
		for _, to := range m.parties() {
			if from == to || !old.has(from) || !old.has(to) {
				continue
			}
			a, b := old.passing(from, to), m.passing(from, to)
			lets, first, whole := minus(b, a)
			stops, last, whole2 := minus(a, b)
			if len(lets)+len(stops) == 0 && whole && whole2 {
				continue
			}
			c := Change{
				From:    from.String(),
				To:      to.String(),
				Added:   m.Words(lets),
				Removed: old.Words(stops),
				Whole:   whole && whole2,
			}
			switch {
			case first != nil:
				c.Path, c.Packet = first.Path, m.one(lets[0], first)
			case last != nil:
				c.Path, c.Packet = last.Path, old.one(stops[0], last)
			}
			out = append(out, c)
		}
	}
	return out
}

// parties returns everybody of whom a matrix speaks: the guests, then the outside.
func (m *Model) parties() []lab.Who {
	var list []lab.Who
	for _, g := range m.plan.Guests() {
		list = append(list, lab.Who{Kind: lab.WhoGuest, Name: g.Name})
	}
	return append(list, lab.Who{Kind: lab.WhoOutside})
}

func (m *Model) has(w lab.Who) bool { return w.Kind == lab.WhoOutside || m.plan.Machine(w.Name) != nil }

func (m *Model) passing(from, to lab.Who) []Passage {
	return m.Ask(Running, from, to, lab.Service{Proto: lab.Any}).Passages
}

// maxLeft bounds into how many parts a comparison may fall.
const maxLeft = 5_000

// minus returns the sets of some passages that are in none of others, and the first
// passage that has one.
func minus(these, others []Passage) (left []packetset.Packets, first *Passage, whole bool) {
	for i := range these {
		for _, s := range these[i].Sets {
			parts := []packetset.Packets{s}
			for _, o := range others {
				for _, x := range o.Sets {
					if parts = packetset.Without(parts, x); len(parts) > maxLeft {
						return left, first, false
					}
				}
			}
			if left = append(left, parts...); first == nil && len(parts) > 0 {
				first = &these[i]
			}
		}
	}
	return left, first, true
}

// one returns a packet of a set that takes the way of a passage.
func (m *Model) one(s packetset.Packets, p *Passage) Packet {
	packet, _ := m.concrete([]flow{{now: s, sent: s}}, p.From, p.To)
	return packet
}

// Cell is what passes from one to another, as a matrix shows it.
type Cell struct {
	From     string   `json:"from"`
	To       string   `json:"to"`
	Services []string `json:"services"` // any, or which; empty: nothing
}

// Matrix returns what passes from everybody to everybody, by service. Guests that
// stand alike are looked at once.
func (m *Model) Matrix() []Cell {
	parties := m.parties()
	out := make([]Cell, 0, len(parties)*len(parties))
	known := map[[2]string][]string{}
	kind, takers := m.standing(), make([]string, len(parties))
	kinds := make([]string, len(parties))
	for i, w := range parties {
		takers[i], kinds[i] = m.takes(w), kind(w)
	}
	for i, from := range parties {
		sender := m.sends(from)
		for j, to := range parties {
			if from == to {
				continue
			}
			key := [2]string{sender, takers[j]}
			if kinds[i] != "" && kinds[j] != "" && m.home(from) != m.home(to) {
				key = [2]string{"of a kind " + kinds[i], kinds[j]}
			}
			services, ok := known[key]
			if !ok {
				services = m.served(from, to)
				known[key] = services
			}
			out = append(out, Cell{From: from.String(), To: to.String(), Services: services})
		}
	}
	return out
}

// Kinds is a matrix with one row and one column for all who stand alike.
type Kinds struct {
	Cells    []Cell         // also from one to another of its kind
	Count    map[string]int // of how many the first of a kind stands for
	Segments map[string]int // on how many segments they are, where that is more than one: a cell is of guests of two segments
}

// MatrixOfKinds returns what passes from everybody to everybody, with the first of
// those who stand alike for all of them. Guests of several segments stand alike where the appliance
// serves and filters these segments alike: what passes between two of them passes between any two.
func (m *Model) MatrixOfKinds() Kinds {
	out := Kinds{Count: map[string]int{}, Segments: map[string]int{}}
	on := map[string]map[*domain]bool{}
	first := map[[2]string]lab.Who{}
	second := map[lab.Who]lab.Who{}
	var list []lab.Who
	kind := m.standing()
	for _, w := range m.parties() {
		key := [2]string{m.sends(w), m.takes(w)}
		if k := kind(w); k != "" {
			key = [2]string{"of a kind", k}
		}
		f, known := first[key]
		if !known {
			f, first[key] = w, w
			list = append(list, w)
		} else if was, has := second[f]; !has || m.home(was) == m.home(f) {
			second[f] = w
		}
		out.Count[f.String()]++
		if on[f.String()] == nil {
			on[f.String()] = map[*domain]bool{}
		}
		on[f.String()][m.home(w)] = true
	}
	for name, domains := range on {
		if len(domains) > 1 {
			out.Segments[name] = len(domains)
		}
	}
	for _, from := range list {
		for _, to := range list {
			other, has := second[to]
			if from == to && !has {
				continue
			}
			meant := to
			if from == to {
				meant = other
			}
			out.Cells = append(out.Cells, Cell{From: from.String(), To: to.String(), Services: m.served(from, meant)})
		}
	}
	return out
}

// home returns the domain of a guest's first adapter; nil for others.
func (m *Model) home(w lab.Who) *domain {
	if g := m.plan.Machine(w.Name); w.Kind == lab.WhoGuest && len(g.Adapters) > 0 {
		return m.of[g.Adapters[0].Segment]
	}
	return nil
}

// standing returns what names, of a guest whose segment has one appliance and guests of no other
// segment, all that what passes to and from other segments depends on; nothing of others.
func (m *Model) standing() func(lab.Who) string {
	kinds := map[*plan.Machine]func(netip.Addr) string{}
	var routes []lab.Route
	for _, s := range m.plan.Segments {
		routes = append(routes, s.Lab.Routes...)
	}
	return func(w lab.Who) string {
		g := m.plan.Machine(w.Name)
		if w.Kind != lab.WhoGuest || len(g.Adapters) != 1 || !g.Adapters[0].Plugged || m.reachedByName(g) {
			return ""
		}
		a := g.Adapters[0]
		s, d := a.Segment, m.of[a.Segment]
		if slices.ContainsFunc(d.guests, func(x *plan.Adapter) bool { return len(x.Machine.Adapters) > 1 }) ||
			len(d.segments) != 1 || len(d.ports) != 1 || d.leadsOut() || s.Port != d.ports[0] || a.Leases != nil ||
			m.gates[s.Port.Machine].transparent || s.Reach == lab.Upstream {
			return ""
		}
		if slices.ContainsFunc(routes, func(r lab.Route) bool { return r.To.Overlaps(s.Subnet) && r.To.Bits() > 0 }) {
			return "" // a router outside knows some of its addresses
		}
		gate := s.Port.Machine
		key := fmt.Sprint(gate.Name, a.How, s.Reach, s.Port.Role, slices.Contains(gate.Masq, s), s.Port.Admin)
		for _, x := range m.plan.Appliances() { // those beyond may see its address too
			if kinds[x] == nil {
				kinds[x] = x.Kinds()
			}
			address := a.Address.Addr()
			if !a.Address.IsValid() {
				address = s.Subnet.Addr().Next()
			}
			if !a.Address.IsValid() && !x.Uniform(s.Subnet) {
				return ""
			}
			key += " " + kinds[x](address)
			if a.Address6.IsValid() {
				key += " " + kinds[x](a.Address6.Addr())
			}
		}
		return key
	}
}

// served returns the services of all packets that pass from one to another.
func (m *Model) served(from, to lab.Who) []string {
	var l packetset.Line
	for _, p := range m.passing(from, to) {
		for _, s := range p.Sets {
			l = l.Union(s.Service)
		}
	}
	out := []string{}
	list, others := packetset.Listed(l)
	for _, s := range list {
		out = append(out, s.String())
	}
	if others {
		out = append(out, "others")
	}
	return out
}

// sends names those who can send what somebody can.
func (m *Model) sends(w lab.Who) string {
	if w.Kind == lab.WhoGuest {
		return m.Alike(m.plan.Machine(w.Name)).Name
	}
	return w.String()
}

// takes names those to whom what passes to somebody does: a guest that takes any
// address of its segment's pool stands for all that do.
func (m *Model) takes(w lab.Who) string {
	g := m.plan.Machine(w.Name)
	if w.Kind != lab.WhoGuest || len(g.Adapters) != 1 || g.Adapters[0].How != plan.Lease || !g.Adapters[0].Plugged ||
		m.reachedByName(g) {
		return w.String()
	}
	return "a lease on " + g.Adapters[0].Segment.Name
}

// reachedByName reports whether an appliance passes something to one guest by name.
func (m *Model) reachedByName(g *plan.Machine) bool {
	for _, a := range m.plan.Appliances() {
		if slices.ContainsFunc(a.Publishes, func(p plan.Publish) bool { return p.To.Machine == g }) ||
			slices.ContainsFunc(a.OneToOne, func(o plan.OneToOne) bool { return o.To.Machine == g }) {
			return true
		}
	}
	return false
}
