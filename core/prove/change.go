package prove

import (
	"net/netip"

	"openbastion/core/lab"
	"openbastion/core/packetset"
	"openbastion/core/plan"
)

// Change is what a change of a lab lets through, or stops, from one to another.
type Change struct {
	From   string   `json:"from"`
	To     string   `json:"to"`
	Lets   []string `json:"lets"`  // what passes now and did not, as rules would say it
	Stops  []string `json:"stops"` // what passed and does not now
	Packet Packet   `json:"packet"`
	Path   []string `json:"path"`  // of a packet that is let through, or was
	Whole  bool     `json:"whole"` // the sets could be compared to the end
}

// Compare tells what passes between those whom two plans share, now and before.
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
			if len(lets)+len(stops) == 0 {
				continue
			}
			c := Change{From: from.String(), To: to.String(), Lets: m.Words(lets), Stops: old.Words(stops), Whole: whole && whole2}
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

// parties gives everybody of whom a matrix speaks: the guests, then the outside.
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

// minus gives the sets of some passages that are in none of others, and the first
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

// one gives a packet of a set that takes the way of a passage.
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

// Matrix gives what passes from everybody to everybody, by service.
func (m *Model) Matrix() []Cell {
	out := []Cell{}
	for _, from := range m.parties() {
		for _, to := range m.parties() {
			if from == to {
				continue
			}
			var l packetset.Line
			for _, p := range m.passing(from, to) {
				for _, s := range p.Sets {
					l = l.Union(s.Service)
				}
			}
			c := Cell{From: from.String(), To: to.String(), Services: []string{}}
			list, others := packetset.Listed(l)
			for _, s := range list {
				c.Services = append(c.Services, s.String())
			}
			if others {
				c.Services = append(c.Services, "others")
			}
			out = append(out, c)
		}
	}
	return out
}
