package claims

import (
	"fmt"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// doubt is what one open question of the lab file leaves unknown.
type doubt struct {
	text    string
	names   map[string]bool // every claim about these
	outward map[string]bool // claims about these that speak of ways outside
	lacking map[string]bool // claims about these that are broken: what is open may be what they lack
	ruled   map[string]bool // claims about these that speak of what rules let pass
	kinds   []Kind          // every claim of these kinds

	newcomer bool   // a machine that may come to be anywhere
	through  string // an appliance whose rules are open: they may close what leads through it
}

// outwardKinds speak of ways outside, or of what keeps sides apart.
var outwardKinds = []Kind{DNS, Outside, FirstHop, FullSize, NoBypass, Blocked, Inbound, Published, Expect, Behind, Separated}

// ruledKinds speak of what rules let pass.
var ruledKinds = []Kind{DNS, Outside, FirstHop, FullSize, Blocked, Inbound, Published, Segments, Expect}

// doubts returns what the open questions of a plan leave unknown.
func doubts(p *plan.Plan) []doubt {
	var out []doubt
	for _, o := range p.Lab.Open {
		d := doubt{
			text:    fmt.Sprintf("not decided yet, of %s: %s?", o.Subject, o.Question),
			names:   map[string]bool{},
			outward: map[string]bool{},
			lacking: map[string]bool{},
		}
		_, port := o.Of.(*lab.Port)
		if d.newcomer = o.Key == "segment" && !port; !d.newcomer &&
			slices.Contains([]string{"segment", "role", "reach", "uplink"}, o.Key) {
			d.kinds = []Kind{Expect, NoDuplicates}
		}
		switch of := o.Of.(type) {
		case *lab.Segment:
			if o.Key == "reach" {
				d.kinds = append(d.kinds, Behind)
			}
			d.segment(p, p.Segment(of.Name), o.Key == "reach" || o.Key == "uplink")
		case *lab.Port:
			for _, m := range p.Running() {
				if i := slices.IndexFunc(m.Adapters, func(a *plan.Adapter) bool { return a.Port == of }); i >= 0 {
					d.port(p, m.Adapters[i])
				}
			}
		case *lab.Appliance:
			if o.Key == "rules" {
				d.through = of.Name
			}
			rules := doubt{outward: map[string]bool{}}
			rules.below(p, p.Machine(of.Name))
			d.ruled = rules.outward
		default:
			for _, g := range p.Guests() {
				if o.Of == lab.Object(g.Guest) || slices.ContainsFunc(g.Adapters, func(a *plan.Adapter) bool { return o.Of == lab.Object(a.Guest) }) {
					d.guest(p, g)
				}
			}
		}
		out = append(out, d)
	}
	return out
}

// guest doubts what is known of a guest, and of whom it serves; one with several
// adapters may join any two segments.
func (d *doubt) guest(p *plan.Plan, g *plan.Machine) {
	d.names[g.Name] = true
	for _, s := range p.Segments {
		if s.Lab.Leases == g.Name {
			d.segment(p, s, false)
		}
	}
	if len(g.Adapters) > 1 {
		d.kinds = append(slices.Clone(outwardKinds), NoDuplicates, Segments)
	}
	for _, a := range g.Adapters {
		if slices.ContainsFunc(p.Adapters, func(b *plan.Adapter) bool { return a != b && a.MAC == b.MAC }) {
			d.kinds = Kinds // wherever it comes to, it takes what is meant for another
		}
	}
}

// segment doubts what is known of a segment and of its guests; where its ways on are
// open, also the ways outside of whoever is joined to it.
func (d *doubt) segment(p *plan.Plan, s *plan.Segment, ways bool) {
	if d.names[s.Name] {
		return
	}
	d.names[s.Name] = true
	for _, a := range s.Adapters {
		switch {
		case a.Guest != nil && s.Reach != lab.Upstream:
			d.names[a.Machine.Name] = true
			for _, b := range a.Machine.Adapters {
				if ways && b.Segment.Port != nil {
					d.below(p, b.Segment.Port.Machine)
				}
				for _, x := range b.Segment.Adapters { // who may go on through it
					d.outward[x.Machine.Name] = d.outward[x.Machine.Name] || b.Segment != s && x.Guest != nil
				}
			}
		case a.Port != nil && (ways || s.Reach == lab.Upstream || a.Role == lab.WAN):
			d.below(p, a.Machine)
		}
	}
	for _, other := range p.Segments {
		if ways && (other.Bridged == s || other.Wire.Uplink() != "" && other.Wire.Uplink() == s.Lab.Uplink) {
			d.segment(p, other, true)
		}
	}
}

// port doubts what a port has to do with: one that leads out every way outside of
// those behind its appliance, another its segment; one that is on none yet may come
// to any segment that has none, and may be what another lacks.
func (d *doubt) port(p *plan.Plan, a *plan.Adapter) {
	if a.Role == lab.WAN || a.Role == "" || a.Machine.Appliance.Kind != "routed" {
		d.below(p, a.Machine)
	}
	d.outward[a.Machine.Name] = true
	if a.Segment.Nowhere() && (a.Role.Inside() || a.Role == "") { // it may lead out from any segment
		for _, s := range p.Segments {
			if s.Reach == lab.Upstream {
				continue
			}
			d.outward[s.Name] = true
			for _, b := range s.Adapters {
				d.outward[b.Machine.Name] = d.outward[b.Machine.Name] || b.Guest != nil
			}
		}
	}
	for _, r := range a.Riders {
		d.segment(p, r.Segment, false)
	}
	for _, s := range p.Segments {
		switch {
		case s == a.Segment && a.Role != lab.WAN,
			a.Segment.Nowhere() && (a.Role.Inside() || a.Role == "") && s.Port == nil &&
				s.Reach != lab.Upstream:
			d.segment(p, s, false)
		case a.Segment.Nowhere():
			d.lacking[s.Name] = true
			for _, b := range s.Adapters {
				d.lacking[b.Machine.Name] = true
			}
		}
	}
}

// below doubts the ways outside of an appliance and of all behind it.
func (d *doubt) below(p *plan.Plan, m *plan.Machine) {
	if d.outward[m.Name] {
		return
	}
	d.outward[m.Name] = true
	for _, a := range m.Adapters {
		if a.Role == lab.WAN {
			continue
		}
		d.outward[a.Segment.Name] = true
		for _, b := range a.Segment.Adapters {
			if b.Guest != nil {
				d.outward[b.Machine.Name] = true
			} else if b.Role == lab.WAN {
				d.below(p, b.Machine)
			}
		}
	}
}

// mayClose reports whether all that a claim is broken by leads through an appliance whose rules are open.
func (d doubt) mayClose(r *Result) bool {
	return d.through != "" && len(r.Escapes) > 0 &&
		!slices.ContainsFunc(r.Escapes, func(w Way) bool { return !slices.Contains(w.Path, d.through) })
}

// leave makes a verdict unknown that an open question can change. What shows a way
// around the appliance stays broken: no answer to the question takes it away.
func (c *claim) leave(doubts []doubt) {
	r := &c.Result
	proved := []Kind{NoBypass, Blocked, Inbound, Separated, NoDuplicates}
	for _, d := range doubts {
		if r.Verdict == Broken && d.mayClose(r) {
			r.Verdict, r.Observed, r.Remedy, r.Reason = Unknown, d.text, "", nil
			return
		}
	}
	if r.Verdict == Unknown || r.Verdict == Broken && (len(r.Escapes) > 0 || slices.Contains(proved, r.Kind)) {
		return
	}
	about := append(r.Names(), c.guests...)
	for _, d := range doubts {
		touched := slices.Contains(d.kinds, r.Kind) ||
			d.newcomer && (r.Kind == NoDuplicates || r.Kind == Expect && c.crowd)
		for _, name := range about {
			touched = touched || d.names[name] || d.outward[name] && slices.Contains(outwardKinds, r.Kind) ||
				d.ruled[name] && slices.Contains(ruledKinds, r.Kind) || d.lacking[name] && r.Verdict == Broken
		}
		if touched {
			r.Verdict, r.Observed, r.Remedy = Unknown, d.text, ""
			return
		}
	}
}
