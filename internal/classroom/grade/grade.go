// Package grade gives points for what a class hands in: by a rubric, for the verdict on a
// bench's evidence, and says what is missing and why.
package grade

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Work is what a bench handed in.
type Work struct {
	Bench    string
	Verdict  verdict.Document
	Findings []check.Finding
	Guests   []string          // of which there is evidence
	Remarks  []evidence.Remark // what was refused, or does not fit together
	Record   string            // of the runbook, as text; empty: none was handed in
}

// Card is what a bench gets for it.
type Card struct {
	Bench  string   `json:"bench"`
	Points float64  `json:"points"`
	Of     int      `json:"of"`
	Passed *bool    `json:"passed,omitempty"` // nil: the rubric does not say what passes
	Items  []Item   `json:"items"`
	Notes  []string `json:"notes"` // about what was refused
}

// Item is one of the rubric's.
type Item struct {
	Text    string   `json:"text"`
	Points  float64  `json:"points"`
	Of      int      `json:"of"`
	Missing []string `json:"missing"` // why it is not all
}

// Check refuses a rubric that speaks of what the lab does not have.
func Check(r *lab.Rubric, p *plan.Plan, claimed []claims.Result) error {
	var faults lab.Faults
	fail := func(i lab.RubricItem, key, message string) {
		faults = append(faults, lab.Fault{File: r.File, Pos: i.At(key), Message: message})
	}
	for _, i := range r.Items {
		switch {
		case i.Claim != "" && len(ofClaim(i.Claim, claimed)) == 0:
			fail(i, "claim", fmt.Sprintf("the lab has no claim %q, and no kind of claim with that name", i.Claim))
		case i.Evidence != "" && i.Evidence != "all" && p.Machine(i.Evidence) == nil && i.Evidence != evidence.Outside:
			fail(i, "evidence", fmt.Sprintf("the lab has no machine %q", i.Evidence))
		}
	}
	if len(faults) > 0 {
		return faults
	}
	return nil
}

// ofClaim returns the claims that a word is about: one by its name, or all of a kind.
func ofClaim(word string, list []claims.Result) (out []claims.Result) {
	for _, c := range list {
		if c.ID == word || string(c.Kind) == word {
			out = append(out, c)
		}
	}
	return out
}

// Points returns a bench's card.
func Points(r *lab.Rubric, p *plan.Plan, w Work) Card {
	c := Card{Bench: w.Bench, Items: []Item{}, Notes: []string{}}
	for _, i := range r.Items {
		item := one(i, p, w)
		c.Points += item.Points
		c.Of += item.Of
		c.Items = append(c.Items, item)
	}
	for _, m := range w.Remarks {
		c.Notes = append(c.Notes, strings.TrimPrefix(m.File+": "+m.Text, ": "))
	}
	if r.Pass > 0 {
		passed := c.Points >= float64(r.Pass)
		c.Passed = &passed
	}
	return c
}

func one(i lab.RubricItem, p *plan.Plan, w Work) Item {
	item := Item{Text: i.Text, Of: i.Points, Missing: []string{}}
	share := func(got, of int) {
		if of > 0 {
			item.Points = float64(i.Points*got) / float64(of)
		}
	}
	named := func(text string) {
		if item.Text == "" {
			item.Text = text
		}
	}
	switch {
	case i.Claim != "":
		named(i.Claim)
		list, holds := ofClaim(i.Claim, w.Verdict.Claims), 0
		for _, c := range list {
			if c.Verdict == claims.Holds {
				holds++
				continue
			}
			item.Missing = append(item.Missing, fmt.Sprintf("%s is %s: %s", c.ID, c.Verdict, c.Observed))
		}
		share(holds, len(list))
	case i.Check != "":
		named("check of the lab file: " + i.Check)
		for _, f := range w.Findings {
			if f.Accepted == "" && (f.Severity == check.Error || i.Check == "quiet" && f.Severity == check.Warning) {
				item.Missing = append(item.Missing, f.Code+" "+f.Subject+": "+f.Message)
			}
		}
		share(1-min(1, len(item.Missing)), 1)
	case i.Proof != "":
		named("the proof is ok")
		if v := w.Verdict.Proof.Verdict; v != claims.Holds {
			item.Missing = append(item.Missing, "the proof is "+string(v))
		}
		share(1-len(item.Missing), 1)
	case i.Evidence != "":
		named("evidence of " + i.Evidence)
		wanted := []string{i.Evidence}
		if i.Evidence == "all" {
			wanted = nil
			for _, g := range p.Guests() {
				if !g.Off {
					wanted = append(wanted, g.Name)
				}
			}
		}
		for _, g := range wanted {
			if !slices.Contains(w.Guests, g) {
				item.Missing = append(item.Missing, "nothing was received from "+g)
			}
		}
		share(len(wanted)-len(item.Missing), len(wanted))
	case i.Record != "":
		named("the record: " + i.Record)
		if why := recorded(w.Record, i.Record); why != "" {
			item.Missing = append(item.Missing, why)
		}
		share(1-len(item.Missing), 1)
	}
	return item
}

// recorded returns why a step is not among those that a record holds as done.
func recorded(record, step string) string {
	if record == "" {
		return "no record of the runbook was handed in"
	}
	for line := range strings.Lines(record) {
		if !strings.Contains(strings.ToLower(line), strings.ToLower(step)) {
			continue
		}
		cells := strings.Split(line, "|") // a table: step, outcome, when, seen
		if len(cells) < 3 {
			continue
		}
		switch outcome := strings.TrimSpace(cells[2]); outcome {
		case "said", "seen":
			return ""
		default:
			return fmt.Sprintf("the record for %s: %s", strings.TrimSpace(cells[1]), outcome)
		}
	}
	return fmt.Sprintf("the record does not mention %q", step)
}
