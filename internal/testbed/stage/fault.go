package stage

import (
	"context"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
)

// Restarter is who can have a real machine forget what does not outlive a restart: connections that it tracks, its neighbors,
// and what it was given by DHCP.
type Restarter interface {
	Restart(m *plan.Machine, begins bool)
}

// Strike begins or ends a fault: at the switch, and in the machine that is started again.
func (s *Stage) Strike(ctx context.Context, f simulator.Fault, begins bool) error {
	r, able := s.Machines.(Restarter)
	able = able && f.Kind == simulator.Reboot && s.Machines.Has(f.Machine)
	if able && begins {
		r.Restart(f.Machine, true)
	}
	s.Loop.Do(s.ctx, func(time.Duration) {
		s.tellAddresses()
		s.Live.Strike(f, begins)
	})
	if able && !begins {
		r.Restart(f.Machine, false)
	}
	if f.Machine != nil && !begins { // who did not answer is asked again only after a while
		for _, m := range s.Plan.Machines {
			if s.Machines.Has(m) {
				s.Machines.Forget(m)
			}
		}
	}
	return ctx.Err()
}
