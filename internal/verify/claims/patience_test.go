package claims

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/netsim/outcome"
)

// late is a stage that answers what it is asked often enough.
type late struct {
	*fake
	busy  string
	asked map[string]int
}

func (l *late) Busy() string { return l.busy }

func (l *late) Pause(context.Context, time.Duration) error { return nil }

func (l *late) Ask(ctx context.Context, questions []Question, tell func(Answer)) error {
	return l.fake.Ask(ctx, questions, func(a Answer) { l.asked[a.ID]++; tell(a) })
}

// Silence breaks nothing at once: it is asked about again, longer on a busy machine, and counts there only beside others
// that answer.
func TestSilenceIsAskedAboutAgain(t *testing.T) {
	for name, c := range map[string]struct {
		busy   string
		silent func(q AskReach, n int) bool
		want   Verdict
	}{
		"answers at once":             {"", func(AskReach, int) bool { return false }, Holds},
		"answers the second time":     {"", func(_ AskReach, n int) bool { return n < 2 }, Holds},
		"answers the third, busy":     {"it is busy", func(_ AskReach, n int) bool { return n < 3 }, Holds},
		"never, not busy":             {"", func(AskReach, int) bool { return true }, Broken},
		"never, busy, nobody answers": {"it is busy", func(AskReach, int) bool { return true }, Unknown},
		"never, busy, others answer":  {"it is busy", func(q AskReach, _ int) bool { return q.Service.Proto == "tcp" }, Broken},
	} {
		t.Run(name, func(t *testing.T) {
			seen := map[Asking]int{}
			s := &late{busy: c.busy, asked: map[string]int{}, fake: &fake{change: func(what Asking, a *Answer) {
				if q, is := what.(AskReach); is {
					if seen[what]++; c.silent(q, seen[what]) {
						a.Got = GotReach{Outcome: outcome.Of(outcome.NoAnswer)}
					}
				}
			}}}
			out, _, err := Run(t.Context(), sample(t), s)
			require.NoError(t, err)
			for _, r := range out.Claims {
				if r.Kind == Outside {
					assert.Equal(t, c.want, r.Verdict, r.Observed)
				}
			}
		})
	}
}
