package cli

import (
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"openbastion/internal/atomicfile"
	"openbastion/internal/classroom/class"
	"openbastion/internal/hostinfo"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// here is the name of this machine among the hosts of a class.
const here = "here"

// classGroup is the command of a class: one file says who learns with which lab, where and when.
func (a *app) classGroup() *cobra.Command {
	c := &cobra.Command{
		Use: "class", Short: "Run a class: a bench for each student",
		Long: `A class file names the lab, the students or groups, and who carries the benches:

  bastion-class: 1
  lab: saltmarsh.yaml
  students: [ada, ben, cleo]      # or groups: {red: {students: [ada, ben]}}
  opens: 2026-12-07 09:00         # optional, as are all below
  closes: 2026-12-07 12:00
  hosts: hosts.yaml               # by SSH; or job: slurm; default: this machine
  rubric: rubric.yaml
  drills: true

Each student or group gets a bench, a copy of the lab, in the order of the file.`,
		Example: `  bastion class start class.yaml
  bastion class verify class.yaml
  bastion class grade class.yaml hand-ins/*
  bastion schema --of class`,
	}
	c.AddCommand(a.classStart(), a.classAsk("status", "Show each bench, with its student and state"),
		a.classAsk("verify", "Check all benches by real packets: one verdict"),
		a.classStop(), a.classGrade(), a.classPack())
	return c
}

// ofClass is a class file with its lab.
type ofClass struct {
	*lab.Class
	plan *plan.Plan
	file string // the lab file
}

func (a *app) readClass(file string) (c ofClass, err error) {
	text, err := a.read(file, lab.MaxSize+1)
	if err != nil {
		return c, err
	}
	if c.Class, err = lab.ReadClass(file, text); err != nil {
		return c, err
	}
	c.file = c.beside(c.Lab)
	c.plan, err = a.load(c.file)
	return c, err
}

// bench returns the name of bench i, from 1: jobs count as their batch system does.
func (c ofClass) bench(i int) string {
	if c.Job != "" {
		return fmt.Sprintf("%s-%d", c.plan.Name, i)
	}
	return benchName(c.plan.Name, i, len(c.Members()))
}

// ofFile makes what a command does of a class file, its first argument, and the others.
func (a *app) ofFile(do func(c ofClass, rest []string) error) func(*cobra.Command, []string) error {
	return func(_ *cobra.Command, args []string) error {
		c, err := a.readClass(args[0])
		if err != nil {
			return err
		}
		return do(c, args[1:])
	}
}

// beside returns a file that the class file names: from its folder.
func (c ofClass) beside(name string) string {
	if name == "" || filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(c.File), name)
}

// open refuses what is outside the class's time.
func (c ofClass) open(now time.Time) error {
	const form = "2006-01-02 15:04"
	switch {
	case now.Before(c.Opens):
		return failure{exitBroken, "the class opens at " + c.Opens.Local().Format(form), "--any-time starts it now."}
	case !c.Closes.IsZero() && now.After(c.Closes):
		return failure{exitBroken, "the class closed at " + c.Closes.Local().Format(form), "--any-time starts it all the same."}
	}
	return nil
}

// carriers returns who carries the benches: the hosts of the hosts file, or this machine with what it has free.
func (a *app) carriers(c ofClass) (*lab.Hosts, error) {
	n := len(c.Members())
	if c.Hosts != "" {
		hosts, err := a.readHosts(c.beside(c.Hosts))
		if err == nil {
			hosts.Benches = n
		}
		return hosts, err
	}
	r := hostinfo.Look(".")
	return &lab.Hosts{
		Benches: n, Share: 4,
		List: []*lab.Carrier{{Name: here, CPUs: r.CPUs, Memory: cmp.Or(r.Available, r.Memory)}},
	}, nil
}

func (a *app) classStart() *cobra.Command {
	var o startOptions
	anyTime := false
	c := &cobra.Command{
		Use: "start CLASS", Short: "Start all benches, or those that do not run",
		Args: cobra.ExactArgs(1),
		RunE: a.ofFile(func(c ofClass, _ []string) error {
			if err := c.open(time.Now()); err != nil && !anyTime && !o.dry {
				return err
			}
			if c.Job != "" {
				return a.startJob(c, o)
			}
			hosts, err := a.carriers(c)
			if err != nil {
				return err
			}
			o.stage, o.members = c.On, c.Members()
			if o.class, err = filepath.Abs(c.File); err != nil {
				return err
			}
			if err := o.check(); err != nil {
				return err
			}
			return a.startBenches(c.plan, c.file, o, hosts)
		}),
	}
	a.startFlags(c, &o)
	for _, name := range []string{"on", "capture", "span", "tap"} { // the file says it, or it is for one lab
		_ = c.Flags().MarkHidden(name)
	}
	c.Flags().BoolVar(&anyTime, "any-time", false, "start it before it opens or after it has closed")
	c.Flags().StringVar(&o.then, "then", "", "verify: run the checks, with their output and exit status")
	c.Flags().BoolVar(&o.dry, "dry-run", false, "show which bench goes where, but start nothing")
	return c
}

// started returns the record of a class that was started.
func (a *app) started(c ofClass) (class.Record, error) {
	r, ok, err := aClass(c.plan.Name)
	if err == nil && !ok {
		err = failure{exitBroken, "the class is not started", "bastion class start " + c.File}
	}
	return r, err
}

// classVerify are the options of class verify.
type classVerify struct {
	reports []string
	replace bool
}

// classAsk makes the commands that ask all benches.
func (a *app) classAsk(verb, short string) *cobra.Command {
	var o classVerify
	command := &cobra.Command{
		Use: verb + " CLASS", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.ofFile(func(c ofClass, _ []string) error {
			if c.Job != "" {
				return a.askJob(c, verb, o)
			}
			r, err := a.started(c)
			switch {
			case err != nil:
				return err
			case verb == "verify":
				return a.verifyClass(r, o)
			}
			return a.classStatus(r)
		}),
	}
	if verb == "verify" {
		command.Flags().StringArrayVar(&o.reports, "report", nil, "write the verdict as a page too (.html), repeatable")
		command.Flags().BoolVar(&o.replace, "replace", false, "replace existing files")
	}
	return command
}

func (a *app) classStop() *cobra.Command {
	var o stopOptions
	c := &cobra.Command{
		Use: "stop CLASS", Short: "Stop all benches", Args: cobra.ExactArgs(1),
		RunE: a.ofFile(func(c ofClass, _ []string) error {
			if c.Job != "" {
				return a.endJob(c)
			}
			r, err := a.started(c)
			if err != nil {
				return err
			}
			return a.endClass(r, o)
		}),
	}
	c.Flags().BoolVar(&o.now, "now", false, "stop virtual machines at once, without a shutdown")
	c.Flags().BoolVar(&o.discard, "discard", false, "remove the disks of virtual machines too")
	return c
}

func (a *app) classGrade() *cobra.Command {
	var o gradeOptions
	c := &cobra.Command{
		Use: "grade CLASS EVIDENCE…", Short: "Grade what the class hands in, by its rubric",
		Long: `Grades as "bastion grade" does, by the rubric, the lab and the time of the class file: evidence from before it
opens counts for nothing.`,
		Args: cobra.MinimumNArgs(2),
		RunE: a.ofFile(func(c ofClass, evidence []string) error {
			if c.Rubric == "" {
				return usage("%s names no rubric; write `rubric: FILE`", c.File)
			}
			if o.lab = c.file; !c.Opens.IsZero() {
				o.trust.since = time.Since(c.Opens)
			}
			for i, m := range c.Members() {
				if m.Name != "" {
					a.note(fmt.Sprintf("%s is %s", c.bench(i+1), m.Name))
				}
			}
			return a.gradeWork(c.beside(c.Rubric), evidence, o)
		}),
	}
	c.Flags().StringVar(&o.page, "page", "", "write one page per bench into this folder")
	c.Flags().BoolVar(&o.replace, "replace", false, "replace existing files")
	c.Flags().StringVar(&o.trust.witness, "witness-key", "", "the key of the lab's test server (default: this machine's)")
	return c
}

func (a *app) classPack() *cobra.Command {
	var to, key string
	c := &cobra.Command{
		Use: "pack CLASS", Short: "Write what each student gets: lab file, runbook and drill",
		Args: cobra.ExactArgs(1),
		RunE: a.ofFile(func(c ofClass, _ []string) error {
			return a.packClass(c, to, key)
		}),
	}
	c.Flags().StringVar(&to, "to", "handouts", "the folder, with one for each student (default handouts)")
	c.Flags().StringVar(&key, "key", "teacher.key", "the teacher's key, which opens the answers of drills (default teacher.key)")
	return c
}

// packClass writes a folder for each bench: its lab file, its runbook, and, where the class has drills, its drill.
func (a *app) packClass(c ofClass, to, key string) error {
	members := c.Members()
	own, err := os.Executable()
	if err != nil {
		return err
	}
	progress := a.progress("handouts written")
	defer progress(0, 0)
	for i, m := range members {
		bench := c.bench(i + 1)
		folder := filepath.Join(to, cmp.Or(m.Name, bench))
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return failure{exitUsage, err.Error(), ""}
		}
		file := filepath.Join(folder, bench+".yaml")
		if err := atomicfile.Write(file, a.benchText(c.plan, c.file, bench), atomicfile.Options{}); err != nil {
			return failure{exitUsage, err.Error(), "write to another folder: --to FOLDER"}
		}
		if err := a.itself(own, "runbook", file, "--to", filepath.Join(folder, "runbook.html")); err != nil {
			return err
		}
		progress(i+1, len(members))
	}
	if c.Drills {
		return a.packDrills(c, own, to, key)
	}
	a.note(fmt.Sprintf("%s in %s", count(len(members), "handout", "handouts"), to))
	return nil
}

// packDrills deals a drill to each bench; the answers stay beside the handouts, sealed with the teacher's key.
func (a *app) packDrills(c ofClass, own, to, key string) error {
	members := c.Members()
	dealt := filepath.Join(to, ".drills")
	defer os.RemoveAll(dealt)
	err := a.itself(own, "drill", c.file, "--for-class", fmt.Sprint(len(members)), "--key", key, "--to", dealt)
	if err != nil {
		return err
	}
	drills, err := filepath.Glob(filepath.Join(dealt, "drill-*.txt"))
	if err != nil || len(drills) != len(members) {
		return failure{exitUsage, fmt.Sprintf("%d drills were written for %d benches", len(drills), len(members)), ""}
	}
	for i, m := range members {
		bench := c.bench(i + 1)
		if err := os.Rename(drills[i], filepath.Join(to, cmp.Or(m.Name, bench), "drill.txt")); err != nil {
			return failure{exitUsage, err.Error(), ""}
		}
	}
	sealed := filepath.Join(to, "answers.sealed")
	if err := os.Rename(filepath.Join(dealt, "answers.sealed"), sealed); err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	a.note(fmt.Sprintf("%s in %s, each with a drill; the answers: bastion drill --open %s --key %s",
		count(len(members), "handout", "handouts"), to, sealed, key))
	return nil
}

// itself runs this program with other arguments.
func (a *app) itself(own string, args ...string) error {
	c := exec.CommandContext(a.ctx, own, append(args, "-q")...)
	said, err := c.CombinedOutput()
	if a.ctx.Err() != nil {
		return a.ctx.Err()
	}
	if err != nil {
		return failure{exitUsage, fmt.Sprintf("bastion %s: %s", args[0], strings.TrimSpace(string(said))), ""}
	}
	return nil
}
