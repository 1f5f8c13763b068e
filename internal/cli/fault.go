package cli

import (
	"fmt"
	"strings"

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
		err = a.json(
			api.Fault{
				Schema:  api.FaultSchema,
				Lab:     p.Name,
				Verdict: doc.Verdict,
				Fault:   text,
				Guests:  seen,
				After:   doc,
			},
		)
	} else {
		s := a.screen()
		a.title(s, p, text+" for a minute, then repaired")
		a.showVerdict(s, doc, nil)
		if !a.quiet {
			showSuffered(s, text, seen)
		}
	}
	if err == nil && doc.Verdict != claims.Holds {
		err = failure{status: exitBroken}
	}
	return err
}

// showSuffered ends the output of a fault with its outcome: what each guest lost, and whether it
// recovered.
func showSuffered(s *screen, fault string, seen []simulator.Suffered) {
	t := table{head: []string{"guest", "tried", "lost", "back after", "an open connection"}}
	var lost, gone, ended []string
	for _, x := range seen {
		count, back := cell{fmt.Sprintf("%d of %d", x.Lost, x.Tries), plain}, cell{"never", broken}
		if x.Lost > 0 {
			count.st = outside
			lost = append(lost, x.Guest)
		}
		switch {
		case x.Lost == 0:
			back = cell{signNote, faint}
		case x.Back:
			back = cell{fmt.Sprintf("%.0f s", x.After), inside}
		default:
			gone = append(gone, x.Guest)
		}
		if strings.HasPrefix(x.Talk, "ended") {
			ended = append(ended, x.Guest)
		}
		t.add(x.Guest, x.Tried, count, back, x.Talk)
	}
	s.heading("The fault: " + fault)
	s.table(t)
	s.line()
	sign, st := signHolds, inside
	text := fmt.Sprintf("%d of %d guests were affected", len(lost), len(seen))
	switch {
	case len(gone) > 0:
		sign, st = signBroken, broken
		text += "; not recovered afterwards: " + strings.Join(gone, ", ")
	case len(lost) > 0:
		text += ", and all recovered"
	}
	if len(ended) > 0 {
		text += "; open connections ended: " + strings.Join(ended, ", ")
	}
	s.para(0, 2, plain, s.paint(st, sign)+" "+text+".")
}
