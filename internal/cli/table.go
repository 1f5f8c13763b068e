package cli

import (
	"slices"
	"sort"
	"strings"
)

// cell is a table's entry.
type cell struct {
	text string
	st   style
}

// table is rows of cells in aligned columns, without lines around them. Where
// the screen is too narrow cells wrap at words, under their heading; where not
// even words fit side by side, each row is told line by line, with the
// headings before its entries.
type table struct {
	head   []string
	rows   [][]cell
	notes  []string // below it
	indent int      // more than all tables have
}

func (t *table) add(cells ...any) {
	row := make([]cell, len(cells))
	for i, c := range cells {
		switch v := c.(type) {
		case cell:
			row[i] = v
		case string:
			row[i] = cell{text: v}
		}
	}
	t.rows = append(t.rows, row)
}

// gap is the columns between two columns of a table, and before the first.
const gap = 2

// below shows a table below an empty line; of one without rows, nothing.
func (s *screen) below(t table) {
	if len(t.rows) > 0 {
		s.line()
		s.table(t)
	}
}

func (s *screen) table(t table) {
	if len(t.rows) == 0 {
		return
	}
	head := make([]cell, len(t.head))
	for i, h := range t.head {
		head[i] = cell{h, faint}
	}
	widths, fits := t.fit(s.width - gap - t.indent)
	switch {
	case !fits:
		s.records(t)
	default:
		if len(head) > 0 {
			s.row(head, widths, gap+t.indent)
		}
		for _, row := range t.rows {
			s.row(row, widths, gap+t.indent)
		}
	}
	for _, n := range t.notes {
		s.para(gap+t.indent, 2, faint, signNote+" "+n)
	}
}

// fit returns each column's width so that a row takes at most room, the widest
// columns made narrower first; false when even single words are too wide.
func (t *table) fit(room int) ([]int, bool) {
	var widest, least []int
	var cells [][][]int // by column and row: the widths of the words
	measure := func(i int, text string) {
		for len(widest) <= i {
			widest, least, cells = append(widest, 0), append(least, 0), append(cells, nil)
		}
		widest[i] = max(widest[i], width(text))
		words := strings.Fields(text)
		widths := make([]int, len(words))
		for n, word := range words {
			widths[n] = width(word)
			least[i] = max(least[i], widths[n])
		}
		cells[i] = append(cells[i], widths)
	}
	for i, h := range t.head {
		measure(i, h)
	}
	empty := make([]bool, len(widest))
	for i := range empty {
		empty[i] = !slices.ContainsFunc(t.rows, func(r []cell) bool { return i < len(r) && r[i].text != "" })
	}
	for _, row := range t.rows {
		for i, c := range row {
			measure(i, c.text)
		}
	}
	for i := range empty { // a column without a single entry is not shown
		if empty[i] {
			widest[i], least[i] = 0, 0
		}
	}
	total := func(w []int) int {
		sum := -gap
		for _, n := range w {
			if n > 0 {
				sum += n + gap
			}
		}
		return sum
	}
	if total(widest) <= room {
		return widest, true
	}
	if total(least) > room {
		return nil, false
	}
	// With columns of at most limit, each no wider than its folded lines are.
	folded := func(limit int) []int {
		out := make([]int, len(widest))
		for i := range out {
			room := max(least[i], min(widest[i], limit))
			if room == widest[i] {
				out[i] = room
				continue
			}
			for _, words := range cells[i] {
				out[i] = max(out[i], packed(words, room))
			}
		}
		return out
	}
	limit := sort.Search(slices.Max(widest), func(n int) bool { return total(folded(n+1)) > room })
	return folded(limit), true
}

// packed returns the width of the widest line when words of these widths are folded
// to room.
func packed(words []int, room int) int {
	line, widest := 0, 0
	for _, w := range words {
		if line == 0 || line+1+w > room {
			line = w
		} else {
			line += 1 + w
		}
		widest = max(widest, line)
	}
	return widest
}

// row writes a row, its cells wrapped within their columns.
func (s *screen) row(row []cell, widths []int, indent int) {
	var lines [][]string
	tall := 1
	for i, c := range row {
		l := []string{c.text}
		if width(c.text) > widths[i] {
			l = fold(c.text, widths[i])
		}
		lines, tall = append(lines, l), max(tall, len(l))
	}
	for n := range tall {
		var b strings.Builder
		b.WriteString(strings.Repeat(" ", indent))
		for i, c := range row {
			if widths[i] == 0 {
				continue
			}
			text := ""
			if n < len(lines[i]) {
				text = lines[i][n]
			}
			b.WriteString(s.paint(c.st, text))
			b.WriteString(strings.Repeat(" ", widths[i]-width(text)+gap))
		}
		s.line(b.String())
	}
}

// records returns a table row by row, each entry on a line behind its heading.
func (s *screen) records(t table) {
	lead := 0
	for _, h := range t.head {
		lead = max(lead, width(h))
	}
	for _, row := range t.rows {
		pad := gap + t.indent
		for i, c := range row {
			if c.text == "" {
				continue
			}
			name := ""
			if i < len(t.head) {
				name = t.head[i]
			}
			at := pad + lead + gap
			for n, l := range fold(c.text, max(s.width-at, 20)) {
				if n > 0 {
					name = ""
				}
				s.line(
					strings.Repeat(" ", pad),
					s.paint(faint, name),
					strings.Repeat(" ", lead-width(name)+gap),
					s.paint(c.st, l),
				)
			}
			pad = 2*gap + t.indent
		}
	}
}
