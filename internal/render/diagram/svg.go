package diagram

import (
	"fmt"
	"io"
	"math"
	"strings"

	g "maragu.dev/gomponents"
)

// family is the typeface of the texts; where a reader lacks the first, each
// text is drawn as wide as it was measured.
const family = "Go,'Liberation Sans','Noto Sans',sans-serif"

// SVG writes the picture as an SVG 1.1 document. Texts stay texts, so they can
// be searched and copied.
func (p *Picture) SVG(w io.Writer, ground Ground) error {
	size := func(v float64) string { return fmt.Sprintf("%.1f", v) }
	body := g.Group{
		g.Attr(
			"xmlns",
			"http://www.w3.org/2000/svg",
		), g.Attr("version", "1.1"), g.Attr("width", size(p.W)), g.Attr("height", size(p.H)),
		g.Attr("viewBox", fmt.Sprintf("0 0 %.1f %.1f", p.W, p.H)), g.El("title", g.Text(p.Title)), line(),
		rectangle(Box{0, 0, p.W, p.H}, 0, "fill:"+ground.hex(Paper)),
	}
	for _, s := range p.Shapes {
		body = append(body, s.svg(ground)...)
	}
	if _, err := io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"); err != nil {
		return err
	}
	return g.El("svg", body).Render(w)
}

// line ends a line of the document, so that it can be read and compared.
func line() g.Node { return g.Raw("\n") }

func (s Shape) svg(ground Ground) g.Group {
	dashes := ""
	if s.Dashed {
		dashes = ";stroke-dasharray:6,4"
	}
	switch s.Kind {
	case Rectangle:
		style := fmt.Sprintf(
			"fill:%s;stroke:%s;stroke-width:%g%s",
			ground.hex(s.Fill),
			ground.hex(s.Ink),
			s.Width,
			dashes,
		)
		return g.Group{rectangle(s.Box, s.Round, style)}
	case Line:
		style := fmt.Sprintf(
			"fill:none;stroke:%s;stroke-width:%g;stroke-linejoin:round%s",
			ground.hex(s.Ink),
			s.Width,
			dashes,
		)
		out := g.Group{points("polyline", s.Points, style)}
		if s.Arrow {
			out = append(out, points("polygon", arrow(s.Points), "fill:"+ground.hex(s.Ink)))
		}
		return out
	}
	weight := "normal"
	if s.Bold {
		weight = "bold"
	}
	return g.Group{g.El(
		"text",
		g.Attr("x", fmt.Sprintf("%.1f", s.Box.X)),
		g.Attr("y", fmt.Sprintf("%.1f", s.Base)),
		g.Attr("textLength", fmt.Sprintf("%.1f", s.Box.W)),
		g.Attr("lengthAdjust", "spacingAndGlyphs"),
		g.Attr(
			"style",
			fmt.Sprintf("font:%s %gpx %s;fill:%s;white-space:pre", weight, s.Size, family, ground.hex(s.Ink)),
		),
		g.Text(s.Text),
	),
		line()}
}

func rectangle(b Box, round float64, style string) g.Node {
	at := func(name string, v float64) g.Node { return g.Attr(name, fmt.Sprintf("%.1f", v)) }
	return g.Group{
		g.El("rect", at("x", b.X), at("y", b.Y), at("width", b.W), at("height", b.H), at("rx", round), at("ry", round),
			g.Attr("style", style)),
		line(),
	}
}

func points(name string, list []Point, style string) g.Node {
	var text []string
	for _, p := range list {
		text = append(text, fmt.Sprintf("%.1f,%.1f", p.X, p.Y))
	}
	return g.Group{g.El(name, g.Attr("points", strings.Join(text, " ")), g.Attr("style", style)), line()}
}

func (g Ground) hex(i Ink) string {
	if i == Clear {
		return "none"
	}
	c := g.color(i)
	return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B)
}

// arrow returns the head of a line's last leg.
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
