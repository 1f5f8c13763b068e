package kernel

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"time"

	"github.com/vishvananda/netlink"

	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/stage"
)

// Stacks are machines of a plan on kernels' own stacks, with what stands beside them. They
// are asked, and tell how they are; what they are cabled to is not their business.
type Stacks struct {
	plan     *plan.Plan
	machines map[*plan.Machine]*machine
	adapters []*plan.Adapter // of the machines, numbered from 1 in order
	beside   *Shadows
	shadows  *drive.Drive
	sockets  []*drive.Adapter
	surveys  map[*plan.Segment][]survey // at most two of each, the older first; of the shadows' loop
	log      *logs
	failed   chan error
	ctx      context.Context

	listening time.Duration // to who hands out leases
}

func newStacks(ctx context.Context, p *plan.Plan) *Stacks {
	return &Stacks{
		plan:      p,
		machines:  map[*plan.Machine]*machine{},
		beside:    newShadows(),
		surveys:   map[*plan.Segment][]survey{},
		log:       &logs{},
		failed:    make(chan error, 1),
		ctx:       ctx,
		listening: listening,
	}
}

// Has reports whether a machine is one of them.
func (l *Stacks) Has(m *plan.Machine) bool { return l.machines[m] != nil }

// add sets up a machine whose space and shadow are there, before anything can pass.
func (l *Stacks) add(x *machine) error {
	l.machines[x.plan] = x
	if x.plan.Appliance == nil || x.foreign() {
		return nil
	}
	if err := x.filter(); err != nil {
		return err
	}
	l.leadBy(x)
	return x.follow(l.log)
}

// leadBy updates where an appliance's port forwards lead, each time that it may have given a lease.
func (l *Stacks) leadBy(x *machine) {
	l.beside.handed[x.shadow] = func(now time.Duration) {
		if err := x.lead(now); err != nil {
			l.fail(err)
		}
	}
}

// open opens a machine's device of an adapter for its shadow. The device is there and up.
func (l *Stacks) open(a *plan.Adapter) error {
	x := l.machines[a.Machine]
	take, err := business()
	if err != nil {
		return err
	}
	number := len(l.adapters) + 1
	var beside *drive.Adapter
	if err := x.space.Do(func() (err error) { beside, err = drive.Open(x.device(a), number); return err }); err != nil {
		return err
	}
	l.adapters = append(l.adapters, a)
	l.sockets = append(l.sockets, beside)
	l.beside.add(x.shadow, x.ports[a].Adapter, number)
	return beside.Filter(take)
}

// services starts what the machines serve by themselves.
func (l *Stacks) services() error {
	for _, x := range l.machines {
		if x.foreign() {
			continue
		}
		if err := x.services(); err != nil {
			return err
		}
	}
	return nil
}

// start has a machine ask for what it is to be given.
func (l *Stacks) start(m *plan.Machine) {
	x := l.machines[m]
	if x == nil {
		return
	}
	l.shadows.Do(l.ctx, func(now time.Duration) {
		for _, a := range m.Adapters {
			p := x.ports[a]
			if !a.Plugged {
				x.shadow.SetLink(now, p.Adapter, false)
				continue
			}
			x.shadow.StartSix(now, p)
			if p.Client != nil {
				x.shadow.StartLease(now, p)
			}
		}
	})
}

// fail notes why the machines no longer run as they should: the first reason stays.
func (l *Stacks) fail(err error) {
	select {
	case l.failed <- err:
	default:
	}
}

// Failed returns a channel that says why the machines no longer run as they should.
func (l *Stacks) Failed() <-chan error { return l.failed }

// Addresses returns what an adapter has: its IPv4 address, and its IPv6 addresses that are
// not link-local.
func (l *Stacks) Addresses(a *plan.Adapter) (netip.Prefix, []netip.Prefix) {
	x := l.machines[a.Machine]
	if x.foreign() {
		l.observe(x, a)
	}
	return x.now(a).Address, l.six(a)
}

// Forget has a machine ask its neighbors afresh.
func (l *Stacks) Forget(m *plan.Machine) {
	if x := l.machines[m]; x != nil {
		x.forget()
	}
}

// How long machines may take to come by their leases: where somebody is planned to hand
// them out, long enough for one who was offered a taken address to ask again (RFC 2131,
// section 3.1, has it wait ten seconds); elsewhere, long enough for somebody unplanned.
const (
	Served   = 14 * time.Second
	unserved = time.Second
)

// settled waits until machines have their leases, for as long as it may take; a
// machine that gets none is an observation, not an error.
func (l *Stacks) settled(list []*plan.Machine) {
	for began := time.Now(); l.ctx.Err() == nil && l.waits(list, began); {
		time.Sleep(5 * time.Millisecond)
	}
}

// waits reports whether one of the machines, which began to ask at a time, may still come by
// what it asked for.
func (l *Stacks) waits(list []*plan.Machine, began time.Time) bool {
	for _, m := range list {
		x := l.machines[m]
		if x == nil {
			continue
		}
		for _, a := range m.Adapters {
			if a.Plugged && time.Since(began) < Patience(a) && l.awaits(x, a) {
				return true
			}
		}
	}
	return false
}

// Patience returns how long an adapter may take to come by its lease.
func Patience(a *plan.Adapter) time.Duration {
	s := a.Segment
	_, planned := s.LeaseService()
	above := s.Reach != lab.Isolated && s.Reach != lab.Host && s.Lab.Leases == ""
	if planned != nil || above || s.Lab.Leases == "upstream" || s.Lab.Leases == "host" {
		return Served
	}
	return unserved
}

// awaits reports whether it is an adapter that has not yet come by what it asked for.
func (l *Stacks) awaits(x *machine, a *plan.Adapter) bool {
	return x.ports[a].Client != nil && !x.now(a).Address.IsValid() || l.awaitsSix(x, a)
}

// awaitsSix reports whether it is a guest's adapter on whose segment IPv6 is to be announced, and that
// has no address by it yet, or was told no resolver.
func (l *Stacks) awaitsSix(x *machine, a *plan.Adapter) (waits bool) {
	if a.Guest == nil || a.Segment.Port == nil || !a.Segment.Port.Address6.IsValid() {
		return false
	}
	l.shadows.Do(l.ctx, func(time.Duration) { waits = x.ports[a].IPv6 != nil && x.ports[a].IPv6.DNS == nil })
	return waits || len(l.six(a)) == 0
}

// six returns the IPv6 addresses that the kernel has on an adapter, link-local ones left
// out.
func (l *Stacks) six(a *plan.Adapter) []netip.Prefix {
	if !speaks6(a) {
		return nil
	}
	x := l.machines[a.Machine]
	link, err := x.link(a)
	if err != nil {
		return nil
	}
	list, err := x.space.links.AddrList(link, netlink.FAMILY_V6)
	if err != nil {
		return nil
	}
	var out []netip.Prefix
	for _, o := range list {
		at, ok := netip.AddrFromSlice(o.IP)
		bits, _ := o.Mask.Size()
		if ok && at.Is6() && !at.IsLinkLocalUnicast() {
			out = append(out, netip.PrefixFrom(at, bits))
		}
	}
	return out
}

// Introduce has guests answer on every port, or no more, beside what runs in them: all at
// once, as the kernel waits for its readers at each.
func (l *Stacks) Introduce(on bool) error {
	var mu sync.Mutex
	var all []error
	var each sync.WaitGroup
	for m, x := range l.machines {
		if m.Guest == nil {
			continue
		}
		each.Go(func() {
			if err := x.introduce(on); err != nil {
				mu.Lock()
				defer mu.Unlock()
				all = append(all, fmt.Errorf("%s: %w", m.Name, err))
			}
		})
	}
	each.Wait()
	return errors.Join(all...)
}

// Handed returns what the machines have handed out.
func (l *Stacks) Handed() (out []status.Lease) {
	l.shadows.Do(l.ctx, func(now time.Duration) {
		for _, a := range l.adapters {
			if p := l.machines[a.Machine].ports[a]; p.Server != nil {
				out = append(out, stage.Leases(l.plan, now, a.Segment.Name, a.Machine.Name, p.Server)...)
			}
		}
	})
	return out
}

// close ends the machines and what was opened of them. The kernel waits for its readers at
// each of these: better for all at once.
func (l *Stacks) close() {
	var all sync.WaitGroup
	for _, a := range l.sockets {
		all.Go(func() { _ = a.Close() })
	}
	for _, x := range l.machines {
		all.Go(x.close)
	}
	all.Wait()
}

// lead has what is published to a guest without an address of its own lead to the one that
// it has now, where the appliance that publishes it hands that out: of others' leases it
// knows nothing. It is called from the shadows' loop.
func (x *machine) lead(now time.Duration) error {
	held := map[*plan.Adapter]netip.Addr{}
	note := func(to *plan.Adapter) {
		if to == nil || to.Address.IsValid() {
			return
		}
		for a, p := range x.ports {
			if a.Segment == to.Segment && p.Server != nil {
				held[to] = p.Server.Held(now, to.MAC)
			}
		}
	}
	for _, v := range x.plan.Publishes {
		note(v.To)
	}
	for _, v := range x.plan.OneToOne {
		note(v.To)
	}
	if maps.Equal(held, x.leads) {
		return nil
	}
	x.leads = held
	return x.rules(func(a *plan.Adapter) netip.Addr {
		if at, ok := held[a]; ok {
			return at
		}
		return ruleset.Planned(a)
	})
}
