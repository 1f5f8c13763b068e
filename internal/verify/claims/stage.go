package claims

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/plan"
)

// Witness is the outside host that reports what it saw.
type Witness struct {
	Name    string     `json:"name"` // full domain name
	Address netip.Addr `json:"address"`
}

// Facts are what a stage says of itself when it is opened.
type Facts struct {
	Name     string      `json:"name"`
	Witness  Witness     `json:"witness"`
	Asks     []AskKind   `json:"asks,omitempty"`     // what it can be asked; nil: everything
	Sets     []Condition `json:"sets,omitempty"`     // which conditions it can set; nil: all
	Observed []Observed  `json:"observed,omitempty"` // of machines that something else runs
	// Host are the addresses of the machine that carries the lab and is joined to it, each with a TCP port on which it
	// listens meanwhile.
	Host []netip.AddrPort `json:"host,omitempty"`
}

// Stage is where a lab runs: it answers questions. It may answer in any order,
// early, in part or not at all; what it does not answer is unknown.
type Stage interface {
	// Open makes the stage ready for a plan.
	Open(ctx context.Context, p *plan.Plan) (Facts, error)
	// Set puts the lab into a condition. What needs it is unknown when it fails.
	Set(ctx context.Context, c Condition) error
	// Ask puts questions that share the condition that was set last, and hands
	// each answer to tell as it comes.
	Ask(ctx context.Context, questions []Question, tell func(Answer)) error
	// Close ends what Open began.
	Close(ctx context.Context) error
}

// Run asks a stage everything that the claims of a plan need and judges the
// answers. The error is the context's, when it ended first, or the stage's.
func Run(ctx context.Context, p *plan.Plan, s Stage) (Outcome, Answers, error) {
	got := Answers{Schema: AnswersSchema, Lab: p.Name, Answers: []Answer{}}
	facts, err := s.Open(ctx, p)
	if err != nil {
		return Outcome{}, got, err
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	got.Facts = facts
	prepared := prepare(p, facts)
	for _, when := range Conditions {
		list := make([]Question, 0, len(prepared.questions))
		for _, q := range prepared.questions {
			if q.When == when {
				list = append(list, q)
			}
		}
		if len(list) == 0 {
			continue
		}
		answers, err := AskAll(ctx, s, facts, when, list)
		if err == nil {
			answers, err = again(ctx, p, s, facts, when, got.Answers, answers)
		}
		if err != nil {
			return Outcome{}, got, err
		}
		got.Answers = append(got.Answers, answers...)
	}
	if err := s.Set(ctx, Running); err != nil {
		return Outcome{}, got, err
	}
	return prepared.judge(got.Answers), got, ctx.Err()
}

// AskAll sets a condition and asks. What the stage cannot be asked, and what it
// left out, is missing, with the reason.
func AskAll(ctx context.Context, s Stage, facts Facts, when Condition, questions []Question) ([]Answer, error) {
	missing := func(why string) []Answer {
		var out []Answer
		for _, q := range questions {
			out = append(out, Answer{ID: q.ID, Missing: why})
		}
		return out
	}
	if facts.Sets != nil && !slices.Contains(facts.Sets, when) {
		return missing(fmt.Sprintf("the %s cannot make the lab %s", facts.Name, when)), nil
	}
	if err := s.Set(ctx, when); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return missing("not tried: " + err.Error()), nil
	}
	out, able := make([]Answer, 0, len(questions)), make([]Question, 0, len(questions))
	for _, q := range questions {
		if facts.Asks != nil && !slices.Contains(facts.Asks, q.KindOf()) {
			out = append(
				out,
				Answer{ID: q.ID, Missing: fmt.Sprintf("the %s cannot be asked for %s", facts.Name, q.KindOf())},
			)
		} else {
			able = append(able, q)
		}
	}
	err := s.Ask(ctx, able, func(a Answer) { out = append(out, a) })
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// AskOne asks a stage that is open one thing, in the condition that was set
// last.
func AskOne(ctx context.Context, s Stage, ask Asking) Answer {
	out := Answer{Missing: "nothing was answered"}
	err := s.Ask(ctx, []Question{{ID: "one", When: Running, Ask: ask}}, func(a Answer) { out = a })
	if err != nil {
		out.Missing = err.Error()
	}
	return out
}
