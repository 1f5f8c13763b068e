package kernel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/export/nft"
	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/testbed/supervisor"
)

// apply makes a lab that runs one of another plan.
type apply struct {
	was, lab *Lab
	kept     []kept
	carried  map[*plan.Adapter]*plan.Adapter // adapters that stay, now and before
	number   map[*plan.Adapter]int           // of the adapters before, at the switch from 0
	spaces   []*machine                      // machines that were made, to be undone
	cables   []*drive.Adapter                // their far ends, and others that were made
	sockets  []*drive.Adapter                // shadows' that were made
	address  map[*plan.Adapter]state         // of adapters that stay with another one: what they have from now on
}

// kept is a machine that stays, before and now.
type kept struct{ was, now *machine }

// Apply makes what runs the lab of another plan, in place: a machine that is in both goes on in its namespace,
// with its programs and conversations; what differs of it is changed there. Rules are replaced at once, and
// what neither plan changes is not touched. It returns the lab that runs then, in whose place the one before
// is not to be used. An error without a lab: nothing has changed; with one, not everything could be changed.
func (l *Lab) Apply(ctx context.Context, p *plan.Plan) (supervisor.Made, error) {
	if err := l.applicable(p); err != nil {
		return nil, err
	}
	a := &apply{was: l, carried: map[*plan.Adapter]*plan.Adapter{}, number: map[*plan.Adapter]int{},
		address: map[*plan.Adapter]state{}}
	if err := a.prepare(ctx, p); err != nil {
		a.discard()
		return nil, err
	}
	if err := a.switchOver(); err != nil {
		a.discard()
		return nil, err
	}
	return a.lab, a.finish(ctx)
}

// applicable refuses a plan that the lab cannot become while it runs.
func (l *Lab) applicable(p *plan.Plan) error {
	if err := l.options.wanted(p); err != nil {
		return err
	}
	if !l.options.Join {
		return nil
	}
	joins := func(p *plan.Plan) (out []string) {
		for _, s := range p.Segments {
			if s.Reach == lab.Upstream {
				out = append(out, fmt.Sprint(s.Name, s.Lab.Join, s.Lab.Uplink, s.Subnet))
			}
		}
		return out
	}
	if !slices.Equal(joins(l.plan), joins(p)) {
		return errors.New("how the lab is joined to this machine's network cannot be changed while it runs: stop it and start it again")
	}
	return nil
}

// prepare makes what is new, beside what runs.
func (a *apply) prepare(ctx context.Context, p *plan.Plan) error {
	was := a.was
	n := &Lab{plan: p, options: was.options, programs: was.programs, ctx: was.ctx, cancel: was.cancel, ended: was.ended,
		wires: was.wires, switches: was.switches, changes: was.changes, gate: was.gate, captures: was.captures,
		cables: was.cables}
	a.lab = n
	runs := n.carries()
	n.Notes = append(n.Notes, was.notes()...)
	n.live = simulator.NewLive(p, func(m *plan.Machine) bool { return runs[m] })
	for _, name := range n.options.Servers {
		n.live.AddServer(p.Segment(name))
	}
	n.stacks = newStacks(n.ctx, p)
	n.stacks.log, n.stacks.failed, n.stacks.shadows = was.stacks.log, was.stacks.failed, was.stacks.shadows
	n.Stage = &stage.Stage{Name: "kernel", Plan: p, Live: n.live, Machines: cabled{n.stacks, n}, Loop: n.switches, Away: was.Away, Host: was.Host}
	for _, m := range p.Machines {
		if !runs[m] {
			continue
		}
		if old := was.stacks.machines[was.plan.Machine(m.Name)]; old != nil && stays(old, m, n.options.Commands[m.Name]) {
			a.keep(old, m)
			continue
		}
		space, err := NewSpace()
		if err != nil {
			return fmt.Errorf("%s: %w", m.Name, err)
		}
		x, err := newMachine(m, p.Guests(), n.options.Commands[m.Name], space)
		if err != nil {
			return err
		}
		a.spaces = append(a.spaces, x)
		if err := n.stacks.add(x); err != nil {
			return err
		}
	}
	if err := a.cable(ctx); err != nil {
		return err
	}
	for _, x := range a.spaces {
		if !x.foreign() {
			if err := x.services(); err != nil {
				return err
			}
		}
	}
	return nil
}

// stays reports whether a machine can be changed to a plan in its namespace.
func stays(x *machine, m *plan.Machine, command string) bool {
	for _, now := range m.Adapters {
		for _, was := range x.plan.Adapters {
			if device(was) == device(now) && was.MAC != now.MAC { // as long as the old one is there, there is no place
				return false
			}
		}
	}
	return x.command == "" && command == "" && (x.plan.Appliance == nil) == (m.Appliance == nil)
}

// keep has a machine stay, with those of its adapters that have the same device and MAC address.
func (a *apply) keep(old *machine, m *plan.Machine) {
	x := old.planned(m, a.lab.plan.Guests(), "")
	a.kept = append(a.kept, kept{old, x})
	a.lab.stacks.machines[m] = x
	if m.Appliance != nil {
		a.lab.stacks.leadBy(x)
	}
	for _, now := range m.Adapters {
		for _, was := range old.plan.Adapters {
			if device(was) == device(now) && was.MAC == now.MAC {
				a.carried[now] = was
			}
		}
	}
}

// cable wires what has no cable yet; what has one keeps it.
func (a *apply) cable(ctx context.Context) error {
	n, was := a.lab, a.was
	for i, x := range was.live.Adapters {
		a.number[x] = i
	}
	for i, x := range n.live.Adapters {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if old := a.carried[x]; old != nil {
			n.ends = append(n.ends, was.ends[a.number[old]])
			n.stacks.carry(x, was.stacks.sockets[a.number[old]])
			continue
		}
		end, err := n.wire(x, i+1)
		if err != nil {
			return err
		}
		n.ends = append(n.ends, end)
		a.cables = append(a.cables, end)
		if err := n.stacks.open(x); err != nil {
			return err
		}
		a.sockets = append(a.sockets, n.stacks.sockets[len(n.stacks.sockets)-1])
	}
	return nil
}

// discard undoes what was prepared.
func (a *apply) discard() {
	for _, k := range a.kept {
		k.was.as.Store(k.was)
	}
	for _, end := range slices.Concat(a.cables, a.sockets) {
		_ = end.Close()
	}
	for _, end := range a.cables {
		a.was.unwire(end)
	}
	for _, x := range a.spaces {
		x.close()
	}
	a.was.cables = a.lab.cables // their names are used up
}

// unwire takes a cable away, with both its ends.
func (l *Lab) unwire(end *drive.Adapter) {
	if link, err := l.wires.links.LinkByName(end.Name()); err == nil {
		_ = l.wires.links.LinkDel(link)
	}
}

// switchOver has the switch and the shadows go on as the new plan has them, between two of their events.
func (a *apply) switchOver() (err error) {
	n, was := a.lab, a.was
	n.switches.Do(n.ctx, func(time.Duration) {
		n.rejoin(was)
		if n.captures != nil {
			if err = n.captures.Renumber(n.live.World().Segments, n.plan); err != nil {
				return
			}
		}
		n.watch = stage.NewWatch(n.plan, n.live.World().Segments)
		n.watch.Resume(was.watch)
		recorders := simulator.Recorders{n.watch}
		if n.captures != nil {
			recorders = append(recorders, n.captures)
		}
		n.live.World().Recorder = recorders
		n.live.Resume(was.live)
		n.live.Wait = func(until time.Duration) { n.switches.Until(n.ctx, until) }
		n.live.Forget = n.stacks.Forget
		for i, end := range n.ends {
			end.Number = i + 1
		}
		n.switches.Replace(n.live, drive.Ports(n.ends)...)
	})
	if err != nil || n.ctx.Err() != nil {
		return errors.Join(err, n.ctx.Err())
	}
	n.Begin(n.ctx)
	n.stacks.shadows.Do(n.ctx, func(time.Duration) {
		for i, socket := range n.stacks.sockets {
			socket.Number = i + 1
		}
		for _, k := range a.kept {
			a.takeOver(k)
		}
		for _, x := range a.spaces {
			for now, p := range x.ports {
				a.serveOn(now, p)
			}
		}
		n.stacks.shadows.Replace(n.stacks.beside, drive.Ports(n.stacks.sockets)...)
	})
	return n.ctx.Err()
}

// rejoin has the lab go on by what joined the one before to this machine's network.
func (l *Lab) rejoin(was *Lab) {
	if !l.options.Join {
		return
	}
	translated := false
	for _, s := range l.plan.Segments {
		switch {
		case s.Reach != lab.Upstream:
		case bridges(s):
			l.live.JoinSegment(s)
		default:
			translated = true
		}
	}
	if translated {
		l.live.JoinOutside(resolvers())
	}
	l.ends = append(l.ends, was.ends[len(was.live.Adapters):]...)
}

// finish changes what differs of the machines that stay, takes away what is no more, and starts what is new.
func (a *apply) finish(ctx context.Context) error {
	var all []error
	for _, k := range a.kept {
		all = append(all, a.reset(k))
	}
	a.takeAway()
	all = append(all, a.start(ctx))
	return errors.Join(all...)
}

// reset sets what differs in the new plan for a machine that stays.
func (a *apply) reset(k kept) error {
	x := k.now
	var all []error
	renumbered := a.renumbered(k)
	if renumbered { // routes by source are numbered by adapter
		x.unsource(max(len(x.plan.Adapters), len(k.was.plan.Adapters)))
	}
	for _, now := range x.plan.Adapters {
		was := a.carried[now]
		if was == nil {
			if has := x.now(now); renumbered && has.Address.IsValid() {
				all = append(all, x.address(now, has.Address, has.Gateway))
			}
			continue
		}
		if now.Plugged != was.Plugged {
			all = append(all, a.plug(now))
		}
		if has, differs := a.address[now]; differs {
			all = append(all, x.address(now, has.Address, has.Gateway))
		}
		all = append(all, x.reset6(now, was, a.lab.stacks.six(now)))
	}
	if x.plan.Guest != nil {
		x.forwards()
	}
	if x.plan.Appliance != nil {
		if !sameRules(k.was.plan, x.plan) {
			all = append(all, x.filter(), x.cut(k.was.plan))
		}
		all = append(all, x.servePages())
		x.names.use(x.resolver)
		a.lab.stacks.shadows.Do(a.lab.ctx, func(now time.Duration) {
			x.names.upstreams(x.upstreams())
			all = append(all, x.lead(now))
		})
	}
	return errors.Join(all...)
}

// renumbered reports whether the adapters of a machine are others, or in another order.
func (a *apply) renumbered(k kept) bool {
	return len(k.now.plan.Adapters) != len(k.was.plan.Adapters) ||
		slices.ContainsFunc(k.now.plan.Adapters, func(now *plan.Adapter) bool {
			was := a.carried[now]
			return was == nil || k.now.metric(now) != k.was.metric(was)
		})
}

// sameRules reports whether the kernel has the rules and settings of a plan already.
func sameRules(a, b *plan.Machine) bool {
	text := func(m *plan.Machine) []byte { return ruleset.Of(m, device, ruleset.Planned).Text() }
	return bytes.Equal(text(a), text(b)) && bytes.Equal(nft.Settings(a, device), nft.Settings(b, device))
}

// plug sets the far end of an adapter's cable up or down.
func (a *apply) plug(now *plan.Adapter) error {
	link, err := a.lab.wires.links.LinkByName(a.lab.ends[slices.Index(a.lab.live.Adapters, now)].Name())
	if err != nil {
		return err
	}
	if now.Plugged {
		return a.lab.wires.links.LinkSetUp(link)
	}
	return a.lab.wires.links.LinkSetDown(link)
}

// reset6 changes how an adapter speaks IPv6: it starts from the beginning where its network is another one.
func (x *machine) reset6(now, was *plan.Adapter, six []netip.Prefix) error {
	announced := func(a *plan.Adapter) string {
		text := fmt.Sprint(a.Segment.Name, a.Segment.Subnet6, a.Plugged, speaks6(a), a.Guest == nil, a.Address6)
		for _, s := range a.Segment.Network() {
			for _, o := range s.Adapters {
				if o.Guest == nil && o.Address6.IsValid() {
					text += fmt.Sprint(o.MAC, o.Address6, o.Plugged)
				}
			}
		}
		return text + fmt.Sprint(a.Segment.Lab.RouterAdvertisements)
	}
	strange := now.Guest != nil && slices.ContainsFunc(six, func(p netip.Prefix) bool { // as of a forged announcement
		return !now.Segment.Subnet6.Contains(p.Addr()) && !now.Segment.Lab.RouterAdvertisements
	})
	if announced(now) == announced(was) && !strange {
		return nil
	}
	err := x.space.Do(func() error { return setFor("ipv6", device(now), "disable_ipv6", "1") }) // it forgets its addresses
	return errors.Join(err, x.tune(now), x.address6(now))
}

// takeAway ends the machines and cables that are no more.
func (a *apply) takeAway() {
	stays := map[*drive.Adapter]bool{}
	for _, end := range slices.Concat(a.lab.ends, a.lab.stacks.sockets) {
		stays[end] = true
	}
	for _, end := range a.was.ends {
		if !stays[end] {
			_ = end.Close()
			a.was.unwire(end)
		}
	}
	for _, socket := range a.was.stacks.sockets {
		if !stays[socket] {
			_ = socket.Close()
		}
	}
	still := map[*lasting]bool{}
	for _, x := range a.lab.stacks.machines {
		still[x.lasting] = true
	}
	a.lab.programs.end(func(k *lasting) bool { return !still[k] })
	for _, x := range a.was.stacks.machines {
		if !still[x.lasting] {
			x.close()
		}
	}
}

// start has new adapters ask for their leases, and those that are served differently ask again.
func (a *apply) start(ctx context.Context) error {
	n := a.lab
	for _, list := range [][]*plan.Machine{n.plan.Appliances(), n.plan.Guests()} {
		for _, m := range list {
			x := n.stacks.machines[m]
			if x == nil {
				continue
			}
			if x.foreign() && slices.Contains(a.spaces, x) {
				if err := n.command(ctx, x); err != nil {
					return err
				}
				continue
			}
			n.stacks.shadows.Do(n.ctx, func(now time.Duration) { a.ask(now, x) })
		}
		n.stacks.settled(list)
		a.answered(list)
		n.switches.Do(n.ctx, func(time.Duration) { n.live.StartGuests() })
	}
	for _, x := range n.stacks.machines {
		x.forget()
	}
	n.stacks.surveyAll()
	return nil
}

// carry has a machine's socket of an adapter go on beside its shadow.
func (l *Stacks) carry(a *plan.Adapter, socket *drive.Adapter) {
	x := l.machines[a.Machine]
	l.adapters = append(l.adapters, a)
	l.sockets = append(l.sockets, socket)
	l.beside.add(x.shadow, x.ports[a].Adapter, len(l.adapters))
}
