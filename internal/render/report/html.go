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
	doc   verdict.Document // with the claims whose evidence is shown
	all   verdict.Document // with every claim
	shown map[int]bool     // frames that are on the page
}

// HTML writes a verdict as one page that needs nothing beside it: diagram,
// what does not hold, the matrix, the plan, and the evidence with the frames
// that it names taken apart. shown is the verdict with those claims whose evidence the page has, see
// [Brief].
func HTML(p *plan.Plan, doc, shown verdict.Document, frames []Frame) ([]byte, error) {
	w := &writer{p, shown, doc, map[int]bool{}}
	for _, f := range frames {
		w.shown[f.Number] = true
	}
	var figure g.Node = h.P(h.ID("diagram"), h.Class("faint"), g.Text("The diagram is too large for this page: bastion draw makes it."))
	if !w.brief() || len(p.Adapters) <= mostDrawn {
		var err error
		if figure, err = drawn(diagram.Of(p, diagram.Options{Verdict: &doc})); err != nil {
			return nil, err
		}
	}
	return page.Write(fmt.Sprintf("%s: %s, %s", p.Name, doc.Stage, doc.Verdict), "", unfold,
		h.H1(g.Text(p.Name)), h.P(h.Class("lead"), g.Text(p.Lab.Title)),
		w.banner(), w.causes(), figure, w.matrix(), w.plan(), w.evidence(), w.frames(frames), w.scope())
}

// drawn returns a picture for light and for dark screens.
func drawn(p *diagram.Picture) (g.Node, error) {
	var light, dark bytes.Buffer
	if err := p.SVG(&light, diagram.Light); err != nil {
		return nil, err
	}
	if err := p.SVG(&dark, diagram.Dark); err != nil {
		return nil, err
	}
	return page.Diagram(light.Bytes(), dark.Bytes()), nil
}

func (w *writer) banner() g.Node {
	return g.Group{
		h.Nav(
			g.If(len(w.doc.Causes) > 0, link("causes", "Causes")),
			link("diagram", "Diagram"),
			link("claims", "Claims"),
			link(
				"plan",
				"Plan",
			),
			link("evidence", "Evidence"),
			g.If(len(w.shown) > 0, link("frames", "Frames")),
			link("scope", "Scope"),
		),
		h.Div(h.Class("banner "+string(w.doc.Verdict)), g.Text(signs[w.all.Verdict]+" "+w.all.Summary())),
	}
}

// scope returns what was simulated, what the proof covers, and what it assumes.
func (w *writer) scope() g.Node {
	return g.Group{
		h.H2(h.ID("scope"), g.Text("Scope")),
		h.P(g.Text(w.doc.Introduction() + " The proof covers " + w.doc.Proof.Covers + ".")),
		g.If(len(w.doc.Proof.Assumes) > 0, g.Group{h.P(g.Text("It assumes:")),
			h.Ul(g.Map(w.doc.Proof.Assumes, func(text string) g.Node { return h.Li(g.Text(text)) }))}),
	}
}

func link(to, text string) g.Node { return h.A(h.Href("#"+to), g.Text(text)) }

// list tells evidence; a frame that is on the page is linked.
func (w *writer) list(evidence []claims.Evidence) g.Node {
	return h.Ul(g.Map(evidence, func(e claims.Evidence) g.Node {
		if !w.shown[e.Frame] || e.Last != 0 {
			return h.Li(h.Class("mono"), g.Text(e.String()))
		}
		return h.Li(
			h.Class("mono"),
			link(fmt.Sprintf("frame-%d", e.Frame), fmt.Sprintf("frame %d", e.Frame)),
			g.Text(": "+e.Text),
		)
	}))
}

// causes returns what to change: each with its place, the bypass that it opens, its remedy and the
// checks that fail because of it.
func (w *writer) causes() g.Node {
	var out g.Group
	for _, c := range w.doc.Causes {
		sign := claims.Broken
		if c.Code == string(claims.Unknown) {
			sign = claims.Unknown
		}
		place := ""
		if c.File != "" {
			place = fmt.Sprintf(" %s:%d", c.File, c.Line)
		}
		out = append(out, h.Div(
			h.Class("card "+string(sign)),
			h.P(
				h.Strong(h.Class(string(sign)), g.Text(signs[sign]+" "+c.Code)),
				h.Span(h.Class("faint"), g.Text(place)),
			),
			h.P(g.Text(c.Message)),
			g.If(len(c.Bypass) > 0, h.P(h.Class("way"), g.Text("Bypass: "+strings.Join(c.Bypass, " → ")))),
			g.If(c.Remedy != "", h.P(h.Class("remedy"), g.Text("Remedy: "), page.Code(c.Remedy))),
			w.knockOn(c),
		))
	}
	for _, text := range w.doc.Proof.Disagree {
		out = append(
			out,
			h.Div(h.Class("card broken"), h.P(g.Text(signs[claims.Broken]+" "+w.doc.Differs()+": "+text))),
		)
	}
	if out == nil {
		return g.Group{}
	}
	return g.Group{h.H2(h.ID("causes"), g.Text("Causes")), out}
}

// knockOn links the checks that a cause explains.
func (w *writer) knockOn(c verdict.Cause) g.Node {
	list := c.Explains
	if c.Claim != "" && !slices.Contains(list, c.Claim) {
		list = append([]string{c.Claim}, list...)
	}
	if len(list) == 0 {
		return g.Group{}
	}
	links := g.Group{g.Text("Failed checks: ")}
	for i, id := range list[:min(len(list), maxKnockOn)] {
		if i > 0 {
			links = append(links, g.Text(", "))
		}
		if slices.ContainsFunc(w.doc.Claims, func(r claims.Result) bool { return r.ID == id }) {
			links = append(links, link(id, id))
		} else {
			links = append(links, g.Text(id))
		}
	}
	if len(list) > maxKnockOn {
		links = append(links, g.Textf(" and %d more", len(list)-maxKnockOn))
	}
	return h.P(h.Class("faint"), links)
}

// maxKnockOn bounds how many failed checks a cause lists.
const maxKnockOn = 40

func (w *writer) matrix() g.Node {
	rows := map[string][]*claims.Result{}
	var others [][]g.Node
	cell := func(r *claims.Result) g.Node {
		if r == nil {
			return nil
		}
		return h.A(h.Class("sign "+string(r.Verdict)), h.Href("#"+r.ID), h.Title(r.Observed), g.Text(signs[r.Verdict]))
	}
	for i := range w.doc.Claims {
		r := &w.doc.Claims[i]
		if r.Kind == claims.Segments && r.To != "" {
			continue // a matrix of its own
		}
		k := slices.Index(claims.GuestKinds, r.Kind)
		if k < 0 {
			others = append(
				others,
				[]g.Node{
					cell(r),
					h.Span(h.Class("faint"), g.Text(string(r.Kind))),
					g.Text(r.Subject()),
					g.Text(r.Observed),
				},
			)
			continue
		}
		if rows[r.Guest] == nil {
			rows[r.Guest] = make([]*claims.Result, len(claims.GuestKinds))
		}
		rows[r.Guest][k] = r
	}
	out := g.Group{h.H2(h.ID("claims"), g.Text("Claims"))}
	if w.brief() {
		out = append(out, h.P(g.Textf("%d claims; the evidence of %d is shown: those that failed, "+
			"and one of each kind that held. With --verbose the page has all.", len(w.all.Claims), len(w.doc.Claims))))
	}
	order := w.groups()
	if order != nil {
		out = append(out, h.Table(
			h.Tr(
				h.Th(g.Text("guest")),
				g.Map(
					claims.GuestKinds,
					func(k claims.Kind) g.Node { return h.Th(h.Class("sign"), g.Text(string(k))) },
				),
			),
			g.Map(order, func(group verdict.GuestGroup) g.Node {
				linked := rows[group.Row.Guest]
				return h.Tr(
					h.Td(g.Text(group.Name())),
					g.Map(claims.GuestKinds, func(k claims.Kind) g.Node {
						if i := slices.Index(claims.GuestKinds, k); linked != nil && linked[i] != nil {
							return h.Td(h.Class("sign"), cell(linked[i]))
						}
						return h.Td(h.Class("sign"), g.Text(signs[group.Row.Verdicts[k]]))
					}),
				)
			}),
		))
	}
	return append(out, w.segments(cell), page.Table(nil, others))
}

// brief reports whether claims are left out.
func (w *writer) brief() bool { return len(w.doc.Claims) < len(w.all.Claims) }

// groups returns the rows of the matrix: each guest, on a brief page those alike as one.
func (w *writer) groups() []verdict.GuestGroup {
	rows := w.all.Guests()
	if !w.brief() {
		return verdict.Groups(rows, len(rows))
	}
	out := verdict.Groups(rows, mostHeld)
	return slices.DeleteFunc(out, func(x verdict.GuestGroup) bool {
		return len(out) > mostRows && x.Count == 1 && x.Row.Sound
	})
}

// segments returns what passes between segments as a matrix: from the row to the column.
func (w *writer) segments(cell func(*claims.Result) g.Node) g.Node {
	var names []string
	at := map[[2]string]*claims.Result{}
	for i := range w.doc.Claims { // on a brief page the segments of those that are shown
		r := &w.doc.Claims[i]
		if r.Kind != claims.Segments || r.To == "" {
			continue
		}
		for _, name := range []string{r.From, r.To} {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		at[[2]string{r.From, r.To}] = r
	}
	if names == nil {
		return g.Group{}
	}
	return g.Group{h.H3(g.Text("Between segments")), h.Table(
		h.Tr(
			h.Th(g.Text("from \\ to")),
			g.Map(names, func(name string) g.Node { return h.Th(h.Class("sign"), g.Text(name)) }),
		),
		g.Map(names, func(from string) g.Node {
			return h.Tr(h.Td(g.Text(from)), g.Map(names, func(to string) g.Node {
				return h.Td(h.Class("sign"), cell(at[[2]string{from, to}]))
			}))
		}),
	)}
}

func (w *writer) plan() g.Node {
	d := w.p.Document()
	out := g.Group{h.H2(h.ID("plan"), g.Text("Plan"))}
	var rows [][]g.Node
	add := func(cells ...g.Node) { rows = append(rows, cells) }
	table := func(title string, head ...string) {
		if rows != nil {
			left := 0
			if w.brief() && len(rows) > mostRows {
				rows, left = rows[:mostRows], len(rows)-mostRows
			}
			out = append(out, h.H3(g.Text(title)), page.Table(head, rows))
			if left > 0 {
				out = append(out, h.P(h.Class("faint"), g.Textf("%d more: bastion plan has all.", left)))
			}
		}
		rows = nil
	}
	text := func(v any) g.Node { return g.Text(fmt.Sprint(v)) }
	for _, s := range d.Segments {
		tag := ""
		if s.Tag != 0 {
			tag = strconv.Itoa(s.Tag)
		}
		add(
			text(s.Name),
			text(s.Wire),
			text(tag),
			page.Mono(strings.TrimSpace(s.Subnet.String()+" "+s.Subnet6)),
			page.Mono(s.Gateway),
			text(w.p.Segment(s.Name).Reach),
		)
	}
	table("Segments", "segment", "switch", "tag", "subnet", "gateway", "reach")
	for _, a := range d.Adapters {
		add(text(a.Machine), text(a.Number), text(a.Name), page.Mono(a.MAC.String()), text(a.Segment), text(a.Attach))
	}
	table("Adapters", "machine", "no.", "name", "MAC address", "segment", "attach to")
	for _, a := range d.Addresses {
		add(text(a.Name), text(a.Segment), page.Mono(a.Address), text(a.How), page.Mono(a.Gateway))
	}
	table("Addresses", "name", "segment", "address", "how", "gateway")
	for _, v := range d.Leases {
		add(
			text(v.Segment),
			text(v.Server),
			page.Mono(v.Pool),
			page.Mono(v.Router),
			page.Mono(strings.Join(v.DNS, ", ")),
			text(v.Domain),
		)
	}
	table("DHCP", "segment", "server", "pool", "router", "DNS", "domain")
	for _, v := range d.NAT {
		add(text(v.Appliance), text(v.Kind), page.Mono(v.From), page.Mono(v.To))
	}
	table("NAT", "appliance", "kind", "from", "to")
	for _, r := range d.Rules {
		add(text(r.Appliance), text(r.Number), page.Mono(r.Rule), text(plan.RulePlace(r.Line)))
	}
	table("Rules", "appliance", "no.", "rule", "from")
	return append(
		out,
		h.P(h.Class("faint"), g.Text("First match decides; default deny; replies to allowed connections pass.")),
	)
}

func (w *writer) evidence() g.Node {
	return g.Group{h.H2(h.ID("evidence"), g.Text("Evidence")), g.Map(w.doc.Claims, func(r claims.Result) g.Node {
		return h.Details(
			h.ID(r.ID),
			g.If(r.Verdict != claims.Holds, g.Attr("open")),
			h.Summary(
				h.Span(h.Class(string(r.Verdict)), g.Text(signs[r.Verdict])),
				g.Text(" "+r.ID+" "),
				h.Span(h.Class("faint"), g.Text(r.Observed)),
			),
			h.Div(w.list(r.Evidence)),
		)
	})}
}

func (w *writer) frames(list []Frame) g.Node {
	if len(list) == 0 {
		return g.Group{}
	}
	return g.Group{h.H2(h.ID("frames"), g.Text("Frames in the evidence")), g.Map(list, func(f Frame) g.Node {
		summary := "cannot be read"
		if q, err := packet.Decode(f.Bytes); err == nil {
			summary = q.String()
		}
		return h.Details(h.ID(fmt.Sprintf("frame-%d", f.Number)),
			h.Summary(h.Class("mono"), g.Textf("frame %d ", f.Number),
				h.Span(h.Class("faint"), g.Textf("%.6f s on %s ", f.At.Seconds(), f.Segment)), g.Text(summary)),
			h.Div(g.Map(dissect.Of(f.Bytes), func(l dissect.Layer) g.Node {
				return g.Group{
					h.Strong(g.Text(l.Name)),
					h.Table(h.Class("fields"), g.Map(l.Fields, func(x dissect.Field) g.Node {
						return h.Tr(h.Td(g.Text(x.Name)), h.Td(page.Mono(x.Value)))
					})),
				}
			}), h.Pre(g.Text(dissect.Dump(f.Bytes)))))
	})}
}
