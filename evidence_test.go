package openbastion

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// The evidence of a lab's machines, each of which tells its own, signed, read and put together,
// never says anything else than the stage that they were in, on labs that nobody thought of:
// what it does not say is unknown.
func TestEvidenceAgreesWithItsStage(t *testing.T) {
	token, made, same, open := witness.Token{5}, 0, 0, 0
	for seed := uint64(0); made < 100; seed++ {
		text := dice{rand.New(rand.NewPCG(seed, 19))}.lab()
		l, err := lab.Read("lab.yaml", []byte(text))
		if err != nil {
			continue
		}
		p, err := plan.Build(l)
		if err != nil {
			continue
		}
		made++
		want, got, err := claims.Run(t.Context(), p, simulator.New(p))
		require.NoError(t, err)
		joined := evidence.For(p).Join(handedIn(t, p, got, token))
		require.Empty(t, joined.Remarks)
		for i, r := range joined.Judge(p).Claims {
			switch w := want.Claims[i]; r.Verdict {
			case w.Verdict:
				same++
			case claims.Unknown:
				open++
			default:
				assert.Fail(
					t,
					"it says another thing",
					"%s %s: stage %s %q, evidence %s %q\n%s",
					fmt.Sprint("drawn ", seed),
					r.ID,
					w.Verdict,
					w.Observed,
					r.Verdict,
					r.Observed,
					text,
				)
			}
		}
	}
	t.Logf("%d labs, %d claims alike, %d unknown", made, same, open)
	assert.Greater(t, same, 20*open, "what machines can check that themselves is nearly all")
}

// handedIn returns what each machine, and somebody outside, would hand in.
func handedIn(t *testing.T, p *plan.Plan, got claims.Answers, token witness.Token) (files []evidence.File) {
	asked := map[string]claims.Asking{}
	for _, q := range claims.Questions(p, got.Facts) {
		asked[q.ID] = q.Ask
	}
	names := []string{evidence.Outside}
	for _, m := range p.Machines {
		names = append(names, m.Name)
	}
	for _, name := range names {
		e := evidence.Evidence{
			Lab:     p.Name,
			Guest:   name,
			Print:   p.Fingerprint(),
			Asks:    claims.Digest(p),
			Made:    time.Unix(1e9, 0).UTC(),
			Facts:   got.Facts,
			Answers: []claims.Answer{},
		}
		for _, a := range got.Answers {
			if evidence.Of(name, asked[a.ID]) {
				e.Answers = append(e.Answers, a)
			}
		}
		data, err := e.Sign(token.Evidence())
		require.NoError(t, err)
		back, err := evidence.Read(data, func(string) witness.Token { return token })
		require.NoError(t, err)
		back.Reports = [][]byte{{1}} // somebody was heard
		files = append(files, evidence.File{Name: name, Evidence: back})
	}
	return files
}
