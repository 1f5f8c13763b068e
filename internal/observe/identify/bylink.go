package identify

import (
	"fmt"
	"slices"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// ByLink maps devices by what changes when adapters are unplugged one after
// another: all is the listing with every adapter connected, and one[i] the one
// with only adapter i+1 unplugged.
func ByLink(m *plan.Machine, all []listing.Interface, one [][]listing.Interface) Result {
	var r Result
	for _, i := range all {
		r.Rows = append(r.Rows, Row{Device: i.Device, MAC: mac.Pairs(i.Tail)})
	}
	for n, list := range one {
		at := slices.IndexFunc(m.Adapters, func(a *plan.Adapter) bool { return a.Over == nil && a.Number == n+1 })
		if at < 0 {
			break
		}
		a := m.Adapters[at]
		var went []int // rows whose link went away
		for k, before := range all {
			now := slices.IndexFunc(list, func(i listing.Interface) bool { return i.Device == before.Device })
			if before.Link != listing.LinkDown && (now < 0 || list[now].Link == listing.LinkDown) {
				went = append(went, k)
			}
		}
		switch {
		case len(went) == 0:
			r.Missing = append(r.Missing, a)
			r.Risk = fmt.Sprintf(
				"nothing changed when adapter %d was unplugged: check whether it was the right one, and copy the list again",
				a.Number,
			)
		case len(went) > 1:
			for _, k := range went {
				r.Rows[k].Conflict = fmt.Sprintf(
					"%d interfaces lost their link when adapter %d was unplugged: plug the others in and copy the list again",
					len(went),
					a.Number,
				)
			}
		case r.Rows[went[0]].adapter != nil:
			row := &r.Rows[went[0]]
			row.clash = true
			row.Conflict = fmt.Sprintf(
				"it lost its link for adapters %d and %d: unplug one at a time",
				row.Number,
				a.Number,
			)
		default:
			row := &r.Rows[went[0]]
			row.adapter, row.How = a, ByLoss
			row.Machine, row.Number, row.Port, row.Role, row.Segment = m.Name, a.Number, a.Name, a.Role, a.Segment.Name
		}
	}
	for k := range r.Rows {
		if row := &r.Rows[k]; row.adapter == nil && row.Conflict == "" {
			row.Conflict = "its link never changed"
		}
	}
	return r
}
