package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"openbastion/core/claims"
	"openbastion/core/plan"
	"openbastion/core/rehearse"
	"openbastion/report"
)

// against rehearses a lab as it was before and shows which claims changed.
func (a *app) against(p *plan.Plan, doc claims.Document, file string) error {
	old, err := a.load(file)
	if err != nil {
		return err
	}
	before, _, err := a.rehearsal(old, "")
	if err != nil {
		return err
	}
	changes, same := claims.Changes(before, doc)
	if a.format == "json" {
		return a.json(struct {
			Schema  string          `json:"schema"`
			Lab     string          `json:"lab"`
			Before  claims.Verdict  `json:"before"`
			After   claims.Verdict  `json:"after"`
			Same    int             `json:"same"`
			Changes []claims.Change `json:"changes"`
		}{"openbastion.changes/1", p.Name, before.Verdict, doc.Verdict, same, append([]claims.Change{}, changes...)})
	}
	s := a.screen()
	showTitle(s, p, "rehearsed against "+file)
	t := table{head: []string{"before", "after", "claim", "what is seen"}}
	for _, c := range changes {
		b, n := verdictCell(c.Before), verdictCell(c.After)
		b.text, n.text = centered(b.text, 6), centered(n.text, 5)
		saw := cell{text: c.Saw}
		if c.Follows != "" {
			saw = cell{"follows from " + c.Follows, faint}
		}
		t.add(b, n, cell{c.ID, strong}, saw)
	}
	s.line()
	s.table(t)
	if len(changes) > 0 {
		s.line()
	}
	s.line(fmt.Sprintf("%s changed, %d stayed as they were.", count(len(changes), "claim", "claims"), same))
	return nil
}

// report writes a verdict into a file, in the form that its name asks for.
func (a *app) report(file string, p *plan.Plan, doc claims.Document) error {
	var data []byte
	var err error
	switch strings.ToLower(filepath.Ext(file)) {
	case ".md":
		data = report.Markdown(p, doc)
	case ".xml":
		data, err = report.JUnit(doc)
	case ".html", ".htm":
		data, err = report.HTML(p, doc, quoted(p, doc))
	default:
		return usage("--report writes .html, .md or .xml, and %s is none of them", file)
	}
	if err == nil {
		err = writeNew(file, data, true)
	}
	if err == nil {
		a.note("the verdict is in " + file)
	}
	return err
}

// quoted gives the frames that a verdict's evidence names. A rehearsal gives the
// same frames every time, so they are picked from another run instead of
// keeping all of the first.
func quoted(p *plan.Plan, doc claims.Document) []report.Frame {
	wanted := report.Quoted(doc)
	if len(wanted) == 0 {
		return nil
	}
	l := rehearse.New(p)
	k := &keeper{names: l.World().Segments, wanted: wanted}
	l.World().Recorder = k
	claims.Run(p, l)
	return k.kept
}

// keeper is a recorder that keeps some frames.
type keeper struct {
	names  []string
	wanted map[int]bool
	n      int
	kept   []report.Frame
}

// Record takes the next frame.
func (k *keeper) Record(segment int, at time.Time, frame []byte) {
	if k.n++; k.wanted[k.n] {
		k.kept = append(k.kept, report.Frame{Number: k.n, At: at.Sub(rehearse.Epoch), Segment: k.names[segment], Bytes: slices.Clone(frame)})
	}
}
