// Package verdict says of a lab what is true of it as a whole: what became of its claims, what the
// proof says, and which errors of the layout stand beside them. It is the only way to a verdict:
// every command that judges, on every stage, shows what [Run] or [Finish] returns, as it is.
package verdict

import (
	"context"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// Schema names the JSON form of a verdict.
const Schema = "openbastion.verdict/1"

// Document is a verdict as JSON, schema openbastion.verdict/1.
type Document struct {
	Schema  string          `json:"schema"`
	Lab     string          `json:"lab"`
	Stage   string          `json:"stage"`
	Verdict claims.Verdict  `json:"verdict"`
	Claims  []claims.Result `json:"claims"`

	Observed []claims.Observed `json:"observed,omitempty"` // what machines that something else runs have besides the plan
	Causes   []Cause           `json:"causes"`             // what to change, the most urgent first
	Findings []Finding         `json:"findings"`           // errors of the layout that no broken claim shows
	Proof    claims.Proof      `json:"proof"`
}

// Finding is an error of the layout, as check found it.
type Finding struct {
	Code    string `json:"code"`
	Subject string `json:"subject"`
	Message string `json:"message"`
	Remedy  string `json:"remedy"`
	File    string `json:"file"`
	Line    int    `json:"line"`
}

// Run asks a stage everything that the claims of a plan need, and returns the whole verdict with
// the answers that it rests on. The error is the context's, when it ended first, or the stage's.
func Run(ctx context.Context, p *plan.Plan, s claims.Stage) (Document, claims.Answers, error) {
	out, answers, err := claims.Run(ctx, p, s)
	if err != nil {
		return Document{}, answers, err
	}
	return Finish(p, out), answers, nil
}

// Finish returns the verdict to which an outcome comes: a lab whose layout has an error does not
// hold, whatever its claims say. Errors that a broken claim shows already are not repeated, and
// those that the lab file accepts do not count.
func Finish(p *plan.Plan, out claims.Outcome) Document {
	doc := Document{
		Schema:   Schema,
		Lab:      p.Name,
		Stage:    out.Stage,
		Verdict:  out.Verdict,
		Claims:   out.Claims,
		Observed: out.Observed,
		Findings: []Finding{},
		Proof:    out.Proof,
	}
	var found []check.Finding
	for _, f := range check.Run(p, time.Time{}) {
		if f.Accepted != "" {
			continue
		}
		if found = append(found, f); f.Severity != check.Error {
			continue
		}
		doc.Verdict = claims.Broken
		if !shown(p, f, out.Claims) {
			doc.Findings = append(
				doc.Findings,
				Finding{Code: f.Code, Subject: f.Subject, Message: f.Message, Remedy: f.Remedy,
					File: f.At.File, Line: f.At.Line},
			)
		}
	}
	doc.Causes = causes(p, out.Claims, found)
	return doc
}

// Count returns how many claims have each verdict.
func (d Document) Count() map[claims.Verdict]int {
	n := map[claims.Verdict]int{}
	for _, r := range d.Claims {
		n[r.Verdict]++
	}
	return n
}
