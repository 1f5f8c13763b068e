package runbook

import (
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// named are the columns that name the machine which a row is done for.
var named = []string{"guest", "computer", "machine", "appliance"}

// For writes the part of the book that is done at one machine: for the person who looks after it alone.
// Steps and rows keep their identifiers, but not their numbers.
func For(p *plan.Plan, w *lab.Wording, m *plan.Machine) Book {
	b := &writer{p: p, w: w, moved: map[*plan.Adapter]bool{}, only: m}
	book := b.write()
	var parts []Part
	for _, part := range book.Parts {
		var steps []Step
		for _, s := range part.Steps {
			if s.keepFor(p, m) {
				steps = append(steps, s)
			}
		}
		if part.Steps = steps; steps == nil {
			continue
		}
		if m.Appliance == nil { // what an appliance's part opens and closes is another's to look at
			part.NotYet, part.Now, part.Unproved = nil, nil, ""
		}
		parts = append(parts, part)
	}
	book.Parts = parts
	book.Lead = strings.TrimPrefix(book.Lead+"; the part of "+m.Name, "; ")
	return book
}

// keepFor takes away the rows of other machines, and reports whether anything is left to do at this one.
func (s *Step) keepFor(p *plan.Plan, m *plan.Machine) bool {
	kind, of, _ := strings.Cut(s.ID, ".")
	if t := s.Table; t != nil && kind != "autostart" {
		at := slices.IndexFunc(t.Head, func(h string) bool { return slices.Contains(named, h) })
		if kind == "images" || kind == "room" {
			at = 0
		}
		if at >= 0 {
			t.keep(func(row []string) bool { return row[at] == m.Name })
			return len(t.Rows) > 0
		}
	}
	switch kind {
	case "segments":
		s.Table.keep(func(row []string) bool { return touches(m, p.Segment(row[0])) })
		return len(s.Table.Rows) > 0
	case "try":
		return of == "no-bypass" || m.Appliance == nil && of != "outside" && !strings.HasSuffix(of, "."+m.Name) ||
			m.Appliance != nil && (of == "outside" || strings.HasSuffix(of, "."+m.Name))
	case "open", "sockets", "strangers", "keep", "again", "autostart":
		return m.Appliance != nil
	}
	return of == m.Name
}

// keep leaves the rows that are wanted.
func (t *Table) keep(wanted func(row []string) bool) {
	t.Rows = slices.DeleteFunc(t.Rows, func(r []string) bool { return !wanted(r) })
}

// touches reports whether a machine has an adapter on the segment, or on one that is tagged on its wire.
func touches(m *plan.Machine, seg *plan.Segment) bool {
	return slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool {
		return a.Segment == seg || seg != nil && a.Segment.Wire != nil && a.Segment.Wire.Root() == seg
	})
}
