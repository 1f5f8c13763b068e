package claims

import (
	"fmt"
	"slices"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// maxCrowds bounds the kinds of segments that one segment asks; the next one begins with the next kind.
const maxCrowds = 16

// crowds are the segments that an appliance joins, those together that its rules do not tell apart.
type crowds struct {
	list  [][]*plan.Adapter // the first guest of each segment
	place map[*plan.Segment][2]int
}

// crowdClaims returns a claim for each segment of a large lab: what passes from it to one segment of
// each kind that the rules of its appliance tell apart. Each segment asks, and within a crowd each is
// asked by the one before it, so that their number grows with the segments and not with the pairs.
func crowdClaims(m *reachability.Model, p *plan.Plan, guests map[*plan.Segment][]*plan.Adapter) []claim {
	out := make([]claim, 0, len(guests))
	of := map[*plan.Machine]*crowds{}
	for i, from := range p.Segments {
		if guests[from] == nil || from.Port == nil {
			continue
		}
		gate := from.Port.Machine
		if of[gate] == nil {
			of[gate] = crowdsOf(p, gate, guests)
		}
		if c := crowdClaim(m, guests[from][0], of[gate], i); len(c.parts) > 0 {
			out = append(out, c)
		}
	}
	return out
}

// crowdsOf returns the segments that an appliance joins, by what its rules tell apart; the sides of a
// transparent appliance each for itself, as its rules may name them.
func crowdsOf(p *plan.Plan, gate *plan.Machine, guests map[*plan.Segment][]*plan.Adapter) *crowds {
	c := &crowds{place: map[*plan.Segment][2]int{}}
	known, kind := map[string]int{}, gate.Kinds()
	for _, s := range p.Segments {
		if guests[s] == nil || s.Port == nil || !joins(gate, s) {
			continue
		}
		home := guests[s][0]
		key := s.Port.Machine.Name + " " + kind(home.Likely())
		if home.Address6.IsValid() {
			key += " " + kind(home.Address6.Addr())
		}
		if Transparent(s.Port) {
			key += " " + s.Port.Name
		}
		i, ok := known[key]
		if !ok {
			i = len(c.list)
			known[key], c.list = i, append(c.list, nil)
		}
		c.place[s] = [2]int{i, len(c.list[i])}
		c.list[i] = append(c.list[i], home)
	}
	return c
}

// next returns the guest of a crowd that one asks: of its own the one after it, of others one by a
// number, so that not all ask the same; nil where there is no other.
func (c *crowds) next(crowd int, from *plan.Segment, number int) *plan.Adapter {
	list := c.list[crowd]
	at, known := c.place[from]
	switch {
	case !known || at[0] != crowd:
		return list[number%len(list)]
	case len(list) > 1:
		return list[(at[1]+1)%len(list)]
	}
	return nil
}

// crowdClaim speaks of what passes from a segment's first guest to the crowds of its appliance.
func crowdClaim(m *reachability.Model, from *plan.Adapter, all *crowds, number int) claim {
	c := claim{
		Result: Result{ID: from.Segment.Name + "." + string(Segments), From: from.Segment.Name, Kind: Segments},
		guests: []string{from.Machine.Name},
	}
	seen := &between{}
	for i := range min(len(all.list), maxCrowds) {
		crowd := (number + i) % len(all.list)
		to := all.next(crowd, from.Segment, number)
		if to == nil {
			continue
		}
		o := crossingOf(from, to, false)
		o.to = " to " + to.Segment.Name
		alike := len(all.list[crowd]) - 1
		if at, ok := all.place[from.Segment]; ok && at[0] == crowd {
			alike--
		}
		if alike > 0 {
			o.to += fmt.Sprintf(" (and %d more that the rules treat alike)", alike)
		}
		c.parts, c.guests = append(c.parts, o.parts(seen)...), append(c.guests, to.Machine.Name)
	}
	gate, joined := from.Segment.Port.Machine, m.JoinedTo(from)
	for _, list := range all.list {
		if list[0].Segment.Port.Machine != gate {
			continue
		}
		at := slices.IndexFunc(list, func(to *plan.Adapter) bool { return joined(to) != nil })
		if at >= 0 && !passesAll(gate, from.Segment, list[at].Segment) {
			c.parts = append(c.parts, joinedPart(m, from, list[at], joined(list[at])))
		}
	}
	return c
}
