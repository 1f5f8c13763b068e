package kernel

import (
	"context"
	"fmt"
	"time"

	"openbastion/core/claims"
)

// How much slower hostile frames are sent when some were lost, and how often.
const (
	slower    = 5
	mostSlows = 2
)

// assault has guests be hostile. What they send must not be lost in a buffer of this
// machine, or silence would prove nothing: where frames were lost all is tried again, at
// a slower pace, and when they still are there is no answer.
func (l *Lab) assault(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) (err error) {
	defer l.switches.Do(l.ctx, func(time.Duration) { l.live.Slower(1) })
	for pace, n := 1, 0; ; pace, n = pace*slower, n+1 {
		answers := make([]claims.Answer, 0, len(questions))
		lost := 0
		l.switches.Do(l.ctx, func(time.Duration) {
			l.tellAddresses()
			l.lost()
			l.live.Slower(pace)
			err = l.live.Ask(ctx, questions, func(a claims.Answer) { answers = append(answers, a) })
			lost = l.lost()
		})
		if err != nil || ctx.Err() != nil {
			return err
		}
		if lost > 0 && n < mostSlows {
			continue
		}
		for _, a := range answers {
			if lost > 0 && !escaped(a.Got) { // what was seen stays seen
				a = claims.Answer{ID: a.ID, Missing: fmt.Sprintf("%d frames were lost in this machine's buffers while it was asked", lost)}
			}
			tell(a)
		}
		return nil
	}
}

// escaped tells an answer by which something passed.
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

// lost gives how many frames the switch lost since the last call.
func (l *Lab) lost() (n int) {
	for _, a := range l.adapters[:len(l.live.Adapters)] {
		n += a.Lost()
	}
	return n
}
