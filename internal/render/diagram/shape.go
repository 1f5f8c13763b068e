package diagram

import (
	"image/color"

	"openbastion/internal/model/sanitize"
)

// Point is a place in a picture, in points from its upper left corner.
type Point struct{ X, Y float64 }

// Ink names a colour by what it stands for; the ground gives it its value.
type Ink uint8

// The inks. Clear draws nothing.
const (
	Clear Ink = iota
	Paper
	TextInk
	Faint
	Outside
	OutsideWash
	Inside
	InsideWash
	Broken
	BrokenWash
	Gate
	GateText
	GateFaint
)

// Ground is what a picture stands on: its colours.
type Ground string

// The grounds.
const (
	Light Ground = "light"
	Dark  Ground = "dark"
)

func (g Ground) color(i Ink) color.NRGBA {
	rgb := [...][2]uint32{
		Paper: {0xffffff, 0x12181c}, TextInk: {0x1d2429, 0xe8edf0}, Faint: {0x5d6870, 0x9aa7b0},
		Outside: {0x0a62c0, 0x80ccff}, OutsideWash: {0xe1effa, 0x10283d},
		Inside: {0x8a5a00, 0xf0c070}, InsideWash: {0xf8efdc, 0x33270f},
		Broken: {0xa80f70, 0xe868b4}, BrokenWash: {0xfbe3f2, 0x3a1230},
		Gate: {0x2b3640, 0x33414b}, GateText: {0xffffff, 0xffffff}, GateFaint: {0xc8d2d9, 0xc8d2d9},
	}[i]
	v := rgb[0]
	if g == Dark {
		v = rgb[1]
	}
	return color.NRGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255}
}

// Box is a rectangle.
type Box struct{ X, Y, W, H float64 }

func (b Box) right() float64  { return b.X + b.W }
func (b Box) bottom() float64 { return b.Y + b.H }

// Overlaps reports whether two boxes share more than an edge.
func (b Box) Overlaps(o Box) bool {
	return b.X < o.right() && o.X < b.right() && b.Y < o.bottom() && o.Y < b.bottom()
}

// Shape is one thing drawn: a box, a line of several points, or a text.
// The zero of what a kind does not use is not looked at.
type Shape struct {
	Kind   Kind
	Box    Box     // of a box; of a text what it covers
	Round  float64 // corners of a box
	Points []Point // of a line
	Dashed bool
	Arrow  bool // at a line's end
	Ink    Ink  // line or text
	Fill   Ink  // of a box
	Width  float64
	Text   string
	Size   float64 // of a text, in points
	Bold   bool
	Base   float64 // a text's base line
}

// Kind tells shapes apart.
type Kind uint8

// The kinds of Shape.
const (
	Rectangle Kind = iota
	Line
	Label
)

// Picture is a diagram ready to be written in any form.
type Picture struct {
	Title  string
	W, H   float64 // in points
	Shapes []Shape
	Cables []Cable // in order of machine and segment
	Gates  []Place // the appliances
}

// Cable is the line by which a machine is joined to a segment, from the machine; an empty
// Machine is the outside. Guests that are drawn as one have one.
type Cable struct {
	Machine string  `json:"machine"`
	Segment string  `json:"segment"`
	Points  []Point `json:"points"`
}

// Place is where something named stands.
type Place struct {
	Name string `json:"name"`
	Box  Box    `json:"box"`
}

func (p *Picture) box(b Box, round float64, fill, ink Ink, width float64, dashed bool) {
	p.Shapes = append(
		p.Shapes,
		Shape{Kind: Rectangle, Box: b, Round: round, Fill: fill, Ink: ink, Width: width, Dashed: dashed},
	)
}

func (p *Picture) line(ink Ink, width float64, dashed bool, points ...Point) {
	p.Shapes = append(p.Shapes, Shape{Kind: Line, Points: points, Ink: ink, Width: width, Dashed: dashed})
}

// label writes a text with its upper left corner at x and y, shortened to
// what is left of a width (none: 0), and gives how wide it came to be.
func (p *Picture) label(x, y float64, s style, text string, width float64) float64 {
	text = sanitize.Line(text)
	if text == "" {
		return 0
	}
	if width > 0 {
		text = s.fit(text, width)
	}
	w := s.width(text)
	p.Shapes = append(
		p.Shapes,
		Shape{Kind: Label, Box: Box{x, y, w, s.height()}, Base: y + s.height()*0.8, Text: text, Size: s.size,
			Bold: s.bold, Ink: s.ink},
	)
	return w
}

// sign draws what became of a claim: a tick, a cross or a question mark, as
// lines, since few fonts have them.
func (p *Picture) sign(x, y float64, verdict string) {
	at := func(u, v float64) Point { return Point{x + 10*u, y + 10*v} }
	switch verdict {
	case "holds":
		p.line(TextInk, 2, false, at(0, .55), at(.36, .92), at(1, .1))
	case "broken":
		p.line(Broken, 2.2, false, at(.05, .05), at(.95, .95))
		p.line(Broken, 2.2, false, at(.95, .05), at(.05, .95))
	default:
		p.label(x+1, y-2, style{12, true, Faint}, "?", 0)
	}
}
