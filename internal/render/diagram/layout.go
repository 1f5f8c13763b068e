package diagram

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Measures of a layout, in points.
const (
	margin   = 44.0
	gap      = 28.0 // between what stands side by side; lanes run there
	inset    = 18.0 // from a bar's left end to its line
	spine    = 6.0  // from a column's left end to the line that guests hang from
	entryPad = 18.0
	minWidth = 600.0
)

var (
	title  = style{17, true, TextInk}
	small  = style{11, false, Faint}
	body   = style{11, false, TextInk}
	strong = style{12.5, true, TextInk}
	onGate = style{11, false, GateFaint}
)

// layout is a picture in the making.
type layout struct {
	*Picture
	t      *tree
	right  float64
	bottom float64
	routes map[route][]Point // from the machine to the segment's bar
	above  []Shape           // drawn last: labels of what lies over lines
	lanes  int
	ends   map[*block][2]float64 // of a root: where what stands below its cluster begins and ends
	judged judged
}

// route is where a machine is joined to a segment.
type route struct {
	m *plan.Machine
	s *plan.Segment
}

// Of draws a plan.
func Of(p *plan.Plan, o Options) *Picture {
	l := &layout{
		Picture: &Picture{Title: p.Name},
		t:       grow(p, o),
		routes:  map[route][]Point{},
		ends:    map[*block][2]float64{},
		judged:  judge(o.Verdict),
	}
	if p.Lab.Title != "" {
		l.Title += ": " + p.Lab.Title
	}
	l.spare()
	l.place()
	l.W = math.Max(minWidth, l.right+margin)
	w := l.label(margin, 14, title, p.Name, l.W-2*margin)
	l.label(margin+w+12, 19, style{12, false, Faint}, p.Lab.Title, l.W-2*margin-w-12)
	band := Box{margin, 44, l.W - 2*margin, 28}
	l.box(band, 3, OutsideWash, Outside, 1, false)
	l.label(band.X+inset, band.Y+6, style{12.5, true, Outside}, "outside", 0)
	l.draw(band)
	l.links()
	l.escapes(band)
	// Texts lie over all lines, so that an escape never hides one.
	slices.SortStableFunc(
		l.Shapes,
		func(a, b Shape) int { return cmp.Compare(int(a.Kind)/int(Label), int(b.Kind)/int(Label)) },
	)
	l.Shapes = append(l.Shapes, l.above...)
	l.foot()
	l.H = l.bottom + 20
	l.name()
	return l.Picture
}

// name returns where the machines' cables and the gates are.
func (l *layout) name() {
	for r, points := range l.routes {
		c := Cable{Segment: r.s.Name, Points: points}
		if r.m != nil {
			c.Machine = r.m.Name
		}
		l.Cables = append(l.Cables, c)
	}
	slices.SortStableFunc(l.Cables, func(a, b Cable) int {
		return cmp.Or(strings.Compare(a.Machine, b.Machine), strings.Compare(a.Segment, b.Segment))
	})
	for _, g := range l.t.gates {
		l.Gates = append(l.Gates, Place{g.m.Name, g.box})
	}
}

// join notes the points by which a machine is joined to a segment's bar; nil
// stands for the outside.
func (l *layout) join(m *plan.Machine, s *plan.Segment, points ...Point) {
	l.routes[route{m, s}] = points
}

// place measures and places all blocks and gates.
func (l *layout) place() {
	x, top := margin, 118.0
	placed := map[*block]bool{}
	for _, r := range l.t.roots {
		if placed[r] {
			continue
		}
		roots, gates := l.t.cluster(r)
		for _, b := range roots {
			placed[b] = true
		}
		x = l.cluster(roots, gates, x, top) + gap + 8
	}
	l.right = x - gap - 8
}

// cluster returns the roots that share gates with one, and those gates.
func (t *tree) cluster(first *block) (roots []*block, gates []*gate) {
	in := map[*block]bool{first: true}
	seen := map[*gate]bool{}
	for again := true; again; {
		again = false
		for _, g := range t.gates {
			touches := false
			for _, a := range g.tops {
				touches = touches || in[t.blocks[a.Segment]]
			}
			if touches && !seen[g] {
				seen[g], again = true, true
				for _, a := range g.tops {
					in[t.blocks[a.Segment]] = true
				}
			}
		}
	}
	for _, r := range t.roots {
		if in[r] {
			roots = append(roots, r)
		}
	}
	for _, g := range t.gates {
		if seen[g] {
			gates = append(gates, g)
		}
	}
	return roots, gates
}

// cluster places roots above the gates between them and gives how far right
// they reach.
func (l *layout) cluster(roots []*block, gates []*gate, x, top float64) float64 {
	spans := map[*block][2]float64{}
	widen := func(b *block, from, to float64) {
		s, ok := spans[b]
		if !ok {
			s = [2]float64{from, to}
		}
		spans[b] = [2]float64{math.Min(s[0], from), math.Max(s[1], to)}
	}
	type column struct {
		b *block
		x float64
	}
	var columns []column
	cx := x
	guests := func(b *block) {
		b.measure()
		if len(b.entries) == 0 {
			return
		}
		columns = append(columns, column{b, cx})
		widen(b, cx, cx+b.entriesW())
		cx += b.entriesW() + gap
	}
	guests(roots[0])
	for _, g := range gates {
		g.measure()
		g.box.X = cx
		slot := g.w / float64(max(1, len(g.tops)))
		for i, a := range g.tops {
			widen(l.t.blocks[a.Segment], cx+slot*float64(i), cx+slot*float64(i+1)-boolTo(i+1 < len(g.tops), gap))
		}
		cx += g.w + gap
	}
	for _, b := range roots[1:] {
		guests(b)
	}
	// Bars that would lie over each other go to levels of their own.
	var levels [][]*block
	for _, b := range roots {
		s, ok := spans[b]
		if !ok {
			s = [2]float64{cx, cx}
		}
		w := math.Max(s[1]-s[0], b.textW)
		b.bar = Box{s[0], 0, w, b.barH()}
		if !ok || s[0]+w > cx-gap {
			cx = s[0] + w + gap
		}
		level := 0
		for ; level < len(levels); level++ {
			free := true
			for _, o := range levels[level] {
				free = free && (b.bar.right()+8 <= o.bar.X || o.bar.right()+8 <= b.bar.X)
			}
			if free {
				break
			}
		}
		if level == len(levels) {
			levels = append(levels, nil)
		}
		levels[level] = append(levels[level], b)
	}
	y := top
	for _, row := range levels {
		h := 0.0
		for _, b := range row {
			b.bar.Y = y
			h = math.Max(h, b.bar.H)
		}
		y += h + 26
	}
	y -= 26
	for _, b := range roots {
		l.ends[b] = [2]float64{x, cx - gap}
	}
	for _, c := range columns {
		l.entries(c.b, c.x, y+14)
	}
	for _, g := range gates {
		l.gate(g, g.box.X, y+portsH(g.tops))
	}
	return cx - gap
}

func boolTo(b bool, v float64) float64 {
	if b {
		return v
	}
	return 0
}

// portsH is the height that the labels of ports take.
func portsH(ports []*plan.Adapter) float64 {
	if len(ports) == 0 {
		return 30
	}
	return 16 + 3*15
}

func (b *block) barH() float64 { return 33 + b.spare + 15*float64(len(about(b.seg))) }

// rows is how many entries stand in a column at most.
func (b *block) rows() int {
	return max(crowd+2, int(math.Ceil(math.Sqrt(float64(len(b.entries))*2.5))))
}

func (b *block) entriesW() float64 {
	if b.columns == 0 {
		return 0
	}
	return float64(b.columns)*(b.entryW+gap) - gap
}

func (b *block) measure() {
	lines := about(b.seg)
	b.textW = math.Max(150+inset, strong.width(b.seg.Name)+60)
	for _, s := range lines {
		b.textW = math.Max(b.textW, small.width(s)+2*inset+8)
	}
	if b.port != nil {
		for _, s := range port(b.port) {
			b.textW = math.Max(b.textW, strong.width(s)+2*inset+8)
		}
	}
	b.columns = (len(b.entries) + b.rows() - 1) / b.rows()
	for _, e := range b.entries {
		w := strong.width(e.name()) + small.width(e.tail) + 44
		for _, s := range e.lines {
			w = math.Max(w, small.width(s)+44)
		}
		b.entryW = math.Max(b.entryW, w+entryPad)
	}
	kids := b.entriesW()
	for _, g := range b.gates {
		g.measure()
		if kids > 0 {
			kids += gap
		}
		kids += g.w
	}
	b.w = math.Max(b.textW, kids)
}

func (g *gate) measure() {
	for _, a := range g.also {
		p := port(a)
		g.details = append(g.details, p[0]+" on "+a.Segment.Name+": "+p[1]+", "+p[2])
	}
	g.w = strong.width(g.m.Name) + 80
	for _, s := range g.details {
		g.w = math.Max(g.w, onGate.width(s)+2*inset+8)
	}
	tops := 0.0
	for _, a := range g.tops {
		for _, s := range port(a) {
			tops = math.Max(tops, strong.width(s)+2*inset+gap)
		}
	}
	g.w = math.Max(g.w, tops*float64(len(g.tops)))
	below := -gap
	for _, b := range g.below {
		b.measure()
		below += b.w + gap
	}
	g.w = math.Max(g.w, below)
}

func (e *entry) height() float64 { return 26 + 14*float64(len(e.lines)) }

// entries places a block's guests from a corner.
func (l *layout) entries(b *block, x, y float64) {
	rows := b.rows()
	cy := y
	for i, e := range b.entries {
		if i > 0 && i%rows == 0 {
			x += b.entryW + gap
			cy = y
		}
		e.box = Box{x + entryPad, cy, b.entryW - entryPad, e.height()}
		cy = e.box.bottom() + 7
		l.bottom = math.Max(l.bottom, e.box.bottom())
	}
}

func (l *layout) gate(g *gate, x, y float64) {
	g.box = Box{x, y, g.w, 28 + 15*float64(len(g.details))}
	l.bottom = math.Max(l.bottom, g.box.bottom())
	sum := -gap
	var ports []*plan.Adapter
	for _, b := range g.below {
		sum += b.w + gap
		ports = append(ports, b.port)
	}
	bx, by := x+(g.w-sum)/2, g.box.bottom()+portsH(ports)
	for _, b := range g.below {
		l.block(b, bx, by)
		bx += b.w + gap
	}
}

func (l *layout) block(b *block, x, y float64) {
	b.bar = Box{x, y, b.w, b.barH()}
	l.bottom = math.Max(l.bottom, b.bar.bottom())
	cx := x
	if b.columns > 0 {
		l.entries(b, cx, b.bar.bottom()+12)
		cx += b.entriesW() + gap
	}
	for _, g := range b.gates {
		l.gate(g, cx, b.bar.bottom()+portsH(g.tops))
		cx += g.w + gap
	}
}

// draw draws what is placed, lines before the boxes they end at.
func (l *layout) draw(band Box) {
	for _, r := range l.t.roots {
		if r.seg.Reach == lab.Upstream {
			how := joined(r.seg)
			x := math.Max(r.bar.X+inset, r.bar.right()-small.width(how)-20)
			from, to := Point{x, band.bottom()}, Point{x, r.bar.Y}
			l.join(nil, r.seg, from, to)
			l.line(Outside, 2, false, from, to)
			l.label(x+8, band.bottom()+14, small, how, 0)
		}
	}
	for _, r := range l.t.roots {
		l.drawEntries(r)
	}
	for _, g := range l.t.gates {
		l.drawGate(g)
	}
	for _, r := range l.t.roots {
		l.drawBar(r)
	}
}

func (l *layout) drawEntries(b *block) {
	if len(b.entries) == 0 {
		return
	}
	rows := b.rows()
	for i, e := range b.entries {
		x := e.box.X - entryPad + spine
		mid := Point{x, e.box.Y + 14}
		from := b.bar.bottom()
		if i%rows != 0 {
			from = b.entries[i-1].box.Y + 14
		}
		side, top := Point{e.box.X, mid.Y}, Point{x, b.bar.bottom()}
		l.line(Faint, 1.2, false, Point{x, from}, mid, side)
		for _, m := range e.guests {
			l.join(m, b.seg, side, mid, top)
		}
		if len(e.guests) > 1 { // a stack of cards
			l.box(Box{e.box.X + 4, e.box.Y + 4, e.box.W, e.box.H}, 4, Paper, Faint, 1, false)
		}
		l.box(e.box, 4, Paper, Faint, 1, false)
		l.label(e.box.X+10, e.box.Y+5, strong, e.name(), 0)
		right := e.box.right() - 8
		if l.entryState(e) {
			right -= 18
		}
		l.label(right-small.width(e.tail), e.box.Y+6, small, e.tail, 0)
		for j, s := range e.lines {
			l.label(e.box.X+10, e.box.Y+21+14*float64(j), small, s, 0)
		}
	}
}

func (l *layout) drawGate(g *gate) {
	slot := g.w / float64(max(1, len(g.tops)))
	for i, a := range g.tops {
		x := g.box.X + slot*float64(i) + inset
		b := l.t.blocks[a.Segment]
		l.drawPort(a, x, b.bar.bottom(), g.box.Y, Outside, b.seg.Reach != lab.Upstream)
		l.join(g.m, a.Segment, Point{x, g.box.Y}, Point{x, b.bar.bottom()})
	}
	for _, b := range g.below {
		x := b.bar.X + inset
		l.drawPort(b.port, x, g.box.bottom(), b.bar.Y, Inside, true)
		from, to := Point{x, g.box.bottom()}, Point{x, b.bar.Y}
		l.join(g.m, b.seg, from, to)
	}
	// A trunk: one adapter under several ports.
	for _, b := range g.below {
		last := b
		for _, o := range g.below {
			if o.port.Over == b.port {
				last = o
			}
		}
		if last != b {
			y := g.box.bottom() + 5
			l.line(Inside, 5, false, Point{b.bar.X + inset - 2.5, y}, Point{last.bar.X + inset + 2.5, y})
		}
	}
	l.box(g.box, 4, Gate, TextInk, 1, false)
	l.label(g.box.X+inset+8, g.box.Y+5, style{14, true, GateText}, g.m.Name, 0)
	for i, s := range g.details {
		l.label(g.box.X+inset+8, g.box.Y+24+15*float64(i), onGate, s, g.w-2*inset)
	}
	if state := l.judged.of(g.m.Name); state != "" {
		l.box(Box{g.box.right() - 24, g.box.Y + 5, 18, 18}, 4, Paper, Clear, 0, false)
		l.sign(g.box.right()-20, g.box.Y+9, state)
	}
	for _, b := range g.below {
		l.drawEntries(b)
		for _, inner := range b.gates {
			l.drawGate(inner)
		}
		l.drawBar(b)
	}
}

// drawPort draws a port's line from one height to another, with its labels.
func (l *layout) drawPort(a *plan.Adapter, x, from, to float64, ink Ink, inside bool) {
	if a.Role == lab.Manage {
		ink = Faint
	}
	if inside && ink == Outside {
		ink = Inside
	}
	if a.Plugged {
		l.line(ink, 2.4, a.Over != nil, Point{x, from}, Point{x, to})
	} else {
		mid := (from + to) / 2
		l.line(ink, 2.4, false, Point{x, from}, Point{x, mid - 6})
		l.line(ink, 2.4, false, Point{x, mid + 6}, Point{x, to})
		l.line(Broken, 2, false, Point{x - 5, mid - 6}, Point{x + 5, mid - 6})
		l.line(Broken, 2, false, Point{x - 5, mid + 6}, Point{x + 5, mid + 6})
	}
	y := from + (to-from-3*15)/2 + 1
	if to-from > 60 {
		y = to - 3*15 - 4
	}
	for i, s := range port(a) {
		st := small
		if i == 0 {
			st = style{11.5, true, TextInk}
		}
		l.label(x+8, y+15*float64(i), st, s, 0)
	}
}
