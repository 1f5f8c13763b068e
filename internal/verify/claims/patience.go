package claims

import (
	"context"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
)

// Hurried is a stage on a machine that may be too busy to answer in time.
type Hurried interface {
	// Busy returns why the machine may be late just now; empty: it is not.
	Busy() string
	// Pause returns after a while, or with the context's error when that ended first.
	Pause(ctx context.Context, d time.Duration) error
}

// How often silence is asked about again, how often of these others of the lab must have answered beside it for it to
// count, and how long is between: a busy machine is given more time each time.
const (
	askedAgain     = 1
	askedAgainBusy = 5
	besideIt       = 2
	firstPause     = 300 * time.Millisecond
)

// again asks once more what was silent and breaks a claim by it. On a machine that is busy it asks what was answered before
// beside it: where that is silent too, silence proves nothing.
func again(ctx context.Context, p *plan.Plan, s Stage, facts Facts, when Condition, before, answers []Answer) ([]Answer, error) {
	hurried, is := s.(Hurried)
	if !is {
		return answers, nil
	}
	pause, sound := firstPause, 0
	for round := 0; ; round++ {
		prepared := prepare(p, facts)
		open := prepared.silent(when, append(before[:len(before):len(before)], answers...))
		busy := hurried.Busy()
		switch {
		case len(open) == 0, busy == "" && round >= askedAgain, sound >= besideIt:
			return answers, nil
		case round >= askedAgainBusy:
			for i, a := range answers {
				if open[a.ID] {
					answers[i] = Answer{ID: a.ID, Missing: "no answer, but " + busy + ": silence proves nothing"}
				}
			}
			return answers, nil
		}
		if err := hurried.Pause(ctx, pause); err != nil {
			return nil, err
		}
		pause *= 2
		controls := prepared.controls(when, answers)
		more, err := AskAll(ctx, s, facts, when, prepared.named(open, controls))
		if err != nil {
			return nil, err
		}
		told := map[string]Answer{}
		late := len(controls) == 0
		for _, a := range more {
			told[a.ID] = a
			late = late || controls[a.ID] && (a.Got == nil || silent(a.Got))
			if !open[a.ID] && !controls[a.ID] { // to what was asked before, and listened to meanwhile
				answers = append(answers, a)
			}
		}
		if !late {
			sound++
		}
		for i, a := range answers {
			if b, ok := told[a.ID]; ok && open[a.ID] && b.Got != nil && !silent(b.Got) {
				answers[i] = b
			}
		}
	}
}

// mostControls bounds how many of those that answered are asked beside what was silent.
const mostControls = 8

// controls returns questions of a condition that real machines answered.
func (c *prepared) controls(when Condition, answers []Answer) map[string]bool {
	answered := map[string]bool{}
	for _, a := range answers {
		if g, is := a.Got.(GotReach); is && g.Answered {
			answered[a.ID] = true
		}
	}
	out := map[string]bool{}
	for _, q := range c.questions {
		if r, is := q.Ask.(AskReach); is && q.When == when && r.From != (Ref{}) && answered[q.ID] && len(out) < mostControls {
			out[q.ID] = true
		}
	}
	return out
}

// named returns questions by their names.
func (c *prepared) named(sets ...map[string]bool) (out []Question) {
	for _, q := range c.questions {
		for _, set := range sets {
			if set[q.ID] {
				out = append(out, q)
				break
			}
		}
	}
	return out
}

// silent returns the questions of a condition that nobody answered and that break a claim.
func (c *prepared) silent(when Condition, answers []Answer) map[string]bool {
	by, asked := map[string]Answer{}, map[string]Question{}
	for _, a := range answers {
		by[a.ID] = a
	}
	for _, q := range c.questions {
		asked[q.ID] = q
	}
	out := map[string]bool{}
	for i, r := range c.judge(answers).Claims {
		if r.Verdict != Broken {
			continue
		}
		for _, part := range c.ids[i] {
			for _, id := range part {
				if q := asked[id]; q.When == when && by[id].Got != nil && silent(by[id].Got) {
					out[id] = true
				}
			}
		}
	}
	return out
}

// silent reports whether nothing came back, which a machine that is late shows as well as one that is cut off.
func silent(got Got) bool {
	switch g := got.(type) {
	case GotReach:
		return !g.Answered && g.Outcome.Is(outcome.NoAnswer)
	case GotName:
		return !g.Answered && g.Outcome.Is(outcome.NoAnswer)
	case GotHop:
		return !g.Router.IsValid() && g.Outcome.Is(outcome.NoAnswer)
	case GotNeighbor:
		return g.Hop.IsValid() && len(g.Hardware) == 0
	case GotServers:
		return len(g.Offers) == 0
	case GotOwners:
		for _, list := range g.Owners {
			if len(list) == 0 {
				return true
			}
		}
	}
	return false
}
