package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/outage"
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
	return a.faultVerdict(p, text, text+" for a minute, then repaired", seen, doc)
}

// faultVerdict shows what guests saw of a fault, and the verdict after it.
func (a *app) faultVerdict(p *plan.Plan, text, title string, seen []outage.Seen, doc verdict.Document) (err error) {
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
		a.title(s, p, title)
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

// faultOptions are those of a fault in a lab that runs.
type faultOptions struct {
	what  string
	lasts time.Duration
}

// lastingDefault is how long a fault in a lab that runs lasts where nothing else is said; longestFault is the longest.
const (
	lastingDefault = 10 * time.Second
	longestFault   = time.Hour
)

// check refuses what does not go together. others: there is a flag that a fault does not go with.
func (o faultOptions) check(others bool) error {
	switch {
	case o.what == "" && o.lasts != lastingDefault:
		return usage("--lasting is for --fault")
	case o.what != "" && others:
		return usage("--fault goes with no other way to check")
	case o.lasts < time.Second || o.lasts > longestFault:
		return usage("--lasting is 1s to %s", longestFault)
	}
	return nil
}

// showSuffered ends the output of a fault with its outcome: what each guest lost, and whether it
// recovered.
func showSuffered(s *screen, fault string, seen []outage.Seen) {
	t := table{head: []string{"guest", "tried", "lost", "back after"}}
	talked := slices.ContainsFunc(seen, func(x outage.Seen) bool { return x.Talk != outage.NotTried })
	if talked {
		t.head = append(t.head, "an open connection")
	}
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
		cells := []any{x.Guest, x.Tried, count, back}
		if talked {
			cells = append(cells, x.Talk)
		}
		t.add(cells...)
	}
	s.heading("The fault: " + fault)
	s.table(t)
	showOutages(s, seen)
	s.line()
	sign, st := signHolds, inside
	were, recovered := "were", "all recovered"
	if len(lost) == 1 {
		were, recovered = "was", "recovered"
	}
	text := fmt.Sprintf("%d of %s %s affected", len(lost), count(len(seen), "guest", "guests"), were)
	switch {
	case len(gone) > 0:
		sign, st = signBroken, broken
		text += "; not recovered afterwards: " + strings.Join(gone, ", ")
	case len(lost) > 0:
		text += ", and " + recovered
	}
	if len(ended) > 0 {
		text += "; open connections ended: " + strings.Join(ended, ", ")
	}
	s.para(0, 2, plain, s.paint(st, sign)+" "+text+".")
}

// showOutages shows when which guests had no answer, with those together that saw the same.
func showOutages(s *screen, seen []outage.Seen) {
	t := table{}
	var order []string
	who := map[string][]string{}
	for _, x := range seen {
		if text := outagesOf(x); text != "" {
			if who[text] == nil {
				order = append(order, text)
			}
			who[text] = append(who[text], x.Guest)
		}
	}
	for _, text := range order {
		t.add(strings.Join(who[text], ", "), text)
	}
	if len(t.rows) > 0 {
		s.heading("No answer, in seconds since the fault began")
		s.table(t)
	}
}

// mostOutages bounds how many are listed of one guest.
const mostOutages = 6

// outagesOf lists when a guest had no answer; empty: it always had one.
func outagesOf(x outage.Seen) string {
	var list []string
	for i, span := range x.Spans {
		switch {
		case span.Answered:
		case i+1 == len(x.Spans):
			list = append(list, fmt.Sprintf("from %.0f on", span.From))
		default:
			list = append(list, fmt.Sprintf("%.0f to %.0f", span.From, x.Spans[i+1].From))
		}
	}
	if n := len(list); n > mostOutages {
		list = append(list[:mostOutages], fmt.Sprintf("and %d more times", n-mostOutages))
	}
	return strings.Join(list, ", ")
}
