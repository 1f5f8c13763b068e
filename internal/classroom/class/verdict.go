package class

import (
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Bench is one copy of the lab.
type Bench struct {
	Name string `json:"bench"`
	Host string `json:"host"`
	For  string `json:"for,omitempty"` // the student or group that works at it
}

// Title returns the bench's name, with who works at it.
func (b Bench) Title() string {
	if b.For == "" {
		return b.Name
	}
	return b.Name + " (" + b.For + ")"
}

// Judged is what is known of a bench's claims.
type Judged struct {
	Bench
	Verdict  claims.Verdict    `json:"verdict"`
	Counts   Counts            `json:"counts"`
	Open     []claims.Result   `json:"open"`     // its claims that do not hold
	Findings []verdict.Finding `json:"findings"` // errors of its layout that no claim shows
	Why      string            `json:"why"`      // why nothing is known of it; empty when something is
}

// Counts are how many claims there are of each verdict.
type Counts struct {
	Holds   int `json:"holds"`
	Broken  int `json:"broken"`
	Unknown int `json:"unknown"`
}

// Verdict is the one over all benches.
type Verdict struct {
	Schema  string         `json:"schema"`
	Lab     string         `json:"lab"`
	Stage   string         `json:"stage"`
	Verdict claims.Verdict `json:"verdict"`
	Benches []Judged       `json:"benches"`
}

// VerdictSchema names the format of a class's verdict.
const VerdictSchema = "openbastion.class-verdict/1"

// Judge reads what the verdict on one bench says.
func Judge(b Bench, doc verdict.Document) Judged {
	out := Judged{Bench: b, Verdict: doc.Verdict, Open: []claims.Result{}, Findings: doc.Findings}
	if out.Findings == nil {
		out.Findings = []verdict.Finding{}
	}
	for _, r := range doc.Claims {
		switch r.Verdict {
		case claims.Holds:
			out.Counts.Holds++
			continue
		case claims.Broken:
			out.Counts.Broken++
		default:
			out.Counts.Unknown++
		}
		out.Open = append(out.Open, r)
	}
	return out
}

// Unjudged is a bench of which nothing is known.
func Unjudged(b Bench, why string) Judged {
	return Judged{Bench: b, Verdict: claims.Unknown, Open: []claims.Result{}, Findings: []verdict.Finding{}, Why: why}
}

// Whole puts the verdicts on all benches together: broken when one is, else unknown when one
// is or when there is none, else it holds.
func Whole(lab, stage string, benches []Judged) Verdict {
	v := Verdict{Schema: VerdictSchema, Lab: lab, Stage: stage, Verdict: claims.Holds, Benches: benches}
	if len(benches) == 0 {
		v.Verdict, v.Benches = claims.Unknown, []Judged{}
	}
	for _, b := range benches {
		v.Verdict = v.Verdict.And(b.Verdict)
	}
	return v
}
