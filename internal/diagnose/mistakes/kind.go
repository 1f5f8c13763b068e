package mistakes

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
)

// Family is the part of the job in which a mistake is made.
type Family string

// The families.
const (
	Wiring      Family = "wiring"      // adapters, segments, tags
	Addressing  Family = "addressing"  // what is typed in as addresses, masks, gateways
	Leasing     Family = "leasing"     // who hands out leases, and what
	Naming      Family = "naming"      // resolvers
	Filtering   Family = "filtering"   // rules
	Translating Family = "translating" // masquerade and what is published
	Operating   Family = "operating"   // what is switched on, when, and for how long
)

// Kind is one way in which people get a lab wrong.
type Kind struct {
	Name    string
	Family  Family
	Weight  float64 // how often it is met, against other kinds; at a place
	Finding string  // the code of check that a lab file with it has; empty: a file cannot show it
	Says    string  // what is wrong, with words in braces, see [Place]
	Why     string  // why the lab then does what it does
	Look    string  // the cheapest look at the thing itself, which confirms it or rules it out
	Remedy  string

	places   func(p *plan.Plan) []Place
	wiring   func(l *lab.Lab, at Place) // a change to where things end, or nil
	settings func(b *Built, at Place)   // a change to what is typed in and to what is on, or nil
}

// Place is where in a plan a mistake is made; what a kind does not need is nil. In
// texts {guest}, {machine}, {adapter}, {port}, {segment} and the like stand for it.
type Place struct {
	Adapter *plan.Adapter // the one that it is made at
	Machine *plan.Machine
	Segment *plan.Segment
	Other   *plan.Adapter // the one that it is taken for, or that it meets
	Onto    *plan.Segment // the one that it is taken for
	Index   int           // of a rule or of what is published
}

// Mistake is a kind of mistake at a place of a plan.
type Mistake struct {
	*Kind
	At   Place
	Plan *plan.Plan // as it was meant
}

// Built is a lab with mistakes in it.
type Built struct {
	Plan    *plan.Plan // what was built
	Trouble simulator.Trouble
}

// Kinds are all kinds, by family.
func Kinds() []*Kind { return kinds() }

var kinds = sync.OnceValue(func() []*Kind {
	return slices.Concat(
		wiringKinds,
		addressKinds,
		guestKinds,
		leaseKinds,
		nameKinds,
		ruleKinds,
		natKinds,
		operateKinds,
	)
})

// All returns every mistake at every place of a plan.
func All(p *plan.Plan) []Mistake {
	var out []Mistake
	for _, k := range kinds() {
		for _, at := range k.places(p) {
			out = append(out, Mistake{Kind: k, At: at, Plan: p})
		}
	}
	return out
}

// Plant returns the lab that is built with mistakes in it. The error says why they
// cannot be made together.
func Plant(p *plan.Plan, list ...Mistake) (Built, error) {
	return PlantFew(p, nil, list...)
}

// PlantFew is Plant with fewer guests: those that keep names, where it is not nil.
func PlantFew(p *plan.Plan, keep func(guest string) bool, list ...Mistake) (Built, error) {
	built, err := p.AsBuilt(func(l *lab.Lab) {
		for _, m := range list {
			if m.wiring != nil {
				m.wiring(l, m.At)
			}
		}
		if keep != nil {
			l.KeepGuests(func(name string) bool { return p.Machine(name) == nil || keep(name) })
		}
	})
	if err != nil {
		return Built{}, fmt.Errorf("no lab can be built with %s: %w", list[0], err)
	}
	b := Built{Plan: built}
	for _, m := range list {
		if m.settings != nil {
			m.settings(&b, m.At)
		}
	}
	return b, nil
}

// ID names the mistake in its plan: the kind, and whose it is.
func (m Mistake) ID() string {
	at := m.At
	name := m.Name
	add := func(sep, text string) { name += sep + strings.ReplaceAll(text, " ", "-") }
	switch {
	case at.Adapter != nil && (at.Adapter.Port != nil || len(at.Adapter.Machine.Adapters) > 1):
		add(":", at.Adapter.Machine.Name+"."+at.Adapter.Name)
	case at.Adapter != nil:
		add(":", at.Adapter.Machine.Name)
	case at.Machine != nil && at.Segment != nil:
		add(":", at.Machine.Name+"."+at.Segment.Name)
	case at.Machine != nil:
		add(":", at.Machine.Name)
	case at.Segment != nil:
		add(":", at.Segment.Name)
	}
	switch {
	case at.Onto != nil:
		add(",", at.Onto.Name)
	case at.Other != nil && at.Other.Port != nil:
		add(",", at.Other.Machine.Name+"."+at.Other.Name)
	case at.Other != nil:
		add(",", at.Other.Machine.Name)
	}
	if at.Index > 0 {
		add("#", fmt.Sprint(at.Index))
	}
	return name
}

// String returns what is wrong, in a sentence without its full stop.
func (m Mistake) String() string { return m.Fill(m.Says) }

// Guest returns the one guest whose own settings or adapter the mistake is made at, or
// nil: then more than one machine may meet it.
func (m Mistake) Guest() *plan.Machine {
	if m.At.Adapter != nil && m.At.Adapter.Guest != nil {
		return m.At.Adapter.Machine
	}
	return nil
}

// Machine returns the machine at which one looks and mends; nil: it is the host, or what
// is upstream.
func (m Mistake) Machine() *plan.Machine {
	if m.At.Adapter != nil {
		return m.At.Adapter.Machine
	}
	return m.At.Machine
}

// Fill puts the place into a text.
func (m Mistake) Fill(text string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	at := m.At
	var pairs []string
	set := func(key, value string) { pairs = append([]string{"{" + key + "}", value}, pairs...) } // the last one counts
	if a := at.Adapter; a != nil {
		set("machine", a.Machine.Name)
		set("adapter", adapterWords(a))
		set("number", fmt.Sprint(a.Number))
		set("mac", a.MAC.String())
		set("planned", settingWords(a))
		set("home", a.Segment.Name)
		set("called", a.Segment.Called())
		set("subnet", a.Segment.Subnet.String())
		if set("gateway", a.Segment.Gateway.String()); a.Gateway.IsValid() {
			set("gateway", a.Gateway.String())
		}
		if a.Address.IsValid() {
			set("address", a.Address.Addr().String())
		}
		if a.Leases != nil {
			set("pool", a.Leases.Pool.String())
		}
	}
	if x := at.Machine; x != nil {
		set("machine", x.Name)
		if at.Index > 0 && at.Index <= len(x.Rules) {
			set("rule", x.Rules[at.Index-1].Text)
		}
		if at.Index > 0 && at.Index <= len(x.Publishes) {
			v := x.Publishes[at.Index-1]
			set("publish", fmt.Sprintf("%s/%d", v.Proto, v.Port))
			set("target", fmt.Sprintf("%s/%d", v.Proto, v.Target))
			set("to", v.To.Machine.Name)
		}
	}
	if s := at.Segment; s != nil {
		set("segment", s.Name)
		set("segment-called", s.Called())
		set("segment-subnet", s.Subnet.String())
		set("tag", fmt.Sprint(s.Tag))
	}
	if s := at.Onto; s != nil {
		set("onto", s.Name)
	}
	if o := at.Other; o != nil {
		set("other", o.Machine.Name)
		set("other-adapter", adapterWords(o))
		if o.Address.IsValid() {
			set("other-address", o.Address.Addr().String())
		}
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

// adapterWords names an adapter as people do.
func adapterWords(a *plan.Adapter) string {
	switch {
	case a.Port != nil:
		return a.Machine.Name + "." + a.Name
	case len(a.Machine.Adapters) == 1:
		return "the adapter of " + a.Machine.Name
	}
	return fmt.Sprintf("%s of %s", a.Name, a.Machine.Name)
}

// settingWords returns how an adapter is to get its address.
func settingWords(a *plan.Adapter) string {
	switch {
	case a.How == plan.Static:
		return a.Address.String()
	case a.How == plan.Reservation:
		return "its reservation " + a.Address.Addr().String()
	case a.How == plan.NoAddress:
		return "no address"
	}
	return "a lease"
}

// File returns the lab with the mistake written into it; false where no lab file can say it.
func (m Mistake) File() (*lab.Lab, bool) {
	if m.wiring == nil || m.settings != nil {
		return nil, false
	}
	l := m.Plan.Lab.Clone()
	m.wiring(l, m.At)
	return l, true
}
