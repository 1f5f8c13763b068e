// Package identify answers which interface of a console is which port of the plan,
// whose console it is, and whether what a machine shows is as planned: by hardware
// addresses, numbers, addresses, names, and by order, with the risk said. It never
// maps an interface that could be two, and never calls as planned what was not shown.
package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// Result is a whole listing told apart.
type Result struct {
	Rows    []Row
	Missing []*plan.Adapter // adapters of the machine that the listing does not have
	Risk    string          // of the whole answer, when there is one
	Doubts  []string        // what had to be repaired, or could not be placed
}

// Sound reports whether every interface is known and none has a conflict.
func (r Result) Sound() bool {
	for _, row := range r.Rows {
		if row.Conflict != "" || row.adapter == nil {
			return false
		}
	}
	return len(r.Missing) == 0 && len(r.Doubts) == 0
}

// Listed maps the interfaces of a listing to the adapters of a machine.
func Listed(p *plan.Plan, m *plan.Machine, l listing.Listing) Result {
	var r Result
	x := pair(p, m, ownOf(p, m, l.Named()))
	for k := range x.rows {
		row := &x.rows[k]
		i := row.listed
		if row.adapter == nil && row.Conflict == "" {
			if x.aside(*row) {
				continue // a bridge's member, or an interface of the system's own
			}
			row.Conflict = "there is no evidence which adapter it is: use a command that shows MAC addresses"
		}
		if row.How == ByOrder {
			r.Risk = "identified by order only, a guess: use a command that shows MAC addresses"
			if i.Tail != "" {
				r.Risk = "identified by order only, a guess: the lab file has no MAC addresses for them; " +
					"copy the hypervisor's list of adapters, or what shows their roles, and take that over with --adopt"
			}
		}
		if a := row.adapter; a != nil && row.Conflict == "" {
			row.Conflict = belongs(p, a, i)
		}
		if row.adapter != nil && row.Conflict == "" && !row.Wired() && row.How.Sure() && len(r.Doubts) == 0 {
			r.Doubts = append(r.Doubts, "a label or an address shows the assignment, not the cabling: "+
				"compare MAC addresses, or unplug one adapter (bastion map --by-link)")
		}
		if i.Tail != "" && len(i.Tail) < 4 && row.adapter != nil {
			r.Risk = "two digits are little to go by: read four"
		}
		r.Rows = append(r.Rows, *row)
	}
	for _, a := range m.Adapters {
		if _, ok := x.taken[a]; !ok && a.Over == nil {
			r.Missing = append(r.Missing, a)
		}
	}
	r.Doubts = append(r.Doubts, doubts(l)...)
	return r
}

// aside reports whether it is a row that is no adapter of its own: its hardware address is another
// row's, which has the addresses.
func (x *pairing) aside(row Row) bool {
	return row.listed.Tail != "" &&
		slices.ContainsFunc(x.rows, func(o Row) bool { return o.adapter != nil && o.listed.Tail == row.listed.Tail })
}

// doubts returns what of a listing was written wrongly.
func doubts(l listing.Listing) []string {
	var out []string
	for _, s := range l.Slips {
		out = append(out, fmt.Sprintf("line %d: %s", s.Line, s.Text))
	}
	return out
}

// belongs looks whether what the listing says of an interface fits the port.
func belongs(p *plan.Plan, a *plan.Adapter, i listing.Interface) string {
	for _, x := range i.Addresses {
		if a.Segment.Subnet.Contains(x.Addr()) {
			continue
		}
		if s := p.Home(x.Addr()); s != nil {
			return fmt.Sprintf("it has %s, which is on %s: the roles look swapped", x.Addr(), s.Name)
		}
	}
	if misnamed(i, a) {
		return fmt.Sprintf(
			"the console has it as %s, and by its address it is adapter %d, which is %s",
			i.Label,
			a.Number,
			a.Role,
		)
	}
	if x := plannedAttachment(a.Segment); a.Over == nil && i.Attached != listing.UnsaidAttachment &&
		!x.fits(i.Attached) {
		return fmt.Sprintf(
			"it is attached to %s (planned: %s)",
			strings.TrimSpace(string(i.Attached)+" "+i.Network),
			x.text(a.Segment),
		)
	}
	if s, near := network(p, i.Network); i.Network != "" && s != nil && !near && s != a.Segment &&
		s != a.Segment.Wire.Root() {
		return fmt.Sprintf("it is attached to %s (planned: %s)", s.Name, a.Segment.Name)
	}
	if i.Link == listing.LinkDown && a.Plugged {
		return "it has no link: check whether its adapter is connected"
	}
	return ""
}

// misnamed reports whether it is an interface to which the console gives another role than its port's.
func misnamed(i listing.Interface, a *plan.Adapter) bool {
	role := roleOf(i.Label)
	return role != "" && a.Role != "" && role != a.Role && fold(i.Label) != fold(a.Name)
}

// Adoption is what a listing tells of adapters that the lab file does not say yet.
type Adoption struct {
	Found   map[*plan.Adapter]plan.Real
	By      []string // each adapter with the evidence
	ByOrder bool     // some by nothing but order
}

// Adopt pairs a listing of a machine that is there already with its adapters. The
// error returns why it cannot be told.
func Adopt(p *plan.Plan, m *plan.Machine, l listing.Listing) (Adoption, error) {
	out := Adoption{Found: map[*plan.Adapter]plan.Real{}}
	list := ownOf(p, m, l.Named())
	if len(l.Slips) > 0 {
		return out, fmt.Errorf("line %d: %s", l.Slips[0].Line, l.Slips[0].Text)
	}
	x := pairUnpinned(p, m, list)
	taken := map[mac.Address]string{}
	known := 0
	for _, row := range x.rows {
		i := row.listed
		switch {
		case row.adapter == nil && row.Conflict != "":
			return out, fmt.Errorf("%s: %s", row.Device, row.Conflict)
		case row.adapter == nil:
			if !x.aside(row) {
				return out, fmt.Errorf(
					"%d interfaces are listed, but %s has %d adapters: which one %s is remains open",
					len(list),
					m.Name,
					len(m.Own()),
					row.Device,
				)
			}
			continue
		}
		linked := i
		linked.Link = listing.LinkUnknown // a cable that is not in yet is no reason
		if doubt := belongs(p, row.adapter, linked); doubt != "" {
			return out, fmt.Errorf("%s: %s", row.Device, doubt)
		}
		is := plan.Real{Device: i.Device}
		if i.Tail != "" {
			address, err := mac.Parse(i.Tail)
			if err != nil {
				return out, fmt.Errorf("line %d: %s has no whole MAC address", i.Line, row.Device)
			}
			if old, twice := taken[address]; twice && row.adapter.Over == nil {
				return out, fmt.Errorf("%s and %s have the same MAC address %s", old, row.Device, address)
			}
			taken[address], is.MAC = row.Device, address
		}
		if fold(i.Device) == fold(row.adapter.Name) || i.Device == row.adapter.Seen() {
			is.Device = ""
		}
		if row.adapter.Over == nil {
			known++
		}
		out.Found[row.adapter] = is
		out.ByOrder = out.ByOrder || row.How == ByOrder && len(m.Own()) > 1
		out.By = append(
			out.By,
			fmt.Sprintf("%s is adapter %d (%s), by %s", row.Device, row.adapter.Number, row.adapter.Name, row.How),
		)
	}
	if own := len(m.Own()); known < own {
		return out, fmt.Errorf("%d addresses are listed, and %s has %d adapters", known, m.Name, own)
	}
	return out, nil
}

// pairUnpinned pairs a listing whose hardware addresses are to be taken over: those of
// the plan count only where they are the same.
func pairUnpinned(p *plan.Plan, m *plan.Machine, list []listing.Interface) *pairing {
	x := pair(p, m, list)
	if !slices.ContainsFunc(x.rows, func(r Row) bool { return r.adapter == nil && r.Conflict != "" }) {
		return x
	}
	bare := slices.Clone(list)
	for i := range bare {
		bare[i].Tail = ""
	}
	y := pair(p, m, bare)
	for k := range y.rows {
		y.rows[k].listed.Tail, y.rows[k].MAC = list[k].Tail, mac.Pairs(list[k].Tail)
		if y.rows[k].adapter != nil && slices.ContainsFunc(p.Adapters, func(a *plan.Adapter) bool {
			return a.Machine != m && hex(a) == list[k].Tail
		}) {
			y.rows[k].adapter, y.rows[k].Conflict = nil, "its MAC address is another machine's"
		}
	}
	return y
}

// Answers returns what the machine's console asks with the answers as the
// listing's devices: those whose adapter is sure.
func (r Result) Answers(p *plan.Plan, m *plan.Machine) []plan.Answer {
	found := map[*plan.Adapter]plan.Real{}
	for _, row := range r.Rows {
		if row.adapter == nil || row.clash {
			continue
		}
		is := plan.Real{Device: row.listed.Device}
		if address, err := mac.Parse(row.listed.Tail); err == nil && row.Conflict == "" {
			is.MAC = address
		}
		found[row.adapter] = is
	}
	return p.AnswersWith(m, found)
}
