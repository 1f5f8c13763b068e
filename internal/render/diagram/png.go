package diagram

import (
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"math"

	"git.sr.ht/~sbinet/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// maxPixels bounds a PNG: beyond it the scale is too large for the picture.
const maxPixels = 120e6

// Screen returns the scale at which the picture fills a screen of 1280 by 800
// pixels, from 1 to 2 pixels a point. A picture much larger than a screen is
// drawn somewhat smaller, as small as its texts can still be read.
func (p *Picture) Screen() float64 {
	if points := p.W * p.H; points > largePicture {
		return math.Max(0.7, math.Sqrt(largePicture/points))
	}
	return math.Max(1, math.Min(2, math.Min(1280/p.W, 800/p.H)))
}

// largePicture is the size, in square points, from which a picture is drawn
// smaller: eight screens.
const largePicture = 8 * 1280 * 800

// PNG writes the picture as a PNG image of scale pixels a point.
func (p *Picture) PNG(w io.Writer, g Ground, scale float64) error {
	if scale <= 0 || p.W*p.H*scale*scale > maxPixels {
		return fmt.Errorf(
			"draw: a scale of %g makes %.0f by %.0f pixels; too many, take a smaller one or another form",
			scale,
			p.W*scale,
			p.H*scale,
		)
	}
	c := gg.NewContext(int(p.W*scale), int(p.H*scale))
	c.SetColor(g.color(Paper))
	c.Clear()
	c.Scale(scale, scale)
	faces := map[style]font.Face{}
	for _, s := range p.Shapes {
		switch s.Kind {
		case Rectangle:
			c.SetDash()
			if s.Dashed {
				c.SetDash(6*scale, 4*scale)
			}
			c.DrawRoundedRectangle(s.Box.X, s.Box.Y, s.Box.W, s.Box.H, s.Round)
			if s.Fill != Clear {
				c.SetColor(g.color(s.Fill))
				c.FillPreserve()
			}
			if s.Ink != Clear {
				c.SetLineWidth(s.Width * scale)
				c.SetColor(g.color(s.Ink))
				c.Stroke()
			}
			c.ClearPath()
		case Line:
			c.SetDash()
			if s.Dashed {
				c.SetDash(6*scale, 4*scale)
			}
			c.SetColor(g.color(s.Ink))
			c.SetLineWidth(s.Width * scale)
			for _, q := range s.Points {
				c.LineTo(q.X, q.Y)
			}
			c.Stroke()
			if s.Arrow {
				for _, q := range arrow(s.Points) {
					c.LineTo(q.X, q.Y)
				}
				c.ClosePath()
				c.Fill()
			}
		case Label:
			st := style{size: s.Size, bold: s.Bold}
			if faces[st] == nil {
				face, err := opentype.NewFace(
					st.face().font,
					&opentype.FaceOptions{Size: s.Size * scale, DPI: 72, Hinting: font.HintingNone},
				)
				if err != nil {
					return fmt.Errorf("draw: a font face of %g points: %w", s.Size, err)
				}
				faces[st] = face
			}
			at := fixed.Point26_6{X: fixed.Int26_6(s.Box.X * scale * 64), Y: fixed.Int26_6(s.Base * scale * 64)}
			d := font.Drawer{
				Dst:  c.Image().(*image.RGBA),
				Src:  image.NewUniform(g.color(s.Ink)),
				Face: faces[st],
				Dot:  at,
			}
			d.DrawString(s.Text)
		}
	}
	e := png.Encoder{CompressionLevel: png.BestSpeed}
	return e.Encode(w, g.indexed(c.Image().(*image.RGBA)))
}

// indexed returns an image with a palette: the inks as they are, and of the
// shades between them, where edges are smooth, as many as there is room for.
// It is a third of the size and takes a third of the time to write.
func (g Ground) indexed(in *image.RGBA) *image.Paletted {
	out := image.NewPaletted(in.Rect, nil)
	var known [1 << 15]uint8 // by five bits of each colour; 0 is not known
	add := func(c color.NRGBA) uint8 {
		out.Palette = append(out.Palette, c)
		return uint8(len(out.Palette) - 1)
	}
	add(color.NRGBA{A: 255})
	key := func(r, g, b uint8) int { return int(r>>3)<<10 | int(g>>3)<<5 | int(b>>3) }
	for i := Paper; i <= GateFaint; i++ {
		c := g.color(i)
		if k := key(c.R, c.G, c.B); known[k] == 0 {
			known[k] = add(c)
		}
	}
	for i := range out.Pix {
		p := in.Pix[4*i : 4*i+3 : 4*i+3]
		k := key(p[0], p[1], p[2])
		if known[k] == 0 {
			c := color.NRGBA{p[0], p[1], p[2], 255}
			if len(out.Palette) < 256 {
				known[k] = add(c)
			} else {
				known[k] = uint8(out.Palette[1:].Index(c) + 1)
			}
		}
		out.Pix[i] = known[k]
	}
	return out
}
