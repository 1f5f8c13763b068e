package identify

import (
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// Attached is how a listing shows that an adapter of the plan is attached.
type Attached struct {
	Adapter *plan.Adapter
	Segment *plan.Segment // the lab's network that it is on; nil: none of the lab's, or its name is not shown
	Kind    listing.Attachment
	Shown   string // as the listing has it
	Sight   Sight  // AsPlanned or Differs
}

// Attachments returns what a listing shows of how a machine's adapters are attached, of those alone
// that it shows to be the adapter: by hardware address or number, or as the only one.
func Attachments(p *plan.Plan, m *plan.Machine, whole listing.Listing) []Attached {
	l, _ := Of(p, m, whole)
	x := pair(p, m, l.Interfaces)
	var out []Attached
	for _, a := range m.Own() {
		k, found := x.taken[a]
		if !found {
			continue
		}
		row := x.rows[k]
		if sole := len(m.Own()) == 1 && len(l.Interfaces) == 1; !row.Wired() && !sole {
			continue
		}
		c := &comparison{p: p, m: m, l: l}
		c.attached(a, row)
		if len(c.list) == 0 || c.list[0].Sight != AsPlanned && c.list[0].Sight != Differs {
			continue
		}
		is := Attached{Adapter: a, Kind: row.listed.Attached, Sight: c.list[0].Sight,
			Shown: strings.TrimSpace(string(row.listed.Attached) + " " + row.listed.Network)}
		is.Segment = attachedTo(p, row.listed)
		out = append(out, is)
	}
	return out
}

// Interfaces returns what a listing shows of each of a machine's adapters that it can be told to be.
func Interfaces(p *plan.Plan, m *plan.Machine, whole listing.Listing) map[*plan.Adapter]listing.Interface {
	l, _ := Of(p, m, whole)
	x := pair(p, m, l.Interfaces)
	out := map[*plan.Adapter]listing.Interface{}
	for a, k := range x.taken {
		if x.rows[k].How.Sure() && x.rows[k].Conflict == "" {
			out[a] = x.rows[k].listed
		}
	}
	return out
}

// attachedTo returns the lab's network that an interface is on: by its name, by the uplink that it is
// bridged to, or the one upstream network of the lab where it leads outside by another way.
func attachedTo(p *plan.Plan, i listing.Interface) *plan.Segment {
	if s, near := network(p, i.Network); s != nil && !near && i.Network != "" && i.Attached != listing.ByNAT {
		return s
	}
	var outside []*plan.Segment
	for _, s := range p.Segments {
		if u := s.Wire.Uplink(); u != "" && u == i.Network && s.Tag == 0 {
			return s
		}
		if s.Reach == lab.Upstream {
			outside = append(outside, s)
		}
	}
	if (i.Attached == listing.ByNAT || i.Attached == listing.Bridged) && len(outside) == 1 {
		return outside[0]
	}
	return nil
}
