package cli

import (
	"fmt"
	"strings"

	"openbastion/internal/model/plan"
)

// drillOn starts a lab with a mistake in it.
func (a *app) drillOn(p *plan.Plan, file string, o drillOptions) error {
	d, err := a.planted(p, &o, true)
	if err != nil {
		return err
	}
	code := o.code // of a class: its answer is not kept here
	if code == "" {
		code = fmt.Sprintf("%s%d:%d", seedPrefix, o.level, o.seed)
	}
	if err := a.startLab(file, startOptions{stage: o.on, accel: "auto", size: "64MiB", planted: code}); err != nil {
		return err
	}
	s := a.screen()
	showTitle(s, p, fmt.Sprintf("drill, level %d, on %s", o.level, o.on))
	a.sayComplaint(s, d)
	s.para(
		0,
		0,
		faint,
		"Look with your own tools. `bastion drill "+file+" --answer WORDS` checks your answer; `bastion stop "+file+"` ends it.",
	)
	t := table{}
	if o.on == onKernel {
		t.add("bastion shell "+file+" GUEST", cell{"a shell inside a machine, with ip and ping", faint})
	} else {
		t.add("bastion machine console "+file+" GUEST", cell{"the console of a machine", faint})
	}
	t.add("bastion diagnose "+file, cell{"the mistake with these symptoms", faint})
	s.table(t)
	return nil
}

// answerPlanted judges what somebody found in a lab that was started with a mistake.
func (a *app) answerPlanted(p *plan.Plan, file string, o drillOptions) error {
	l, err := a.find(file)
	if err != nil {
		return err
	}
	if l.record.Planted == "" {
		return usage("%s was not started by a drill: start one with bastion drill %s --on kernel", p.Name, file)
	}
	o.code = l.record.Planted
	d, err := a.planted(p, &o, true)
	if err != nil {
		return err
	}
	x := &examination{a: a, s: a.screen(), d: d}
	if o.giveUp {
		if strings.HasPrefix(o.code, codePrefix) {
			return usage("the answer of a class drill is in the teacher's sheet alone")
		}
		x.tell()
		return failure{status: exitBroken}
	}
	list := d.Find(o.answer)
	if len(list) == 0 {
		return usage("no mistake matches %q; use fewer words", o.answer)
	}
	if len(list) > 1 {
		for _, m := range list[:min(len(list), mostOffered)] {
			x.s.para(2, 4, plain, m.ID()+"  "+m.String())
		}
		return usage("%q matches %d mistakes; use more words, or a name from the list", o.answer, len(list))
	}
	if x.decide(list[0]); x.wrong > 0 {
		return failure{status: exitBroken}
	}
	return nil
}
