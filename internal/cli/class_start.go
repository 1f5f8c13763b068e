package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"openbastion/internal/classroom/class"
	"openbastion/internal/export/batch"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/machine"
	"openbastion/internal/testbed/machine/boot"
	"openbastion/internal/testbed/remote"
	"openbastion/internal/testbed/supervisor"
)

// benchNeed returns what one bench takes of its host.
func benchNeed(p *plan.Plan, o startOptions) class.Need {
	n := class.Need{Memory: batch.Process}
	if o.stage == onKernel {
		n.Memory = lab.Bytes(batch.Memory(p)) * lab.MiB
		return n
	}
	for _, m := range p.Machines {
		if m.Off || m.Physical || o.appliances && m.Appliance == nil ||
			len(o.only) > 0 && !slices.Contains(o.only, m.Name) {
			continue
		}
		n.CPUs += m.Spec.CPUs
		if o.reference || machine.References(m) {
			n.Memory += machine.ReferenceMemory
		} else {
			n.Memory += m.Spec.Memory
		}
	}
	return n
}

// benchName returns the name of a bench, from 1, of so many.
func benchName(lab string, number, of int) string {
	return fmt.Sprintf("%s-%0*d", lab, len(fmt.Sprint(of)), number)
}

// checkHosts refuses what does not go together with several hosts.
func (o startOptions) checkHosts() error {
	switch {
	case o.capture != "":
		return usage("--capture writes on this machine, but the benches are on others; start one of them there with it")
	case len(o.spans) > 0:
		return usage("--span is for one lab on this machine; a bench of a class runs on one host")
	case len(o.taps) > 0:
		return usage("--tap names a device of this machine, but the benches are on others")
	}
	return nil
}

// startClass starts the benches of a class on several hosts, or heals one that was started.
func (a *app) startClass(file string, o startOptions) error {
	if err := o.checkHosts(); err != nil {
		return err
	}
	if file == "-" || len(a.named) > 0 {
		return usage(
			"on several hosts the lab must be a file with its files in the same folder: no standard input, no --profile",
		)
	}
	p, err := a.load(file)
	if err != nil {
		return err
	}
	hosts, err := a.readHosts(o.hosts)
	if err != nil {
		return err
	}
	return a.startBenches(p, file, o, hosts)
}

func (a *app) readHosts(file string) (*lab.Hosts, error) {
	text, err := a.read(file, lab.MaxSize+1)
	if err != nil {
		return nil, err
	}
	return lab.ReadHosts(file, text)
}

// startBenches places the benches of a class and starts them, or heals a class that was started.
func (a *app) startBenches(p *plan.Plan, file string, o startOptions, hosts *lab.Hosts) error {
	r, again, err := a.classToBe(p, file, o, hosts)
	if err != nil {
		return err
	}
	if o.dry {
		return a.showPlaced(p, o, hosts, placeBenches(r, p, o, hosts, nil))
	}
	files, err := a.benchFiles(p, file, o)
	if err != nil {
		return err
	}
	return a.putUp(p, file, o, hosts, r, files, again)
}

// classToBe returns the record of a class: a new one, or that of the class that was started
// from this very file.
func (a *app) classToBe(p *plan.Plan, file string, o startOptions, hosts *lab.Hosts) (class.Record, bool, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return class.Record{}, false, err
	}
	if err := lab.CheckName(benchName(p.Name, hosts.Benches, hosts.Benches)); err != nil {
		return class.Record{}, false, usage(
			"the name of %s with a bench number is not a valid lab name: %v",
			p.Name,
			err,
		)
	}
	now := class.Record{
		Lab:     p.Name,
		File:    abs,
		Class:   o.class,
		Digest:  p.Fingerprint(),
		Stage:   o.stage,
		Started: time.Now().UTC().Truncate(time.Second),
	}
	all, err := classes()
	if err != nil {
		return now, false, err
	}
	was, ok := all[p.Name]
	if !ok {
		return now, false, nil
	}
	if was.File != now.File || was.Digest != now.Digest || was.Stage != now.Stage {
		return now, true, failure{
			exitUsage,
			fmt.Sprintf("%s already runs on hosts, since %s, from another file, another text of it or on another stage",
				p.Name, was.Started.Local().Format("15:04")),
			"bastion stop " + p.Name + " stops that one first.",
		}
	}
	return was, true, nil
}

// placeBenches returns which host carries which bench; silent hosts carry none.
func placeBenches(
	r class.Record,
	p *plan.Plan,
	o startOptions,
	hosts *lab.Hosts,
	silent map[string]error,
) []class.Bench {
	var open []class.Host
	for _, h := range hosts.List {
		if silent[h.Name] == nil {
			open = append(open, class.Host{Name: h.Name, CPUs: h.CPUs * hosts.Share, Memory: h.Memory})
		}
	}
	kept := map[string]string{}
	for _, b := range r.Benches {
		kept[b.Name] = b.Host
	}
	names := make([]string, hosts.Benches)
	for i := range names {
		names[i] = benchName(p.Name, i+1, hosts.Benches)
	}
	placed := class.Place(names, benchNeed(p, o), open, kept)
	out := make([]class.Bench, len(names))
	for i, name := range names {
		out[i] = class.Bench{Name: name, Host: placed[name]} // no host: it has no place
		if i < len(o.members) {
			out[i].For = o.members[i].Name
		}
	}
	return out
}

// benchFiles returns what each host needs, but for the lab files of its benches: this program,
// a kernel, and what the lab names.
func (a *app) benchFiles(p *plan.Plan, file string, o startOptions) ([]remote.File, error) {
	own := o.inside
	if own == "" {
		if runtime.GOOS != "linux" {
			return nil, failure{exitLacking, "the hosts run this program on Linux, but this one is for another system",
				"Name one for Linux: --inside FILE."}
		}
		var err error
		if own, err = os.Executable(); err != nil {
			return nil, err
		}
	}
	files := []remote.File{{Path: remote.Program, From: own, Run: true}}
	if kernel := o.kernel; o.stage == onMachines {
		if kernel == "" {
			kernel = boot.Cached()
		}
		if info, err := os.Stat(kernel); kernel != "" && (err != nil || !info.Mode().IsRegular()) {
			return nil, usage("--kernel must be a package when it is sent to other hosts; %s is not a file", kernel)
		}
		if kernel != "" {
			files = append(files, remote.File{Path: kernelThere, From: kernel})
		}
	}
	named := map[string]bool{}
	for _, ap := range p.Lab.Appliances {
		if strings.ContainsAny(ap.Profile, "./") {
			named[ap.Profile] = true
		}
		if !o.reference && o.stage == onMachines {
			named[ap.Image.File], named[ap.Machine.Media] = true, true
		}
	}
	for _, g := range p.Lab.Guests {
		if !o.reference && o.stage == onMachines {
			named[g.Machine.Media] = true
		}
	}
	delete(named, "")
	for _, name := range slices.Sorted(maps.Keys(named)) {
		if !filepath.IsLocal(name) {
			return nil, failure{
				exitUsage,
				fmt.Sprintf("%s names %s, which is not in its folder or below: it cannot be sent to hosts", file, name),
				"Put it into the folder of the lab file, and name it without a path.",
			}
		}
		files = append(
			files,
			remote.File{Path: filepath.ToSlash(filepath.Clean(name)), From: filepath.Join(filepath.Dir(file), name)},
		)
	}
	if err := remote.Digest(files); err != nil {
		return nil, failure{exitUsage, fmt.Sprintf("cannot read what is sent to the hosts: %v", err), ""}
	}
	return files, nil
}

// kernelThere is where the package of a kernel lies in a host's folder.
const kernelThere = "kernel.deb"

// benchText returns the lab file of one bench.
func (a *app) benchText(p *plan.Plan, file, bench string) []byte {
	e := lab.NewEditor(a.texts[file])
	e.Set(p.Lab, "lab", bench)
	return e.Bytes()
}

// putUp sends what the hosts need and starts the benches there.
func (a *app) putUp(
	p *plan.Plan,
	file string,
	o startOptions,
	hosts *lab.Hosts,
	r class.Record,
	files []remote.File,
	again bool,
) error {
	if err := alreadyHere(p.Name); err != nil {
		return err
	}
	began := time.Now()
	silent, err := a.knock(&r, hosts)
	if err != nil {
		return err
	}
	r.Benches = placeBenches(r, p, o, hosts, silent)
	if err := writeClass(r); err != nil {
		return failure{exitUsage, "cannot record what was started: " + err.Error(), ""}
	}
	if !again {
		a.onInterrupt(func() { a.endUnfinished(r) })
	}
	arguments := append([]string{"--on", o.stage, "--capture-size", o.size, "--accelerate", o.accel}, o.passed()...)
	if slices.ContainsFunc(files, func(f remote.File) bool { return f.Path == kernelThere }) {
		arguments = append(arguments, "--kernel", kernelThere)
	}
	sent := a.send(p, file, r, files, silent)
	ready := r
	ready.Hosts = nil
	for i, h := range r.Hosts {
		switch {
		case sent[i] != nil:
			silent[h.Name] = sent[i]
		case silent[h.Name] == nil:
			ready.Hosts = append(ready.Hosts, h)
		}
	}
	progress := a.progress("benches started")
	came, gone := a.answers(a.ctx, ready, "start", arguments, func(done int) { progress(done, len(r.Benches)) })
	progress(0, 0)
	if a.ctx.Err() != nil {
		a.cleanUp()
		return a.ctx.Err()
	}
	for name, err := range gone {
		silent[name] = err
	}
	a.told(&r, hosts, silent)
	if err := writeClass(r); err != nil {
		return failure{exitUsage, "cannot record what was started: " + err.Error(), ""}
	}
	state := seenOf(r, came, silent)
	if o.then == "verify" {
		return a.verifyClass(r, classVerify{})
	}
	return a.saidClass(r, state, fmt.Sprintf("up on %s after %s", count(len(ready.Hosts), "host", "hosts"),
		time.Since(began).Round(10*time.Millisecond)), true)
}

// send sends each host that answers what its benches need.
func (a *app) send(p *plan.Plan, file string, r class.Record, files []remote.File, silent map[string]error) []error {
	return eachHost(r.Hosts, func(_ int, h class.RecordHost) error {
		names := r.On(h.Name)
		if len(names) == 0 || silent[h.Name] != nil {
			return nil
		}
		mine := slices.Clone(files)
		for _, name := range names {
			mine = append(mine, remote.File{Path: remote.BenchFile(name), Text: a.benchText(p, file, name)})
		}
		if err := remote.Digest(mine[len(files):]); err != nil {
			return err
		}
		return onHost(r, h).Send(a.ctx, mine)
	})
}

// told notes which hosts know by now what is theirs, and leaves nothing on those that are no
// longer among the hosts.
func (a *app) told(r *class.Record, hosts *lab.Hosts, silent map[string]error) {
	for i := range r.Hosts {
		r.Hosts[i].Left = r.Hosts[i].Left && silent[r.Hosts[i].Name] != nil
	}
	r.Hosts = slices.DeleteFunc(r.Hosts, func(h class.RecordHost) bool {
		over := !h.Left && !slices.ContainsFunc(hosts.List, func(f *lab.Carrier) bool { return f.Name == h.Name })
		return over && onHost(*r, h).Remove(a.ctx) == nil
	})
}

// passed returns the options of start that go to each bench as they are.
func (o startOptions) passed() []string {
	var out []string
	for _, s := range []struct {
		name string
		on   bool
	}{{"--join", o.join}, {"--appliance-only", o.appliances}, {"--reference", o.reference}, {"--as-user", o.asUser}} {
		if s.on {
			out = append(out, s.name)
		}
	}
	for _, l := range []struct {
		name string
		list []string
	}{{"--only", o.only}, {"--join-only", o.allow}, {"--add-server", o.servers}, {"--appliance-command", o.commands}} {
		for _, v := range l.list {
			out = append(out, l.name, v)
		}
	}
	return out
}

// knock asks each host of the file whether it is there and can run this program, and notes
// the hosts: those of the file, and those no longer in it that had benches. Benches may run
// on each that had some, until it was told which are not its own any more.
func (a *app) knock(r *class.Record, hosts *lab.Hosts) (map[string]error, error) {
	had := map[string]bool{}
	for _, b := range r.Benches {
		had[b.Host] = true
	}
	was := r.Hosts
	r.Hosts = nil
	for _, h := range hosts.List {
		r.Hosts = append(r.Hosts, class.RecordHost{Name: h.Name, SSH: h.SSH})
	}
	wanted := "Linux " + map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH]
	silent := map[string]error{}
	errs := eachHost(r.Hosts, func(_ int, h class.RecordHost) error {
		system, err := onHost(*r, h).System(a.ctx)
		if err == nil && system != wanted {
			err = fmt.Errorf("%s is %s, but this program is for %s", h.Name, system, wanted)
		}
		return err
	})
	if a.ctx.Err() != nil {
		return nil, a.ctx.Err()
	}
	for i, err := range errs {
		if h := &r.Hosts[i]; err != nil {
			silent[h.Name] = err
			a.note(fmt.Sprintf("%v: no bench is placed there.", err))
		}
	}
	if len(silent) == len(r.Hosts) {
		return nil, failure{exitBroken, "no host can run a bench", "Test one with: ssh " + r.Hosts[0].SSH}
	}
	for _, w := range was {
		if w.Left = w.Left || had[w.Name]; !w.Left {
			continue
		}
		if i := slices.IndexFunc(r.Hosts, func(h class.RecordHost) bool { return h.Name == w.Name }); i >= 0 {
			r.Hosts[i].Left = true
		} else {
			r.Hosts = append(r.Hosts, w)
		}
	}
	return silent, nil
}

// endUnfinished ends what an interrupted start has begun.
func (a *app) endUnfinished(r class.Record) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	a.note("interrupted: everything was stopped on all hosts")
	_, silent := a.answers(ctx, r, "stop", []string{"--now", "--discard"}, func(int) {})
	if len(silent) > 0 {
		a.note("not all hosts answered; bastion stop " + r.Lab + " tries again")
		return
	}
	_ = removeClass(r)
}

// alreadyOver refuses to start here what runs over hosts.
func alreadyOver(name string) error {
	all, err := classes()
	if err != nil {
		return err
	}
	if _, ok := all[name]; ok {
		return failure{
			exitUsage,
			name + " already runs on several hosts",
			"bastion stop " + name + " stops that one first.",
		}
	}
	return nil
}

// alreadyHere returns a lab of this name that runs on this machine.
func alreadyHere(name string) error {
	home, err := supervisor.Home()
	if err != nil {
		return failure{exitLacking, err.Error(), ""}
	}
	if _, err := supervisor.Of(home, name).Read(); err == nil {
		return failure{
			exitUsage,
			"a lab named " + name + " was started on this machine",
			"bastion stop " + name + " stops that one first.",
		}
	}
	return nil
}
