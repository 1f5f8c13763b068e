package claims

import (
	"maps"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// Bounds of what is asked between two segments.
const (
	maxAskedWhole = 24      // up to how many segments each pair is tried whole; in larger labs by one service, as the proof speaks of all
	maxPaired     = 64      // up to how many segments each pair has a claim; in larger labs each segment, see crowd.go
	maxNamed      = 12      // services that rules name, for a pair
	maxEach       = 128     // pairs of guests up to which each guest speaks for itself
	maxSpeakers   = 4       // guests who speak for a segment, in a larger lab
	maxTellApart  = 1 << 18 // guests times rules up to which it is found whom the rules tell apart
)

// betweenClaims speak of each pair of segments behind one appliance: in a small lab each
// guest speaks for itself, else one of each kind that the rules tell apart.
func betweenClaims(m *reachability.Model, p *plan.Plan) []claim {
	guests := homes(p)
	pairs := 0
	for _, list := range guests {
		pairs += 2 * len(guests) * len(list) // as who asks and as who is asked
	}
	if len(guests) > maxPaired {
		return crowdClaims(m, p, guests)
	}
	each := pairs <= maxEach
	speakers := guests
	if !each {
		speakers = speakersOf(p, guests)
	}
	out := make([]claim, 0, len(guests)*max(len(guests)-1, 0))
	for _, from := range p.Segments {
		if speakers[from] == nil || from.Port == nil {
			continue
		}
		for _, to := range p.Segments {
			if from != to && speakers[to] != nil && to.Port != nil && joins(from.Port.Machine, to) {
				out = append(out, betweenClaim(m, speakers[from], speakers[to], each))
			}
		}
	}
	return out
}

// betweenClaim speaks of what passes from some guests of a segment to some of another; of
// the first of both all is asked. Where each guest speaks for itself it is asked from and to
// every other too, else what the rules say otherwise of them.
func betweenClaim(m *reachability.Model, from, to []*plan.Adapter, each bool) claim {
	a, b := from[0], to[0]
	c := claim{
		Result: Result{
			ID:   a.Segment.Name + "-" + b.Segment.Name + ".segments",
			From: a.Segment.Name,
			To:   b.Segment.Name,
			Kind: Segments,
		},
	}
	seen := &between{}
	whole := len(m.Plan().Segments) <= maxAskedWhole
	first := crossingOf(a, b, whole)
	if !whole && len(first.asks) > 0 && !first.asks[0].allowed {
		first.asks = first.asks[:1]
	}
	for _, x := range from {
		for _, y := range to {
			o := first
			switch {
			case x == a && y == b:
			case each && (x == a || y == b):
				o = crossingOf(x, y, false)
			default:
				o = crossingOf(x, y, true).beside(first)
			}
			if len(o.asks) > 0 || x == a && y == b {
				c.parts, c.guests = append(c.parts, o.parts(seen)...), append(c.guests, x.Machine.Name, y.Machine.Name)
			}
		}
	}
	gate := a.Segment.Port.Machine
	if way := m.JoinedTo(a)(b); way != nil && gate == b.Segment.Port.Machine && !passesAll(gate, a.Segment, b.Segment) {
		c.parts = append(c.parts, joinedPart(m, a, b, way))
	}
	return c
}

// joins reports whether an appliance has a side on an inside segment: a port, or the WAN by
// which it stands behind another.
func joins(by *plan.Machine, to *plan.Segment) bool {
	return to.Port.Machine == by ||
		to.Inside() && slices.ContainsFunc(by.WAN(), func(wan *plan.Adapter) bool { return wan.Segment == to })
}

// homes returns, by segment, the guests that live there and nowhere else.
func homes(p *plan.Plan) map[*plan.Segment][]*plan.Adapter {
	out := map[*plan.Segment][]*plan.Adapter{}
	for _, g := range p.Guests() {
		if home := InsideAdapter(g); home != nil && len(g.Adapters) == 1 {
			out[home.Segment] = append(out[home.Segment], home)
		}
	}
	return out
}

// speakersOf returns, by segment, the first guest, and the first of each kind that the rules
// tell from it.
func speakersOf(p *plan.Plan, guests map[*plan.Segment][]*plan.Adapter) map[*plan.Segment][]*plan.Adapter {
	out := map[*plan.Segment][]*plan.Adapter{}
	for s, list := range guests {
		out[s] = list[:1:1]
		if s.Port == nil || len(p.Segments) > maxAskedWhole ||
			len(s.Port.Machine.Rules)*len(p.Guests()) > maxTellApart {
			continue
		}
		kinds, kindOf := map[string]*plan.Adapter{}, s.Port.Machine.Kinds()
		for _, a := range list {
			if kind := kindOf(a.Likely()); kinds[kind] == nil {
				kinds[kind] = a
			}
		}
		for _, kind := range slices.Sorted(maps.Keys(kinds)) { // which are left out does not hang on the order of the file
			if a := kinds[kind]; a != list[0] && len(out[s]) < maxSpeakers {
				out[s] = append(out[s], a)
			}
		}
	}
	return out
}

// crossing is what is asked from one guest to another, for both IP versions.
type crossing struct {
	a, b *plan.Adapter
	asks []passing
	to   string // the segments that it speaks for, where that is more than the one of b
}

// passing is one service, and whether the rules let it pass.
type passing struct {
	service lab.Service
	six     bool
	allowed bool
}

// crossingOf returns what to ask: usual services, what passes in their place, and, where named is
// wanted, what rules name.
func crossingOf(a, b *plan.Adapter, named bool) crossing {
	o := crossing{a: a, b: b}
	for _, six := range []bool{false, true} {
		if from, to, ok := o.ends(six); ok {
			o.add(from, to, six, named)
		}
	}
	return o
}

// ends returns the addresses between which is asked over an IP version, where both have one.
func (o crossing) ends(six bool) (from, to netip.Addr, ok bool) {
	if six {
		return o.a.Address6.Addr(), o.b.Address6.Addr(), o.a.Address6.IsValid() && o.b.Address6.IsValid()
	}
	return o.a.Likely(), o.b.Likely(), true
}

// sides returns the ports by which a transparent appliance joins the two segments; nil for a router.
func (o *crossing) sides() (in, out *plan.Adapter) {
	in, out = o.a.Segment.Port, o.b.Segment.Port
	if !Transparent(in) || out.Machine != in.Machine {
		return nil, nil
	}
	return in, out
}

// add asks between two addresses: first what passes.
func (o *crossing) add(from, to netip.Addr, six, named bool) {
	m := o.a.Segment.Port.Machine
	in, out := o.sides()
	services := slices.Concat(m.AllowedServices(from, to, usual, in, out), usual)
	if named {
		services = append(services, m.NamedServices(from, to, maxNamed)...)
	}
	back := o.b.Segment.Port.Machine == m ||
		slices.Contains(m.Masq, o.a.Segment) // else nobody there knows the way back
	var passes, stopped []passing
	for _, s := range distinct(services) {
		switch x := (passing{s, six, allowed(m, plan.Flow{Source: from, Destination: to, Proto: s.Proto, Port: s.From, In: in, Out: out})}); {
		case !x.allowed:
			stopped = append(stopped, x)
		case back:
			passes = append(passes, x)
		}
	}
	o.asks = append(append(o.asks, passes...), stopped...)
}

// beside leaves of a pair what the rules say otherwise of the first one.
func (o crossing) beside(first crossing) crossing {
	o.asks = slices.DeleteFunc(o.asks, func(x passing) bool {
		from, to, ok := first.ends(x.six)
		return ok && allows(first.a.Segment.Port.Machine, from, to, x.service) == x.allowed
	})
	return o
}

func (o crossing) parts(seen *between) []part {
	var out []part
	for _, x := range o.asks {
		out = append(out, part{
			asks: asking(AskReach{From: RefTo(o.a), To: RefTo(o.b), Service: x.service, IPv6: x.six}),
			judge: func(r *Result, got []Got) {
				judgeBetween(r, o, x, seen, got[0].(GotReach))
			},
		})
	}
	return out
}
