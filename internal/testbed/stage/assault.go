package stage

import (
	"context"
	"fmt"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// How much slower hostile frames are sent when some were lost, and how often.
const (
	slower    = 5
	mostSlows = 2
)

// assault has guests be hostile. What they send must not be lost in a buffer of this
// machine, or silence would prove nothing: where frames were lost all is tried again, at
// a slower pace, and when they still are there is no answer.
func (s *Stage) assault(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) (err error) {
	defer s.Loop.Do(s.ctx, func(time.Duration) { s.Live.Slower(1) })
	for pace, n := 1, 0; ; pace, n = pace*slower, n+1 {
		answers := make([]claims.Answer, 0, len(questions))
		lost := 0
		s.Loop.Do(s.ctx, func(time.Duration) {
			s.tellAddresses()
			s.Machines.Lost()
			s.Live.Slower(pace)
			err = s.Live.Ask(ctx, questions, func(a claims.Answer) { answers = append(answers, a) })
			lost = s.Machines.Lost()
		})
		if err != nil || ctx.Err() != nil {
			return err
		}
		if lost > 0 && n < mostSlows {
			continue
		}
		check := s.control(ctx)
		for _, a := range answers {
			a = check(a)
			if lost > 0 && !escaped(a.Got) { // what was seen stays seen
				a = claims.Answer{ID: a.ID, Missing: fmt.Sprintf("%d frames were lost in this machine's buffers", lost)}
			}
			tell(a)
		}
		return nil
	}
}

// control sends, with the WAN plugged, what was sent without it, by a guest that did get
// outside before: when none of that arrives, the silence before proved nothing. It gives
// what puts that into an answer.
func (s *Stage) control(ctx context.Context) func(claims.Answer) claims.Answer {
	by, known := s.whoReached()
	if s.condition != claims.Unplugged || by == nil {
		return func(a claims.Answer) claims.Answer { return a }
	}
	guest := by.Machine
	source, _ := s.Machines.Addresses(by)
	sent, arrived := 0, 0
	s.Loop.Do(s.ctx, func(time.Duration) {
		if s.plug(ctx, claims.Running) == nil {
			sent, arrived = s.Live.Arrivals(by, source.Addr(), known)
		}
		_ = s.plug(ctx, claims.Unplugged)
	})
	return func(a claims.Answer) claims.Answer {
		if _, is := a.Got.(claims.GotAttack); !is || escaped(a.Got) {
			return a
		}
		if arrived == 0 {
			return claims.Answer{ID: a.ID,
				Missing: fmt.Sprintf(
					"the control failed: of %d such attempts by %s none arrived with the WAN plugged either",
					sent,
					guest.Name,
				)}
		}
		a.Evidence = append(
			a.Evidence,
			Reading(guest, "the control: with the WAN plugged %d of %d such attempts by %s arrive outside", arrived,
				sent, guest.Name)...)
		return a
	}
}

// whoReached returns a guest's adapter, the first of the plan, that reached the witness since
// the stage was opened, and by what; nil when none did.
func (s *Stage) whoReached() (*plan.Adapter, lab.Service) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.Live.Adapters {
		if service, ok := s.reached[a]; ok && a.Guest != nil {
			return a, service
		}
	}
	return nil, lab.Service{}
}

// escaped reports whether it is an answer by which something passed.
func escaped(got claims.Got) bool {
	switch g := got.(type) {
	case claims.GotAttack:
		return len(g.Ways) > 0
	case claims.GotScan:
		return len(g.Ways)+len(g.Open) > 0
	case claims.GotPacket:
		return len(g.Took) > 0
	}
	return false
}
