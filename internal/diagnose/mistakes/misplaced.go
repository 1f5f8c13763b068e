package mistakes

import (
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Misplacement is one adapter on a wrong segment.
type Misplacement struct {
	Adapter *plan.Adapter
	Segment string
}

// Lab returns a copy of a plan's lab with it.
func (m Misplacement) Lab(p *plan.Plan) *lab.Lab {
	l := p.Lab.Clone()
	at := adapterIn(l, m.Adapter)
	at.segment(m.Segment)
	return l
}

// String says it in words.
func (m Misplacement) String() string {
	return fmt.Sprintf("%s of %s on %s", m.Adapter.Name, m.Adapter.Machine.Name, m.Segment)
}

// Misplaced returns each adapter with each segment on which it might end up by mistake.
func Misplaced(p *plan.Plan) []Misplacement {
	var out []Misplacement
	for _, a := range p.Adapters {
		if !a.Plugged || a.Over != nil {
			continue
		}
		for _, s := range p.Segments {
			if s == a.Segment || s.Tag != 0 {
				continue
			}
			out = append(out, Misplacement{a, s.Name})
		}
	}
	return out
}

// found is an adapter in a lab: an appliance's port or a guest's adapter.
type found struct {
	port  *lab.Port
	guest *lab.Adapter
}

func (f found) segment(name string) {
	if f.port != nil {
		f.port.Segment = name
	} else {
		f.guest.Segment = name
	}
}

func (f found) unplug() {
	if f.port != nil {
		f.port.Plugged = false
	} else {
		f.guest.Plugged = false
	}
}

// adapterIn finds an adapter of a plan in a copy of the lab that it is of.
func adapterIn(l *lab.Lab, a *plan.Adapter) found {
	if g := a.Machine.Guest; g != nil {
		for _, x := range l.Guests {
			if x.Name == g.Name {
				return found{guest: &x.Adapters[a.Number-1]}
			}
		}
	}
	for _, m := range l.Appliances {
		for _, x := range m.Ports {
			if m.Name == a.Machine.Name && x.Name == a.Name {
				return found{port: x}
			}
		}
	}
	return found{}
}

// WhatIf returns a copy of a plan's lab with one thing changed: "unplug
// MACHINE[.PORT]", "GUEST forwards" or "host forwards".
func WhatIf(p *plan.Plan, text string) (*lab.Lab, error) {
	l := p.Lab.Clone()
	words := strings.Fields(text)
	if len(words) != 2 || words[0] != "unplug" && words[1] != "forwards" {
		return nil, fmt.Errorf("unknown change %q; use unplug MACHINE[.PORT], GUEST forwards, or host forwards", text)
	}
	if words[0] == "unplug" {
		name, port, one := strings.Cut(words[1], ".")
		m := p.Machine(name)
		if m == nil {
			return nil, fmt.Errorf("no machine %s to unplug", name)
		}
		n := 0
		for _, a := range m.Adapters {
			if !one || a.Name == port || fmt.Sprint(a.Number) == port {
				adapterIn(l, a).unplug()
				n++
			}
		}
		if n == 0 {
			return nil, fmt.Errorf("%s has no adapter %s to unplug", name, port)
		}
		return l, nil
	}
	if words[0] == "host" && p.Machine("host") == nil {
		legs := 0
		for _, s := range l.Segments {
			if s.Reach == lab.Host {
				s.HostForwards = true
				legs++
			}
		}
		if legs == 0 {
			return nil, fmt.Errorf("the host has no interface on a segment: it cannot forward")
		}
		return l, nil
	}
	for _, g := range l.Guests {
		if g.Name == words[0] {
			g.Forwards = true
			return l, nil
		}
	}
	return nil, fmt.Errorf("no guest %s that could forward", words[0])
}
