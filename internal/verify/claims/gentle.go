package claims

import (
	"context"

	"openbastion/internal/model/plan"
)

// gentleKinds are what is asked without disturbing who works in the lab: nothing is unplugged, forged or taken over.
var gentleKinds = []AskKind{"address", "servers", "routers", "ipv6", "neighbor", "name", "hop", "reach", "owners"}

// gentle is a stage of which only that is asked.
type gentle struct{ Stage }

// Gentle returns a stage that asks another one only what disturbs nobody who works in the lab: no cable is pulled, no packet
// forged, no guest's port taken over for an answer. What would is missing.
func Gentle(s Stage) Stage {
	if h, is := s.(Hurried); is {
		return gentleHurried{gentle{s}, h}
	}
	return gentle{s}
}

func (g gentle) Open(ctx context.Context, p *plan.Plan) (Facts, error) {
	open := g.Stage.Open
	if q, is := g.Stage.(interface {
		OpenQuietly(context.Context, *plan.Plan) (Facts, error)
	}); is {
		open = q.OpenQuietly
	}
	facts, err := open(ctx, p)
	facts.Sets, facts.Asks = []Condition{Running}, gentleKinds
	return facts, err
}

func (g gentle) Ask(ctx context.Context, questions []Question, tell func(Answer)) error {
	var list []Question
	for _, q := range questions {
		if r, is := q.Ask.(AskReach); is && r.To != (Ref{}) {
			tell(
				Answer{
					ID:      q.ID,
					Missing: "not asked while the lab is watched: " + r.To.Machine + " would answer at its own port",
				},
			)
			continue
		}
		list = append(list, q)
	}
	return g.Stage.Ask(ctx, list, tell)
}

// gentleHurried is one on a machine that may be too busy to answer in time.
type gentleHurried struct {
	gentle
	Hurried
}
