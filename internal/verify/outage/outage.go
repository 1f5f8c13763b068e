// Package outage tells what guests see of a fault: each tries something every so often, while the fault lasts and until it is
// over, and what came of it is kept as a timeline.
package outage

import (
	"context"
	"sync"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// Seen is what one guest saw of a fault.
type Seen struct {
	Guest string  `json:"guest"`
	Tried string  `json:"tried"` // what it tried again and again
	Tries int     `json:"tries"`
	Lost  int     `json:"lost"`          // of them, while the fault lasted
	Back  bool    `json:"back"`          // it answers again
	After float64 `json:"after_seconds"` // from the fault's end to the first answer
	Talk  string  `json:"talk"`          // what became of a conversation that was open: goes on, ended, none, or not tried
	Spans []Span  `json:"spans"`         // in order; the first begins when it was tried first
}

// Span is a time in which all tries came to the same. Seconds count from the beginning of the fault.
type Span struct {
	From     float64 `json:"from_seconds"`
	To       float64 `json:"to_seconds"` // of the last try
	Answered bool    `json:"answered"`
}

// Try notes a try that was made at a time since the fault began. ended is when the fault did, 0 while it lasts.
func (s *Seen) Try(at, ended time.Duration, answered bool) {
	now := at.Seconds()
	if n := len(s.Spans); n > 0 && s.Spans[n-1].Answered == answered {
		s.Spans[n-1].To = now
	} else {
		s.Spans = append(s.Spans, Span{now, now, answered})
	}
	switch {
	case ended == 0:
		if s.Tries++; !answered {
			s.Lost++
		}
	case answered && !s.Back:
		s.Back, s.After = true, (at - ended).Seconds()
	}
}

// Trial is what a guest tries.
type Trial struct {
	Question claims.Question
	Seen
}

// Trials returns what the guests of a plan try: a service that the rules let out, where there is one, else the next hop by ARP.
func Trials(p *plan.Plan, w claims.Witness) (list []Trial) {
	for _, g := range p.Guests() {
		home := claims.InsideAdapter(g)
		if home == nil || g.Off {
			continue
		}
		t := Trial{Seen: Seen{Guest: g.Name, Talk: NotTried, Spans: []Span{}}}
		var allowed []lab.Service
		if port := home.Segment.Port; port != nil {
			allowed = claims.AllowedServices(port.Machine, home.Segment, home.Likely(), w.Address)
		}
		switch {
		case len(allowed) > 0:
			service := allowed[0]
			t.Tried = "outside by " + service.String()
			t.Question.Ask = claims.AskReach{From: claims.RefTo(home), Service: service}
		case home.Gateway.IsValid() || home.How == plan.Lease || home.How == plan.Reservation:
			t.Tried = NextHop
			t.Question.Ask = claims.AskNeighbor{At: claims.RefTo(home)}
		default:
			continue
		}
		t.Question.ID, t.Question.When = g.Name, claims.Running
		list = append(list, t)
	}
	return list
}

// NotTried says that no conversation was opened.
const NotTried = "not tried"

// NextHop is what a guest tries that may not go outside.
const NextHop = "its next hop by ARP"

// Fault is something that goes wrong with a lab that runs, and is put right again.
type Fault struct {
	Begin, End func(context.Context) error
	Lasts      time.Duration
}

// Clock is the time of the lab.
type Clock interface {
	Now() time.Duration
	Pause(ctx context.Context, d time.Duration) error
}

// How often guests try, and for how long they are waited for after the fault.
const (
	every   = time.Second
	waiting = time.Minute
)

// Run lets a fault happen to a stage that is open, and returns what guests saw of it: until each is back, or for a minute. The
// fault is ended also where the context ends first.
func Run(ctx context.Context, s claims.Stage, trials []Trial, f Fault, c Clock) ([]Seen, error) {
	if err := f.Begin(ctx); err != nil {
		return nil, err
	}
	began, ended := c.Now(), time.Duration(0)
	end := sync.OnceValue(func() error { return f.End(context.WithoutCancel(ctx)) })
	defer func() { _ = end() }()
	for {
		at := c.Now() - began
		if ended == 0 && at >= f.Lasts {
			if err := end(); err != nil {
				return nil, err
			}
			ended = c.Now() - began
			at = ended
		}
		if ended > 0 && (at-ended > waiting || at > ended && back(trials)) {
			break
		}
		if err := round(ctx, s, trials, at, ended); err != nil {
			return nil, err
		}
		if left := every - (c.Now() - began - at); left > 0 {
			if err := c.Pause(ctx, left); err != nil {
				return nil, err
			}
		}
	}
	out := make([]Seen, 0, len(trials))
	for _, t := range trials {
		out = append(out, t.Seen)
	}
	return out, nil
}

// back reports whether everybody is.
func back(trials []Trial) bool {
	for _, t := range trials {
		if !t.Back {
			return false
		}
	}
	return true
}

// round has each guest try once.
func round(ctx context.Context, s claims.Stage, trials []Trial, at, ended time.Duration) error {
	questions, index := make([]claims.Question, len(trials)), map[string]int{}
	for i, t := range trials {
		questions[i], index[t.Question.ID] = t.Question, i
	}
	answered := make([]bool, len(trials))
	err := s.Ask(ctx, questions, func(a claims.Answer) {
		switch got := a.Got.(type) {
		case claims.GotReach:
			answered[index[a.ID]] = got.Answered
		case claims.GotNeighbor:
			answered[index[a.ID]] = len(got.Hardware) > 0
		}
	})
	if err != nil {
		return err
	}
	for i := range trials {
		trials[i].Try(at, ended, answered[i])
	}
	return nil
}
