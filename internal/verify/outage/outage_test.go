package outage_test

import (
	"context"
	"errors"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/outage"
)

// clock is one that goes on with each pause.
type clock struct {
	now    time.Duration
	cancel func() // called when a while has passed; nil: never
}

func (c *clock) Now() time.Duration { return c.now }

func (c *clock) Pause(ctx context.Context, d time.Duration) error {
	if c.now += d; c.cancel != nil && c.now > 3*time.Second {
		c.cancel()
	}
	return ctx.Err()
}

// rehearsed returns the sample lab, its trials, and a fault of it that counts its ends.
func rehearsed(t *testing.T, text string, ends *int) (*simulator.Lab, []outage.Trial, outage.Fault) {
	data, err := os.ReadFile("../../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	l, err := lab.Read("saltmarsh.yaml", data)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	s := simulator.New(p)
	facts, err := s.Open(t.Context(), p)
	require.NoError(t, err)
	what, err := simulator.ParseFault(p, text)
	require.NoError(t, err)
	return s, outage.Trials(p, facts.Witness), outage.Fault{
		Begin: func(context.Context) error { s.Strike(what, true); return nil },
		End:   func(context.Context) error { *ends++; s.Strike(what, false); return nil }, Lasts: 5 * time.Second,
	}
}

// Each guest has the timeline of what a fault takes from it, and from no other; afterwards all are back.
func TestRun(t *testing.T) {
	for fault, affected := range map[string]map[string]bool{
		"unplug=sluice":     {"heron": true, "otter": true, "ferry": true, "newt": true},
		"unplug=sluice.wan": {"heron": true, "otter": true, "ferry": true},
		"unplug=heron":      {"heron": true},
		"loss=tidepool:100": {"newt": true},
		"slow=reedbed:10ms": {},
	} {
		ends := 0
		s, trials, f := rehearsed(t, fault, &ends)
		seen, err := outage.Run(t.Context(), s, trials, f, &clock{})
		require.NoError(t, err)
		assert.Equal(t, 1, ends, fault)
		assert.Len(t, seen, 4)
		for _, x := range seen {
			assert.True(t, x.Back, "%s: %s", fault, x.Guest)
			assert.Equal(t, 5, x.Tries)
			want := []outage.Span{{0, 5, true}}
			if affected[x.Guest] {
				want = []outage.Span{{0, 4, false}, {5, 5, true}}
			}
			require.Len(t, x.Spans, len(want), "%s: %s: %v", fault, x.Guest, x.Spans)
			for i := range want {
				assert.Equal(t, want[i].Answered, x.Spans[i].Answered, "%s: %s", fault, x.Guest)
			}
		}
	}
}

// A fault is put right once, also when the run is interrupted.
func TestInterrupted(t *testing.T) {
	ends := 0
	s, trials, f := rehearsed(t, "unplug=sluice", &ends)
	ctx, cancel := context.WithCancel(t.Context())
	_, err := outage.Run(ctx, s, trials, f, &clock{cancel: cancel})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 1, ends)
	f.Begin = func(context.Context) error { return errors.New("it cannot be made") }
	_, err = outage.Run(t.Context(), s, trials, f, &clock{})
	assert.ErrorContains(t, err, "cannot be made")
	assert.Equal(t, 1, ends, "what has not begun is not ended")
}
