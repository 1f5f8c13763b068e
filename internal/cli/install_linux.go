package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
	display "openbastion/internal/testbed/machine/screen"
	"openbastion/internal/testbed/supervisor"
)

// installer leads appliances through what their consoles ask.
type installer struct {
	a    *app
	p    *plan.Plan
	file string
	o    installOptions
	w    *walker

	devices map[*plan.Adapter]string // interfaces that were found by unplugging
}

// How long a console may be silent, and how often it is looked at.
const (
	silentMost = 4 * time.Minute
	lookEach   = time.Second
)

// install makes the machines of a lab, answers what the appliances' consoles ask, and starts
// the guests once the appliances answer.
func (a *app) install(p *plan.Plan, file string, o installOptions) error {
	in := installer{a, p, file, o, &walker{a: a, p: p, in: bufio.NewReader(a.in)}, map[*plan.Adapter]string{}}
	if err := in.running(); err != nil {
		return err
	}
	for _, m := range p.Appliances() {
		if m.Off || m.Appliance.Image.File == "" && m.Spec.Media == "" {
			continue
		}
		if err := in.lead(m); err != nil {
			return err
		}
	}
	a.sayProgress("starting the guests")
	if _, err := a.operate(file, supervisor.Operation{Verb: "guests"}); err != nil {
		return err
	}
	s := a.screen()
	s.line(signHolds, " The appliances answer, and the guests run.")
	s.line("  bastion verify " + file + "  the claims on what was set up")
	return nil
}

// running starts the lab's appliances where it does not run yet.
func (in installer) running() error {
	home, err := supervisor.Home()
	if err != nil {
		return failure{exitLacking, err.Error(), ""}
	}
	r, err := supervisor.Of(home, in.p.Name).Read()
	switch {
	case err == nil && r.Alive() && r.Stage != onMachines:
		return failure{
			exitUsage,
			in.p.Name + " runs already, on the " + r.Stage,
			"bastion stop " + in.p.Name + " ends it.",
		}
	case err == nil && r.Alive():
		return nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return failure{exitUsage, err.Error(), ""}
	}
	o := in.o.start
	o.stage, o.appliances = onMachines, true
	return in.a.startLab(in.file, o)
}

// settled reads a machine's screen once it has come to rest.
func (in installer) settled(m *plan.Machine) (t display.Text, err error) {
	said, err := in.a.operate(in.file, supervisor.Operation{Verb: "settled", Machine: m.Name})
	if err == nil {
		err = json.Unmarshal([]byte(said), &t)
	}
	return t, err
}

// lead answers what a machine's console asks, until it answers on its inside.
func (in installer) lead(m *plan.Machine) error {
	in.a.sayProgress(m.Name + ": reading its screen")
	for quiet := time.Now(); ; {
		t, err := in.settled(m)
		if err != nil {
			return err
		}
		r := identify.ReplyTo(in.p, m, t.String(), in.devices)
		if r.Question == "" {
			if up, err := in.a.operate(in.file, supervisor.Operation{Verb: "up", Machine: m.Name}); err != nil ||
				up == "true" {
				return err
			}
			if time.Since(quiet) > silentMost {
				return in.stuck(
					m,
					t,
					"has not asked anything for "+silentMost.String()+" and does not answer on its inside",
				)
			}
			select {
			case <-time.After(lookEach):
			case <-in.a.ctx.Done():
				return in.a.ctx.Err()
			}
			continue
		}
		quiet = time.Now()
		if err := in.answer(m, t, r); err != nil {
			return err
		}
	}
}

// stuck says that a person must look, and shows the screen.
func (in installer) stuck(m *plan.Machine, t display.Text, why string) error {
	in.show(t)
	return failure{
		exitBroken,
		m.Name + ": " + why,
		"Answer it yourself (bastion machine type " + in.file + " " + m.Name +
			" …, or a viewer: bastion machine display), and call this again: it goes on from there.",
	}
}

// show shows a screen, a little aside.
func (in installer) show(t display.Text) {
	s := in.a.screen()
	for _, row := range strings.Split(t.String(), "\n") {
		s.line(s.paint(faint, "  │ "), row)
	}
}

// answer deals with one question: with the person, but when all is to be typed without
// asking.
func (in installer) answer(m *plan.Machine, t display.Text, r identify.Reply) error {
	s := in.a.screen()
	if r.Do == identify.Stop && in.o.yes {
		return in.stuck(m, t, fmt.Sprintf("%q: %s", r.Question, r.Why))
	}
	s.line(s.paint(strong, r.Question), "  ", r.Text, s.paint(faint, "  "+r.Why))
	if in.o.yes {
		return in.give(m, r)
	}
	for {
		prompt := "t TEXT: type that · v: see the screen · w: look again · q: stop > "
		switch r.Do {
		case identify.Stop:
		case identify.Unplug:
			prompt = "Enter: unplug each adapter in turn · " + prompt
		default:
			prompt = "Enter: type it · " + prompt
		}
		text, ok := in.w.line(prompt)
		word, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
		switch {
		case !ok || word == "q":
			return failure{
				exitInterrupted,
				"stopped at " + r.Question,
				"The lab goes on; call this again to go on from there.",
			}
		case word == "" && r.Do != identify.Stop:
			return in.give(m, r)
		case word == "t":
			return in.give(m, identify.Reply{Do: identify.Type, Text: rest})
		case word == "v":
			in.show(t)
		case word == "w":
			return nil
		}
	}
}

// give types an answer, or does what is asked for.
func (in installer) give(m *plan.Machine, r identify.Reply) error {
	if r.Do == identify.Unplug {
		return in.unplugEach(m, r)
	}
	if r.Do == identify.Eject {
		if _, err := in.a.operate(in.file, supervisor.Operation{Verb: "media", Machine: m.Name}); err != nil {
			return err
		}
	}
	return in.press(m, r.Text)
}

// press types an answer and Enter.
func (in installer) press(m *plan.Machine, text string) error {
	_, err := in.a.operate(
		in.file,
		supervisor.Operation{Verb: "answer", Machine: m.Name, Args: []string{in.o.layout, text}},
	)
	return err
}

// unplugEach finds which interface is which port by unplugging each adapter in turn, and
// plugs all in again.
func (in installer) unplugEach(m *plan.Machine, r identify.Reply) error {
	all, err := in.links(m, r)
	if err != nil {
		return err
	}
	var one [][]listing.Interface
	for _, a := range m.Own() {
		if !a.Plugged {
			one = append(one, all)
			continue
		}
		in.a.sayProgress(fmt.Sprintf("%s: adapter %d (%s) is unplugged for a moment", m.Name, a.Number, a.Name))
		list, err := in.without(m, a, r)
		if err != nil {
			return err
		}
		one = append(one, list)
	}
	if _, err := in.links(m, r); err != nil {
		return err
	}
	found := identify.ByLink(m, all, one)
	for _, row := range found.Rows {
		if row.Conflict == "" && row.Adapter() != nil {
			in.devices[row.Adapter()] = row.Device
		}
	}
	for _, a := range m.Own() {
		if a.Plugged && in.devices[a] == "" {
			t, err := in.settled(m)
			if err != nil {
				return err
			}
			return in.stuck(m, t, fmt.Sprintf("no interface is adapter %d (%s) for sure: %s", a.Number, a.Name,
				cmp.Or(found.Risk, "their links do not distinguish them")))
		}
	}
	return nil
}

// without returns the interfaces that a console shows while an adapter is unplugged.
func (in installer) without(m *plan.Machine, a *plan.Adapter, r identify.Reply) (list []listing.Interface, err error) {
	plug := func(verb string) error {
		_, err := in.a.operate(
			in.file,
			supervisor.Operation{Verb: verb, Machine: m.Name, Args: []string{fmt.Sprint(a.Number)}},
		)
		return err
	}
	if err := plug("unplug"); err != nil {
		return nil, err
	}
	list, err = in.links(m, r)
	return list, errors.Join(err, plug("plug"))
}

// linkTime is what a system takes at most to see that a cable was pulled or put in.
const linkTime = time.Second

// links returns the interfaces that a console shows now, with their links; where Enter alone
// has it look again, after that.
func (in installer) links(m *plan.Machine, r identify.Reply) ([]listing.Interface, error) {
	if r.Again {
		enter := supervisor.Operation{Verb: "type", Machine: m.Name, Args: []string{in.o.layout, "+enter"}}
		time.Sleep(linkTime)
		if _, err := in.a.operate(in.file, enter); err != nil {
			return nil, err
		}
	}
	t, err := in.settled(m)
	return identify.Links(t.String()), err
}
