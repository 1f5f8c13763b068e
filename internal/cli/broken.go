package cli

import (
	"fmt"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
)

// brokenPlan returns how many errors check finds in a lab and the first of them with its place, or
// nothing.
func brokenPlan(p *plan.Plan) string {
	n, first := 0, check.Finding{}
	for _, f := range check.Run(p, time.Time{}) {
		if f.Severity == check.Error && f.Accepted == "" {
			if n++; n == 1 {
				first = f
			}
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(
		"%s in this lab. %s:%d: %s: %s (bastion check)",
		count(n, "error", "errors"),
		first.At.File,
		first.At.Line,
		first.Code,
		first.Message,
	)
}

// loadWarned loads a lab, and says on standard error what is wrong with its layout.
func (a *app) loadWarned(file string) (*plan.Plan, error) {
	p, err := a.load(file)
	if err != nil {
		return nil, err
	}
	if text := brokenPlan(p); text != "" {
		s := newScreen(a.err, a.color)
		s.para(0, 2, plain, s.paint(broken, signBroken)+" "+text)
	}
	return p, nil
}

// goOn asks whether to go on with a lab whose layout has errors, which text names; without a terminal only
// --anyway does.
func (a *app) goOn(text string, anyway bool) error {
	if text == "" || anyway {
		return nil
	}
	if a.terminal() && a.agreed("Write the runbook anyway?") {
		return nil
	}
	return failure{exitBroken, "no runbook was written: " + text, "correct it, or write it with --anyway"}
}
