package diagram

import (
	"bytes"
	"fmt"
	"io"
	"math"

	"github.com/signintech/gopdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// A sheet is A4, lying, in points; smallest is the scale below which a picture
// gets a larger sheet instead, so that it can still be read.
const (
	sheetW, sheetH = 841.89, 595.28
	sheetMargin    = 24.0
	smallest       = 0.5
)

// PDF writes the picture as one page: A4 lying, or a larger sheet of the same
// shape for what would be too small to read there.
func (p *Picture) PDF(w io.Writer, g Ground) error {
	scale := math.Min(1.2, math.Min((sheetW-2*sheetMargin)/p.W, (sheetH-2*sheetMargin)/p.H))
	grow := math.Max(1, smallest/scale)
	scale *= grow
	width, height := sheetW*grow, sheetH*grow
	c := &gopdf.GoPdf{}
	c.Start(gopdf.Config{PageSize: gopdf.Rect{W: width, H: height}})
	c.SetInfo(gopdf.PdfInfo{Title: p.Title})
	for name, data := range map[string][]byte{"regular": goregular.TTF, "bold": gobold.TTF} {
		if err := c.AddTTFFontByReader(name, bytes.NewReader(data)); err != nil {
			return fmt.Errorf("draw: the built-in font: %w", err)
		}
	}
	c.AddPage()
	if g == Dark {
		rgb(c.SetFillColor, g, Paper)
		c.RectFromUpperLeftWithStyle(0, 0, width, height, "F")
	}
	dx, dy := (width-p.W*scale)/2, math.Min((height-p.H*scale)/2, 2*sheetMargin*grow)
	at := func(q Point) gopdf.Point { return gopdf.Point{X: dx + q.X*scale, Y: dy + q.Y*scale} }
	pen := func(s Shape) {
		rgb(c.SetStrokeColor, g, s.Ink)
		c.SetLineWidth(s.Width * scale)
		if s.Dashed {
			c.SetCustomLineType([]float64{6 * scale, 4 * scale}, 0)
		} else {
			c.SetLineType("solid")
		}
	}
	for _, s := range p.Shapes {
		switch s.Kind {
		case Rectangle:
			how := ""
			if s.Ink != Clear {
				pen(s)
				how = "D"
			}
			if s.Fill != Clear {
				rgb(c.SetFillColor, g, s.Fill)
				how += "F"
			}
			a, b := at(Point{s.Box.X, s.Box.Y}), at(Point{s.Box.right(), s.Box.bottom()})
			if err := c.Rectangle(a.X, a.Y, b.X, b.Y, how, s.Round*scale, 8); err != nil {
				return fmt.Errorf("draw: a box of %v: %w", s.Box, err)
			}
		case Line:
			pen(s)
			for i := range s.Points[1:] {
				a, b := at(s.Points[i]), at(s.Points[i+1])
				c.Line(a.X, a.Y, b.X, b.Y)
			}
			if s.Arrow {
				var points []gopdf.Point
				for _, q := range arrow(s.Points) {
					points = append(points, at(q))
				}
				rgb(c.SetFillColor, g, s.Ink)
				c.Polygon(points, "F")
			}
		case Label:
			name := "regular"
			if s.Bold {
				name = "bold"
			}
			if err := c.SetFont(name, "", s.Size*scale); err != nil {
				return fmt.Errorf("draw: %w", err)
			}
			rgb(c.SetTextColor, g, s.Ink)
			q := at(Point{s.Box.X, s.Base})
			c.SetXY(q.X, q.Y)
			if err := c.Text(s.Text); err != nil {
				return fmt.Errorf("draw: the text %q: %w", s.Text, err)
			}
		}
	}
	_, err := c.WriteTo(w)
	return err
}

func rgb(set func(r, g, b uint8), g Ground, i Ink) {
	c := g.color(i)
	set(c.R, c.G, c.B)
}
