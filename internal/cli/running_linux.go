package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/hostnet"
	"openbastion/internal/testbed/kernel"
	"openbastion/internal/testbed/machine"
	"openbastion/internal/testbed/supervisor"
	"openbastion/internal/verify/claims"
)

// mayBuild reports whether this process may make network namespaces, else why not.
func mayBuild() error {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&header, &data[0]); err == nil {
		const needed = 1<<unix.CAP_SYS_ADMIN | 1<<unix.CAP_NET_ADMIN
		if data[0].Effective&needed == needed {
			return nil
		}
	}
	return failure{
		exitLacking,
		"building a lab on the kernel needs root: it creates network namespaces and devices in them",
		"Start it as root (sudo bastion start …), or inside a user namespace of its own: bastion start --as-user …",
	}
}

func (a *app) startLab(file string, o startOptions) error {
	if file == "-" {
		return usage("a running lab is later compared with its file: start takes a file, not standard input")
	}
	p, err := a.loadWarned(file)
	if err != nil {
		return err
	}
	if err := alreadyOver(p.Name); err != nil && !o.dry {
		return err
	}
	home, err := supervisor.Home()
	if err != nil && !o.dry {
		return failure{exitLacking, err.Error(), ""}
	}
	f := supervisor.Of(home, p.Name)
	r, err := f.Read()
	ran := err == nil
	switch {
	case ran && r.Alive() && !(o.dry && p.Fingerprint() == r.Digest):
		return a.applyTo(f, r, p, file, o)
	case o.dry:
		return a.dryRun(p, o)
	case o.stage == onKernel && !o.asUser:
		if err := mayBuild(); err != nil {
			return err
		}
	}
	if ran {
		said, err := supervisor.End(a.ctx, f, true)
		if err != nil { // what it changed of this machine is still there: its record stays
			return failure{
				exitUsage,
				p.Name + " ran before, and could not be cleared away: " + err.Error(),
				"bastion stop " + p.Name,
			}
		}
		a.note(fmt.Sprintf("%s ran before: %s.", p.Name, said))
	}
	if o.stay {
		a.leaveSignals()
		return a.stayWith(p, f, file, o)
	}
	began := time.Now()
	args, how, err := a.keepArgs(p, file, o)
	if err != nil {
		return err
	}
	report, err := supervisor.Spawn(a.ctx, f, args, how, a.sayProgress)
	if err := a.spawned(p, o, report, err); err != nil {
		return err
	}
	if o.then == "verify" {
		return a.verifyLab(file, nil, false)
	}
	for _, n := range report.Notes {
		a.note(n + ".")
	}
	if o.planted != "" {
		return nil // the drill says the rest
	}
	return a.saidStarted(p, f, file, o, time.Since(began))
}

// spawned returns why a lab is not up.
func (a *app) spawned(p *plan.Plan, o startOptions, report supervisor.Report, err error) error {
	switch {
	case a.ctx.Err() != nil:
		return a.ctx.Err()
	case err != nil && report.Lacks:
		return cannotSpawn(err, o.asUser)
	case err != nil:
		return failure{exitUsage, err.Error(), ""}
	case report.Exists:
		return failure{exitUsage, p.Name + " is being started by another process just now", ""}
	case report.Lacks:
		return failure{exitLacking, report.Error, ""}
	case !report.Up:
		return failure{exitUsage, p.Name + " did not start: " + report.Error, ""}
	}
	return nil
}

// keepArgs returns the call of the supervising process.
func (a *app) keepArgs(p *plan.Plan, file string, o startOptions) ([]string, supervisor.How, error) {
	if _, err := a.options(p, o); err != nil {
		return nil, 0, err
	}
	args, how := []string{
		keepCommand,
		file,
		"--on",
		o.stage,
		"--capture-size",
		o.size,
		"--accelerate",
		o.accel,
	}, supervisor.Apart
	if o.capture != "" {
		if err := os.MkdirAll(o.capture, 0o755); err != nil {
			return nil, 0, failure{exitUsage, fmt.Sprintf("cannot write to %s: %v", o.capture, cause(err)), ""}
		}
		args = append(args, "--capture", o.capture)
	}
	for name, v := range map[string]string{"--kernel": o.kernel, "--inside": o.inside} {
		if v != "" {
			args = append(args, name, v)
		}
	}
	for name, list := range map[string][]string{"--profile": a.named, "--span": o.spans, "--tap": o.taps} {
		for _, v := range list {
			args = append(args, name, v)
		}
	}
	args = append(args, o.passed()...)
	if o.planted != "" {
		args = append(args, "--planted", o.planted)
	}
	if o.bench > 0 {
		args = append(args, "--bench", fmt.Sprint(o.bench))
	}
	if o.stay {
		args = append(args, "--tied")
	}
	switch {
	case o.asUser:
		how = supervisor.AsUser
	case o.stage == onMachines:
		how = supervisor.Plain
	}
	return args, how, nil
}

// sayProgress returns how far a start is.
func (a *app) sayProgress(text string) {
	if !a.quiet {
		fmt.Fprintf(a.err, "%s\n", text)
	}
}

func cannotSpawn(err error, asUser bool) error {
	if asUser {
		return failure{exitLacking, fmt.Sprintf("this system allows no user namespace of one's own: %v", cause(err)),
			"Start it as root (sudo bastion start …), or rehearse it: bastion rehearse …"}
	}
	return failure{exitLacking, err.Error(), "Rehearse it instead: bastion rehearse …"}
}

func runsAlready(name string, r supervisor.Record, file string) error {
	if r.Elsewhere() {
		return failure{
			exitUsage,
			fmt.Sprintf("%s runs already, on %s, since %s", name, r.Place, r.Started.Local().Format("15:04")),
			"Stop it there, or rename this lab.",
		}
	}
	if !sameFile(r, file) {
		return failure{exitUsage, fmt.Sprintf("a lab of this name runs already, from another file: %s", r.File),
			"Stop that one (bastion stop " + name + "), or rename this lab."}
	}
	return failure{exitUsage, fmt.Sprintf("%s runs already, since %s", name, r.Started.Local().Format("15:04")),
		"bastion status " + name + " shows it; bastion stop " + name + " ends it."}
}

// sameFile reports whether a lab was started from a file.
func sameFile(r supervisor.Record, file string) bool {
	abs, err := filepath.Abs(file)
	return err == nil && abs == r.File
}

func (a *app) saidStarted(p *plan.Plan, f supervisor.Folder, file string, o startOptions, took time.Duration) error {
	if a.format == "json" {
		return a.statusJSON(f)
	}
	if a.quiet {
		return nil
	}
	s := a.screen()
	where, how, what := "on the kernel of this machine", "bastion shell "+file+" ", "a shell inside a guest"
	if o.stage == onMachines {
		where, how, what = "as virtual machines", "bastion machine console "+file+" ", "the console of a machine"
	}
	showTitle(s, p, fmt.Sprintf("runs %s, started in %s", where, took.Round(time.Millisecond)))
	guest := "GUEST"
	if g := p.Guests(); len(g) > 0 {
		guest = g[0].Name
	}
	s.line()
	t := table{}
	if o.bench > 0 {
		how, file = strings.Replace(how, file, p.Name, 1), p.Name
	}
	t.add("bastion status "+file, cell{"addresses, DHCP, rules, connections", faint})
	t.add(how+guest, cell{what, faint})
	t.add("bastion verify "+file, cell{"the claims, by real packets", faint})
	t.add("bastion stop "+file, cell{"ends it and leaves nothing", faint})
	s.table(t)
	return nil
}

// dryRun returns what a start would make.
func (a *app) dryRun(p *plan.Plan, o startOptions) error {
	made, here, where := kernel.Changes(p), []string{}, "In unnamed namespaces, which end with the lab's process"
	if o.join {
		here = kernel.HostChanges(p)
	}
	if o.stage == onMachines {
		options, err := a.machineOptions(p, o)
		if err != nil {
			return err
		}
		where = "As processes that end with the lab's process"
		made, here = machine.Changes(p, options)
	}
	if a.format == "json" {
		return a.json(api.DryRun{Schema: api.DryRunSchema, Lab: p.Name, Inside: made, Changes: here})
	}
	s := a.screen()
	showTitle(s, p, "what a start would do")
	s.heading(where)
	for _, line := range made {
		s.para(2, 2, plain, line)
	}
	s.heading("On this machine itself")
	home, _ := supervisor.Home()
	s.para(2, 2, plain, "a process that keeps the lab, and its folder "+supervisor.Of(home, p.Name).Path())
	for _, line := range here {
		s.para(2, 2, plain, line)
	}
	if len(here) == 0 {
		s.para(2, 2, plain, "no device, address, route, rule or setting")
	}
	return nil
}

// options reads what start was told beside the lab.
func (a *app) options(p *plan.Plan, o startOptions) (kernel.Options, error) {
	limit, err := lab.ParseBytes(o.size)
	if err != nil || limit < minCapture {
		return kernel.Options{}, usage("--capture-size is a size of at least 1MiB, as 64MiB, not %q", o.size)
	}
	out := kernel.Options{CaptureSize: int64(limit), Servers: o.servers, Join: o.join, Commands: map[string]string{}}
	if o.capture != "" {
		if out.Capture, err = filepath.Abs(o.capture); err != nil {
			return out, err
		}
	}
	gates := p.Appliances()
	for _, text := range o.commands {
		name, command, ok := strings.Cut(text, "=")
		named := ok && slices.ContainsFunc(gates, func(m *plan.Machine) bool { return m.Name == name })
		switch {
		case named:
		case len(gates) == 1:
			name, command = gates[0].Name, text
		default:
			return out, usage("--appliance-command: name the appliance: %s=COMMAND", p.Appliances()[0].Name)
		}
		out.Commands[name] = command
	}
	return out, nil
}

// minCapture is the least size of a capture that is of any use.
const minCapture = 1 << 20

// keepLab is the supervising process.
func (a *app) keepLab(file string, o startOptions) error {
	report := os.NewFile(supervisor.ReportFile, "report")
	syscall.CloseOnExec(supervisor.ReportFile)
	tell := supervisor.TellBy(report)
	p, err := a.load(file)
	if err != nil {
		tell(supervisor.Report{Error: err.Error()})
		return err
	}
	a.leaveSignals()
	abs, err := filepath.Abs(file)
	home, e := supervisor.Home()
	if err = errors.Join(err, e); err != nil {
		tell(supervisor.Report{Error: err.Error()})
		return err
	}
	f := supervisor.Of(home, p.Name)
	r := supervisor.Record{
		Lab:      p.Name,
		File:     abs,
		Digest:   p.Fingerprint(),
		Stage:    o.stage,
		Profiles: a.named,
		Changes:  []hostnet.Change{},
		Bench:    o.bench,
	}
	if o.tied {
		go func() {
			supervisor.UntilTieEnds()
			_ = syscall.Kill(os.Getpid(), syscall.SIGTERM)
		}()
	}
	options, err := a.options(p, o)
	if err != nil {
		tell(supervisor.Report{Error: err.Error()})
		return err
	}
	options.Folder = f.Path()
	made := p // what is built: the plan, or that with a mistake in it
	if o.planted != "" {
		d, err := a.planted(p, &drillOptions{code: o.planted}, true)
		if err != nil {
			tell(supervisor.Report{Error: err.Error()})
			return err
		}
		made, r.Planted = d.Built.Plan, o.planted
	}
	build := func(ctx context.Context, changing func(hostnet.Change) error) (supervisor.Made, error) {
		options.Changing = changing
		l, err := kernel.Up(ctx, made, options)
		if err != nil {
			return nil, err
		}
		return l, nil
	}
	if o.stage == onMachines {
		build, err = a.buildMachines(made, file, o, options, tell)
		if err != nil {
			tell(supervisor.Report{Error: err.Error()})
			return err
		}
	}
	reload := func() ([]byte, *plan.Plan, error) {
		p, err := a.load(file)
		return a.texts[file], p, err
	}
	return supervisor.Keep(f, r, a.texts[file], p, build, reload, tell)
}

func (a *app) verifyLab(file string, reports []string, replace bool) error {
	l, p, err := a.findPlanned(file)
	if err != nil {
		return err
	}
	c, err := a.dial(l)
	if err != nil {
		return err
	}
	defer c.Hang()
	if l.changed != "" {
		a.note(fmt.Sprintf("%s is checked as it was started; %s.", p.Name, l.changed))
	}
	began := time.Now()
	now, err := c.Status(a.ctx)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	for _, n := range now.Notes {
		a.note(n + ".")
	}
	doc, answers, err := judge(a.ctx, p, c, false)
	if err != nil {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		return failure{exitBroken, err.Error(), ""}
	}
	if a.format == "json" {
		err = a.json(doc)
	} else {
		s := a.screen()
		a.title(s, p, fmt.Sprintf("%s: checked in %s, running since %s", doc.Stage,
			time.Since(began).Round(10*time.Millisecond), l.record.Started.Local().Format("15:04")))
		a.showVerdict(s, doc, func() {
			if l.record.Planted != "" || !a.drifted(c, doc, file) {
				a.likeliest(p, l.record.File, doc, answers)
			}
		})
	}
	for _, to := range reports {
		if err == nil {
			err = a.report(to, p, doc, nil, replace)
		}
	}
	if err == nil && doc.Verdict != claims.Holds {
		err = failure{status: exitBroken}
	}
	return err
}

func (a *app) statusJSON(f supervisor.Folder) error {
	r, err := f.Read()
	if err != nil {
		return err
	}
	s, err := a.statusOf(a.held(f, r))
	if err != nil {
		return err
	}
	return a.json(s)
}

// statusOf asks a lab's process how it is; one that is gone has ended.
func (a *app) statusOf(l started) (status.Lab, error) {
	if !l.record.Alive() {
		r := l.record
		r.Phase = status.Ended
		why := "its process ended unexpectedly; only the lab's record is left"
		if said := l.folder.LastWords(); said != "" {
			why += "; its output: " + said + " (complete in " + l.folder.Log() + ")"
		}
		return r.Fill(status.Lab{Changed: l.changed != ""}, why), nil
	}
	c, err := a.dial(l)
	if err != nil {
		return status.Lab{}, err
	}
	defer c.Hang()
	s, err := c.Status(a.ctx)
	if err != nil {
		return s, failure{exitBroken, err.Error(), ""}
	}
	s.Changed = l.changed != ""
	return s, nil
}
