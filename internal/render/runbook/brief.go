package runbook

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"
)

// advice are the steps, by the beginning of their identifiers, that have nothing to type and nothing to
// look at in this lab alone: the full book has them.
var advice = []string{"room", "ready.", "update.", "keep", "again"}

// explaining are the columns that say why, and not what.
var explaining = []string{"why", "remark", "when not, it means", "what lies there"}

// usual are the settings of a machine that are advice for any.
var usual = []string{"disk space", "place", "not needed", "pointing device"}

// valued finds a text that has a value of this lab in it: an address, a page, a command, a MAC address.
var valued = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("\\bnever\\b|\\d+\\.\\d+\\.\\d+\\.\\d+|https?://|`|([0-9a-f]{2}:){3}")
})

// aside is an explanation in brackets.
var aside = sync.OnceValue(
	func() *regexp.Regexp { return regexp.MustCompile(` ?\([^()]{25,}\)|: a network that [^,;]*`) },
)

// Brief returns the book as one follows it: values, what to see, and a box. What stands in every lab's
// book, reasons and usual mistakes are in the full one.
func (b Book) Brief() Book {
	out := b
	out.Parts = nil
	for _, p := range b.Parts {
		part := p
		part.Steps, part.Unproved = nil, ""
		for _, s := range p.Steps {
			if !slices.ContainsFunc(advice, func(a string) bool { return strings.HasPrefix(s.ID, a) }) {
				part.Steps = append(part.Steps, s.Brief())
			}
		}
		if len(part.Steps) > 0 {
			out.Parts = append(out.Parts, part)
		}
	}
	return out
}

// Brief returns the step without reasons and usual mistakes, with the advice alone that has a value of
// this lab in it.
func (s Step) Brief() Step {
	const most = 2 // of what to do, where no value is in it
	out := s
	out.Why, out.Mistakes, out.Do, out.brief = "", nil, nil, true
	for i, d := range s.Do {
		if valued().MatchString(d) || s.Table == nil && (i < most || len(s.Do) <= most+1) {
			out.Do = append(out.Do, d)
		}
	}
	if s.Table != nil {
		out.Table = s.Table.brief(strings.HasPrefix(s.ID, "create."))
	}
	return out
}

func (t Table) brief(machine bool) *Table {
	out := Table{Tick: t.Tick}
	var keep []int
	for i, h := range t.Head {
		if !slices.Contains(explaining, h) &&
			(i == 0 || slices.ContainsFunc(t.Rows, func(r []string) bool { return r[i] != "" })) {
			keep = append(keep, i)
			out.Head = append(out.Head, h)
		}
	}
	for _, r := range t.Rows {
		if machine && slices.Contains(usual, r[0]) {
			continue
		}
		var row []string
		for _, i := range keep {
			row = append(row, aside().ReplaceAllString(r[i], ""))
		}
		out.Rows = append(out.Rows, row)
	}
	return &out
}

// columns writes a table with a line for each row where that fits: the last column may go on below.
func (t Table) columns(w *bytes.Buffer, width int) {
	box := "    · "
	if t.Tick {
		box = "    [ ] "
	}
	const gap = 2
	widths := make([]int, len(t.Head))
	for i := range t.Head {
		for _, r := range append([][]string{t.Head}, t.Rows...) {
			widths[i] = max(widths[i], utf8.RuneCountInString(r[i]))
		}
	}
	last := len(t.Head) - 1
	at := len([]rune(box))
	for _, n := range widths[:last] {
		at += n + gap
	}
	if width-at < 24 { // too wide for columns: each row in full, value after value
		for _, r := range t.Rows {
			text := r[0]
			if len(r) == 2 {
				text, r = r[0]+"  →  "+r[1], nil
			}
			for i, c := range r[min(1, len(r)):] {
				if c != "" {
					text += " · " + headed(t.Head[i+1], c)
				}
			}
			for i, line := range fold(text, width-10) {
				if i > 0 {
					box = "          "
				}
				w.WriteString(box + line + "\n")
			}
			box = map[bool]string{true: "    [ ] ", false: "    · "}[t.Tick]
		}
		return
	}
	if last > 1 {
		w.WriteString(strings.Repeat(" ", len([]rune(box))))
		for i, h := range t.Head {
			fmt.Fprintf(w, "%-*s", widths[i]+gap, h)
		}
		w.Truncate(len(bytes.TrimRight(w.Bytes(), " ")))
		w.WriteString("\n")
	}
	for _, r := range t.Rows {
		w.WriteString(box)
		for i, c := range r[:last] {
			w.WriteString(c + strings.Repeat(" ", widths[i]+gap-utf8.RuneCountInString(c)))
		}
		for i, line := range fold(r[last], width-at) {
			if i > 0 {
				w.WriteString("\n" + strings.Repeat(" ", at))
			}
			w.WriteString(line)
		}
		w.Truncate(len(bytes.TrimRight(w.Bytes(), " ")))
		w.WriteString("\n")
	}
}

// headed returns a value behind what it is: adapter 2 is one already.
func headed(head, value string) string {
	if strings.HasPrefix(value, head+" ") || head == "how" ||
		head == "attach it to" && !strings.HasPrefix(value, "nothing") {
		return value
	}
	return head + " " + value
}
