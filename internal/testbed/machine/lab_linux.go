package machine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"sync"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/kernel"
	"openbastion/internal/testbed/machine/agent"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/testbed/upstream"
)

// Options say how a lab is built.
type Options struct {
	Folder  string // where files may be made that end with the lab
	Disks   string // where files are made that stay: disks of machines that start from an image
	Beside  string // the folder that images are named from
	Program string // QEMU; empty: looked for on the PATH
	Inner   string // the program that runs in reference machines, linked statically; empty: this one
	Kernel  string // of reference machines: a Debian package, or a folder; empty: this machine's own

	Lab      []byte                  // the lab file's text, for reference machines
	File     string                  // its name
	Profiles map[string]*lab.Profile // of its appliances

	Only          []string // the machines that become virtual ones, the rest is simulated; empty: all
	ApplianceOnly bool     // no guest is started
	Reference     bool     // also what names an image is a reference machine
	Accelerated   bool     // the processor does the work

	Capture     string // a folder that is there, for a capture of each segment; empty: none
	CaptureSize int64
	Join        bool           // the lab goes on to this machine's network
	Allow       []netip.Prefix // what may be reached then; empty: all but this machine
	// Dial is how that is reached; nil: by this machine's sockets.
	Dial    func(ctx context.Context, network string, to netip.AddrPort) (net.Conn, error)
	Servers []string          // segments on which somebody unplanned hands out leases too
	Taps    map[string]string // by segment: the tap device of this machine that it is on, when the lab is joined
	Spans   []Span            // segments that go on on other machines

	Progress func(text string) // told what goes on; nil: nobody is
}

// qemu is the program that machines run under.
const qemu = "qemu-system-x86_64"

// Lab is a plan as virtual machines. Make one with Up.
type Lab struct {
	*stage.Stage
	plan     *plan.Plan
	live     *simulator.Live
	options  Options
	loop     *drive.Drive
	ports    []drive.Port
	numbers  map[*plan.Adapter]int      // of adapters at the switch
	sockets  map[*plan.Adapter]*os.File // the ends that machines inherit that were not started yet
	starter  starter
	kernel   string // of reference machines: the file
	initial  string // their initial file system
	watch    *stage.Watch
	heard    *heard
	captures *stage.Captures
	upstream *upstream.Upstream // nil: the lab is not let out
	ctx      context.Context
	cancel   context.CancelFunc
	ended    sync.WaitGroup
	failed   chan error
	down     sync.Once

	snapping  sync.Mutex
	snapshots []Snapshot

	setups  map[*plan.Machine]Setup
	repairs stage.Repairs

	mu        sync.Mutex
	machines  map[*plan.Machine]*vm
	notes     []string
	unplugged []unplugged // since the start
}

// Up builds a lab and starts it: the outside, the appliances, the guests. It gives up when
// the context ends, and leaves nothing behind then, or on an error.
func Up(ctx context.Context, p *plan.Plan, o Options) (*Lab, error) {
	l := &Lab{plan: p, options: o, machines: map[*plan.Machine]*vm{}, numbers: map[*plan.Adapter]int{},
		sockets: map[*plan.Adapter]*os.File{}, failed: make(chan error, 1), starter: newStarter()}
	l.ctx, l.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err := l.build(ctx); err != nil {
		l.Down()
		return nil, err
	}
	return l, nil
}

// virtual reports whether a machine becomes a virtual one. A reference machine is what the
// kernel can be.
func (o Options) virtual(m *plan.Machine) bool {
	if m.Off || m.Physical || len(o.Only) > 0 && !slices.Contains(o.Only, m.Name) {
		return false
	}
	is, _ := kernel.Carries(m)
	return is || !o.references(m)
}

func (l *Lab) build(ctx context.Context) error {
	if err := l.options.wanted(l.plan); err != nil {
		return err
	}
	if l.options.Program == "" {
		path, err := exec.LookPath(qemu)
		if err != nil {
			return lacking{
				fmt.Errorf("%s is not on this machine (on Debian: the package qemu-system-x86): %w", qemu, err),
			}
		}
		l.options.Program = path
	}
	var list []*plan.Machine
	for _, m := range l.plan.Machines {
		switch {
		case l.options.virtual(m):
			list = append(list, m)
		case !m.Off:
			_, why := kernel.Carries(m)
			l.note(cmp.Or(why, m.Name+" is not a virtual machine here: the program simulates it"))
		}
	}
	var err error
	if l.setups, err = l.prepare(ctx, list); err != nil {
		return err
	}
	l.live = simulator.NewTrunked(l.plan, l.options.virtual)
	l.Stage = &stage.Stage{Name: "machines", Plan: l.plan, Live: l.live, Machines: (*agents)(l)}
	l.NoGuests.Store(l.options.ApplianceOnly)
	for _, name := range l.options.Servers {
		l.live.AddServer(l.plan.Segment(name))
		l.note("a second DHCP server was put on " + name)
	}
	if err := l.record(list); err != nil {
		return err
	}
	if l.options.Join {
		if err := l.join(); err != nil {
			return err
		}
	}
	if err := l.span(); err != nil {
		return err
	}
	l.live.Start()
	if err := l.cable(); err != nil {
		return err
	}
	return l.start(ctx, list)
}

// wanted refuses options that the plan has no place for.
func (o Options) wanted(p *plan.Plan) error {
	var all []error
	for _, name := range o.Only {
		if m := p.Machine(name); m == nil {
			all = append(all, fmt.Errorf("no machine %q in the lab", name))
		} else if m.Off || m.Physical {
			all = append(all, fmt.Errorf("%s is switched off or a physical computer, not a virtual machine", name))
		} else if !o.virtual(m) {
			all = append(all, fmt.Errorf("%s becomes a virtual machine from an image only", name))
		}
	}
	return errors.Join(append(all, stage.Servable(p, o.Servers))...)
}

func (l *Lab) note(text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.notes = append(l.notes, text)
}

func (l *Lab) tell(format string, args ...any) {
	if l.options.Progress != nil {
		l.options.Progress(fmt.Sprintf(format, args...))
	}
}

// record sets up who sees every frame; what machines say nothing of is heard from these.
func (l *Lab) record(list []*plan.Machine) (err error) {
	var also []simulator.Recorder
	if l.heard = newHeard(slices.DeleteFunc(slices.Clone(list), l.options.references)); len(l.heard.adapters) > 0 {
		also = append(also, l.heard)
	}
	if l.watch, l.captures, err = stage.Watched(l.live, l.plan, l.options.Capture, l.options.CaptureSize, also...); err != nil {
		return err
	}
	if l.captures != nil {
		l.note("every frame is written to " + l.options.Capture)
	}
	return nil
}

// cable makes a socket for each adapter, from its machine to the switch, and lets the
// switch go on.
func (l *Lab) cable() error {
	for i, a := range l.live.Adapters {
		near, far, err := pair("adapter")
		if err != nil {
			return err
		}
		l.sockets[a], l.numbers[a] = far, i+1
		wire, err := drive.OpenStream(near, i+1)
		if err != nil {
			return err
		}
		l.ports = append(l.ports, wire)
	}
	var err error
	if l.loop, err = drive.New(l.live, l.ports...); err != nil {
		return err
	}
	l.Loop = l.loop
	l.Begin(l.ctx)
	l.live.Wait = func(until time.Duration) { l.loop.Until(l.ctx, until) }
	l.live.Forget = l.Machines.Forget
	l.ended.Add(1)
	go func() {
		defer l.ended.Done()
		if err := l.loop.Run(l.ctx); err != nil {
			l.fail(err)
		}
	}()
	return nil
}

func (l *Lab) fail(err error) {
	select {
	case l.failed <- err:
	default:
	}
}

// Failed returns a channel that says why the lab no longer runs as it should.
func (l *Lab) Failed() <-chan error { return l.failed }

// readyTime is how long a reference machine may take until it is ready: under emulation on
// a busy host a minute was seen.
const readyTime = 3 * time.Minute

// start starts the appliances, and once they answer the guests.
func (l *Lab) start(ctx context.Context, list []*plan.Machine) error {
	gates := slices.DeleteFunc(slices.Clone(list), func(m *plan.Machine) bool { return m.Guest != nil })
	if err := l.startAll(ctx, gates); err != nil || l.options.ApplianceOnly {
		return err
	}
	if err := l.awaitForeign(ctx, gates); err != nil {
		return err
	}
	return l.StartGuests(ctx)
}

// StartGuests starts the guests that do not run yet.
func (l *Lab) StartGuests(ctx context.Context) error {
	var list []*plan.Machine
	for _, m := range l.plan.Guests() {
		if l.options.virtual(m) && l.of(m) == nil {
			list = append(list, m)
		}
	}
	l.loop.Do(l.ctx, func(time.Duration) { l.live.StartGuests() })
	l.NoGuests.Store(false)
	if err := l.startAll(ctx, list); err != nil {
		return err
	}
	l.settle(ctx, kernel.Served)
	return ctx.Err()
}

// settle waits, for so long at most, until the simulated guests have their leases.
func (l *Lab) settle(ctx context.Context, most time.Duration) {
	for began := time.Now(); time.Since(began) < most && ctx.Err() == nil; pause(ctx, 10*time.Millisecond) {
		settled := false
		l.loop.Do(l.ctx, func(time.Duration) { settled = l.live.Settled() })
		if settled {
			return
		}
	}
}

// startAll starts machines, as many at once as this one has processors.
func (l *Lab) startAll(ctx context.Context, list []*plan.Machine) error {
	places := make(chan struct{}, max(runtime.NumCPU(), 2))
	errs := make([]error, len(list))
	var all sync.WaitGroup
	for i, m := range list {
		places <- struct{}{}
		if errors.Join(errs[:i]...) != nil || ctx.Err() != nil {
			break
		}
		all.Go(func() {
			defer func() { <-places }()
			errs[i] = l.startOne(ctx, m, l.setups[m])
		})
	}
	all.Wait()
	return errors.Join(append(errs, ctx.Err())...)
}

func (l *Lab) startOne(ctx context.Context, m *plan.Machine, s Setup) error {
	l.tell("%s: starting", m.Name)
	x, err := l.boot(ctx, m, s)
	if err != nil {
		return err
	}
	l.mu.Lock()
	l.machines[m] = x
	l.mu.Unlock()
	for _, a := range m.Own() {
		if !a.Plugged {
			if err := x.link(ctx, a, false); err != nil {
				return err
			}
		}
	}
	if !x.reference && m.Guest != nil {
		l.note(m.Name + " runs its own system: the program asks in its place")
	}
	if x.reference {
		l.tell("%s: waiting for its system, and for its addresses", m.Name)
	}
	if err := x.wait(ctx, readyTime); err != nil {
		return err
	}
	if x.reference {
		l.tell("%s: ready after %s", m.Name, time.Since(x.began).Round(100*time.Millisecond))
	}
	return nil
}

// role is what a reference machine is told to become.
func (l *Lab) role(m *plan.Machine) agent.Role {
	return agent.Role{Machine: m.Name, File: l.options.File, Lab: l.options.Lab, Profiles: l.options.Profiles}
}

// of returns the virtual machine of a machine of the plan, nil when it is none.
func (l *Lab) of(m *plan.Machine) *vm {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.machines[m]
}

func (l *Lab) all() (list []*vm) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, m := range l.plan.Machines {
		if x := l.machines[m]; x != nil {
			list = append(list, x)
		}
	}
	return list
}

// powerTime is how long a system may take to power down.
const powerTime = 10 * time.Second

// Shut asks the systems that were not started by the program itself to power down, and
// waits for them.
func (l *Lab) Shut(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, powerTime)
	defer cancel()
	var all sync.WaitGroup
	for _, x := range l.all() {
		if word, _ := x.state(); word == running && !x.reference {
			all.Go(func() { x.power(ctx) })
		}
	}
	all.Wait()
}

// Down ends the lab, once: every machine, and the switch.
func (l *Lab) Down() { l.down.Do(l.takeDown) }

func (l *Lab) takeDown() {
	l.cancel()
	var all sync.WaitGroup
	for _, x := range l.all() {
		all.Go(x.kill)
	}
	all.Wait()
	l.ended.Wait()
	for _, f := range l.sockets {
		f.Close()
	}
	for _, p := range l.ports {
		_ = p.Close()
	}
	_ = os.Remove(l.options.Disks) // where nothing is kept in it
	if l.captures != nil {
		l.captures.Close()
	}
	if l.upstream != nil {
		l.upstream.Close()
	}
	close(l.starter)
}

// Remarks returns what runs otherwise than as a virtual machine, and why.
func (l *Lab) Remarks() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append(append(slices.Clone(l.notes), l.left()...), l.captures.Notes()...)
}

// Status returns how the lab is.
func (l *Lab) Status() (s status.Lab) {
	ctx, cancel := context.WithTimeout(l.ctx, statusTime)
	defer cancel()
	told := make([]status.Lab, len(l.plan.Machines))
	var all sync.WaitGroup
	for i, m := range l.plan.Machines {
		if x := l.of(m); x != nil && x.answers() {
			all.Go(func() { told[i], _ = x.agent.Status(ctx) }) // who does not answer shows in its state
		}
	}
	all.Wait()
	rows := make([]status.Machine, len(l.plan.Machines))
	var leases []status.Lease
	l.loop.Do(l.ctx, func(time.Duration) {
		for i, m := range l.plan.Machines {
			rows[i] = stage.Simulated(m, l.live)
		}
		leases = stage.SimulatedLeases(l.plan, l.live)
	})
	for i, m := range l.plan.Machines {
		if list := told[i].Machines; len(list) == 1 {
			rows[i] = list[0]
		}
		if x := l.of(m); x != nil {
			if !x.reference {
				for j, a := range m.Adapters {
					rows[i].Adapters[j].Address = l.heard.address(a)
				}
			}
			word, why := x.state()
			if rows[i].How = word; why != "" {
				s.Notes = append(s.Notes, why)
			}
		}
		s.Leases = append(s.Leases, told[i].Leases...)
		s.Rules = append(s.Rules, told[i].Rules...)
		s.Flows = append(s.Flows, told[i].Flows...)
		s.Log = append(s.Log, told[i].Log...)
	}
	for _, u := range l.pulled() {
		i := slices.Index(l.plan.Machines, u.Machine)
		if j := slices.IndexFunc(rows[i].Adapters, func(a status.Adapter) bool { return a.Number == u.Number }); j >= 0 {
			rows[i].Adapters[j].Plugged = false
		}
	}
	for _, d := range l.drifts() {
		if d.Mend != nil {
			s.Notes = append(s.Notes, d.Machine+": "+d.Found)
		}
	}
	s.Machines, s.Leases = rows, append(s.Leases, leases...)
	s.Segments, s.Escapes = l.watch.Seen()
	return s
}

// statusTime is how long machines are waited for to tell how they are.
const statusTime = 2 * time.Second
