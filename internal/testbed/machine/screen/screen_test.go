package screen

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"openbastion/internal/format/qr"

	"pgregory.net/rapid"
)

// memoryOf lays lines out as a display in text mode has them from a place on.
func memoryOf(lines []string, columns, start int) []byte {
	m := make([]byte, Size)
	for i := range m {
		m[i] = 0x20 - byte(i%2)*0x19 // blanks, grey on black
	}
	for r, line := range lines {
		for c, b := range []byte(line) {
			m[(start*2+2*(r*columns+c))%Size] = b
		}
	}
	return m
}

func registers(columns, rows, height, start int) map[byte]byte {
	lines := rows*height - 1
	return map[byte]byte{
		0x01: byte(columns - 1),
		0x07: byte(lines>>8&1)<<1 | byte(lines>>9&1)<<6,
		0x09: byte(height-1) | 0x40,
		0x0c: byte(start >> 8),
		0x0d: byte(start),
		0x12: byte(lines),
	}
}

// Text mode is read wherever the display begins, also past the end of its memory.
func TestFromMemory(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.SampledFrom([][3]int{{80, 25, 16}, {80, 50, 8}, {132, 25, 16}, {40, 25, 16}}).Draw(t, "size")
		start := rapid.IntRange(0, Size/2-1).Draw(t, "start")
		var lines []string
		for range size[1] {
			lines = append(lines, strings.TrimRight(rapid.StringMatching(`[ -~]{0,40}`).Draw(t, "line"), " "))
		}
		got, err := FromMemory(registers(size[0], size[1], size[2], start), memoryOf(lines, size[0], start))
		require.NoError(t, err)
		assert.Equal(t, lines, got.Rows)
		assert.Zero(t, got.Unknown)
	})
	got, err := FromMemory(registers(80, 25, 16, 0), memoryOf([]string{"\xda\xc4\xbf \x01\x18 \xe1"}, 80, 0))
	require.NoError(t, err)
	assert.Equal(t, "┌─┐ ☺↑ ß", got.Rows[0])
	for _, r := range []map[byte]byte{{}, registers(80, 200, 2, 0), {0x01: 0xff, 0x09: 0x1f}} {
		if t2, err := FromMemory(r, nil); err == nil {
			assert.Empty(t, strings.TrimSpace(t2.String()))
		}
	}
}

// glyphs are a font whose every character but the blank looks different.
func glyphs() []byte {
	g := make([]byte, 256*cellHeight)
	for code := 1; code < 256; code++ {
		if code == ' ' || code == 0xff {
			continue
		}
		at := code * cellHeight
		g[at+2], g[at+3], g[at+4], g[at+5] = byte(code), 0x81, byte(code)^0xff, 0x42
		g[at+6] = byte(code*7)%251 | 1
	}
	return g
}

// render draws lines with a font into a picture.
func render(lines []string, columns int, font []byte, ink, ground byte, cursor int) []byte {
	height := len(lines) * cellHeight
	out := fmt.Appendf(nil, "P6\n%d %d\n255\n", columns*cellWidth, height)
	for y := range height {
		row := []byte(fmt.Sprintf("%-*s", columns, lines[y/cellHeight]))
		for x := range columns * cellWidth {
			code := row[x/cellWidth]
			set := font[int(code)*cellHeight+y%cellHeight]&(0x80>>(x%cellWidth)) != 0
			if cursor >= 0 && y/cellHeight == 0 && x/cellWidth == cursor && y%cellHeight >= 14 {
				set = true
			}
			v := ground
			if set {
				v = ink
			}
			out = append(out, v, v, v)
		}
	}
	return out
}

// What was drawn with a font is read with it, light on dark and dark on light, also under a
// cursor; what was drawn with another one stays unknown.
func TestFontReads(t *testing.T) {
	font := glyphs()
	f := Font{}
	require.NoError(t, f.Add(font))
	lines := []string{"Which interface is wan? eth0", "", "  02:5b:ac:50:c2:01", `~!@#$%^&*()_+{}|:"<>?`}
	for _, c := range []struct {
		ink, ground byte
		cursor      int
	}{{200, 0, -1}, {0, 255, -1}, {200, 0, 28}, {200, 0, 3}} {
		p, err := ReadPPM(render(lines, 40, font, c.ink, c.ground, c.cursor))
		require.NoError(t, err)
		got := f.Read(p)
		want := append([]string{}, lines...)
		if c.cursor >= len(lines[0]) {
			assert.LessOrEqual(t, got.Unknown, 1, "a cursor on a blank is nothing that a font has")
			got.Rows[0] = strings.TrimRight(got.Rows[0], " "+string(Unknown)+"_")
		} else {
			assert.Zero(t, got.Unknown, c)
		}
		assert.Equal(t, want, got.Rows, c)
	}
	other := glyphs()
	for i := range other {
		if i%cellHeight == 9 {
			other[i] ^= 0x18
		}
	}
	p, err := ReadPPM(render([]string{"eth0"}, 40, other, 200, 0, -1))
	require.NoError(t, err)
	got := f.Read(p)
	assert.NotContains(t, got.Rows[0], "eth0", "nothing is guessed")
	assert.GreaterOrEqual(t, got.Unknown, 4)
	assert.Error(t, f.Add(make([]byte, 100)))
}

// A font is found in a firmware's memory by its first glyphs, wherever it lies.
func TestFindFonts(t *testing.T) {
	font := glyphs()
	copy(font[cellHeight:], []byte{0, 0, 0x7e, 0x81}) // the first face
	memory := append(make([]byte, 777), font...)
	memory = append(memory, make([]byte, 99)...)
	assert.Equal(t, []int{777}, FindFonts(memory))
	assert.Empty(t, FindFonts(memory[:2000]))
	assert.Empty(t, FindFonts(nil))
}

func FuzzReadPPM(f *testing.F) {
	f.Add(render([]string{"a"}, 2, glyphs(), 1, 0, -1))
	f.Add([]byte("P6\n99999 99999\n255\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, err := ReadPPM(data); err == nil {
			Font{}.Read(p)
		}
	})
}

func FuzzFromMemory(f *testing.F) {
	f.Add([]byte{79, 0x1f, 0x4f, 0, 0, 0x8f}, []byte("text"))
	f.Fuzz(func(t *testing.T, values, memory []byte) {
		r := map[byte]byte{}
		for i, v := range values {
			if i < len(Registers) {
				r[Registers[i]] = v
			}
		}
		if text, err := FromMemory(r, memory); err == nil {
			for _, b := range []byte(text.String()) {
				_ = charmap.CodePage437.DecodeByte(b)
			}
		}
	})
}

// A square code that a guest shows in text mode is read from the display's memory, and from the
// points of one in graphics whose font has no half blocks.
func TestSquareOnScreen(t *testing.T) {
	const brief = "OB2.AHHQ6Z5FIA5P3RAAARVQQLTGAAAAN7IPQCFDXYEMLY3W7KKO5O26JZ72RQFZXFAR3JZMK4ZGVOS7KLUFEDUPM5SZWRLP6XKVEWSTJDIPGE"
	drawn, err := qr.Draw(brief)
	require.NoError(t, err)
	memory := make([]byte, Size)
	for y, row := range strings.Split(strings.TrimRight(drawn, "\n"), "\n") {
		for x, c := range []rune(row) {
			b, ok := charmap.CodePage437.EncodeRune(c)
			require.True(t, ok)
			memory[2*(80*y+x)], memory[2*(80*y+x)+1] = b, 7
		}
	}
	text, err := FromMemory(map[byte]byte{0x01: 79, 0x07: 0x1f, 0x09: 0x4f, 0x12: 0x8f}, memory)
	require.NoError(t, err)
	assert.Equal(t, []string{brief}, qr.Read(text.Rows))

	p := Picture{Width: 640, Height: 480, pixels: make([]byte, 3*640*480)}
	for y, row := range strings.Split(drawn, "\n") {
		for x, c := range []rune(row) {
			for n := range 8 * 16 {
				if upper := n/8 < 8; c == '█' || upper && c == '▀' || !upper && c == '▄' {
					copy(p.pixels[3*((16*y+n/8)*640+8*x+n%8):], []byte{170, 170, 170})
				}
			}
		}
	}
	assert.Equal(t, []string{brief}, qr.ReadPicture(p.Image()))
}
