package kernel

import (
	"time"

	"github.com/vishvananda/netlink"

	"openbastion/internal/model/plan"
)

// Restart has a machine go down, or come up again: its DHCP clients and servers pause, the connections that it tracks and its
// neighbors are forgotten, and it asks for its leases again.
func (l *Stacks) Restart(m *plan.Machine, begins bool) {
	x := l.machines[m]
	if x == nil {
		return
	}
	l.shadows.Do(l.ctx, func(now time.Duration) {
		for _, a := range m.Adapters {
			if a.Plugged {
				x.shadow.SetLink(now, x.ports[a].Adapter, !begins)
			}
		}
	})
	if begins {
		_ = x.space.links.ConntrackTableFlush(netlink.ConntrackTable)
	}
	x.forget()
}
