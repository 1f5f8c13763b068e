package field

import (
	"context"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/kernel"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// packets asks what a system does not tell, by packets of its own: it takes rights.
type packets struct{ stacks *kernel.Stacks }

// openPackets opens packet sockets on the adapters of a machine that are tied to the system's. A guest sends with the
// MAC addresses that these have.
func openPackets(ctx context.Context, p *plan.Plan, m *plan.Machine, tied map[*plan.Adapter]*Adapter) (*packets, error) {
	if m.Guest != nil {
		as, err := p.AsBuilt(func(l *lab.Lab) {
			for i, a := range m.Adapters {
				if x := tied[a]; x != nil {
					l.Guest(m.Name).Adapters[i].MAC = x.MAC
				}
			}
		})
		if err != nil {
			return nil, err
		}
		real := map[*plan.Adapter]*Adapter{}
		for i, a := range as.Machine(m.Name).Adapters {
			real[a] = tied[m.Adapters[i]]
		}
		p, m, tied = as, as.Machine(m.Name), real
	}
	devices := map[*plan.Adapter]string{}
	for _, a := range m.Adapters {
		if x := tied[a]; x != nil && x.Up {
			devices[a] = x.Name
		}
	}
	stacks, err := kernel.Observe(ctx, p, m, devices)
	if err != nil {
		return nil, err
	}
	return &packets{stacks}, nil
}

// ask asks everybody on a segment: who hands out leases, who announces IPv6, who has an
// address.
func (p *packets) ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) {
	var list []stage.Request
	for _, q := range questions {
		list = append(list, stage.Request{Question: q})
	}
	late := p.stacks.Ask(ctx, claims.Witness{}, list, tell)
	late(tell)
}
