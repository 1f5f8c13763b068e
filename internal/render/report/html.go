package report

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dissect"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/render/diagram"
	"openbastion/internal/render/page"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Frame is one frame of a capture.
type Frame struct {
	Number  int           // from 1
	At      time.Duration // since the start
	Segment string
	Bytes   []byte
}

// maxFrames bounds how many frames a page shows: those of claims that do not
// hold go first.
const maxFrames = 400

// Quoted returns the numbers of the frames that a verdict's evidence names and a
// page shows.
func Quoted(doc verdict.Document) map[int]bool {
	out := map[int]bool{}
	for _, holds := range []bool{false, true} {
		for _, r := range doc.Claims {
			if (r.Verdict == claims.Holds) != holds {
				continue
			}
			for _, e := range r.Evidence {
				if e.Frame != 0 && e.Last == 0 && len(out) < maxFrames {
					out[e.Frame] = true
				}
			}
		}
	}
	return out
}

// unfold opens what a link within the page leads to.
const unfold = `function unfold() { const e = document.getElementById(decodeURIComponent(location.hash.slice(1))); if (e && e.tagName === "DETAILS") { e.open = true; e.scrollIntoView(); } }
addEventListener("hashchange", unfold); unfold();`

// writer makes a verdict's page.
type writer struct {
	p     *plan.Plan
	doc   verdict.Document
	shown map[int]bool // frames that are on the page
}

// HTML writes a verdict as one page that needs nothing beside it: diagram,
// what does not hold, the matrix, the plan, and the evidence with the frames
// that it names taken apart.
func HTML(p *plan.Plan, doc verdict.Document, frames []Frame) ([]byte, error) {
	w := &writer{p, doc, map[int]bool{}}
	for _, f := range frames {
		w.shown[f.Number] = true
	}
	var svg bytes.Buffer
	if err := diagram.Of(p, diagram.Options{Verdict: &doc}).SVG(&svg, diagram.Light); err != nil {
		return nil, err
	}
	return page.Write(fmt.Sprintf("%s: %s, %s", p.Name, doc.Stage, doc.Verdict), "", unfold,
		h.H1(g.Text(p.Name)), h.P(h.Class("lead"), g.Text(p.Lab.Title)),
		w.banner(), w.broken(), page.Diagram(svg.Bytes()), w.matrix(), w.plan(), w.evidence(), w.frames(frames))
}

func (w *writer) banner() g.Node {
	return g.Group{
		h.Nav(g.If(w.doc.Verdict != claims.Holds, link("broken", "What does not hold")), link("diagram", "Diagram"), link("claims", "Claims"),
			link("plan", "Plan"), link("evidence", "Evidence"), g.If(len(w.shown) > 0, link("frames", "Frames"))),
		h.Div(h.Class("banner "+string(w.doc.Verdict)), g.Text(signs[w.doc.Verdict]+" "+w.doc.Summary())),
		h.P(h.Class("faint"), g.Text(w.doc.Introduction())),
		h.P(h.Class("faint"), g.Text("Covered: "+w.doc.Proof.Covers+". Taken for granted: "+strings.Join(w.doc.Proof.Assumes, " "))),
	}
}

func link(to, text string) g.Node { return h.A(h.Href("#"+to), g.Text(text)) }

// list tells evidence; a frame that is on the page is linked.
func (w *writer) list(evidence []claims.Evidence) g.Node {
	return h.Ul(g.Map(evidence, func(e claims.Evidence) g.Node {
		if !w.shown[e.Frame] || e.Last != 0 {
			return h.Li(h.Class("mono"), g.Text(e.String()))
		}
		return h.Li(h.Class("mono"), link(fmt.Sprintf("frame-%d", e.Frame), fmt.Sprintf("frame %d", e.Frame)), g.Text(": "+e.Text))
	}))
}

func verdictBlock(r claims.Result) g.Node {
	return h.Strong(h.Class(string(r.Verdict)), g.Text(signs[r.Verdict]+" "), link(r.ID, r.ID))
}

// broken returns what does not hold: causes first, then what follows from them.
func (w *writer) broken() g.Node {
	var causes, rest g.Group
	for _, r := range w.doc.Claims {
		switch {
		case r.Verdict == claims.Holds:
		case r.Follows != "":
			rest = append(rest, h.P(verdictBlock(r), g.Text(" follows from "), link(r.Follows, r.Follows), g.Text(": "+r.Observed)))
		default:
			causes = append(causes, h.Div(h.Class("card"), verdictBlock(r), g.If(len(r.Escapes) == 0, h.P(g.Text(r.Observed))),
				g.Map(r.Escapes, func(e claims.Way) g.Node {
					return g.Group{h.P(h.Class("way"), g.Text(strings.Join(e.Path, " → "))), h.P(g.Text(e.Tried))}
				}),
				w.list(r.Evidence), g.If(r.Remedy != "", h.P(h.Class("remedy"), g.Text("Remedy: "), page.Code(r.Remedy)))))
		}
	}
	for _, f := range w.doc.Findings {
		causes = append(causes, h.Div(h.Class("card"), h.Strong(h.Class(string(claims.Broken)), g.Text(signs[claims.Broken]+" "+f.Code)),
			g.Text(fmt.Sprintf(" %s, line %d", f.Subject, f.Line)), h.P(g.Text(f.Message)),
			h.P(h.Class("remedy"), g.Text("Remedy: "), page.Code(f.Remedy))))
	}
	for _, text := range w.doc.Proof.Disagree {
		causes = append(causes, h.Div(h.Class("card"), h.P(g.Text(signs[claims.Broken]+" "+w.doc.Differs()+": "+text))))
	}
	if causes == nil && rest == nil {
		return g.Group{}
	}
	return g.Group{h.H2(h.ID("broken"), g.Text("What does not hold")), causes, rest}
}

func (w *writer) matrix() g.Node {
	rows := map[string][]*claims.Result{}
	var order []string
	var others [][]g.Node
	cell := func(r *claims.Result) g.Node {
		if r == nil {
			return nil
		}
		return h.A(h.Class("sign "+string(r.Verdict)), h.Href("#"+r.ID), h.Title(r.Observed), g.Text(signs[r.Verdict]))
	}
	for i := range w.doc.Claims {
		r := &w.doc.Claims[i]
		k := slices.Index(claims.GuestKinds, r.Kind)
		if k < 0 {
			others = append(others, []g.Node{cell(r), h.Span(h.Class("faint"), g.Text(string(r.Kind))), g.Text(r.Subject()), g.Text(r.Observed)})
			continue
		}
		if rows[r.Guest] == nil {
			rows[r.Guest] = make([]*claims.Result, len(claims.GuestKinds))
			order = append(order, r.Guest)
		}
		rows[r.Guest][k] = r
	}
	out := g.Group{h.H2(h.ID("claims"), g.Text("Claims"))}
	if order != nil {
		out = append(out, h.Table(
			h.Tr(h.Th(g.Text("guest")), g.Map(claims.GuestKinds, func(k claims.Kind) g.Node { return h.Th(h.Class("sign"), g.Text(string(k))) })),
			g.Map(order, func(name string) g.Node {
				return h.Tr(h.Td(g.Text(name)), g.Map(rows[name], func(r *claims.Result) g.Node { return h.Td(h.Class("sign"), cell(r)) }))
			})))
	}
	return append(out, page.Table(nil, others))
}

func (w *writer) plan() g.Node {
	d := w.p.Document()
	out := g.Group{h.H2(h.ID("plan"), g.Text("Plan"))}
	var rows [][]g.Node
	add := func(cells ...g.Node) { rows = append(rows, cells) }
	table := func(title string, head ...string) {
		if rows != nil {
			out = append(out, h.H3(g.Text(title)), page.Table(head, rows))
		}
		rows = nil
	}
	text := func(v any) g.Node { return g.Text(fmt.Sprint(v)) }
	for _, s := range d.Segments {
		tag := ""
		if s.Tag != 0 {
			tag = strconv.Itoa(s.Tag)
		}
		add(text(s.Name), text(s.Wire), text(tag), page.Mono(strings.TrimSpace(s.Subnet.String()+" "+s.Subnet6)), page.Mono(s.Gateway),
			text(w.p.Segment(s.Name).Reach))
	}
	table("Segments", "segment", "wire", "tag", "subnet", "gateway", "reach")
	for _, a := range d.Adapters {
		add(text(a.Machine), text(a.Number), text(a.Name), page.Mono(a.MAC.String()), text(a.Segment), text(a.Attach))
	}
	table("Adapters", "machine", "no.", "name", "MAC address", "segment", "how to attach it")
	for _, a := range d.Addresses {
		add(text(a.Name), text(a.Segment), page.Mono(a.Address), text(a.How), page.Mono(a.Gateway))
	}
	table("Addresses", "name", "segment", "address", "how", "gateway")
	for _, v := range d.Leases {
		add(text(v.Segment), text(v.Server), page.Mono(v.Pool), page.Mono(v.Router), page.Mono(strings.Join(v.DNS, ", ")), text(v.Domain))
	}
	table("Leases", "segment", "server", "pool", "router", "resolvers", "domain")
	for _, v := range d.NAT {
		add(text(v.Appliance), text(v.Kind), page.Mono(v.From), page.Mono(v.To))
	}
	table("NAT", "appliance", "kind", "from", "to")
	for _, r := range d.Rules {
		add(text(r.Appliance), text(r.Number), page.Mono(r.Rule), text(plan.RulePlace(r.Line)))
	}
	table("Rules", "appliance", "no.", "rule", "from")
	return append(out, h.P(h.Class("faint"), g.Text("The first rule that matches decides; replies to what was allowed pass; what no rule matches is denied.")))
}

func (w *writer) evidence() g.Node {
	return g.Group{h.H2(h.ID("evidence"), g.Text("Evidence")), g.Map(w.doc.Claims, func(r claims.Result) g.Node {
		return h.Details(h.ID(r.ID), g.If(r.Verdict != claims.Holds, g.Attr("open")),
			h.Summary(h.Span(h.Class(string(r.Verdict)), g.Text(signs[r.Verdict])), g.Text(" "+r.ID+" "), h.Span(h.Class("faint"), g.Text(r.Observed))),
			h.Div(w.list(r.Evidence)))
	})}
}

func (w *writer) frames(list []Frame) g.Node {
	if len(list) == 0 {
		return g.Group{}
	}
	return g.Group{h.H2(h.ID("frames"), g.Text("Frames that the evidence names")), g.Map(list, func(f Frame) g.Node {
		summary := "cannot be read"
		if q, err := packet.Decode(f.Bytes); err == nil {
			summary = q.String()
		}
		return h.Details(h.ID(fmt.Sprintf("frame-%d", f.Number)),
			h.Summary(h.Class("mono"), g.Textf("frame %d ", f.Number),
				h.Span(h.Class("faint"), g.Textf("%.6f s on %s ", f.At.Seconds(), f.Segment)), g.Text(summary)),
			h.Div(g.Map(dissect.Of(f.Bytes), func(l dissect.Layer) g.Node {
				return g.Group{h.Strong(g.Text(l.Name)), h.Table(h.Class("fields"), g.Map(l.Fields, func(x dissect.Field) g.Node {
					return h.Tr(h.Td(g.Text(x.Name)), h.Td(page.Mono(x.Value)))
				}))}
			}), h.Pre(g.Text(dissect.Dump(f.Bytes)))))
	})}
}
