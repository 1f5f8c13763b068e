package cli

import (
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/clipperhouse/displaywidth"
	"golang.org/x/term"
)

// style is how a piece of text looks in a terminal. Colour never carries
// meaning alone: signs and words say the same.
type style string

// The palette (SGR parameters): amber is outside, teal inside, magenta broken.
const (
	plain   style = ""
	strong  style = "1"
	faint   style = "2"
	outside style = "38;5;214"
	inside  style = "38;5;43"
	broken  style = "38;5;205"
)

// The signs of verdicts.
const (
	signHolds   = "✓"
	signBroken  = "✗"
	signUnknown = "?"
	signNote    = "·"
)

// screen is where text goes, with what is known of it.
type screen struct {
	w     io.Writer
	color bool
	width int
	tty   bool
}

// newScreen looks at where the output goes and what the user wants of colour:
// auto, always or never.
func newScreen(w io.Writer, color string) *screen {
	s := &screen{w: w, width: 100}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		s.tty = true
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
			s.width = width
		}
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		s.width = n
	}
	s.width = min(max(s.width, 60), 140)
	switch color {
	case "always":
		s.color = true
	case "auto":
		s.color = s.tty && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	}
	return s
}

// paint gives the text in a style.
func (s *screen) paint(st style, text string) string {
	if !s.color || st == plain || text == "" {
		return text
	}
	return "\x1b[" + string(st) + "m" + text + "\x1b[0m"
}

func (s *screen) write(text string) { _, _ = io.WriteString(s.w, text) }

func (s *screen) line(parts ...string) {
	s.write(strings.TrimRight(strings.Join(parts, ""), " ") + "\n")
}

// heading starts a part of the output.
func (s *screen) heading(text string) { s.line("\n", s.paint(strong, text)) }

// para writes text wrapped at words, every line after the first indented more.
func (s *screen) para(indent, hang int, st style, text string) {
	for i, l := range wrap(text, s.width-indent-hang) {
		pad := indent
		if i > 0 {
			pad += hang
		}
		s.line(strings.Repeat(" ", pad), s.paint(st, l))
	}
}

// width gives how many columns a text takes.
func width(text string) int { return displaywidth.String(text) }

// wrap breaks text at spaces into lines of at most limit columns; a longer
// word has a line of its own.
func wrap(text string, limit int) []string {
	limit = max(limit, 20)
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		switch {
		case line == "":
			line = word
		case width(line)+1+width(word) > limit:
			lines = append(lines, line)
			line = word
		default:
			line += " " + word
		}
	}
	return append(lines, line)
}

// cell is a table's entry.
type cell struct {
	text string
	st   style
}

// table is rows of cells in aligned columns, without lines around them. The
// last column wraps at words when the screen is too narrow; when even that
// leaves it too little room, it moves to a line of its own.
type table struct {
	head   []string
	rows   [][]cell
	indent int // more than all tables have
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

const gap = 2

func (s *screen) table(t table) {
	if len(t.rows) == 0 {
		return
	}
	var widths []int
	measure := func(i int, text string) {
		for len(widths) <= i {
			widths = append(widths, 0)
		}
		widths[i] = max(widths[i], width(text))
	}
	for i, h := range t.head {
		measure(i, h)
	}
	for _, row := range t.rows {
		for i, c := range row {
			measure(i, c.text)
		}
	}
	last := len(widths) - 1
	left := gap + t.indent
	for _, w := range widths[:last] {
		if w > 0 {
			left += w + gap
		}
	}
	room := s.width - left
	below := room < min(widths[last], 24) // the last column goes on lines of its own
	if len(t.head) > 0 {
		row := make([]cell, len(t.head))
		for i, h := range t.head {
			row[i] = cell{h, faint}
		}
		if below {
			row = row[:last]
		}
		s.row(row, widths, gap+t.indent, room)
	}
	for _, row := range t.rows {
		if below && len(row) == last+1 {
			s.row(row[:last], widths, gap+t.indent, room)
			if row[last].text != "" {
				s.para(3*gap+t.indent, 0, row[last].st, row[last].text)
			}
			continue
		}
		s.row(row, widths, gap+t.indent, room)
	}
}

func (s *screen) row(row []cell, widths []int, used, room int) {
	last := len(widths) - 1
	var b strings.Builder
	b.WriteString(strings.Repeat(" ", used))
	for i, c := range row {
		if widths[i] == 0 {
			continue
		}
		if i == last && width(c.text) > room {
			lines := wrap(c.text, room)
			b.WriteString(s.paint(c.st, lines[0]))
			for _, l := range lines[1:] {
				b.WriteString("\n" + strings.Repeat(" ", used) + s.paint(c.st, l))
			}
			break
		}
		b.WriteString(s.paint(c.st, c.text))
		pad := widths[i] - width(c.text) + gap
		if i < len(row)-1 {
			b.WriteString(strings.Repeat(" ", max(pad, 0)))
		}
		used += widths[i] + gap
	}
	s.line(b.String())
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return grouped(n) + " " + many
}

// grouped writes a number with commas between thousands.
func grouped(n int) string {
	t := strconv.Itoa(n)
	for i := len(t) - 3; i > 0 && t[i-1] != '-'; i -= 3 {
		t = t[:i] + "," + t[i:]
	}
	return t
}
