package runbook

import (
	"fmt"

	"openbastion/core/identify"
	"openbastion/core/listing"
	"openbastion/core/plan"
)

// Sight is what a pasted listing shows of the plan.
type Sight int

// The sights.
const (
	AsPlanned Sight = iota
	Remark          // worth a look, and nothing against the plan
	Amiss
)

// Seen is one thing that a pasted listing shows.
type Seen struct {
	Sight Sight
	Text  string
}

// Judge holds what a machine showed against the plan, as the check of a step
// asks. It gives something always: a listing in which nothing is found is amiss.
func Judge(p *plan.Plan, m *plan.Machine, check Check, pasted string) []Seen {
	if slip := listing.Slip(pasted); slip != "" {
		return []Seen{{Amiss, slip}}
	}
	if check == Mapped || m.Appliance != nil {
		return mapped(p, m, pasted)
	}
	shown := listing.ReadShown(pasted)
	if len(shown.Interfaces) == 0 {
		return []Seen{{Amiss, "no interface is found in it"}}
	}
	var seen []Seen
	held := true
	for _, d := range identify.Compare(p, m, shown) {
		what := Remark
		if d.Wrong {
			what, held = Amiss, false
		}
		seen = append(seen, Seen{what, d.Message + "; " + d.Remedy})
	}
	if held {
		seen = append(seen, Seen{AsPlanned, m.Name + " shows what is planned"})
	}
	return seen
}

// mapped says which port each listed interface is.
func mapped(p *plan.Plan, m *plan.Machine, pasted string) []Seen {
	r := identify.Listed(p, m, listing.Read(pasted))
	var seen []Seen
	for _, row := range r.Rows {
		switch {
		case row.Conflict != "":
			seen = append(seen, Seen{Amiss, row.Device + ": " + row.Conflict})
		case row.How != "":
			seen = append(seen, Seen{AsPlanned, fmt.Sprintf("%s is %s of %s", row.Device, row.Port, row.Machine)})
		default:
			seen = append(seen, Seen{Amiss, fmt.Sprintf("%s is no port of %s", row.Device, m.Name)})
		}
	}
	for _, a := range r.Missing {
		seen = append(seen, Seen{Amiss, fmt.Sprintf("no interface has the address of port %s, …%s", a.Name, a.MAC.Tail(2))})
	}
	if len(r.Rows) == 0 {
		seen = append(seen, Seen{Amiss, "no interface is found in it"})
	}
	return seen
}
