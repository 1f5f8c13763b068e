package cli

import (
	"fmt"
	"slices"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/supervisor"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// repairLab sets right what differs from the plan in a running lab, and then checks it.
func (a *app) repairLab(named string, o repairOptions) error {
	l, p, err := a.findPlanned(named)
	if err != nil {
		return err
	}
	switch {
	case l.record.Planted != "":
		return failure{exitUsage, "a drill runs in " + l.record.Lab + ": what is wrong there is to be found, not repaired",
			"see bastion drill --help; bastion stop " + l.record.Lab + " ends it."}
	}
	c, err := a.dial(l)
	if err != nil {
		return err
	}
	defer c.Hang()
	if o.undo {
		return a.undoRepair(p, c)
	}
	found, err := c.Drift(a.ctx)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	if l.record.Stage != onKernel && len(found) == 0 {
		return failure{exitUsage, "every cable is plugged in and every machine is on; the inside of virtual machines is not checked",
			"bastion verify " + named + " names the likeliest cause; bastion diagnose asks further."}
	}
	doc := api.Repair{Schema: api.RepairSchema, Lab: p.Name, Found: append([]status.Drift{}, found...), Done: []status.Drift{}}
	if a.format == "text" && (!a.quiet || !o.yes) {
		a.showDrift(p, l, found)
	}
	if len(found) > 0 && !o.dry {
		switch {
		case o.yes:
		case a.format == "json" || !a.terminal():
			return failure{exitUsage, "nothing was repaired", "--yes repairs it, --dry-run shows it."}
		case !a.agreed("Repair " + p.Name + "?"):
			return failure{exitUsage, "nothing was repaired", ""}
		}
		done, err := c.Repair(a.ctx)
		doc.Done, doc.Repaired = append(doc.Done, done...), err == nil && len(done) > 0
		if err != nil {
			return failure{exitBroken, "not all could be repaired: " + err.Error(), ""}
		}
	}
	if o.dry {
		if a.format == "json" {
			return a.json(doc)
		}
		return nil
	}
	v, answers, err := judge(a.ctx, p, c, false)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	if v.Verdict == claims.Broken && a.format == "text" && (o.yes || a.terminal()) {
		mended, err := a.repairFile(l, c, o.yes)
		if err != nil {
			return err
		}
		if mended != nil {
			p = mended
			if v, answers, err = judge(a.ctx, p, c, false); err != nil {
				return failure{exitBroken, err.Error(), ""}
			}
		}
	}
	return a.repaired(p, l, doc, v, answers)
}

// repairFile corrects the lab file, where that is the mistake and can be done mechanically, and changes the lab to it.
// It returns the plan that runs then; nil where nothing was changed.
func (a *app) repairFile(l started, c *supervisor.Client, yes bool) (*plan.Plan, error) {
	file := fromHere(l.record.File)
	p, err := a.load(file)
	if err != nil {
		return nil, err
	}
	var list []check.Finding
	for _, f := range check.Run(p, time.Now()) {
		if f.Severity == check.Error && f.Mechanical() && f.Accepted == "" {
			list = append(list, f)
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	s := a.screen()
	s.para(2, 2, plain, "The lab file is the mistake. This corrects it:")
	if err := a.mend(file, p, list, yes); err != nil {
		return nil, err
	}
	if p, err = a.load(file); err != nil || p.Fingerprint() == l.record.Digest {
		return nil, err
	}
	if err := c.Apply(a.ctx, p.Fingerprint()); err != nil {
		return nil, failure{exitBroken, l.record.Lab + " was not changed, or not in all: " + err.Error(), ""}
	}
	s.line(signHolds, " ", file, " was corrected, and ", l.record.Lab, " changed to it.")
	return p, nil
}

// repaired says how the lab is after a repair.
func (a *app) repaired(p *plan.Plan, l started, doc api.Repair, v verdict.Document, answers claims.Answers) (err error) {
	if a.format == "json" {
		doc.Verdict = &v
		err = a.json(doc)
	} else {
		s := a.screen()
		if n := len(doc.Done); n > 0 {
			s.line(signHolds, " ", count(n, "difference was", "differences were"), " repaired.",
				undoable(doc.Done, " bastion repair "+p.Name+" --undo puts back what was found."))
		}
		if len(doc.Found) == 0 && v.Verdict != claims.Holds {
			s.para(2, 2, plain, "What is wrong is in the lab file, or outside the machines. The causes say what to change.")
		}
		a.showVerdict(s, v, func() { a.likeliest(p, l.record.File, v, answers) })
	}
	if err == nil && v.Verdict != claims.Holds {
		err = failure{status: exitBroken}
	}
	return err
}

// undoable returns a text where something of a repair can be put back.
func undoable(done []status.Drift, text string) string {
	if slices.ContainsFunc(done, func(d status.Drift) bool { return d.Undo }) {
		return text
	}
	return ""
}

// showDrift shows what was found, and what is done about it.
func (a *app) showDrift(p *plan.Plan, l started, found []status.Drift) {
	s := a.screen()
	about := "every machine is as planned"
	if n := len(found); n > 0 {
		about = count(n, "difference", "differences") + " from the plan"
	}
	showTitle(s, p, about)
	if l.differs {
		s.para(2, 2, faint, "Its file has changed since it was started: bastion start "+fromHere(l.record.File)+" changes it to that.")
	}
	for _, d := range found {
		s.para(2, 4, plain, s.paint(broken, signBroken)+" "+d.Machine+": "+d.Found)
		remedy := "repair: " + d.Remedy
		if !d.Undo {
			remedy += " (this cannot be undone)"
		}
		s.para(4, 4, faint, remedy)
	}
}

// undoRepair puts back what the last repair found.
func (a *app) undoRepair(p *plan.Plan, c *supervisor.Client) error {
	undone, err := c.UndoRepair(a.ctx)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	if a.format == "json" {
		return a.json(api.Repair{Schema: api.RepairSchema, Lab: p.Name, Found: []status.Drift{}, Done: append([]status.Drift{}, undone...)})
	}
	if len(undone) == 0 {
		a.note("No repair of " + p.Name + " can be undone.")
		return nil
	}
	s := a.screen()
	showTitle(s, p, fmt.Sprintf("%s put back as found", count(len(undone), "difference", "differences")))
	for _, d := range undone {
		s.para(2, 4, plain, d.Machine+": "+d.Found)
	}
	return nil
}

// drifted names what was changed in the lab's machines as the cause of what is broken, and reports whether
// anything was.
func (a *app) drifted(c *supervisor.Client, doc verdict.Document, file string) bool {
	if doc.Verdict != claims.Broken || a.quiet {
		return false
	}
	found, err := c.Drift(a.ctx)
	if err != nil || len(found) == 0 {
		return false
	}
	out := a.screen()
	const most = 3
	for _, d := range found[:min(most, len(found))] {
		out.para(0, 2, strong, fmt.Sprintf("Likely cause: %s: %s.", d.Machine, d.Found))
	}
	if more := len(found) - most; more > 0 {
		out.para(2, 2, plain, fmt.Sprintf("and %s more from the plan", count(more, "difference", "differences")))
	}
	out.para(2, 2, plain, "repair: bastion repair "+file)
	return true
}
