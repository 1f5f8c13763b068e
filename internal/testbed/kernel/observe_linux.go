package kernel

import (
	"context"
	"fmt"
	"time"

	"github.com/vishvananda/netlink"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/drive"
)

// Observe takes the system that this process runs in for a machine of a plan, by what the
// machine's adapters are called in it; those that are not there are left out. Nothing of the
// system is changed: it is only asked, by packet sockets, for what a kernel's stack does not
// tell. It needs the right to open those, and goes on until the context ends.
func Observe(ctx context.Context, p *plan.Plan, m *plan.Machine, devices map[*plan.Adapter]string) (*Stacks, error) {
	links, err := netlink.NewHandle(netlink.FAMILY_ALL)
	if err != nil {
		return nil, fmt.Errorf("this system's adapters: %w", err)
	}
	x, err := newMachine(m, p.Guests(), "observed", &Space{fd: -1, here: true, links: links})
	if err != nil {
		return nil, err
	}
	x.devices = devices
	l := newStacks(ctx, p)
	l.listening = hurried
	if err := l.add(x); err != nil {
		return nil, err
	}
	for _, a := range m.Adapters {
		if devices[a] == "" {
			continue
		}
		if err := l.open(a); err != nil {
			l.close()
			return nil, err
		}
	}
	if l.shadows, err = drive.New(l.beside, drive.Ports(l.sockets)...); err != nil {
		l.close()
		return nil, err
	}
	go func() {
		if err := l.shadows.Run(ctx); err != nil {
			l.fail(err)
		}
		l.close()
	}()
	for _, a := range l.adapters {
		l.observe(x, a)
	}
	l.shadows.Do(ctx, func(now time.Duration) {
		for _, a := range l.adapters {
			if x.ports[a].IPv6 != nil { // else it hears nobody who announces
				x.shadow.StartSix(now, x.ports[a])
			}
		}
	})
	return l, nil
}
