package listing

import (
	"bytes"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/norm"
)

// MaxSize bounds what is read of a listing, in bytes.
const MaxSize = 1 << 20

// decode makes text of what was pasted or saved: UTF-8, UTF-16 in either order, or
// one of the code pages that consoles still write.
func decode(text string) string {
	text = text[:min(len(text), MaxSize)]
	data := []byte(text)
	switch {
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		return wide(data[2:], 0)
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		return wide(data[2:], 1)
	case len(data) > 7 && bytes.Count(data[:min(len(data), 400)], []byte{0}) > min(len(data), 400)/3:
		return wide(data, boolAt(data[0] == 0))
	}
	text = strings.TrimPrefix(text, "\ufeff")
	for cut := len(text); cut > 0 && cut > len(text)-utf8.UTFMax; cut-- { // the bound may stand inside a letter
		if utf8.ValidString(text[:cut]) {
			return text[:cut]
		}
	}
	page := charmap.Windows1252
	if bytes.ContainsAny(data, "\x81\x82\x84\x87\x94\x99\x9a\xa0\xa1\xa2\xa3\xa4") {
		page = charmap.CodePage850 // there these are letters
	}
	out, err := page.NewDecoder().Bytes(data)
	if err != nil {
		return strings.ToValidUTF8(text, "\ufffd")
	}
	return string(out)
}

func boolAt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// wide decodes UTF-16; low is where the high byte of a unit stands not.
func wide(data []byte, low int) string {
	units := make([]uint16, 0, len(data)/2)
	for i := 0; i+1 < len(data); i += 2 {
		units = append(units, uint16(data[i+low])|uint16(data[i+1-low])<<8)
	}
	return string(utf16.Decode(units))
}

// plainSigns is what stands for signs that people and pages write otherwise.
var plainSigns = sync.OnceValue(func() *strings.Replacer {
	return strings.NewReplacer(
		"\u00a0",
		" ",
		"\u202f",
		" ",
		"“",
		`"`,
		"”",
		`"`,
		"„",
		`"`,
		"«",
		`"`,
		"»",
		`"`,
		"‘",
		"'",
		"’",
		"'",
		"‹",
		"'",
		"›",
		"'",
		"–",
		"-",
		"—",
		"-",
		"−",
		"-",
		"‐",
		"-",
		"‑",
		"-",
		"→",
		" -> ",
		"⇒",
		" -> ",
		"➜",
		" -> ",
		"➔",
		" -> ",
		"⟶",
		" -> ",
		"⇨",
		" -> ",
		"│",
		" | ",
		"┃",
		" | ",
		"║",
		" | ",
		"╎",
		" | ",
		"：",
		":",
		"．",
		".",
		"，",
		",",
		"＝",
		"=",
		"─",
		" ",
		"━",
		" ",
		"═",
		" ",
		"┌",
		" ",
		"┐",
		" ",
		"└",
		" ",
		"┘",
		" ",
		"├",
		" ",
		"┤",
		" ",
		"┬",
		" ",
		"┴",
		" ",
		"┼",
		" ",
		"╔",
		" ",
		"╗",
		" ",
		"╚",
		" ",
		"╝",
		" ",
		"╠",
		" ",
		"╣",
		" ",
		"╭",
		" ",
		"╮",
		" ",
		"╰",
		" ",
		"╯",
		" ",
		"•",
		" ",
		"●",
		" ",
		"▸",
		" ",
		"►",
		" ",
	)
})

// plainLine takes out of a line what is no text: terminal controls, what was
// overwritten, marks that turn the direction.
func plainLine(line string) string {
	line = stripColor(line)
	if i := strings.LastIndexByte(strings.TrimRight(line, "\r"), '\r'); i >= 0 { // what stands on the screen
		line = line[i+1:]
	}
	var b strings.Builder
	for _, r := range plainSigns().Replace(line) {
		switch {
		case r == '\b': // the letter before was taken back
			if s := b.String(); s != "" {
				_, n := utf8.DecodeLastRuneInString(s)
				b.Reset()
				b.WriteString(s[:len(s)-n])
			}
		case r == '\t':
			b.WriteRune(r)
		case r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0, r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e,
			r >= 0x2060 && r <= 0x2069, r == 0xfeff:
		default:
			b.WriteRune(r)
		}
	}
	return strings.TrimRight(norm.NFKC.String(b.String()), " \t")
}

// stripColor takes terminal commands out of a line (ECMA-48: CSI, OSC and single
// letters).
func stripColor(line string) string {
	if !strings.Contains(line, "\x1b") {
		return line
	}
	var b strings.Builder
	for {
		before, after, ok := strings.Cut(line, "\x1b")
		b.WriteString(before)
		if !ok || after == "" {
			return b.String()
		}
		end := 0
		switch after[0] {
		case '[':
			end = 1 + strings.IndexFunc(after[1:], func(c rune) bool { return c >= '@' && c <= '~' })
			if end == 0 {
				return b.String()
			}
		case ']':
			if end = strings.IndexAny(after, "\a"); end < 0 {
				return b.String()
			}
		}
		line = after[end+1:]
	}
}
