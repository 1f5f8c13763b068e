package draw

import (
	"encoding/xml"
	"fmt"
	"io"
	"math"
	"strings"

	svg "github.com/ajstarks/svgo/float"
)

// family is the typeface of the texts; where a reader lacks the first, each
// text is drawn as wide as it was measured.
const family = "Go,'Liberation Sans','Noto Sans',sans-serif"

// SVG writes the picture as an SVG 1.1 document. Texts stay texts, so they can
// be searched and copied.
func (p *Picture) SVG(w io.Writer, g Ground) error {
	out := &failing{w: w}
	c := svg.New(out)
	c.Decimals = 1
	c.Startview(p.W, p.H, 0, 0, p.W, p.H)
	c.Title(p.Title)
	c.Rect(0, 0, p.W, p.H, "fill:"+g.hex(Paper))
	for _, s := range p.Shapes {
		switch s.Kind {
		case Rectangle:
			style := fmt.Sprintf("fill:%s;stroke:%s;stroke-width:%g", g.hex(s.Fill), g.hex(s.Ink), s.Width)
			if s.Dashed {
				style += ";stroke-dasharray:6,4"
			}
			c.Roundrect(s.Box.X, s.Box.Y, s.Box.W, s.Box.H, s.Round, s.Round, style)
		case Line:
			style := fmt.Sprintf("fill:none;stroke:%s;stroke-width:%g;stroke-linejoin:round", g.hex(s.Ink), s.Width)
			if s.Dashed {
				style += ";stroke-dasharray:6,4"
			}
			x, y := split(s.Points)
			c.Polyline(x, y, style)
			if s.Arrow {
				x, y := split(arrow(s.Points))
				c.Polygon(x, y, "fill:"+g.hex(s.Ink))
			}
		case Label:
			weight := "normal"
			if s.Bold {
				weight = "bold"
			}
			var text strings.Builder
			if err := xml.EscapeText(&text, []byte(s.Text)); err != nil {
				return err
			}
			fmt.Fprintf(out, "<text x=\"%.1f\" y=\"%.1f\" textLength=\"%.1f\" lengthAdjust=\"spacingAndGlyphs\" style=\"font:%s %gpx %s;fill:%s;white-space:pre\">%s</text>\n",
				s.Box.X, s.Base, s.Box.W, weight, s.Size, family, g.hex(s.Ink), text.String())
		}
	}
	c.End()
	return out.err
}

// failing keeps the first error of a writer whose user does not look.
type failing struct {
	w   io.Writer
	err error
}

func (f *failing) Write(b []byte) (int, error) {
	if f.err == nil {
		_, f.err = f.w.Write(b)
	}
	return len(b), f.err
}

func (g Ground) hex(i Ink) string {
	if i == Clear {
		return "none"
	}
	c := g.color(i)
	return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B)
}

func split(points []Point) (x, y []float64) {
	for _, p := range points {
		x, y = append(x, p.X), append(y, p.Y)
	}
	return x, y
}

// arrow gives the head of a line's last leg.
func arrow(points []Point) []Point {
	b := points[len(points)-1]
	a := b
	for i := len(points) - 2; i >= 0 && a == b; i-- {
		a = points[i]
	}
	d := math.Hypot(b.X-a.X, b.Y-a.Y)
	if d == 0 {
		return []Point{b, b, b}
	}
	u, v := (b.X-a.X)/d, (b.Y-a.Y)/d
	return []Point{{b.X + 2*u, b.Y + 2*v}, {b.X - 9*u - 5*v, b.Y - 9*v + 5*u}, {b.X - 9*u + 5*v, b.Y - 9*v - 5*u}}
}
