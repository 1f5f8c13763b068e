package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"openbastion/internal/api"
	"openbastion/internal/model/plan"
	"openbastion/internal/render/report"
	"openbastion/internal/verify/verdict"
)

// against rehearses a lab as it was before and shows which claims changed.
func (a *app) against(p *plan.Plan, doc verdict.Document, file string) error {
	old, err := a.load(file)
	if err != nil {
		return err
	}
	before, _, err := a.rehearsal(old, "", false, nil)
	if err != nil {
		return err
	}
	changes, same := verdict.Changes(before, doc)
	if a.format == "json" {
		return a.json(
			api.Changes{
				Schema:  api.ChangesSchema,
				Lab:     p.Name,
				Verdict: doc.Verdict,
				Before:  before.Verdict,
				After:   doc.Verdict,
				Same:    same,
				Changes: changes,
			},
		)
	}
	s := a.screen()
	showTitle(s, p, "rehearsed against "+file)
	t := table{head: []string{"before", "after", "claim", "observed"}}
	for _, c := range changes {
		b, n := verdictCell(c.Before), verdictCell(c.After)
		b.text, n.text = centered(b.text, 6), centered(n.text, 5)
		saw := cell{text: c.Observed}
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
func (a *app) report(file string, p *plan.Plan, doc verdict.Document, log *report.Log, replace bool) error {
	var data []byte
	var err error
	switch strings.ToLower(filepath.Ext(file)) {
	case ".md":
		data = report.Markdown(p, doc)
	case ".xml":
		data, err = report.JUnit(doc)
	case ".html", ".htm":
		shown := doc
		if !a.verbose {
			shown = report.Brief(doc)
		}
		data, err = report.HTML(p, doc, shown, log.Frames(report.Quoted(shown)))
	default:
		return usage("--report writes .html, .md or .xml, not %s", file)
	}
	if err == nil {
		err = a.writeNew(file, data, replace)
	}
	if err == nil {
		a.note("the verdict is in " + file)
	}
	return err
}
