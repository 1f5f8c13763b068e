package check

import (
	"time"

	"openbastion/core/claims"
	"openbastion/core/plan"
)

// Complete adds to a verdict the errors of the plan that stand, as a lab that has
// one does not hold. on is the day for what depends on one, as for Run.
func Complete(doc *claims.Document, p *plan.Plan, on time.Time) {
	for _, f := range Run(p, on) {
		if f.Severity != Error || f.Accepted != "" {
			continue
		}
		doc.Findings = append(doc.Findings, claims.Finding{Code: f.Code, Subject: f.Subject, Message: f.Message, Remedy: f.Remedy,
			File: f.At.File, Line: f.At.Line})
		doc.Verdict = claims.Broken
	}
}
