package kernel

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/vishvananda/netlink"

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/plan"
	"openbastion/core/rehearse"
	"openbastion/engine/drive"
	"openbastion/engine/host"
	"openbastion/export/nft"
)

// Lab is a plan on this kernel. Make one with Up.
type Lab struct {
	plan     *plan.Plan
	machines map[*plan.Machine]*machine
	live     *rehearse.Live
	wires    *Space // where the far ends of all cables are
	switches *drive.Drive
	shadows  *drive.Drive
	beside   *Shadows
	adapters []*drive.Adapter
	ctx      context.Context
	cancel   context.CancelFunc
	ended    sync.WaitGroup
	failed   chan error
	changes  []host.Change // of this machine
	away     string        // the adapter of this machine on which an upstream segment is; empty: none
	gate     *Space        // between the outside and this machine's network; nil without
	watch    *watch
	log      logs
	options  Options
	captures *captures
	Notes    []string // what runs otherwise than on the kernel, and why

	asked     []claims.Condition             // in which conditions whoever opened the stage will ask
	condition claims.Condition               // which was set last
	surveys   map[*plan.Segment][]survey     // at most two of each, the older first; of the shadows' loop
	late      func(tell func(claims.Answer)) // what is still listened to

	reached  map[*plan.Adapter]lab.Service // what reached the witness since the stage was opened
	down     sync.Once
	mu       sync.Mutex
	programs map[*Running]bool
}

// source gives random numbers that nobody can guess, for real wires.
type source struct{}

func (*source) Uint64() uint64 {
	var b [8]byte
	_, _ = rand.Read(b[:]) // which never fails (crypto/rand)
	return binary.NativeEndian.Uint64(b[:])
}

// real tells whether a machine runs on the kernel, and why not where it does not.
func real(m *plan.Machine) (bool, string) {
	switch {
	case m.Off:
		return false, ""
	case m.Appliance == nil:
		return true, ""
	case m.Appliance.Kind == "transparent":
		return false, m.Name + " bridges: it runs as the program's own filter, as this kernel's bridges may lack connection tracking"
	}
	for _, a := range m.Adapters {
		if a.Port != nil && a.Port.Address.How == "pppoe" {
			return false, m.Name + " takes its address from a session (PPPoE): it runs as the program's own appliance"
		}
	}
	return true, ""
}

// Options say how a lab is built.
type Options struct {
	Folder      string // where a file may be made for a moment; empty: the system's temporary one
	Capture     string // a folder that is there, for a capture of each segment; empty: none
	CaptureSize int64  // the most that one takes, in bytes

	// Commands are what runs in an appliance instead of its planned set-up, by its name:
	// for a shell. It finds its devices there, up and without addresses.
	Commands map[string]string
	// Servers are segments on which somebody unplanned hands out leases too.
	Servers []string

	// Join lets the lab out through this machine's own network. Changing is called before
	// each change on this machine.
	Join     bool
	Changing func(host.Change) error
}

// Up builds a lab and starts it: the outside, the appliances, the guests. It gives
// up when the context ends, and leaves nothing behind then, or on an error.
func Up(ctx context.Context, p *plan.Plan, o Options) (*Lab, error) {
	l := &Lab{plan: p, machines: map[*plan.Machine]*machine{}, beside: newShadows(), failed: make(chan error, 1), options: o,
		programs: map[*Running]bool{}, surveys: map[*plan.Segment][]survey{}}
	if err := o.wanted(p); err != nil {
		return nil, err
	}
	l.ctx, l.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err := l.build(ctx); err != nil {
		l.Down()
		return nil, err
	}
	return l, nil
}

func (l *Lab) build(ctx context.Context) error {
	runs := map[*plan.Machine]bool{}
	for _, m := range l.plan.Machines {
		is, why := real(m)
		if runs[m] = is; why != "" {
			l.Notes = append(l.Notes, why)
		}
	}
	l.live = rehearse.NewLive(l.plan, func(m *plan.Machine) bool { return runs[m] })
	for _, name := range l.options.Servers {
		l.live.AddServer(l.plan.Segment(name))
		l.Notes = append(l.Notes, "a second lease server was put on "+name)
	}
	if err := l.record(); err != nil {
		return err
	}
	l.live.Start()
	var err error
	if l.wires, err = NewSpace(); err != nil {
		return err
	}
	for _, m := range l.plan.Machines {
		if !runs[m] {
			continue
		}
		x, err := newMachine(m, l.plan.Guests(), &source{}, l.options.Commands[m.Name])
		if err != nil {
			return err
		}
		l.machines[m] = x
		if m.Guest != nil {
			x.moved = l.follow
		}
		if m.Appliance != nil && !x.foreign() {
			if err := x.filter(); err != nil { // before anything can pass
				return err
			}
			if err := x.follow(&l.log); err != nil {
				return err
			}
		}
	}
	if err := l.cable(ctx); err != nil {
		return err
	}
	for _, x := range l.machines {
		if x.foreign() {
			continue
		}
		if err := x.services(); err != nil {
			return err
		}
	}
	return l.run(ctx)
}

// cable makes a veth pair for each adapter, from its machine to the switch, and opens
// both ends: the far one for the switch, the near one for the shadow.
func (l *Lab) cable(ctx context.Context) error {
	take, err := business()
	if err != nil {
		return err
	}
	var shadows []*drive.Adapter
	for i, a := range l.live.Adapters {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		x := l.machines[a.Machine]
		far, near := fmt.Sprintf("v%d", i+1), device(a)
		veth := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: far}, PeerName: near, PeerHardwareAddr: a.MAC[:],
			PeerNamespace: netlink.NsFd(x.space.fd)}
		if err := l.wires.links.LinkAdd(veth); err != nil {
			return fmt.Errorf("%s: cable of %s: %w", a.Machine.Name, near, err)
		}
		if err := l.wires.up(far); err != nil {
			return err
		}
		if err := x.up(a); err != nil {
			return err
		}
		var end, beside *drive.Adapter
		err := l.wires.Do(func() (err error) { end, err = drive.Open(far, i+1); return err })
		if err == nil {
			err = x.space.Do(func() (err error) { beside, err = drive.Open(near, i+1); return err })
		}
		if err == nil {
			err = beside.Filter(take)
		}
		if err != nil {
			return err
		}
		l.adapters = append(l.adapters, end)
		shadows = append(shadows, beside)
		l.beside.add(x.shadow, x.ports[a].Adapter, i+1)
	}
	if l.options.Join {
		if err := l.join(); err != nil {
			return err
		}
	}
	ends := slices.Clone(l.adapters)
	l.adapters = append(l.adapters, shadows...)
	if l.switches, err = drive.New(l.live, ends...); err != nil {
		return err
	}
	l.shadows, err = drive.New(l.beside, shadows...)
	return err
}

// services starts what a machine serves by itself.
func (x *machine) services() error {
	if x.plan.Appliance == nil {
		return x.answer()
	}
	seen := map[uint16]bool{}
	for _, a := range x.plan.Adapters {
		for _, s := range a.Admin {
			if seen[s.Port] {
				continue
			}
			seen[s.Port] = true
			l, err := x.space.listen(s.Port)
			if err != nil {
				return fmt.Errorf("%s: %s: %w", x.plan.Name, s, err)
			}
			x.stops = append(x.stops, func() { l.Close() })
			go serve(l, pages(func(netip.AddrPort) string { return fmt.Sprintf("admin page of %s\n", x.plan.Name) }))
		}
	}
	if err := x.serveNames(); err != nil {
		return err
	}
	x.names.upstreams(x.upstreams())
	return nil
}

// record sets up who sees every frame.
func (l *Lab) record() (err error) {
	w := l.live.World()
	l.watch = newWatch(l.plan, w.Segments)
	recorders := rehearse.Recorders{l.watch}
	if o := l.options; o.Capture != "" {
		if l.captures, err = newCaptures(o.Capture, o.CaptureSize, w.Segments, l.plan); err != nil {
			return err
		}
		recorders = append(recorders, l.captures)
		l.Notes = append(l.Notes, "every frame is written to "+o.Capture)
	}
	w.Recorder = recorders
	return nil
}

// run lets everything go on: the switch first, then the shadows, who ask for leases.
func (l *Lab) run(ctx context.Context) error {
	l.live.Wait = func(until time.Duration) { l.switches.Until(l.ctx, until) }
	l.live.Forget = func(m *plan.Machine) {
		if x := l.machines[m]; x != nil {
			x.forget()
		}
	}
	for _, d := range []*drive.Drive{l.switches, l.shadows} {
		l.ended.Add(1)
		go func() {
			defer l.ended.Done()
			if err := d.Run(l.ctx); err != nil {
				l.fail(err)
			}
		}()
	}
	start := func(m *plan.Machine) {
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
	for _, m := range l.plan.Appliances() {
		if x := l.machines[m]; x != nil && x.foreign() {
			if err := l.command(ctx, x); err != nil {
				return err
			}
			continue
		}
		start(m)
	}
	l.settled(l.plan.Appliances())
	for _, m := range l.plan.Guests() {
		start(m)
	}
	l.settled(l.plan.Guests())
	l.surveyAll()
	return nil
}

// fail notes why the lab no longer runs as it should: the first reason stays.
func (l *Lab) fail(err error) {
	select {
	case l.failed <- err:
	default:
	}
}

// Failed gives a channel that says why the lab no longer runs as it should.
func (l *Lab) Failed() <-chan error { return l.failed }

// follow has what is published to a guest without an address of its own lead to the
// one that it has now, where the appliance that publishes it hands that out: of others'
// leases it knows nothing.
func (l *Lab) follow(guest *plan.Adapter) {
	server, _ := guest.Segment.LeaseService()
	if guest.Address.IsValid() || server == nil || l.machines[server.Machine] == nil {
		return
	}
	m, x := server.Machine, l.machines[server.Machine]
	leads := func(to *plan.Adapter) bool { return to == guest }
	if !slices.ContainsFunc(m.Publishes, func(v plan.Publish) bool { return leads(v.To) }) &&
		!slices.ContainsFunc(m.OneToOne, func(v plan.OneToOne) bool { return leads(v.To) }) {
		return
	}
	err := x.rules(func(a *plan.Adapter) netip.Addr {
		by, _ := a.Segment.LeaseService()
		if of := l.machines[a.Machine]; of != nil && by != nil && by.Machine == m {
			return of.now(a).Address.Addr()
		}
		return nft.Planned(a)
	})
	if err != nil {
		l.fail(err)
	}
}

// How long machines may take to come by their leases: where somebody is planned to hand
// them out, long enough for one who was offered a taken address to ask again (RFC 2131,
// section 3.1, has it wait ten seconds); elsewhere, long enough for somebody unplanned.
const (
	served   = 14 * time.Second
	unserved = time.Second
)

// settled waits until machines have their leases, for as long as it may take; a
// machine that gets none is an observation, not an error.
func (l *Lab) settled(list []*plan.Machine) {
	for began := time.Now(); l.ctx.Err() == nil; time.Sleep(5 * time.Millisecond) {
		waiting := false
		for _, m := range list {
			x := l.machines[m]
			if x == nil {
				continue
			}
			for _, a := range m.Adapters {
				waiting = waiting || a.Plugged && time.Since(began) < patience(a) && l.awaits(x, a)
			}
		}
		if !waiting {
			return
		}
	}
}

func patience(a *plan.Adapter) time.Duration {
	s := a.Segment
	_, planned := s.LeaseService()
	above := s.Reach != lab.Isolated && s.Reach != lab.Host && s.Lab.Leases == ""
	if planned != nil || above || s.Lab.Leases == "upstream" || s.Lab.Leases == "host" {
		return served
	}
	return unserved
}

// awaits tells an adapter that has not yet come by what it asked for.
func (l *Lab) awaits(x *machine, a *plan.Adapter) bool {
	return x.ports[a].Client != nil && !x.now(a).Address.IsValid() || l.awaitsSix(x, a)
}

// awaitsSix tells a guest's adapter on whose segment IPv6 is to be announced, and that
// has no address by it yet, or was told no resolver.
func (l *Lab) awaitsSix(x *machine, a *plan.Adapter) (waits bool) {
	if a.Guest == nil || a.Segment.Port == nil || !a.Segment.Port.Address6.IsValid() {
		return false
	}
	l.shadows.Do(l.ctx, func(time.Duration) { waits = x.ports[a].IPv6 != nil && x.ports[a].IPv6.DNS == nil })
	return waits || len(l.six(a)) == 0
}

// Down ends the lab, once: what served, the wires, and every namespace.
func (l *Lab) Down() { l.down.Do(l.takeDown) }

func (l *Lab) takeDown() {
	l.cancel()
	l.end()
	l.ended.Wait()
	// The kernel waits for its readers at each of these: better for all at once.
	var all sync.WaitGroup
	for _, a := range l.adapters {
		all.Go(func() { _ = a.Close() })
	}
	for _, x := range l.machines {
		all.Go(x.close)
	}
	all.Wait()
	if l.captures != nil {
		l.captures.close()
	}
	if err := host.Undo(l.changes); err != nil {
		l.fail(err)
	}
	if l.gate != nil {
		l.gate.Close()
	}
	if l.wires != nil {
		l.wires.Close()
	}
}
