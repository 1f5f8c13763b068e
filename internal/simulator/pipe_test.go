package simulator

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// piped is a stage behind a pipe of JSON: questions and answers travel as lines,
// out of order, and some of the answers get lost.
type piped struct {
	claims.Stage
	random *rand.Rand
	loss   float64
}

func (s *piped) Ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	there, back := new(lines), new(lines)
	s.random.Shuffle(len(questions), func(i, j int) { questions[i], questions[j] = questions[j], questions[i] })
	for _, q := range questions {
		there.write(q)
	}
	var asked []claims.Question
	for _, line := range there.list {
		var q claims.Question
		if err := json.Unmarshal(line, &q); err != nil {
			return err
		}
		asked = append(asked, q)
	}
	if err := s.Stage.Ask(ctx, asked, func(a claims.Answer) { back.write(a) }); err != nil {
		return err
	}
	s.random.Shuffle(len(back.list), func(i, j int) { back.list[i], back.list[j] = back.list[j], back.list[i] })
	read, write := io.Pipe()
	go func() {
		for _, line := range back.list {
			if s.random.Float64() >= s.loss {
				_, _ = write.Write(append(line, '\n'))
			}
		}
		_ = write.Close()
	}()
	for scan := bufio.NewScanner(read); scan.Scan(); {
		var a claims.Answer
		if err := json.Unmarshal(scan.Bytes(), &a); err != nil {
			return err
		}
		tell(a)
	}
	return nil
}

type lines struct{ list [][]byte }

func (l *lines) write(v any) {
	data, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	l.list = append(l.list, data)
}

// Behind a pipe that delays, reorders and loses, every verdict is as it is
// without, or unknown; with nothing lost it is the same.
func TestBehindAPipe(t *testing.T) {
	for _, name := range []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"} {
		direct := run(t, example(t, name))
		for seed := range uint64(12) {
			l := build(t, example(t, name))
			s := &piped{l, rand.New(rand.NewPCG(seed, 1)), []float64{0, 0, 0.05, 0.3}[seed%4]}
			doc, _, err := claims.Run(t.Context(), l.plan, s)
			require.NoError(t, err)
			unknown := 0
			for i, r := range doc.Claims {
				if r.Verdict == claims.Unknown {
					if r.Follows == "" {
						unknown++
					}
					continue
				}
				assert.Equal(
					t,
					direct.Claims[i].Verdict,
					r.Verdict,
					"%s, seed %d: %s: %s",
					name,
					seed,
					r.ID,
					r.Observed,
				)
			}
			if s.loss == 0 {
				assert.Equal(t, direct.Verdict, doc.Verdict)
				assert.Zero(t, unknown)
			} else if s.loss == 0.3 {
				assert.NotEqual(t, claims.Holds, doc.Verdict, "what was lost is unknown")
			}
		}
	}
}

// A run that is interrupted ends at once; one whose budget is spent says so.
func TestRunsEnd(t *testing.T) {
	l := build(t, example(t, "saltmarsh.yaml"))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err := claims.Run(ctx, l.plan, l)
	assert.ErrorIs(t, err, context.Canceled)
	l = build(t, example(t, "saltmarsh.yaml"))
	l.World().Budget = 400
	doc := l.Outcome()
	assert.Equal(t, claims.Unknown, doc.Verdict)
	assert.Contains(t, verdicts(doc)["heron.dhcp"].Observed, "budget of events is spent")
	other := build(t, example(t, "saltmarsh.yaml"))
	_, err = l.Open(t.Context(), other.plan)
	assert.ErrorContains(t, err, "this rehearsal is of the lab saltmarsh")
	_, err = l.Open(t.Context(), &plan.Plan{})
	assert.Error(t, err)
}
