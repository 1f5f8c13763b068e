package packetset

import (
	"cmp"
	"slices"
	"sort"
)

// Index finds which of several lines meet another without looking at them all.
// The zero Index is of no lines.
type Index struct {
	spans []indexed // by their beginnings
}

type indexed struct {
	Span
	line int
	upTo uint64 // how far any span to here reaches
}

// NewIndex makes an index of lines.
func NewIndex(lines []Line) Index {
	var x Index
	for i, l := range lines {
		for _, s := range l {
			x.spans = append(x.spans, indexed{s, i, 0})
		}
	}
	slices.SortFunc(x.spans, func(a, b indexed) int { return cmp.Compare(a.From, b.From) })
	upTo := uint64(0)
	for i := range x.spans {
		upTo = max(upTo, x.spans[i].To)
		x.spans[i].upTo = upTo
	}
	return x
}

// Meeting returns the places of the lines that meet one, in order.
func (x Index) Meeting(l Line) []int {
	var out []int
	for _, s := range l {
		end := sort.Search(len(x.spans), func(i int) bool { return x.spans[i].From > s.To })
		for i := end - 1; i >= 0 && x.spans[i].upTo >= s.From; i-- {
			if x.spans[i].To >= s.From {
				out = append(out, x.spans[i].line)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
