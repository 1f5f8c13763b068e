// Package screen reads the text on a machine's screen: from the memory of a display in text
// mode, or from the pixels of one in graphics, whose cells are held against fonts. A cell
// that is in no font stays unknown; nothing is guessed.
package screen

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"strings"

	"golang.org/x/text/encoding/charmap"
)

// Unknown stands for a cell that is in no font.
const Unknown = '\uFFFD'

// Text is what a screen shows: rows of cells, without blanks at their ends.
type Text struct {
	Rows    []string `json:"rows"`
	Squares []string `json:"squares,omitempty"` // what square codes on it say
	Unknown int      `json:"unknown"`           // cells that could not be read
	Mode    string   `json:"mode"`              // text or graphics
}

// String returns the rows as lines, without the empty ones at the end.
func (t Text) String() string {
	return strings.TrimRight(strings.Join(t.Rows, "\n"), "\n")
}

// Registers are those of a display's CRT controller (index port 0x3d4) by which its text
// memory is read.
var Registers = []byte{0x01, 0x07, 0x09, 0x0c, 0x0d, 0x12}

// Base is where the text memory begins, and how much of it there is, in bytes.
const (
	Base = 0xb8000
	Size = 0x8000
)

// Limits of what a display in text mode may be said to have.
const (
	maxColumns = 256
	maxRows    = 128
)

// FromMemory reads a display in text mode: its registers by their number, and its memory
// from Base on, in which each cell is a character of code page 437 and its attribute.
func FromMemory(register map[byte]byte, memory []byte) (Text, error) {
	columns := int(register[0x01]) + 1
	height := int(register[0x09]&0x1f) + 1
	overflow := register[0x07]
	lines := int(register[0x12]) | int(overflow>>1&1)<<8 | int(overflow>>6&1)<<9
	rows := (lines + 1) / height
	start := (int(register[0x0c])<<8 | int(register[0x0d])) * 2
	if columns > maxColumns || rows < 1 || rows > maxRows {
		return Text{}, fmt.Errorf("a display of %d columns and %d rows is none in text mode", columns, rows)
	}
	t := Text{Mode: "text"}
	decode := charmap.CodePage437
	for r := range rows {
		var row strings.Builder
		for c := range columns {
			at := (start + 2*(r*columns+c)) % Size
			if at >= len(memory) {
				return Text{}, errors.New("the display's memory ends within its screen")
			}
			row.WriteRune(glyph(decode.DecodeByte(memory[at]), memory[at]))
		}
		t.Rows = append(t.Rows, strings.TrimRight(row.String(), " "))
	}
	return t, nil
}

// graphics are the characters that code page 437 shows for control codes.
const graphics = " ☺☻♥♦♣♠•◘○◙♂♀♪♫☼►◄↕‼¶§▬↨↑↓→←∟↔▲▼"

// glyph returns what is shown for a code.
func glyph(r rune, code byte) rune {
	switch {
	case code < 0x20:
		return []rune(graphics)[code]
	case code == 0x7f:
		return '⌂'
	case code == 0xff:
		return ' '
	}
	return r
}

// Cell size of the fonts that are known, in pixels.
const (
	cellWidth  = 8
	cellHeight = 16
)

// Font gives the character of each cell's bits, a byte a row.
type Font map[[cellHeight]byte]rune

// Add takes the 256 glyphs of a font in the order of code page 437 (4096 bytes) into the
// font; what is there stays.
func (f Font) Add(glyphs []byte) error {
	if len(glyphs) < 256*cellHeight {
		return fmt.Errorf("a font of %d bytes, wanted are %d", len(glyphs), 256*cellHeight)
	}
	for code := range 256 {
		var cell [cellHeight]byte
		copy(cell[:], glyphs[code*cellHeight:])
		if _, there := f[cell]; !there {
			f[cell] = glyph(charmap.CodePage437.DecodeByte(byte(code)), byte(code))
		}
	}
	f[[cellHeight]byte{}] = ' '
	return nil
}

// Picture is a portable pixmap (PPM, P6) of 8 bits a colour.
type Picture struct {
	Width, Height int
	pixels        []byte
}

// ReadPPM reads a picture.
func ReadPPM(data []byte) (p Picture, err error) {
	var most int
	n, err := fmt.Sscanf(string(data[:min(len(data), 64)]), "P6\n%d %d\n%d\n", &p.Width, &p.Height, &most)
	if err != nil || n != 3 || most != 255 || p.Width <= 0 || p.Height <= 0 || p.Width > 1<<14 || p.Height > 1<<14 {
		return Picture{}, errors.New("no portable pixmap of 8 bits")
	}
	head := len(fmt.Sprintf("P6\n%d %d\n%d\n", p.Width, p.Height, most))
	if len(data) < head+3*p.Width*p.Height {
		return Picture{}, errors.New("a portable pixmap that is cut short")
	}
	p.pixels = data[head : head+3*p.Width*p.Height]
	return p, nil
}

// InTextMode reports whether it is a picture of the size that displays in text mode have.
func (p Picture) InTextMode() bool { return p.Width == 720 && p.Height == 400 }

// Image returns the picture as others take it.
func (p Picture) Image() image.Image {
	out := image.NewRGBA(image.Rect(0, 0, p.Width, p.Height))
	for i := range p.Width * p.Height {
		copy(out.Pix[4*i:], p.pixels[3*i:3*i+3])
		out.Pix[4*i+3] = 0xff
	}
	return out
}

func (p Picture) at(x, y int) [3]byte { return [3]byte(p.pixels[3*(y*p.Width+x):]) }

// Read reads the cells of a picture, from its upper left corner on.
func (f Font) Read(p Picture) Text {
	t := Text{Mode: "graphics"}
	for r := range p.Height / cellHeight {
		var row strings.Builder
		for c := range p.Width / cellWidth {
			ch, ok := f.cell(p, c*cellWidth, r*cellHeight)
			if !ok {
				ch = Unknown
				t.Unknown++
			}
			row.WriteRune(ch)
		}
		t.Rows = append(t.Rows, strings.TrimRight(row.String(), " "))
	}
	return t
}

// cell reads one cell: of two colours, either of which may be the ground.
func (f Font) cell(p Picture, x, y int) (rune, bool) {
	ground := p.at(x, y)
	var bits, inverse [cellHeight]byte
	var ink [3]byte
	inked := false
	for r := range cellHeight {
		for c := range cellWidth {
			here := p.at(x+c, y+r)
			if here == ground {
				continue
			}
			if inked && here != ink {
				return 0, false
			}
			ink, inked = here, true
			bits[r] |= 0x80 >> c
		}
		inverse[r] = ^bits[r]
	}
	if !inked {
		return ' ', true
	}
	if ch, ok := f[bits]; ok {
		return ch, true
	}
	ch, ok := f[inverse]
	if !ok { // a cursor may lie under the character: its last rows are all ink
		ch, ok = f.underlined(bits)
	}
	return ch, ok
}

// underlined reads a cell with a cursor of full rows at its bottom: when exactly one
// character has all other rows as they are.
func (f Font) underlined(bits [cellHeight]byte) (found rune, ok bool) {
	rows := cellHeight
	for rows > 0 && bits[rows-1] == 0xff {
		rows--
	}
	if rows == cellHeight || rows < cellHeight-4 {
		return 0, false
	}
	for cell, ch := range f {
		if bytes.Equal(cell[:rows], bits[:rows]) && bytes.Count(cell[rows:], []byte{0}) == cellHeight-rows {
			if ok {
				return 0, false
			}
			found, ok = ch, true
		}
	}
	return found, ok
}

// FindFonts returns where fonts of 256 glyphs of 16 rows begin in a firmware's memory: where
// an empty glyph is followed by the two faces of code page 437, and the letters A and B
// stand in their places.
func FindFonts(memory []byte) (list []int) {
	empty := make([]byte, cellHeight)
	face := []byte{0, 0, 0x7e, 0x81}
	for at := 0; ; at++ {
		i := bytes.Index(memory[at:], face)
		if i < 0 {
			return list
		}
		at += i
		begin := at - cellHeight
		if begin < 0 || begin+256*cellHeight > len(memory) || !bytes.Equal(memory[begin:at], empty) {
			continue
		}
		blank := memory[begin+' '*cellHeight : begin+(' '+1)*cellHeight]
		a, b := memory[begin+'A'*cellHeight:][:cellHeight], memory[begin+'B'*cellHeight:][:cellHeight]
		if bytes.Equal(blank, empty) && !bytes.Equal(a, empty) && !bytes.Equal(a, b) {
			list = append(list, begin)
		}
	}
}
