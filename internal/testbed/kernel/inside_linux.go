package kernel

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"strings"
	"time"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/stage"
)

// Inside makes a machine of a plan out of the system that this process runs in, whose
// adapters have the planned hardware addresses: of a virtual machine, all of it. It asks
// for leases at once, and goes on until the context ends.
func Inside(ctx context.Context, p *plan.Plan, m *plan.Machine) (*Stacks, error) {
	space, err := ownSystem()
	if err != nil {
		return nil, err
	}
	if err := nameDevices(space, m); err != nil {
		return nil, err
	}
	x, err := newMachine(m, p.Guests(), "", space)
	if err != nil {
		return nil, err
	}
	l := newStacks(ctx, p)
	if err := l.add(x); err != nil {
		return nil, err
	}
	for _, a := range m.Adapters {
		if err := errors.Join(tagged(space, a), x.up(a)); err != nil {
			return nil, err
		}
		if err := l.open(a); err != nil {
			return nil, err
		}
	}
	if l.shadows, err = drive.New(l.beside, drive.Ports(l.sockets)...); err != nil {
		return nil, err
	}
	if err := l.services(); err != nil {
		return nil, err
	}
	go func() {
		if err := l.shadows.Run(ctx); err != nil {
			l.fail(err)
		}
	}()
	l.start(m)
	return l, nil
}

// Settled reports whether the machines have come by their leases; those that nobody hands
// out are waited for a moment.
func (l *Stacks) Settled(began time.Time) bool { return !l.waits(l.plan.Machines, began) }

// Survey asks every segment on which a guest is who hands out leases there.
func (l *Stacks) Survey() { l.surveyAll() }

// ownSystem returns the namespace of this process, with its loopback up and without IPv6 on
// what it is not planned on.
func ownSystem() (*Space, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	fd, err := unix.Open(ownSpace, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("this system's network: %w", err)
	}
	s := &Space{fd: fd}
	err = errors.Join(set("net.ipv6.conf.all.disable_ipv6", "1"), set("net.ipv6.conf.default.disable_ipv6", "1"))
	if err == nil {
		s.links, err = netlink.NewHandleAt(netns.NsHandle(fd), unix.NETLINK_ROUTE)
	}
	if err == nil {
		err = s.up("lo")
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// deviceTime is how long a system may take to find its adapters.
const deviceTime = 20 * time.Second

// nameDevices returns the adapters of a machine their planned names, by hardware address.
func nameDevices(space *Space, m *plan.Machine) error {
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		links, err := space.links.LinkList()
		if err != nil {
			return fmt.Errorf("this system's adapters: %w", err)
		}
		by := map[string]netlink.Link{}
		for _, l := range links {
			by[l.Attrs().HardwareAddr.String()] = l
		}
		missing := ""
		for _, a := range m.Adapters {
			if a.Over == nil && by[a.MAC.String()] == nil {
				missing = a.MAC.String()
			}
		}
		if missing == "" {
			return rename(space, m, by)
		}
		if time.Since(began) > deviceTime {
			return fmt.Errorf("%s: no adapter with %s", m.Name, missing)
		}
	}
}

// rename goes by names that nobody has, as two adapters may have to change theirs.
func rename(space *Space, m *plan.Machine, by map[string]netlink.Link) error {
	for _, final := range []bool{false, true} {
		for i, a := range m.Adapters {
			link := by[a.MAC.String()]
			if a.Over != nil || link == nil {
				continue
			}
			name := fmt.Sprint("adapter", i)
			if final {
				name = device(a)
			}
			if err := errors.Join(space.links.LinkSetDown(link), space.links.LinkSetName(link, name)); err != nil {
				return fmt.Errorf("%s: name adapter %s %s: %w", m.Name, mac.Address(a.MAC), name, err)
			}
		}
	}
	return nil
}

// tagged makes the device of a port over another.
func tagged(space *Space, a *plan.Adapter) error {
	if a.Over == nil {
		return nil
	}
	parent, err := space.links.LinkByName(device(a.Over))
	if err != nil {
		return fmt.Errorf("%s: %s: %w", a.Machine.Name, device(a.Over), err)
	}
	link := &netlink.Vlan{
		LinkAttrs: netlink.LinkAttrs{Name: device(a), ParentIndex: parent.Attrs().Index, HardwareAddr: a.MAC[:]},
		VlanId:    a.Segment.Tag,
	}
	if err := space.links.LinkAdd(link); err != nil {
		return fmt.Errorf("%s: tag %d on %s: %w", a.Machine.Name, a.Segment.Tag, device(a.Over), err)
	}
	return nil
}

// Ping asks an address from a machine, and says what came of it.
func (l *Stacks) Ping(ctx context.Context, m *plan.Machine, to netip.Addr) string {
	began := time.Now()
	e, err := l.machines[m].space.ping(ctx, to, 0, "asked by hand")
	if err != nil {
		return fmt.Sprintf("%s: %s", to, stage.Outcome(err))
	}
	return fmt.Sprintf("%s answers in %s", e.from, time.Since(began).Round(100*time.Microsecond))
}

// Name asks a machine's resolvers for a name.
func (l *Stacks) Name(ctx context.Context, m *plan.Machine, name string) string {
	x := l.machines[m]
	var resolvers []netip.Addr
	l.shadows.Do(l.ctx, func(time.Duration) { resolvers = x.resolvers() })
	if len(resolvers) == 0 {
		return "it has no DNS server"
	}
	got := x.space.lookUp(ctx, resolvers[0], name)
	return fmt.Sprintf(
		"DNS server %s, %s: %s %s",
		resolvers[0],
		name,
		got.Text(),
		strings.Join(subnet.Texts(got.Addresses), ", "),
	)
}

// Fetch gets a page by HTTP and gives its text, or what went wrong.
func (l *Stacks) Fetch(ctx context.Context, m *plan.Machine, from netip.AddrPort) string {
	body, connected, err := l.machines[m].space.fetch(ctx, from, nil)
	if !connected {
		return fmt.Sprintf("%s: %s", from, stage.Outcome(err))
	}
	return strings.TrimSpace(string(body))
}
