package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"openbastion/internal/diagnose"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// mostStudied is of how many mistakes a study is made that nobody asked for.
const mostStudied = 800

// likeliest ends a verdict that is broken with what a diagnosis says first.
func (a *app) likeliest(p *plan.Plan, file string, doc verdict.Document, answers claims.Answers) {
	if doc.Verdict != claims.Broken || a.quiet {
		return
	}
	told := func(r claims.Result) bool { return r.Reason != nil && r.Reason.Code == "unplanned-path" }
	if slices.ContainsFunc(doc.Claims, told) {
		return // the machine itself showed it
	}
	out := a.screen()
	failing := map[string]bool{}
	for _, r := range doc.Claims {
		failing[r.Guest] = failing[r.Guest] || r.Verdict != claims.Holds
	}
	p, _ = diagnose.Few(p, func(guest string) bool { return failing[guest] })
	s := diagnose.NewStudy(p)
	seen := s.FromVerdict(doc)
	if len(answers.Answers) > 0 { // they tell more than what they come to
		seen = s.FromBoth(answers.Facts, answers.Answers, doc)
	}
	if !diagnose.Abnormal(seen) || len(s.Mistakes) > mostStudied {
		out.para(0, 2, plain, "next: bastion diagnose "+file)
		return
	}
	if a.pursue(s) != nil {
		return // it was interrupted
	}
	causes := explaining(s, seen)
	if len(causes) == 0 {
		return
	}
	switch c := causes[0]; {
	case len(c.Mistakes) == 0:
		a.likeliestInFile(p, false)
		return
	case c.Pair:
		out.para(0, 2, strong, fmt.Sprintf("Likely cause: %s, and %s.", c.Mistakes[0], c.Mistakes[1]))
		out.para(2, 2, plain, "look: "+diagnose.Confirm(c.Mistakes[0])+"; "+diagnose.Confirm(c.Mistakes[1]))
	case c.Explains():
		out.para(0, 2, strong, "Likely cause: "+c.Mistakes[0].String()+".")
		out.para(2, 2, plain, "look: "+diagnose.Confirm(c.Mistakes[0]))
	default:
		out.para(0, 2, strong, "Likely cause of most failures: "+c.Mistakes[0].String()+".")
		out.para(2, 2, plain, "look: "+diagnose.Confirm(c.Mistakes[0]))
	}
	out.para(
		2,
		2,
		faint,
		"more: bastion verify --format json > verdict.json; bastion diagnose "+file+" --evidence verdict.json",
	)
}

// likeliestInFile ends what a rehearsal shows to be broken: what is wrong is in the file,
// and check names it, with its remedies where none were told before.
func (a *app) likeliestInFile(p *plan.Plan, remedies bool) {
	if a.quiet {
		return
	}
	out := a.screen()
	told := 0
	for _, f := range check.Run(p, time.Now()) {
		if f.Severity != check.Error || told == 2 {
			continue
		}
		told++
		out.para(
			0,
			2,
			strong,
			fmt.Sprintf("Likely cause: %s, %s: %s.", f.Code, f.Subject, strings.TrimSuffix(f.Message, ".")),
		)
		if remedies {
			out.para(2, 2, plain, "remedy: "+f.Remedy)
		}
	}
	if told == 0 {
		out.para(0, 2, plain, "Likely cause: a rule or an expectation of the file itself; check finds no error in it.")
	}
}
