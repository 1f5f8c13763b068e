package reachability

import (
	"fmt"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Schema names the JSON form of a proof.
const Schema = "openbastion.proof/1"

// Document is a proof as JSON.
type Document struct {
	Schema  string      `json:"schema"`
	Lab     string      `json:"lab"`
	Verdict string      `json:"verdict"` // holds, broken or unknown
	Open    []string    `json:"open"`    // questions that the file leaves open, whose answers can change the verdict
	Escapes []EscapeOf  `json:"escapes"`
	Leaves  []PassageOf `json:"leaves"` // what may leave each segment through appliances
	Covered string      `json:"covered"`
	Assumes []string    `json:"assumes"`
	found   []*Escape   // in the order of Escapes
}

// EscapeOf is an escape as JSON.
type EscapeOf struct {
	From   string   `json:"from"`
	To     string   `json:"to"`
	Path   []string `json:"path"`
	Packet Packet   `json:"packet"`
	Reason string   `json:"reason"`
	Bypass bool     `json:"bypass"` // outside without passing an appliance: with every WAN unplugged too
}

// PassageOf is what passes from one to another by one way, as JSON.
type PassageOf struct {
	From   string   `json:"from"`
	To     string   `json:"to"`
	Path   []string `json:"path"`
	Sets   []string `json:"sets"` // as rules would say it
	Packet Packet   `json:"packet"`
	Rule   string   `json:"rule,omitempty"` // the last that lets it pass
	Line   int      `json:"line,omitempty"`
}

// Found returns the escapes with what it takes to send them.
func (d Document) Found() []*Escape { return d.found }

// MayGoOut reports whether the file lets a guest go outside from an address of its
// own.
func (m *Model) MayGoOut(g *plan.Machine) bool {
	for _, a := range plugged(g) {
		if a.Segment.Inside() {
			return m.polite(a, 1) != nil
		}
	}
	return false
}

// Prove looks for every way by which a packet gets where it must not: outside past
// the appliances, outside from a guest that may not go there, from one segment to
// another past the rules, and to where a sentence says that it never gets.
func (m *Model) Prove() Document {
	d := Document{
		Schema:  Schema,
		Lab:     m.plan.Name,
		Verdict: "holds",
		Open:    []string{},
		Escapes: []EscapeOf{},
		Leaves:  m.leaves(),
		Covered: m.Covers(),
		Assumes: Assumptions,
	}
	partial := false
	add := func(e *Escape, past, part bool) {
		if partial = partial || part; e == nil {
			return
		}
		d.Escapes = append(d.Escapes, EscapeOf{e.From, e.To, e.Path, e.Packet, e.Reason, past})
		d.found = append(d.found, e)
	}
	first := map[*domain]*plan.Adapter{}
	for _, g := range m.plan.Guests() {
		if g.Guest.Outside {
			continue
		}
		stands, way := m.Standing(g)
		_, part := m.Around(g)
		if stands == Beside {
			continue
		}
		add(way, true, part)
		if way == nil && !m.MayGoOut(g) {
			out, part := m.Outward(g)
			add(out, false, part)
		}
		for _, a := range plugged(g) {
			if at := m.of[a.Segment]; len(g.Adapters) == 1 && first[at] == nil && a.Segment.Inside() {
				first[at] = a
			}
		}
	}
	relayed := slices.ContainsFunc(m.plan.Guests(), m.Relays) // else nobody joins two segments
	for _, from := range m.domains {
		a := first[from]
		if a == nil || !relayed {
			continue
		}
		joined := m.JoinedTo(a)
		for _, to := range m.domains {
			b := first[to]
			if b == nil || from == to {
				continue
			}
			if way := joined(b); way != nil {
				add(m.Between(a, b, way), true, false)
			}
		}
	}
	for _, e := range m.plan.Lab.Expect {
		if e.Never {
			ways, part := m.Never(e.From, e.To, e.Service)
			add(nil, false, part)
			for _, w := range ways {
				w.Reason = fmt.Sprintf("the file: %s", e)
				add(w, false, false)
			}
		}
	}
	open := slices.DeleteFunc(slices.Clone(m.plan.Lab.Open), func(o lab.Open) bool { // who is given which address opens no path
		return slices.Contains([]string{"dhcp", "dns", "domain", "time", "pool", "subnet"}, o.Key)
	})
	switch {
	case len(d.Escapes) > 0:
		d.Verdict = "broken"
	case partial, len(open) > 0:
		d.Verdict = "unknown"
	}
	for _, o := range open {
		d.Open = append(d.Open, fmt.Sprintf("%s: %s? (line %d)", o.Subject, o.Question, o.Pos.Line))
	}
	return d
}

// leaves returns what may leave each inside segment through appliances.
func (m *Model) leaves() []PassageOf {
	out := []PassageOf{}
	for _, s := range m.plan.Segments {
		at := slices.IndexFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Guest != nil && a.Plugged })
		if !s.Inside() || at < 0 {
			continue
		}
		g := s.Adapters[at].Machine
		list := m.arrive(
			m.spreadOf(Running, g.Name, s.Adapters[at]),
			g,
			lab.Who{},
			lab.Who{Kind: lab.WhoOutside},
			lab.Service{Proto: lab.Any},
		)
		if len(list) > 0 {
			out = append(out, m.Told(list[0], s.Name, "outside"))
		}
	}
	return out
}

// maxSets bounds how many sets of one passage are told.
const maxSets = 12

// Told returns a passage in words.
func (m *Model) Told(p Passage, from, to string) PassageOf {
	out := PassageOf{From: from, To: to, Path: p.Path, Sets: m.Words(p.Sets), Packet: p.Packet}
	if p.Rule != nil {
		if out.Rule = p.Rule.Text; p.Rule.Lab != nil {
			out.Line = p.Rule.Lab.Pos.Line
		}
	}
	return out
}
