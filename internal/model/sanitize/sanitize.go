// Package visible makes texts from outside safe to show: what a terminal would
// obey or a reader would not see (control characters, overrides of the reading
// direction, line breaks, bytes that are no text) is written out instead.
package sanitize

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// shows reports whether it is a character that appears as itself: letters, marks, signs and
// spaces.
func shows(r rune) bool { return unicode.IsPrint(r) || unicode.Is(unicode.Zs, r) }

// Clean reports whether it is a text in which every character appears as itself.
func Clean(text string) bool {
	_, found := Hidden(text)
	return !found
}

// Hidden returns the first character that does not appear as itself.
func Hidden(text string) (r rune, found bool) {
	for i := 0; i < len(text); {
		if c := text[i]; c >= ' ' && c < 0x7f { // most of any text
			i++
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if r == utf8.RuneError && size == 1 || !shows(r) {
			return r, true
		}
		i += size
	}
	return 0, false
}

// Line returns a text as one line: what does not show is written as an escape.
func Line(text string) string {
	if Clean(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case shows(r):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\U%08x`, r)
		}
		i += size
	}
	return b.String()
}

// Lines is Line for a text of several lines, whose breaks and tabs stay.
func Lines(text string) string {
	var out []string
	for l := range strings.SplitSeq(text, "\n") {
		var parts []string
		for p := range strings.SplitSeq(l, "\t") {
			parts = append(parts, Line(p))
		}
		out = append(out, strings.Join(parts, "\t"))
	}
	return strings.Join(out, "\n")
}
