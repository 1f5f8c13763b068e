package cli

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"

	"github.com/clipperhouse/displaywidth"
	"golang.org/x/term"

	"openbastion/internal/model/sanitize"
)

// style is how a piece of text looks in a terminal. Colour never carries
// meaning alone: signs and words say the same.
type style string

// The palette (SGR parameters): sky is outside, earth inside, magenta broken.
// Each stands out from a light ground and from a dark one.
const (
	plain   style = ""
	strong  style = "1"
	faint   style = "2"
	outside style = "38;5;32"
	inside  style = "38;5;136"
	broken  style = "38;5;162"
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
	shown := w
	if c, ok := w.(*checkedWriter); ok {
		shown = c.w
	}
	if f, ok := shown.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
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

// paint returns the text in a style, but for parts of it that have one of their own.
func (s *screen) paint(st style, text string) string {
	if !s.color || st == plain || text == "" {
		return text
	}
	var b strings.Builder
	begin := func(code string) { b.WriteString(styleMark() + code + styleEnd) }
	begin(string(st))
	for i, part := range strings.Split(text, styleMark()) {
		if i > 0 {
			code, rest, _ := strings.Cut(part, styleEnd)
			if begin("0"); code != "0" {
				begin(code)
			} else {
				begin(string(st))
			}
			part = rest
		}
		b.WriteString(sanitize.Line(part))
	}
	begin("0")
	return b.String()
}

// A style stands in a text between a mark that nothing from outside can hold and
// an end, until the text is written.
const styleEnd = "\x00"

var styleMark = sync.OnceValue(func() string { return fmt.Sprintf("\x00style-%016x-", rand.Uint64()) })

// write is where all text passes on its way to a terminal: what a terminal would
// obey or a reader would not see is shown instead, but for the styles.
func (s *screen) write(text string) {
	if !s.color {
		_, _ = io.WriteString(s.w, sanitize.Lines(text))
		return
	}
	var b strings.Builder
	for i, part := range strings.Split(text, styleMark()) {
		if i > 0 {
			st, rest, _ := strings.Cut(part, styleEnd)
			b.WriteString("\x1b[" + st + "m")
			part = rest
		}
		b.WriteString(sanitize.Lines(part))
	}
	_, _ = io.WriteString(s.w, b.String())
}

// line writes one line.
func (s *screen) line(parts ...string) {
	s.write(strings.TrimRight(strings.ReplaceAll(strings.Join(parts, ""), "\n", `\n`), " ") + "\n")
}

// heading starts a part of the output.
func (s *screen) heading(text string) {
	s.line()
	s.line(s.paint(strong, text))
}

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

// width returns how many columns a text takes; styles take none.
func width(text string) int {
	if !strings.Contains(text, styleEnd) {
		return displaywidth.String(text)
	}
	n := 0
	for i, part := range strings.Split(text, styleMark()) {
		if i > 0 {
			_, part, _ = strings.Cut(part, styleEnd)
		}
		n += displaywidth.String(part)
	}
	return n
}

// wrap breaks text at spaces into lines of at most limit columns, and never
// narrower than 20; a longer word has a line of its own.
func wrap(text string, limit int) []string { return fold(text, max(limit, 20)) }

func fold(text string, limit int) []string {
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
