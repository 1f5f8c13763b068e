package diagnose

import (
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// manyGuests is up to how many guests a study looks at each; beyond, those that nothing but their
// names tells apart are studied by a few of them.
const manyGuests = 64

// Few returns the plan with those guests alone that a diagnosis has to tell apart: those that
// something names, those that were mentioned, and the first few of each group that are alike. left is
// how many were left out; the plan itself is returned where nothing was.
func Few(p *plan.Plan, mentioned func(guest string) bool) (few *plan.Plan, left int) {
	if len(p.Guests()) <= manyGuests {
		return p, 0
	}
	s := &Study{Plan: p, alike: map[*plan.Machine]*likeness{}}
	s.group()
	const some, most = 4, 16 // of each group: unasked, and mentioned
	kept, count := map[string]bool{}, map[*likeness]int{}
	for _, g := range p.Guests() {
		l := s.alike[g]
		if len(l.all) <= some || mentioned(g.Name) && count[l] < most || count[l] < some {
			kept[g.Name] = true
			count[l]++
		} else {
			left++
		}
	}
	drop := s.alikeSegments(mentioned)
	for _, g := range p.Guests() {
		if kept[g.Name] && drop[g.Adapters[0].Segment.Name] {
			delete(kept, g.Name)
			left++
		}
	}
	if left == 0 {
		return p, 0
	}
	few, err := p.AsBuilt(func(l *lab.Lab) {
		l.KeepGuests(func(name string) bool { return kept[name] })
		l.DropSegments(func(name string) bool { return drop[name] })
	})
	if err != nil {
		return p, 0
	}
	return few, left
}

// alikeSegments returns the segments that can be left out: beyond the first few of those that are the
// LAN of one port and that nothing in the lab names, where no guest was mentioned.
func (s *Study) alikeSegments(mentioned func(guest string) bool) map[string]bool {
	const some = 4
	named := s.named()
	for _, m := range s.Plan.Appliances() {
		for _, name := range m.Appliance.NAT.Masquerade {
			named[name] = true
		}
	}
	drop, count := map[string]bool{}, map[*plan.Machine]int{}
	for _, seg := range s.Plan.Segments {
		plain := seg.Inside() && seg.Reach == lab.Isolated && seg.Tag == 0 && len(seg.Wire.Segments) == 1 && seg.Bridged == nil &&
			!named[seg.Name] && seg.Port != nil && seg.Port.Role == lab.LAN
		for _, a := range seg.Adapters {
			if a == seg.Port {
				continue
			}
			plain = plain && a.Guest != nil && len(a.Machine.Adapters) == 1 && !named[a.Machine.Name] && !mentioned(a.Machine.Name)
		}
		if !plain {
			continue
		}
		if count[seg.Port.Machine]++; count[seg.Port.Machine] > some {
			drop[seg.Name] = true
		}
	}
	return drop
}
