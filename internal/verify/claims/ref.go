package claims

import (
	"fmt"

	"openbastion/internal/model/plan"
)

// Ref names an adapter of a plan so that it can travel: by machine, number and,
// for a port that rides tagged on another, tag. The zero Ref is the witness.
type Ref struct {
	Machine string `json:"machine,omitempty"`
	Adapter int    `json:"adapter,omitempty"`
	Tag     int    `json:"tag,omitempty"`
}

// RefTo names an adapter; nil is the witness.
func RefTo(a *plan.Adapter) Ref {
	if a == nil {
		return Ref{}
	}
	r := Ref{Machine: a.Machine.Name, Adapter: a.Number}
	if a.Over != nil {
		r.Tag = a.Segment.Tag
	}
	return r
}

// In finds the adapter in a plan; nil for the witness. The error says which
// machine or adapter the plan does not have.
func (r Ref) In(p *plan.Plan) (*plan.Adapter, error) {
	if r == (Ref{}) {
		return nil, nil
	}
	m := p.Machine(r.Machine)
	if m == nil {
		return nil, fmt.Errorf("the plan has no machine %q", r.Machine)
	}
	for _, a := range m.Adapters {
		if RefTo(a) == r {
			return a, nil
		}
	}
	return nil, fmt.Errorf("%s has no adapter %d with tag %d", r.Machine, r.Adapter, r.Tag)
}

// NameOf returns the machine of an adapter; nil stands for the outside.
func NameOf(a *plan.Adapter) string {
	if a == nil {
		return "outside"
	}
	return a.Machine.Name
}
