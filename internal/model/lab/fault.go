package lab

import (
	"fmt"
	"slices"
	"strings"
)

// Fault is one thing wrong with a lab file: an error of the file, not a
// finding about a well written lab.
type Fault struct {
	File    string `json:"file"`
	Pos     Pos    `json:"position"`
	Message string `json:"message"`        // what is wrong
	Instead string `json:"fix,omitempty"`  // what to write instead
	Source  string `json:"line,omitempty"` // the line it stands in, shortened
	offset  int    // where in Source the place is, in characters
}

func (f Fault) Error() string {
	s := fmt.Sprintf("%s:%s: %s", f.File, f.Pos, f.Message)
	if f.Pos.IsZero() {
		s = fmt.Sprintf("%s: %s", f.File, f.Message)
	}
	if f.Instead != "" {
		s += "; " + f.Instead
	}
	return s
}

// Excerpt returns the line of the fault and, under it, a line with a mark at the
// place; both empty when the fault has no place.
func (f Fault) Excerpt() (line, mark string) {
	if f.Source == "" {
		return "", ""
	}
	return f.Source, strings.Repeat(" ", f.offset) + "^"
}

// Faults is every fault of a file, in file order. It is an error when not empty.
type Faults []Fault

func (f Faults) Error() string {
	var b strings.Builder
	for i, x := range f {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(x.Error())
	}
	return b.String()
}

func (f Faults) sorted() Faults {
	slices.SortStableFunc(f, func(a, b Fault) int {
		if a.Pos.Line != b.Pos.Line {
			return a.Pos.Line - b.Pos.Line
		}
		return a.Pos.Column - b.Pos.Column
	})
	return f
}

// excerpt cuts a line of at most 100 characters around the column.
func excerpt(line string, column int) (string, int) {
	runes := []rune(strings.TrimRight(line, "\r\n"))
	for i, c := range runes {
		if c < ' ' || c == 0x7f {
			runes[i] = ' '
		}
	}
	at := min(max(column-1, 0), len(runes))
	const width = 100
	start := 0
	if at > width*3/4 {
		start = at - width/2
	}
	end := min(len(runes), start+width)
	return string(runes[start:end]), at - start
}
