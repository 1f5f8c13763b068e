package live

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"openbastion/internal/model/plan"
	"openbastion/internal/render/diagram"
	"openbastion/internal/render/page"
)

//go:embed live.js
var script string

//go:embed live.css
var css string

// drawn is what the page's script knows of the diagram.
type drawn struct {
	Cables  []diagram.Cable `json:"cables"`
	Gates   []diagram.Place `json:"gates"`
	Outside map[string]bool `json:"outside"` // segments beyond the appliances
}

// Page returns the page of a lab.
func Page(p *plan.Plan) ([]byte, error) {
	picture := diagram.Of(p, diagram.Options{})
	var svg bytes.Buffer
	if err := picture.SVG(&svg, diagram.Light); err != nil {
		return nil, err
	}
	d := drawn{Cables: picture.Cables, Gates: picture.Gates, Outside: map[string]bool{}}
	for _, s := range p.Segments {
		d.Outside[s.Name] = !s.Inside()
	}
	data, err := json.Marshal(d) // which escapes what would end the element
	if err != nil {
		return nil, err
	}
	list := func(id, title, empty string) g.Node {
		return h.Section(h.H2(g.Text(title)), h.Ul(h.ID(id), h.Data("empty", empty)))
	}
	return page.Write(p.Name+": live", css, script,
		h.Header(h.H1(g.Text(p.Name)), h.Span(h.ID("state"), h.Role("status"), g.Text("not connected"))),
		h.Div(h.ID("escape"), h.Role("alert"), h.Hidden("")),
		h.Main(
			page.Diagram(svg.Bytes()),
			h.Aside(
				h.Section(h.H2(g.Text("Checks")), h.P(h.ID("checked"), h.Role("status"), g.Text("not checked yet")), h.Ul(h.ID("failing"))),
				h.Section(h.H2(g.Text("Segments")), h.Table(h.ID("rates"))),
				list("blocked", "Stopped", "nothing so far"),
				list("events", "What happens", "nothing since this page was opened"),
			),
		),
		h.Script(h.Type("application/json"), h.ID("drawn"), g.Raw(string(data))),
	)
}

// Address returns where the page of a token is, on a host and port.
func Address(host, token string) string { return fmt.Sprintf("http://%s/%s/", host, token) }
