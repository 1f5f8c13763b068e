package diagram

import (
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// style is how a text is set.
type style struct {
	size float64
	bold bool
	ink  Ink
}

// typeface is a font with the widths that were asked for.
type typeface struct {
	font   *sfnt.Font
	widths map[rune]float64 // for size 1
}

var typefaces = sync.OnceValue(func() [2]typeface {
	var out [2]typeface
	for i, data := range [][]byte{goregular.TTF, gobold.TTF} {
		f, err := sfnt.Parse(data)
		if err != nil {
			panic("draw: the built-in font does not parse: " + err.Error())
		}
		out[i] = typeface{f, map[rune]float64{}}
		var b sfnt.Buffer
		for r := rune(' '); r < 0x2193; r++ {
			if r == 0x250 {
				r = 0x2010 // nothing between that a lab shows
			}
			if g, err := f.GlyphIndex(&b, r); err == nil && (g != 0 || r == ' ') {
				if w, err := f.GlyphAdvance(&b, g, fixed.I(1000), font.HintingNone); err == nil {
					out[i].widths[r] = float64(w) / 64000
				}
			}
		}
	}
	return out
})

func (s style) face() typeface {
	if s.bold {
		return typefaces()[1]
	}
	return typefaces()[0]
}

// width measures a text in points. What the font lacks is drawn, and counted,
// as wide as an em.
func (s style) width(text string) float64 {
	f := s.face()
	n := 0.0
	for _, r := range text {
		if w, ok := f.widths[r]; ok {
			n += w
		} else {
			n++
		}
	}
	return n * s.size
}

func (s style) height() float64 { return s.size * 1.25 }

// fit shortens a text to a width with an ellipsis.
func (s style) fit(text string, width float64) string {
	if s.width(text) <= width {
		return text
	}
	runes := []rune(text)
	for len(runes) > 1 && s.width(string(runes)+"…") > width {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}
