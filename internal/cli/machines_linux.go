package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"openbastion/internal/atomicfile"
	"openbastion/internal/hostinfo"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/hostnet"
	"openbastion/internal/testbed/kernel"
	"openbastion/internal/testbed/machine"
	"openbastion/internal/testbed/machine/boot"
	"openbastion/internal/testbed/supervisor"
)

// diskFolder returns where the disks of a lab's machines are kept: below the XDG data folder.
func diskFolder(lab string) (string, error) {
	if d := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(d) {
		return filepath.Join(d, "openbastion", "disks", lab), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("no place for disks: %w", err)
	}
	return filepath.Join(home, ".local", "share", "openbastion", "disks", lab), nil
}

// keptDisks returns where the disks of a lab that has ended are kept, or takes them away.
func (a *app) keptDisks(lab string, discard bool) error {
	folder, err := diskFolder(lab)
	if err != nil {
		return err
	}
	if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if discard {
		return os.RemoveAll(folder)
	}
	a.note(fmt.Sprintf("Its machines' disks are kept in %s; stop --discard deletes them.", folder))
	return nil
}

// buildMachines returns what builds a lab as virtual machines.
func (a *app) buildMachines(
	p *plan.Plan,
	file string,
	o startOptions,
	k kernel.Options,
	tell func(supervisor.Report),
) (supervisor.Build,
	error) {
	options, err := a.machineOptions(p, o)
	if err != nil {
		return nil, err
	}
	beside, err := filepath.Abs(filepath.Dir(file))
	if err != nil {
		return nil, err
	}
	options.Folder, options.Beside, options.Capture, options.CaptureSize = k.Folder, beside, k.Capture, k.CaptureSize
	options.Kernel, options.Lab, options.File = cmp.Or(o.kernel, boot.Cached()), a.texts[file], file
	options.Progress = func(text string) { tell(supervisor.Report{Progress: text}) }
	return func(ctx context.Context, _ func(hostnet.Change) error) (supervisor.Made, error) {
		options.Accelerated = o.accel == "yes" || o.accel == "auto" && accelerates()
		l, err := machine.Up(ctx, p, options)
		if err != nil {
			return nil, err
		}
		return l, nil
	}, nil
}

// machineOptions reads what start was told of virtual machines.
func (a *app) machineOptions(p *plan.Plan, o startOptions) (machine.Options, error) {
	disks, err := diskFolder(p.Name)
	if err != nil {
		return machine.Options{}, err
	}
	var allow []netip.Prefix
	for _, text := range o.allow {
		at, err := netip.ParsePrefix(text)
		if err != nil {
			return machine.Options{}, usage("--join-only is a network, as 192.0.2.0/24, not %q", text)
		}
		allow = append(allow, at)
	}
	var spans []machine.Span
	for _, text := range o.spans {
		span, err := machine.ParseSpan(text)
		if err != nil {
			return machine.Options{}, usage("--span: %v", err)
		}
		spans = append(spans, span)
	}
	taps := map[string]string{}
	for _, text := range o.taps {
		segment, device, ok := strings.Cut(text, "=")
		if s := p.Segment(segment); !ok || device == "" || s == nil || s.Reach != lab.Upstream {
			return machine.Options{}, usage("--tap is SEGMENT=DEVICE with an upstream segment of the lab, not %q", text)
		}
		taps[segment] = device
	}
	return machine.Options{
		Disks:         disks,
		Inner:         o.inside,
		Profiles:      p.Lab.Profiles,
		Only:          o.only,
		ApplianceOnly: o.appliances,
		Reference:     o.reference,
		Join:          o.join,
		Allow:         allow,
		Servers:       o.servers,
		Spans:         spans,
		Taps:          taps,
	}, nil
}

// accelerates reports whether this machine's processor can do the work of a virtual one.
func accelerates() bool {
	var r hostinfo.Report
	r.Accelerate()
	return r.Accelerated == hostinfo.Yes
}

// operate has something done with a machine of a lab that runs.
func (a *app) operate(named string, o supervisor.Operation) (string, error) {
	l, err := a.find(named)
	if err != nil {
		return "", err
	}
	c, err := a.dial(l)
	if err != nil {
		return "", err
	}
	defer c.Hang()
	said, err := c.Operate(a.ctx, o)
	switch {
	case a.ctx.Err() != nil:
		return "", a.ctx.Err()
	case err != nil:
		return "", failure{exitUsage, err.Error(), ""}
	}
	return said, nil
}

// atConsole joins the terminal to a machine's serial line.
func (a *app) atConsole(named, machine string) error {
	if in := int(os.Stdin.Fd()); term.IsTerminal(in) {
		a.note("Ctrl-^ leaves the console of " + machine + "; the machine goes on.")
		was, err := term.MakeRaw(in)
		if err != nil {
			return err
		}
		defer func() { _ = term.Restore(in, was) }()
	}
	_, err := a.operate(
		named,
		supervisor.Operation{Verb: "console", Machine: machine, Files: []*os.File{os.Stdin, os.Stdout}},
	)
	return err
}

// savePicture writes what a machine's screen shows to a file.
func (a *app) savePicture(named, machine, to string, replace bool) error {
	target, err := atomicfile.Create(to, atomicfile.Options{Replace: replace})
	if err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	a.onInterrupt(target.Abort)
	defer target.Abort()
	if _, err := a.operate(named, supervisor.Operation{Verb: "picture", Machine: machine, Files: []*os.File{target.Inner()}}); err != nil {
		return err
	}
	return target.Commit()
}
