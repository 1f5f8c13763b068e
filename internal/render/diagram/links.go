package diagram

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// links draws the ways to segments that a machine does not hang from: along
// lanes between the columns, below all, and around the sides.
func (l *layout) links() {
	floor := l.bottom
	for _, b := range l.all() {
		for _, e := range b.entries {
			for _, a := range e.also {
				l.link(a, e.box, b.bar, floor)
			}
		}
	}
	for _, m := range l.t.plan.Running() {
		if g := l.gateOf(m); g != nil {
			for _, a := range g.also {
				l.link(a, g.box, g.box, floor)
			}
		}
	}
	if l.lanes > 0 {
		l.bottom = floor + 10 + 5*float64(l.lanes)
	}
}

// all returns every block in file order.
func (l *layout) all() []*block {
	var out []*block
	for _, s := range l.t.plan.Segments {
		if b := l.t.blocks[s]; b != nil {
			out = append(out, b)
		}
	}
	return out
}

func (l *layout) gateOf(m *plan.Machine) *gate {
	for _, g := range l.t.gates {
		if g.m == m {
			return g
		}
	}
	for _, b := range l.all() {
		for _, g := range b.gates {
			if g.m == m {
				return g
			}
		}
	}
	return nil
}

// link draws one: from a box under a bar to the bar of the adapter's segment.
func (l *layout) link(a *plan.Adapter, from, under Box, floor float64) {
	k := float64(l.lanes % 4)
	y := floor + 8 + 5*float64(l.lanes)
	l.lanes++
	to := l.t.blocks[a.Segment].bar
	mid := from.Y + from.H - 9 - 3*k
	in := to.bottom() - 6 - 3*k
	var way []Point
	switch {
	case to.X <= under.X+1 && under.X <= margin+1 && to.Y < under.Y: // up the left side
		lane := under.X - 12 - 5*k
		way = []Point{{from.X, mid}, {lane, mid}, {lane, in}, {to.X, in}}
	case to.X > from.right() && to.X-from.right() < 1.5*gap && to.bottom() <= from.bottom(): // next door
		lane := to.X - 8 - 4*k
		way = []Point{{from.right(), mid}, {lane, mid}, {lane, in}, {to.X, in}}
	default:
		out := from.right() + 7 + 4*k
		way = []Point{{from.right(), mid}, {out, mid}, {out, y}}
		ends, root := l.ends[l.t.blocks[a.Segment]]
		switch lane := to.X - 9 - 4*k; {
		case !root || to.X <= ends[0]+1:
			way = append(way, Point{lane, y}, Point{lane, in}, Point{to.X, in})
		case to.right() >= ends[1]-1:
			lane = ends[1] + 9 + 4*k
			way = append(way, Point{lane, y}, Point{lane, in}, Point{to.right(), in})
		default: // between others: around them and in from above
			lane = ends[0] - 9 - 4*k
			x := to.right() - inset - 8*k
			way = append(way, Point{lane, y}, Point{lane, to.Y - 6 - 3*k}, Point{x, to.Y - 6 - 3*k}, Point{x, to.Y})
		}
	}
	ink := TextInk
	if a.Segment.Reach == lab.Upstream {
		ink = Outside
	}
	l.line(ink, 1.6, false, way...)
	l.routes[route{a.Machine, a.Segment}] = way
}

// judged is a verdict by the names that it speaks of.
type judged struct {
	doc  *verdict.Document
	by   map[string]claims.Verdict
	why  map[string][]string // the kinds of checks that failed, by segment or appliance
	ways []claims.Way
}

func judge(doc *verdict.Document) judged {
	j := judged{doc: doc, by: map[string]claims.Verdict{}, why: map[string][]string{}}
	if doc == nil {
		return j
	}
	seen := map[string]bool{}
	for _, r := range doc.Claims {
		for _, name := range r.Names() {
			j.by[name] = worse(j.by[name], r.Verdict)
			if r.Verdict == claims.Broken && name != r.Guest && !slices.Contains(j.why[name], string(r.Kind)) {
				j.why[name] = append(j.why[name], string(r.Kind))
			}
		}
		for _, w := range r.Escapes {
			if key := fmt.Sprint(w.Path); !seen[key] {
				seen[key] = true
				j.ways = append(j.ways, w)
			}
		}
	}
	return j
}

// worse returns the worse of two verdicts; an empty one is no verdict.
func worse(a, b claims.Verdict) claims.Verdict {
	if a == "" || b == claims.Broken || b == claims.Unknown && a == claims.Holds {
		return b
	}
	return a
}

func (l *layout) drawBar(b *block) {
	ink, wash := Inside, InsideWash
	if b.seg.Reach == lab.Upstream {
		ink, wash = Outside, OutsideWash
	}
	l.box(b.bar, 3, wash, ink, 1.6, b.seg.Reach == lab.Host)
	l.label(b.bar.X+inset+8, b.bar.Y+5, style{12.5, true, ink}, b.seg.Name, 0)
	for i, s := range about(b.seg) {
		l.label(b.bar.X+inset+8, b.bar.Y+22+15*float64(i), small, s, 0)
	}
	l.state(b.bar.right()-18, b.bar.Y+7, b.seg.Name)
	if why := strings.Join(l.judged.why[b.seg.Name], ", "); why != "" {
		y := b.bar.Y + 22 + 15*float64(len(about(b.seg)))
		l.label(b.bar.X+inset+8, y, style{11, false, Broken}, why, b.bar.W-2*inset)
	}
}

// worst returns the worst of an entry's guests' verdicts.
func (j judged) worst(e *entry) claims.Verdict {
	var v claims.Verdict
	for _, m := range e.guests {
		if of := j.by[m.Name]; of != "" {
			v = worse(v, of)
		}
	}
	return v
}

// of returns what became of a subject's claims; empty when nothing is known.
func (j judged) of(name string) string { return string(j.by[name]) }

func (l *layout) state(x, y float64, subject string) {
	if v := l.judged.of(subject); v != "" {
		l.sign(x, y, v)
	}
}

// entryState draws the worst of an entry's guests' verdicts.
func (l *layout) entryState(e *entry) bool {
	worst := l.judged.worst(e)
	if worst == "" {
		return false
	}
	l.sign(e.box.right()-18, e.box.Y+8, string(worst))
	return true
}

// shownWays bounds how many escapes are painted.
const shownWays = 4

// wayGap is how far apart ways around run that take the same route.
const wayGap = 7.0

// spare makes room in the bars for the ways around to run beside each other.
func (l *layout) spare() {
	if n := min(shownWays, len(l.judged.ways)); n > 1 {
		for _, b := range l.t.blocks {
			b.spare = wayGap * float64(n-1)
		}
	}
}

// escapes paints the ways out that a verdict found, each beside the others.
func (l *layout) escapes(band Box) {
	for i, w := range l.judged.ways[:min(shownWays, len(l.judged.ways))] {
		way := l.trail(w.Path, band, -wayGap*float64(i))
		if len(way) < 2 {
			continue
		}
		l.Shapes = append(l.Shapes,
			Shape{Kind: Line, Points: way, Ink: Paper, Width: 5},
			Shape{Kind: Line, Points: way, Ink: Broken, Width: 2.4, Arrow: true})
		at := way[0]
		n := fmt.Sprint(i + 1)
		s := style{10, true, Paper}
		badge := Box{at.X - 8, at.Y - 8, 16, 16}
		for _, o := range l.above {
			if o.Kind == Rectangle && o.Box.Overlaps(badge) {
				badge.Y = o.Box.bottom() + 1
			}
		}
		keep := l.Shapes
		l.Shapes = nil
		l.box(badge, 8, Broken, Paper, 1.2, false)
		l.label(badge.X+8-s.width(n)/2, badge.Y+2, s, n, 0)
		l.above = append(l.above, l.Shapes...)
		l.Shapes = keep
	}
}

// trail turns a path of names into the points that it passes.
func (l *layout) trail(names []string, band Box, off float64) []Point {
	var way []Point
	add := func(points ...Point) {
		for _, p := range points {
			if n := len(way); n > 0 && way[n-1].X != p.X && way[n-1].Y != p.Y {
				way = append(way, Point{way[n-1].X, p.Y}) // corners stay square
			}
			way = append(way, p)
		}
	}
	back := func(r route) []Point { // from the bar to the machine
		points := shifted(l.routes[r], off)
		slices.Reverse(points)
		return points
	}
	p := l.t.plan
	for i, name := range names[:max(0, len(names)-1)] {
		next := names[i+1]
		m, s := p.Machine(name), p.Segment(next)
		if m != nil && s != nil {
			add(shifted(l.routes[route{m, s}], off)...)
			continue
		}
		s, m = p.Segment(name), p.Machine(next)
		if s == nil {
			continue
		}
		bar := l.t.blocks[s].bar
		if m != nil {
			on := back(route{m, s})
			if len(on) > 0 {
				y := bar.bottom() - 5 + off
				if len(way) > 0 {
					add(Point{way[len(way)-1].X, y}, Point{on[0].X, y})
				}
				add(on...)
			}
			continue
		}
		if on := back(route{nil, s}); len(on) > 0 {
			if len(way) > 0 {
				y := bar.bottom() - 6 + off
				add(Point{math.Max(bar.X+4, way[len(way)-1].X), y}, Point{on[0].X, y})
			}
			add(on[0], Point{on[1].X, band.Y + band.H/2})
		}
	}
	return way
}

func shifted(points []Point, by float64) []Point {
	out := make([]Point, len(points))
	for i, p := range points {
		out[i] = Point{p.X + by, p.Y + by}
	}
	return out
}

// foot writes what the lines mean, and what a verdict says.
func (l *layout) foot() {
	y := l.bottom + 22
	if doc := l.judged.doc; doc != nil {
		l.sign(margin, y+2, string(doc.Verdict))
		l.label(margin+18, y, strong, doc.Summary(), l.W-2*margin-18)
		y += 20
		if len(l.judged.ways) > 0 {
			l.label(margin+18, y, small, verdict.Introduction, l.W-2*margin-18)
			y += 17
		}
		for i, w := range l.judged.ways[:min(shownWays, len(l.judged.ways))] {
			l.label(
				margin+18,
				y,
				body,
				fmt.Sprintf("%d  %s reaches %s: %s", i+1, w.From, w.To, w.Tried),
				l.W-2*margin-18,
			)
			y += 16
		}
		if more := len(l.judged.ways) - shownWays; more > 0 {
			l.label(margin+18, y, body, fmt.Sprintf("and %d more ways", more), 0)
			y += 16
		}
		shown := 0
		for _, r := range doc.Claims {
			if r.Verdict == claims.Holds || r.Follows != "" || len(r.Escapes) > 0 {
				continue
			}
			if shown++; shown > 4 {
				continue
			}
			l.sign(margin+2, y+2, string(r.Verdict))
			w := l.label(margin+18, y, style{11, true, TextInk}, r.ID, 0)
			l.label(margin+18+w+10, y, body, r.Observed, l.W-2*margin-28-w)
			y += 16
		}
		if shown > 4 {
			l.label(margin+18, y, body, fmt.Sprintf("and %d more that do not hold", shown-4), 0)
			y += 16
		}
		y += 6
	}
	for _, text := range asides(l.t.plan) {
		l.label(margin, y, small, text, l.W-2*margin)
		y += 18
	}
	x := margin
	key := func(text string, width float64, mark func(x, y float64)) {
		if x+width+small.width(text) > l.W-margin {
			x, y = margin, y+18
		}
		mark(x, y+7)
		l.label(x+width+6, y, small, text, 0)
		x += width + 6 + small.width(text) + 22
	}
	stroke := func(ink Ink, width float64, dashed bool) func(x, y float64) {
		return func(x, y float64) { l.line(ink, width, dashed, Point{x, y}, Point{x + 22, y}) }
	}
	key("upstream", 22, stroke(Outside, 2.4, false))
	key("inside", 22, stroke(Inside, 2.4, false))
	key("a guest", 22, stroke(Faint, 1.2, false))
	tagged, leg := false, false
	for _, b := range l.all() {
		tagged = tagged || b.seg.Tag != 0
		leg = leg || b.seg.Reach == lab.Host
	}
	if leg {
		key(
			"dashed frame: the host is on it",
			22,
			func(x, y float64) { l.box(Box{x, y - 6, 22, 12}, 3, InsideWash, Inside, 1.2, true) },
		)
	}
	if tagged {
		key("tagged", 22, stroke(Inside, 2.4, true))
		key("one adapter carries several", 22, stroke(Inside, 5, false))
	}
	if len(l.judged.ways) > 0 {
		key("bypass, with its number", 22, stroke(Broken, 2.4, false))
	}
	if l.judged.doc != nil {
		for _, v := range []struct {
			verdict claims.Verdict
			text    string
		}{{claims.Holds, "all ok"}, {claims.Broken, "broken"}, {claims.Unknown, "unknown"}} {
			if l.judged.doc.Count()[v.verdict] > 0 {
				key(v.text, 14, func(x, y float64) { l.sign(x, y-5, string(v.verdict)) })
			}
		}
	}
	key(
		"last bytes of the MAC address",
		small.width("…c2:01"),
		func(x, y float64) { l.label(x, y-7, small, "…c2:01", 0) },
	)
	l.bottom = y + 14
}
