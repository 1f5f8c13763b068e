package packetset

import (
	"cmp"
	"container/heap"
	"encoding/binary"
	"slices"
)

// Match is the packets that a rule is the first to match.
type Match struct {
	Rule int // its number; None: no rule matches them
	Packets
}

// None is the rule of what none matches.
const None = -1

// MaxMeetings is how many meetings of rules are looked at for one question.
const MaxMeetings = 20_000_000

// All returns the numbers of all of some rules.
func All(rules []Packets) []int {
	list := make([]int, len(rules))
	for i := range list {
		list[i] = i
	}
	return list
}

// FirstMatches returns which of several rules is the first to match each packet of p. rules is all
// rules, speak the numbers of those to apply, ascending. Parts of one rule with two dimensions alike
// are one. The space is divided dimension by dimension, where rules begin and end, so that the work
// grows with how many rules meet at one place, and not with the product of all; ok is false, and the
// matches are incomplete, when more than most such meetings would have to be looked at. What no rule
// matches is returned where unmatched asks for it.
func (p Packets) FirstMatches(rules []Packets, speak []int, unmatched bool, most int) (matches []Match, ok bool) {
	d := divider{rules: rules, none: unmatched, left: most}
	if p.Empty() {
		return nil, true
	}
	speak = slices.DeleteFunc(slices.Clone(speak), func(i int) bool { return !rules[i].Meets(p) })
	sides := p.sides()
	order := d.order(sides, speak)
	first, second, third := order[0], order[1], order[2]
	whole := merger{}
	for _, s := range d.divide(sides[first], speak, first) {
		slice := merger{}
		for _, t := range d.divide(sides[second], s.rules, second) {
			for _, m := range d.firsts(sides[third], t.rules, third) {
				slice.add(m.rule, m.line, nil, t.line)
			}
		}
		for _, m := range slice.joined() {
			whole.add(m.rule, m.third, m.grown, s.line)
		}
	}
	for _, m := range whole.joined() {
		var x [3]Line
		x[first], x[second], x[third] = m.grown, m.second, m.third
		matches = append(matches, Match{m.rule, Packets{x[0], x[1], x[2]}})
	}
	slices.SortFunc(matches, func(a, b Match) int { return cmp.Compare(uint(a.Rule), uint(b.Rule)) }) // None last
	return matches, d.left >= 0
}

// sides returns the three lines: source, destination, service.
func (p Packets) sides() [3]Line { return [3]Line{p.Source, p.Destination, p.Service} }

// divider divides lines by rules, and counts the work.
type divider struct {
	rules []Packets
	none  bool // whether what no rule matches is looked for
	left  int  // how many meetings of rules may still be looked at
}

// piece is a part of a line, and the rules that have all of it.
type piece struct {
	line  Line
	rules []int
}

// edge is where a rule begins or ends on a line: it has what is from at on, or no more.
type edge struct {
	at    uint64
	rule  int
	opens bool
}

func (d *divider) edges(l Line, rules []int, side int) []edge {
	var out []edge
	for _, i := range rules {
		for _, s := range d.rules[i].sides()[side].And(l) {
			out = append(out, edge{s.From, i, true}, edge{s.To + 1, i, false})
		}
	}
	slices.SortFunc(out, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	return out
}

// along calls part with each part of a line between edges, and turn with the edges at its end.
func along(l Line, edges []edge, part func(Line), turn func([]edge)) {
	place := start(l)
	for len(edges) > 0 {
		at := edges[0].at
		part(place.until(at))
		n := slices.IndexFunc(edges, func(e edge) bool { return e.at != at })
		if n < 0 {
			n = len(edges)
		}
		turn(edges[:n])
		edges = edges[n:]
	}
	part(place.rest())
}

// order returns the sides in the order in which to divide: first the one on which the fewest rules meet.
func (d *divider) order(sides [3]Line, rules []int) []int {
	var meet [3]int
	for i, l := range sides {
		active := 0
		along(l, d.edges(l, rules, i), func(Line) { meet[i] += active }, func(edges []edge) {
			for _, e := range edges {
				if e.opens {
					active++
				} else {
					active--
				}
			}
		})
	}
	order := []int{0, 1, 2}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(meet[a], meet[b]) })
	return order
}

// divide returns the pieces of a line that differ in which rules have them.
func (d *divider) divide(l Line, rules []int, side int) []piece {
	var out []piece
	known := map[[2]uint64]int{}
	var active set
	add := func(part Line) {
		if len(part) == 0 || len(active.list) == 0 && !d.none {
			return
		}
		at, ok := known[active.sum]
		if !ok {
			if d.left -= len(active.list) + 1; d.left < 0 {
				return
			}
			at = len(out)
			known[active.sum], out = at, append(out, piece{rules: slices.Clone(active.list)})
		}
		out[at].line = append(out[at].line, part...)
	}
	along(l, d.edges(l, rules, side), add, active.turn)
	for i := range out {
		out[i].line = out[i].line.normal()
	}
	return out
}

// firsts returns which of the rules is the first to have each part of a line.
func (d *divider) firsts(l Line, rules []int, side int) []matched {
	edges := d.edges(l, rules, side)
	d.left -= len(edges)
	by := map[int]int{}
	var out []matched
	var active first
	add := func(part Line) {
		rule := active.first()
		if len(part) == 0 || rule == None && !d.none {
			return
		}
		at, ok := by[rule]
		if !ok {
			at = len(out)
			by[rule], out = at, append(out, matched{rule: rule})
		}
		out[at].line = append(out[at].line, part...)
	}
	along(l, edges, add, active.turn)
	for i := range out {
		out[i].line = out[i].line.normal()
	}
	return out
}

type matched struct {
	rule int
	line Line
}

// set is the rules that have a place, ascending, with a sum by which two sets are told apart. The
// sums of different sets are equal by chance alone, in one of 2^128.
type set struct {
	list []int
	sum  [2]uint64
}

func (s *set) turn(edges []edge) {
	ended := map[int]bool{}
	for _, e := range edges {
		if !e.opens {
			ended[e.rule] = true
		}
		s.sum[0] ^= scatter(uint64(e.rule))
		s.sum[1] ^= scatter(^uint64(e.rule))
	}
	s.list = slices.DeleteFunc(s.list, func(i int) bool { return ended[i] })
	for _, e := range edges {
		if e.opens {
			s.list = append(s.list, e.rule)
		}
	}
	slices.Sort(s.list)
}

// scatter spreads a number over 64 bits.
func scatter(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// first is the rules that have a place, of which only the first is asked for.
type first struct {
	heap  rulesHeap
	ended map[int]bool
}

func (f *first) turn(edges []edge) {
	for _, e := range edges {
		switch {
		case e.opens && f.ended[e.rule]:
			delete(f.ended, e.rule) // it is in the heap still
		case e.opens:
			heap.Push(&f.heap, e.rule)
		default:
			if f.ended == nil {
				f.ended = map[int]bool{}
			}
			f.ended[e.rule] = true
		}
	}
}

func (f *first) first() int {
	for len(f.heap) > 0 && f.ended[f.heap[0]] {
		delete(f.ended, heap.Pop(&f.heap).(int))
	}
	if len(f.heap) == 0 {
		return None
	}
	return f.heap[0]
}

type rulesHeap []int

func (h rulesHeap) Len() int           { return len(h) }
func (h rulesHeap) Less(i, j int) bool { return h[i] < h[j] }
func (h rulesHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *rulesHeap) Push(x any)        { *h = append(*h, x.(int)) }
func (h *rulesHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// walk goes along a line.
type walk struct {
	line Line
	from uint64
}

func start(l Line) *walk {
	w := &walk{line: l}
	if len(l) > 0 {
		w.from = l[0].From
	}
	return w
}

// until returns what of the line is before a place and was not returned yet.
func (w *walk) until(at uint64) Line {
	var out Line
	for len(w.line) > 0 && w.from < at {
		s := Span{w.from, min(w.line[0].To, at-1)}
		out = append(out, s)
		if s.To < w.line[0].To {
			w.from = s.To + 1
			break
		}
		if w.line = w.line[1:]; len(w.line) > 0 {
			w.from = w.line[0].From
		}
	}
	return out
}

func (w *walk) rest() Line {
	if len(w.line) == 0 {
		return nil
	}
	return append(Line{{w.from, w.line[0].To}}, w.line[1:]...)
}

// merger joins what is alike in everything but one dimension.
type merger struct {
	at   map[string]int
	list []merged
	key  []byte
}

type merged struct {
	rule                 int
	third, second, grown Line // two sides that are alike, and what is joined
}

// add joins a line to what has the same rule and is alike on the two other sides.
func (m *merger) add(rule int, third, second, grown Line) {
	key := binary.AppendVarint(m.key[:0], int64(rule))
	for _, l := range []Line{third, second} {
		key = binary.AppendUvarint(key, uint64(len(l)))
		for _, s := range l {
			key = binary.AppendUvarint(binary.AppendUvarint(key, s.From), s.To)
		}
	}
	m.key = key
	if m.at == nil {
		m.at = map[string]int{}
	}
	if i, ok := m.at[string(key)]; ok {
		m.list[i].grown = append(m.list[i].grown, grown...)
		return
	}
	m.at[string(key)] = len(m.list)
	m.list = append(m.list, merged{rule, third, second, slices.Clone(grown)})
}

func (m *merger) joined() []merged {
	for i := range m.list {
		m.list[i].grown = m.list[i].grown.normal()
	}
	return m.list
}
