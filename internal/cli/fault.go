package cli

import (
	"fmt"

	"openbastion/internal/api"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// fault lets something go wrong for a minute, shows what the guests saw of it,
// and judges the claims once it is over.
func (a *app) fault(p *plan.Plan, text string) error {
	f, err := simulator.ParseFault(p, text)
	if err != nil {
		return usage("--fault: %v", err)
	}
	l := simulator.New(p)
	seen := l.Suffer(f)
	l.Progress = a.progress("hostile guests")
	doc, _, err := verdict.Run(a.ctx, p, l)
	if err != nil {
		return err
	}
	l.Progress(0, 0)
	if a.format == "json" {
		err = a.json(api.Fault{Schema: api.FaultSchema, Lab: p.Name, Verdict: doc.Verdict, Fault: text, Guests: seen, After: doc})
	} else {
		s := a.screen()
		showTitle(s, p, text+" for a minute, then repaired")
		t := table{head: []string{"guest", "tried", "lost", "back after", "an open connection"}}
		for _, x := range seen {
			lost, back := cell{fmt.Sprintf("%d of %d", x.Lost, x.Tries), plain}, cell{"never", broken}
			if x.Lost > 0 {
				lost.st = outside
			}
			switch {
			case x.Lost == 0:
				back = cell{signNote, faint}
			case x.Back:
				back = cell{fmt.Sprintf("%.0f s", x.After), inside}
			}
			t.add(x.Guest, x.Tried, lost, back, x.Talk)
		}
		s.line()
		s.table(t)
		s.line()
		a.showVerdict(s, doc, nil)
	}
	if err == nil && doc.Verdict != claims.Holds {
		err = failure{status: exitBroken}
	}
	return err
}
