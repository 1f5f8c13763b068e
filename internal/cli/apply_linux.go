package cli

import (
	"time"

	"openbastion/internal/api"
	"openbastion/internal/model/change"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/supervisor"
)

// applyTo changes a lab that runs to what its file says now: it shows the difference, asks, and does that alone.
func (a *app) applyTo(f supervisor.Folder, r supervisor.Record, p *plan.Plan, file string, o startOptions) error {
	if err := a.changeable(r, p, file, o); err != nil {
		return err
	}
	l := a.held(f, r)
	was, err := a.asStarted(l)
	if err != nil {
		return err
	}
	doc := api.Applied{Schema: api.AppliedSchema, Lab: p.Name, Changes: append([]change.Change{}, change.Between(was, p)...)}
	if a.format == "text" && (!a.quiet || o.dry || !o.yes) {
		a.showDifference(p, doc.Changes, r)
	}
	switch {
	case o.dry && a.format == "json":
		return a.json(doc)
	case o.dry:
		return nil
	case o.yes:
	case !a.terminal() || a.format == "json":
		return failure{exitUsage, p.Name + " runs, and its file has changed since",
			"--yes changes what differs, --dry-run shows it; bastion stop " + p.Name + " ends it."}
	case !a.agreed("Change " + p.Name + " while it runs?"):
		return failure{exitUsage, "nothing was changed", ""}
	}
	c, err := a.dial(l)
	if err != nil {
		return err
	}
	defer c.Hang()
	began := time.Now()
	if err := c.Apply(a.ctx, p.Fingerprint()); err != nil {
		return failure{exitBroken, p.Name + " was not changed, or not in all: " + err.Error(), "bastion verify " + file + " shows how it is."}
	}
	took := time.Since(began)
	if o.then == "verify" {
		return a.verifyLab(file, nil, false)
	}
	if a.format == "json" {
		doc.Applied, doc.Milliseconds = true, took.Milliseconds()
		return a.json(doc)
	}
	if a.quiet {
		return nil
	}
	a.screen().line(signHolds, " ", p.Name, " was changed in ", took.Round(time.Millisecond).String(), ".")
	return nil
}

// changeable refuses what cannot be changed while it runs.
func (a *app) changeable(r supervisor.Record, p *plan.Plan, file string, o startOptions) error {
	why := ""
	switch {
	case p.Fingerprint() == r.Digest || r.Elsewhere() || !sameFile(r, file):
		return runsAlready(p.Name, r, file)
	case r.Planted != "":
		why = "a drill runs in it"
	case r.Stage != onKernel:
		why = "virtual machines are not changed while they run"
	case o.stage != r.Stage:
		why = "it runs on the " + r.Stage + " stage"
	case o.join || o.capture != "" || len(o.commands)+len(o.servers) > 0:
		return usage("%s runs: --join, --capture, --add-server and --appliance-command are for its start", p.Name)
	}
	if why == "" {
		return nil
	}
	return failure{exitUsage, p.Name + " runs, and its file has changed since: " + why,
		"bastion stop " + p.Name + " ends it; then start it again."}
}

// showDifference shows what differs, and what each of it interrupts.
func (a *app) showDifference(p *plan.Plan, list []change.Change, r supervisor.Record) {
	s := a.screen()
	showTitle(s, p, "its file has changed; it runs since "+r.Started.Local().Format("15:04"))
	sign := map[change.Kind]string{change.Add: "+", change.Remove: "-", change.Alter: "~"}
	interrupts := false
	for _, c := range list {
		s.para(2, 4, plain, sign[c.Kind]+" "+c.String())
		if c.Interrupts != "" {
			interrupts = true
			s.para(6, 6, faint, "interrupts "+c.Interrupts)
		}
	}
	switch {
	case len(list) == 0:
		s.para(2, 2, plain, "Nothing of what runs differs: texts, expectations and sizes alone.")
	case !interrupts:
		s.para(2, 2, faint, "This interrupts nothing: open connections go on, but for those that new rules forbid.")
	default:
		s.para(2, 2, faint, "All other open connections go on, but for those that new rules forbid.")
	}
}
