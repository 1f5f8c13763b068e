package runbook

import (
	"fmt"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
)

// Sight is what a pasted listing shows of the plan.
type Sight int

// The sights.
const (
	AsPlanned Sight = iota
	Remark          // worth a look, and nothing against the plan
	Lacking         // what matters and was not shown, or not for certain
	Amiss
)

// Seen is one thing that a pasted listing shows.
type Seen struct {
	Sight Sight
	Text  string
}

// Judge holds what a machine showed against the plan, as the check of a step
// asks. It gives something always: a listing in which nothing is found is amiss.
func Judge(p *plan.Plan, m *plan.Machine, check Check, l listing.Listing) []Seen {
	if check == Mapped {
		return mapped(p, m, l)
	}
	if l.Empty() {
		return []Seen{{Amiss, "nothing about addresses is found in it"}}
	}
	facts := identify.Compare(p, m, l)
	var seen []Seen
	for _, f := range facts {
		text := f.Message
		if f.Remedy != "" {
			text += "; " + f.Remedy
		}
		switch f.Sight {
		case identify.Differs:
			seen = append(seen, Seen{Amiss, text})
		case identify.AsPlanned:
			seen = append(seen, Seen{AsPlanned, text})
		case identify.Unseen:
			seen = append(seen, Seen{Lacking, text})
		default:
			seen = append(seen, Seen{Remark, text})
		}
	}
	return seen
}

// mapped returns which port each listed interface is.
func mapped(p *plan.Plan, m *plan.Machine, l listing.Listing) []Seen {
	r := identify.Listed(p, m, l)
	var seen []Seen
	for _, row := range r.Rows {
		switch {
		case row.Conflict != "":
			seen = append(seen, Seen{Amiss, row.Device + ": " + row.Conflict})
		case row.Adapter() != nil && row.How.Sure() && !row.Wired() && !known(row):
			seen = append(
				seen,
				Seen{Lacking, fmt.Sprintf("%s is called %s of %s; that shows the assignment, not the cabling",
					row.Device, row.Port, row.Machine)},
			)
		case row.How == identify.ByOrder:
			seen = append(
				seen,
				Seen{
					Lacking,
					fmt.Sprintf("%s would be %s of %s by its position in the list, a guess", row.Device, row.Port,
						row.Machine),
				},
			)
		default:
			seen = append(
				seen,
				Seen{AsPlanned, fmt.Sprintf("%s is %s of %s, by %s", row.Device, row.Port, row.Machine, row.How)},
			)
		}
	}
	for _, a := range r.Missing {
		seen = append(
			seen,
			Seen{Amiss, fmt.Sprintf("no interface has the address of port %s, …%s", a.Name, a.MAC.Tail(2))},
		)
	}
	for _, d := range r.Doubts {
		seen = append(seen, Seen{Lacking, d})
	}
	if len(r.Rows) == 0 {
		seen = append(seen, Seen{Amiss, "no interface is found in it"})
	}
	return seen
}

// known reports whether the interface's cable was found out before, or the lab file names its device.
func known(row identify.Row) bool {
	is := row.Adapter().Seen()
	return is != "" && strings.EqualFold(is, row.Device) || len(row.Adapter().Machine.Own()) == 1
}

// Devices returns what a listing calls each port of a machine, where more than
// the order tells.
func Devices(p *plan.Plan, m *plan.Machine, l listing.Listing) map[string]string {
	out := map[string]string{}
	for _, row := range identify.Listed(p, m, l).Rows {
		if a := row.Adapter(); a != nil && row.Conflict == "" && (row.Wired() || row.How.Sure() && known(row)) &&
			row.Device != "" &&
			row.Named() {
			out[a.Name] = row.Device
		}
	}
	return out
}
