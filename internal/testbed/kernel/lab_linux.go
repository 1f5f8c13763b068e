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

	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/hostnet"
	"openbastion/internal/testbed/stage"
)

// Lab is a plan on this kernel. Make one with Up.
type Lab struct {
	*stage.Stage
	stacks   *Stacks
	plan     *plan.Plan
	live     *simulator.Live
	wires    *Space // where the far ends of all cables are
	switches *drive.Drive
	ends     []*drive.Adapter // of the switch; those of the machines first
	ctx      context.Context
	cancel   context.CancelFunc
	ended    *sync.WaitGroup
	cables   int              // that were made, ever: their far ends are numbered
	changes  []hostnet.Change // of this machine
	gate     *Space           // between the outside and this machine's network; nil without
	watch    *stage.Watch
	options  Options
	captures *stage.Captures
	Notes    []string // what runs otherwise than on the kernel, and why

	repairs  stage.Repairs
	down     sync.Once
	programs *programs
}

// cabled are the machines of a lab with the ends of their cables at the switch.
type cabled struct {
	*Stacks
	lab *Lab
}

// Lost returns how many frames the switch lost since the last call.
func (c cabled) Lost() (n int) {
	for _, a := range c.lab.ends[:len(c.adapters)] {
		n += a.Lost()
	}
	return n
}

// source gives random numbers that nobody can guess, for real wires.
type source struct{}

func (*source) Uint64() uint64 {
	var b [8]byte
	_, _ = rand.Read(b[:]) // which never fails (crypto/rand)
	return binary.NativeEndian.Uint64(b[:])
}

// Carries reports whether a machine runs on the kernel, and why not where it does not.
func Carries(m *plan.Machine) (bool, string) {
	switch {
	case m.Off:
		return false, ""
	case m.Appliance == nil:
		return true, ""
	case m.Transparent():
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
	Changing func(hostnet.Change) error
}

// Up builds a lab and starts it: the outside, the appliances, the guests. It gives
// up when the context ends, and leaves nothing behind then, or on an error.
func Up(ctx context.Context, p *plan.Plan, o Options) (*Lab, error) {
	l := &Lab{plan: p, options: o, programs: &programs{of: map[*Running]bool{}}, ended: &sync.WaitGroup{}}
	if err := o.wanted(p); err != nil {
		return nil, err
	}
	l.ctx, l.cancel = context.WithCancel(context.WithoutCancel(ctx))
	l.stacks = newStacks(l.ctx, p)
	if err := l.build(ctx); err != nil {
		l.Down()
		return nil, err
	}
	return l, nil
}

// carries returns which machines run on the kernel, and notes why others do not.
func (l *Lab) carries() map[*plan.Machine]bool {
	runs := map[*plan.Machine]bool{}
	for _, m := range l.plan.Machines {
		is, why := Carries(m)
		if runs[m] = is; why != "" {
			l.Notes = append(l.Notes, why)
		}
	}
	return runs
}

// notes returns what was noted of how the lab was started, not of its machines.
func (l *Lab) notes() (out []string) {
	of := (&Lab{plan: l.plan})
	of.carries()
	for _, n := range l.Notes {
		if !slices.Contains(of.Notes, n) {
			out = append(out, n)
		}
	}
	return out
}

func (l *Lab) build(ctx context.Context) error {
	runs := l.carries()
	l.live = simulator.NewLive(l.plan, func(m *plan.Machine) bool { return runs[m] })
	l.Stage = &stage.Stage{Name: "kernel", Plan: l.plan, Live: l.live, Machines: cabled{l.stacks, l}}
	for _, name := range l.options.Servers {
		l.live.AddServer(l.plan.Segment(name))
		l.Notes = append(l.Notes, "a second DHCP server was put on "+name)
	}
	var err error
	if l.watch, l.captures, err = stage.Watched(l.live, l.plan, l.options.Capture, l.options.CaptureSize); err != nil {
		return err
	}
	if l.captures != nil {
		l.Notes = append(l.Notes, "every frame is written to "+l.options.Capture)
	}
	l.live.Start()
	if l.wires, err = NewSpace(); err != nil {
		return err
	}
	for _, m := range l.plan.Machines {
		if !runs[m] {
			continue
		}
		space, err := NewSpace()
		if err != nil {
			return fmt.Errorf("%s: %w", m.Name, err)
		}
		x, err := newMachine(m, l.plan.Guests(), l.options.Commands[m.Name], space)
		if err == nil {
			err = l.stacks.add(x)
		}
		if err != nil {
			return err
		}
	}
	if err := l.cable(ctx); err != nil {
		return err
	}
	if err := l.stacks.services(); err != nil {
		return err
	}
	return l.run(ctx)
}

// cable makes a veth pair for each adapter, from its machine to the switch, and opens
// both ends: the far one for the switch, the near one for the shadow.
func (l *Lab) cable(ctx context.Context) (err error) {
	for i, a := range l.live.Adapters {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		end, err := l.wire(a, i+1)
		if err != nil {
			return err
		}
		l.ends = append(l.ends, end)
		if err := l.stacks.open(a); err != nil {
			return err
		}
	}
	if l.options.Join {
		if err := l.join(); err != nil {
			return err
		}
	}
	if l.switches, err = drive.New(l.live, drive.Ports(l.ends)...); err != nil {
		return err
	}
	l.Loop = l.switches
	l.stacks.shadows, err = drive.New(l.stacks.beside, drive.Ports(l.stacks.sockets)...)
	return err
}

// wire makes a veth pair for an adapter, sets the near end up, and opens the far one as a number of the
// switch.
func (l *Lab) wire(a *plan.Adapter, number int) (end *drive.Adapter, err error) {
	x := l.stacks.machines[a.Machine]
	l.cables++
	far, near := fmt.Sprintf("v%d", l.cables), device(a)
	veth := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: far}, PeerName: near, PeerHardwareAddr: a.MAC[:],
		PeerNamespace: netlink.NsFd(x.space.fd)}
	if err := l.wires.links.LinkAdd(veth); err != nil {
		return nil, fmt.Errorf("%s: cable of %s: %w", a.Machine.Name, near, err)
	}
	if a.Plugged { // else the machine sees that its cable ends nowhere
		if err := l.wires.up(far); err != nil {
			return nil, err
		}
	}
	if err := x.up(a); err != nil {
		return nil, err
	}
	err = l.wires.Do(func() (err error) { end, err = drive.Open(far, number); return err })
	return end, err
}

// services starts what a machine serves by itself.
func (x *machine) services() error {
	if x.plan.Appliance == nil {
		return x.answer()
	}
	if err := x.servePages(); err != nil {
		return err
	}
	if err := x.serveNames(); err != nil {
		return err
	}
	x.names.upstreams(x.upstreams())
	return nil
}

// servePages opens the ports of an appliance's admin pages that are not open yet, and closes those that are
// no longer planned.
func (x *machine) servePages() error {
	planned := map[uint16]bool{}
	for _, a := range x.plan.Adapters {
		for _, s := range a.Admin {
			planned[s.Port] = true
			if x.pages[s.Port] != nil {
				continue
			}
			l, err := x.space.listen(s.Port)
			if err != nil {
				return fmt.Errorf("%s: %s: %w", x.plan.Name, s, err)
			}
			x.pages[s.Port] = l
			go serve(l, pages(func(netip.AddrPort) string { return fmt.Sprintf("admin page of %s\n", x.plan.Name) }))
		}
	}
	for port, l := range x.pages {
		if !planned[port] {
			l.Close()
			delete(x.pages, port)
		}
	}
	return nil
}

// run lets everything go on: the switch first, then the shadows, who ask for leases.
func (l *Lab) run(ctx context.Context) error {
	l.live.Wait = func(until time.Duration) { l.switches.Until(l.ctx, until) }
	l.live.Forget = l.stacks.Forget
	l.Begin(l.ctx)
	for _, d := range []*drive.Drive{l.switches, l.stacks.shadows} {
		l.ended.Add(1)
		go func() {
			defer l.ended.Done()
			if err := d.Run(l.ctx); err != nil {
				l.stacks.fail(err)
			}
		}()
	}
	for _, m := range l.plan.Appliances() {
		if x := l.stacks.machines[m]; x != nil && x.foreign() {
			if err := l.command(ctx, x); err != nil {
				return err
			}
			continue
		}
		l.stacks.start(m)
	}
	l.stacks.settled(l.plan.Appliances())
	l.switches.Do(l.ctx, func(time.Duration) { l.live.StartGuests() })
	for _, m := range l.plan.Guests() {
		l.stacks.start(m)
	}
	l.stacks.settled(l.plan.Guests())
	l.stacks.surveyAll()
	return nil
}

// Failed returns a channel that says why the lab no longer runs as it should.
func (l *Lab) Failed() <-chan error { return l.stacks.Failed() }

// Down ends the lab, once: what served, the wires, and every namespace.
func (l *Lab) Down() { l.down.Do(l.takeDown) }

func (l *Lab) takeDown() {
	l.cancel()
	l.programs.end(func(*lasting) bool { return true })
	l.ended.Wait()
	l.stacks.close()
	for _, a := range l.ends {
		_ = a.Close()
	}
	if l.captures != nil {
		l.captures.Close()
	}
	if err := hostnet.Undo(l.changes); err != nil {
		l.stacks.fail(err)
	}
	if l.gate != nil {
		l.gate.Close()
	}
	if l.wires != nil {
		l.wires.Close()
	}
}
