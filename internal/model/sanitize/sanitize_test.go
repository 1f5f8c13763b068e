package sanitize

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestLine(t *testing.T) {
	for text, want := range map[string]string{
		"a plain title":           "a plain title",
		"Übung, 演習, über 𝔘":       "Übung, 演習, über 𝔘",
		"\x1b[2Jgone":             `\x1b[2Jgone`,
		"\u009b31mred":            `\x9b31mred`,
		"a\u202egnp.exe":          `a\u202egnp.exe`,
		"one\ntwo\r\tthree":       `one\ntwo\r\tthree`,
		"\xff\xfe":                `\xff\xfe`,
		"line\u2028and\U000e0001": `line\u2028and\U000e0001`,
		"nul\x00":                 `nul\x00`,
	} {
		assert.Equal(t, want, Line(text))
		assert.Equal(t, want == text, Clean(text), "%q", text)
	}
	assert.Equal(t, "a\n\t\\x1b", Lines("a\n\t\x1b"))
}

func FuzzLine(f *testing.F) {
	f.Add("\x1b]0;x\a")
	f.Fuzz(func(t *testing.T, text string) {
		out := Line(text)
		assert.True(t, utf8.ValidString(out) && Clean(out))
		assert.Equal(t, out, Line(out), "what shows stays")
	})
}
