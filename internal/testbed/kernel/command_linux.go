package kernel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/testbed/supervisor"
)

// foreign reports whether it is an appliance that is set up by a command of the user's instead of by its
// plan.
func (x *machine) foreign() bool { return x.command != "" }

// commandTime is how long a command may take until the lab goes on; a command that ends
// sooner has set everything up.
const commandTime = 3 * time.Second

// lastWords is how long what a command said is waited for once it has ended.
const lastWords = 200 * time.Millisecond

// maxSaid bounds what is kept of what a command says.
const maxSaid = 16 << 10

// lastLines is how many of its last lines are told when it fails.
const lastLines = 3

// command runs the user's command in an appliance. When it ends, or after a while, the
// lab goes on; when it fails meanwhile, the lab does not start.
func (l *Lab) command(ctx context.Context, x *machine) error {
	out, in, err := os.Pipe()
	if err != nil {
		return err
	}
	said := supervisor.NewTail(maxSaid)
	heard := make(chan struct{}) // closed when nobody can say any more
	go func() { _, _ = io.Copy(said, out); out.Close(); close(heard) }()
	null, err := os.Open(os.DevNull)
	if err != nil {
		return err
	}
	defer null.Close()
	p, err := l.Start(
		x.plan.Name,
		supervisor.Program{Args: []string{"/bin/sh", "-c", x.command}, Env: append(os.Environ(), x.told()...),
			Files: [3]*os.File{null, in, in}},
	)
	in.Close()
	if err != nil {
		return fmt.Errorf("%s: its command: %w", x.plan.Name, err)
	}
	ended := make(chan int, 1)
	go func() {
		status := p.Wait()
		select { // what it said last may still be on its way; what it left behind may go on saying
		case <-heard:
		case <-time.After(lastWords):
		}
		ended <- status
	}()
	select {
	case status := <-ended:
		if status != 0 {
			return fmt.Errorf(
				"%s: its command ended with status %d: %s",
				x.plan.Name,
				status,
				cmp.Or(said.Last(lastLines), "it printed nothing"),
			)
		}
	case <-time.After(commandTime):
		go func() {
			if status := <-ended; status != 0 && l.ctx.Err() == nil {
				l.stacks.fail(
					fmt.Errorf("%s: its command ended with status %d: %s", x.plan.Name, status, said.Last(lastLines)),
				)
			}
		}()
	case <-ctx.Done():
		p.Signal(syscall.SIGKILL)
		return ctx.Err()
	}
	for _, a := range x.plan.Adapters {
		l.stacks.observe(x, a)
	}
	l.Notes = append(l.Notes, x.plan.Name+" is set up by your command, not by its plan")
	return nil
}

// told returns a command what is planned, as environment variables.
func (x *machine) told() []string {
	out := []string{"BASTION_APPLIANCE=" + x.plan.Name}
	for _, a := range x.plan.Adapters {
		name := "BASTION_" + strings.ToUpper(strings.ReplaceAll(a.Name, "-", "_"))
		out = append(out, name+"="+device(a))
		if a.Address.IsValid() {
			out = append(out, name+"_ADDRESS="+a.Address.String())
		}
	}
	return out
}

// observe takes over what a device has by now, whoever gave it that.
func (l *Stacks) observe(x *machine, a *plan.Adapter) {
	link, err := x.link(a)
	if err != nil {
		return
	}
	s := x.now(a)
	s.Address, s.Gateway = netip.Prefix{}, netip.Addr{}
	list, err := x.space.links.AddrList(link, netlink.FAMILY_V4)
	if err != nil {
		return
	}
	for _, o := range list {
		at, ok := netip.AddrFromSlice(o.IP.To4())
		if bits, _ := o.Mask.Size(); ok && !s.Address.IsValid() {
			s.Address = netip.PrefixFrom(at, bits)
		}
	}
	routes, _ := x.space.links.RouteList(link, netlink.FAMILY_V4)
	for _, r := range routes {
		if hop, ok := netip.AddrFromSlice(r.Gw.To4()); ok && (r.Dst == nil || r.Dst.IP.IsUnspecified()) {
			s.Gateway = hop
		}
	}
	x.keep(a, s)
	l.shadows.Do(l.ctx, func(time.Duration) { // for what its packet socket is asked
		x.ports[a].Address = s.Address
		x.shadow.Readdressed()
	})
}

// wanted refuses options that the plan has no place for.
func (o Options) wanted(p *plan.Plan) error {
	var all []error
	for name := range o.Commands {
		m := p.Machine(name)
		if m == nil || m.Appliance == nil {
			all = append(all, fmt.Errorf("no appliance %q for a command", name))
		} else if is, why := Carries(m); !is {
			all = append(all, errors.New(cmp.Or(why, name+" is switched off")))
		}
	}
	return errors.Join(append(all, stage.Servable(p, o.Servers))...)
}
