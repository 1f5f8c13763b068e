// Package explain holds what the program can explain: the trade's terms in plain words, and the
// claims of a rehearsal.
package explain

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
)

// Word is a term with its explanation.
type Word struct {
	Name string   `json:"name"`
	Also []string `json:"also,omitempty"` // other writings, and words for it that people use
	Text string   `json:"text"`           // two or three plain sentences
	Real string   `json:"real,omitempty"` // what differs in a real installation
}

//go:embed glossary.txt
var glossary string

// Words returns the glossary, by name. An entry of the text is a line with the name and, after a
// bar, other writings; lines of text; and "real:" before what differs in a real installation.
var Words = sync.OnceValue(func() []Word {
	var out []Word
	for block := range strings.SplitSeq(strings.TrimSpace(glossary), "\n\n") {
		lines := strings.Split(strings.TrimSpace(block), "\n")
		name, also, more := strings.Cut(lines[0], " | ")
		w := Word{Name: name}
		if more {
			w.Also = strings.Split(also, ", ")
		}
		var text []string
		for _, l := range lines[1:] {
			if real, is := strings.CutPrefix(l, "real: "); is {
				w.Real = real
			} else {
				text = append(text, l)
			}
		}
		w.Text = strings.Join(text, " ")
		out = append(out, w)
	}
	return out
})

// Find returns the word of a name or another writing of it, in any letter case, also in the plural.
func Find(name string) (Word, bool) {
	name = strings.ToLower(strings.Join(strings.Fields(name), " "))
	for _, n := range []string{name, strings.TrimSuffix(name, "s"), strings.ReplaceAll(name, "-", " ")} {
		for _, w := range Words() {
			if w.Name == n || slices.Contains(w.Also, n) {
				return w, true
			}
		}
	}
	return Word{}, false
}

// Near returns the names of up to five words whose texts speak of what was asked for, by how many
// of its words they hold; none when none does.
func Near(name string) []string {
	type match struct {
		name string
		n    int
	}
	var found []match
	for _, w := range Words() {
		head, text := w.Name+" "+strings.Join(w.Also, " "), strings.ToLower(w.Text)
		n := 0
		for _, part := range strings.Fields(strings.ToLower(name)) {
			switch {
			case len(part) < 3:
			case strings.Contains(head, part):
				n += 3
			case strings.Contains(text, part):
				n++
			}
		}
		if n > 0 {
			found = append(found, match{w.Name, n})
		}
	}
	slices.SortStableFunc(found, func(a, b match) int { return b.n - a.n })
	var out []string
	for _, m := range found[:min(len(found), 5)] {
		out = append(out, m.name)
	}
	return out
}
