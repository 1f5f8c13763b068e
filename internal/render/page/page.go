// Package page is how the program's HTML pages look: one style, self-contained,
// on a screen and on paper.
package page

import (
	"bytes"
	_ "embed"
	"strings"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"
)

//go:embed style.css
var style string

// Write returns a page with a title, a style and a script of its own beside the
// common ones, and what its body holds.
func Write(title, css, script string, body ...g.Node) ([]byte, error) {
	var b bytes.Buffer
	err := h.Doctype(h.HTML(h.Lang("en"),
		h.Head(
			h.Meta(h.Charset("utf-8")),
			h.Meta(h.Name("viewport"), h.Content("width=device-width, initial-scale=1")),
			h.TitleEl(g.Text(title)),
			h.StyleEl(g.Raw(style+css)),
		),
		h.Body(g.Group(body), h.Script(g.Raw(script))),
	)).Render(&b)
	return b.Bytes(), err
}

// Diagram returns an SVG document as part of a page, and with a second one that for dark screens.
func Diagram(light []byte, dark ...[]byte) g.Node {
	out := g.Group{h.Figure(h.ID("diagram"), g.If(len(dark) > 0, h.Class("light")), g.Raw(inline(light)))}
	for _, svg := range dark {
		out = append(out, h.Figure(h.Class("dark"), g.Attr("aria-hidden", "true"), g.Raw(inline(svg))))
	}
	return out
}

// inline returns an SVG document without what stands before its root element.
func inline(svg []byte) string {
	if i := bytes.Index(svg, []byte("<svg")); i > 0 {
		svg = svg[i:]
	}
	return string(svg)
}

// Table returns a table; a cell is a node, and a nil one is empty.
func Table(head []string, rows [][]g.Node) g.Node {
	top := g.Map(head, func(t string) g.Node { return h.Th(g.Text(t)) })
	return h.Table(g.If(head != nil, h.Tr(top)), g.Map(rows, func(r []g.Node) g.Node {
		return h.Tr(g.Map(r, func(c g.Node) g.Node { return h.Td(c) }))
	}))
}

// Code sets what stands between backquotes as code.
func Code(text string) g.Node {
	parts := strings.Split(text, "`")
	var out g.Group
	for i, p := range parts {
		if i%2 == 1 && i+1 < len(parts) {
			out = append(out, h.Code(g.Text(p)))
		} else {
			out = append(out, g.Text(p))
		}
	}
	return out
}

// Mono sets a text in letters of one width.
func Mono(text string) g.Node { return h.Span(h.Class("mono"), g.Text(text)) }
