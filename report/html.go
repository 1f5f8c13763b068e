package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"regexp"
	"slices"
	"strconv"
	"time"

	"openbastion/core/claims"
	"openbastion/core/layers"
	"openbastion/core/packet"
	"openbastion/core/plan"
	"openbastion/draw"
	"openbastion/page"
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

const frameWord = `frame (\d+)`

// Quoted gives the numbers of the frames that a verdict's evidence names and a
// page shows.
func Quoted(doc claims.Document) map[int]bool {
	words := regexp.MustCompile(frameWord)
	out := map[int]bool{}
	for _, holds := range []bool{false, true} {
		for _, r := range doc.Claims {
			if (r.Verdict == claims.Holds) != holds {
				continue
			}
			for _, e := range r.Evidence {
				for _, m := range words.FindAllStringSubmatch(e, -1) {
					if n, err := strconv.Atoi(m[1]); err == nil && len(out) < maxFrames {
						out[n] = true
					}
				}
			}
		}
	}
	return out
}

//go:embed report.html
var reportPage string

type pageData struct {
	Style   template.CSS
	Title   string
	Lead    string
	Doc     claims.Document
	Sound   bool
	N       struct{ Holds, Broken, Unknown int }
	Diagram template.HTML
	Kinds   []claims.Kind
	Guests  []guestRow
	Others  []claims.Result
	Broken  []claims.Result
	Plan    plan.Document
	Frames  []frameData
}

type guestRow struct {
	Name  string
	Cells []*claims.Result // nil where there is no such claim
}

type frameData struct {
	Frame
	Summary string
	Layers  []layers.Layer
	Dump    string
}

var guestKinds = []claims.Kind{claims.Lease, claims.Gateway, claims.Names, claims.Outside, claims.Path, claims.Held, claims.Cut}

// HTML writes a verdict as one page that needs nothing beside it: diagram,
// what does not hold, the matrix, the plan, and the evidence with the frames
// that it names taken apart.
func HTML(p *plan.Plan, doc claims.Document, frames []Frame) ([]byte, error) {
	d := pageData{Style: page.Style(), Title: p.Name, Lead: p.Lab.Title, Doc: doc, Sound: doc.Verdict == claims.Holds, Kinds: guestKinds, Plan: p.Document()}
	var svg bytes.Buffer
	if err := draw.Of(p, draw.Options{Verdict: &doc}).SVG(&svg, draw.Light); err != nil {
		return nil, err
	}
	diagram := svg.Bytes()
	d.Diagram = template.HTML(diagram[bytes.Index(diagram, []byte("<svg")):]) //nolint:gosec // the drawing escapes its texts
	rows := map[string]int{}
	for i := range doc.Claims {
		r := &doc.Claims[i]
		switch r.Verdict {
		case claims.Holds:
			d.N.Holds++
		case claims.Broken:
			d.N.Broken++
		default:
			d.N.Unknown++
		}
		if r.Verdict != claims.Holds {
			d.Broken = append(d.Broken, *r)
		}
		k := slices.Index(guestKinds, r.Kind)
		if k < 0 {
			d.Others = append(d.Others, *r)
			continue
		}
		at, ok := rows[r.Subject]
		if !ok {
			at = len(d.Guests)
			rows[r.Subject] = at
			d.Guests = append(d.Guests, guestRow{r.Subject, make([]*claims.Result, len(guestKinds))})
		}
		d.Guests[at].Cells[k] = r
	}
	// What explains others is read first.
	slices.SortStableFunc(d.Broken, func(a, b claims.Result) int { return min(len(a.Follows), 1) - min(len(b.Follows), 1) })
	shown := map[int]bool{}
	for _, f := range frames {
		shown[f.Number] = true
		fd := frameData{Frame: f, Layers: layers.Of(f.Bytes), Dump: layers.Dump(f.Bytes), Summary: "cannot be read"}
		if q, err := packet.Decode(f.Bytes); err == nil {
			fd.Summary = q.String()
		}
		d.Frames = append(d.Frames, fd)
	}
	words := regexp.MustCompile(frameWord)
	funcs := template.FuncMap{
		"sign": func(v claims.Verdict) string { return signs[v] },
		"linked": func(text string) template.HTML {
			out := words.ReplaceAllStringFunc(template.HTMLEscapeString(text), func(m string) string {
				n := m[len("frame "):]
				if i, _ := strconv.Atoi(n); !shown[i] {
					return m
				}
				return fmt.Sprintf(`<a href="#frame-%s">%s</a>`, n, m)
			})
			return template.HTML(out) //nolint:gosec // escaped above
		},
		"since": func(t time.Duration) string { return fmt.Sprintf("%.6f s", t.Seconds()) },
	}
	t, err := template.New("report").Funcs(funcs).Parse(reportPage)
	if err != nil {
		return nil, fmt.Errorf("report: %w", err)
	}
	var b bytes.Buffer
	if err := t.Execute(&b, d); err != nil {
		return nil, fmt.Errorf("report: %w", err)
	}
	return b.Bytes(), nil
}
