package cli

import (
	"context"
	"fmt"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/supervisor"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// judge asks the claims of a lab that runs, and leaves the verdict with it, for its status. gently: only what disturbs no guest
// is asked.
func judge(ctx context.Context, p *plan.Plan, c *supervisor.Client, gently bool) (verdict.Document, claims.Answers, error) {
	var s claims.Stage = c
	if gently {
		s = claims.Gentle(c)
	}
	doc, answers, err := verdict.Run(ctx, p, s)
	if err != nil {
		return doc, answers, err
	}
	list := make([]status.Check, 0, len(doc.Claims))
	for _, r := range doc.Claims {
		x := status.Check{Claim: r.ID, Verdict: string(r.Verdict)}
		if r.Verdict != claims.Holds {
			x.Text = r.Observed
		}
		list = append(list, x)
	}
	return doc, answers, c.Judged(ctx, list, gently)
}

// showChecked shows the claims of a lab that runs as they were judged last, with their age.
func showChecked(s *screen, l status.Lab, file string) {
	c := l.Checked
	if c == nil {
		s.para(2, 2, faint, signNote+" not checked yet: bastion verify "+fromHere(file))
		return
	}
	now := time.Now()
	sign, text := signHolds, fmt.Sprintf("%d of %d checks ok", c.Holds, c.Holds+c.Broken+c.Unknown)
	switch {
	case c.Broken > 0:
		sign = s.paint(broken, signBroken)
		text += fmt.Sprintf(", %d failed", c.Broken)
	case c.Unknown > 0:
		sign = signUnknown
	}
	if c.Unknown > 0 {
		text += fmt.Sprintf(", %d could not be decided", c.Unknown)
	}
	age := ago(now, c.Latest)
	if c.Latest.Sub(c.Oldest) > time.Second {
		age += "; those that disturb guests " + ago(now, c.Oldest)
	}
	s.para(2, 2, plain, sign+" "+text+", asked "+age)
	for i, x := range c.Open {
		if x.Verdict != string(claims.Broken) {
			continue
		}
		if i >= mostFailing {
			s.para(4, 4, faint, fmt.Sprintf("… and %d more: bastion verify %s", c.Broken-i, fromHere(file)))
			break
		}
		s.para(4, 2, plain, s.paint(broken, signBroken)+" "+x.Claim+" since "+x.Since.Local().Format("15:04:05")+": "+x.Text)
	}
}

// mostFailing bounds how many failed checks status shows.
const mostFailing = 6

// ago writes how long ago something was.
func ago(now, then time.Time) string {
	switch d := now.Sub(then); {
	case d < time.Second:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	}
	return "at " + then.Local().Format("2006-01-02 15:04")
}
