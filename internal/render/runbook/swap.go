package runbook

import (
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
)

// replaced returns the machines that are switched off in the end and that an appliance
// takes the place of.
func (b *writer) replaced(m *plan.Machine) []*plan.Machine {
	var out []*plan.Machine
	for _, old := range b.p.Machines {
		if !old.Off || old.Appliance == nil {
			continue
		}
		for _, a := range old.Adapters {
			if a.Role.Inside() && !a.Segment.Nowhere() && a.Segment.Port != nil && a.Segment.Port.Machine == m {
				out = append(out, old)
				break
			}
		}
	}
	return out
}

// later returns the adapters that stay unplugged until an appliance is set up: those that
// the file says so of, and those that would meet the machine that it replaces.
func (b *writer) later(m *plan.Machine) []*plan.Adapter {
	met := map[*plan.Segment]bool{}
	for _, old := range b.replaced(m) {
		for _, a := range old.Adapters {
			met[a.Segment] = true
		}
	}
	var out []*plan.Adapter
	for _, a := range m.Own() {
		if a.Later() || a.Plugged && met[a.Segment] {
			out = append(out, a)
		}
	}
	return out
}

// building is what the network is called on which an appliance's inside hangs until it
// takes another's place.
const building = "build"

// disconnect lists the adapters that are off at the first start.
func (b *writer) disconnect(m *plan.Machine) Step {
	t := &Table{Head: []string{"adapter", "for", "until"}, Tick: true}
	for _, a := range b.later(m) {
		until := m.Name + " is set up"
		for _, old := range b.replaced(m) {
			if until = old.Name + " is shut down"; a.Role.Inside() {
				until += "; until then on an isolated network of its own, " + building + ", with one machine to set it up from"
			}
		}
		t.Rows = append(t.Rows, []string{b.w.Say(b.w.Adapter, "number", fmt.Sprint(a.Number)), a.Name, until})
	}
	for _, a := range m.Own() {
		if a.Role == lab.Unused {
			t.Rows = append(
				t.Rows,
				[]string{b.w.Say(b.w.Adapter, "number", fmt.Sprint(a.Number)), "nothing", "it is given a use"},
			)
		} else if a.Segment.Nowhere() {
			t.Rows = append(t.Rows, []string{b.w.Say(b.w.Adapter, "number", fmt.Sprint(a.Number)), a.Name, "its segment is decided"})
		}
	}
	if len(t.Rows) == 0 {
		return Step{}
	}
	return Step{
		ID:    "disconnect." + m.Name,
		Title: "Leave these adapters of " + m.Name + " off for now, also at power-on",
		Table: t,
		Why:   "What is not connected cannot answer on the wrong network while it is set up.",
		Do: []string{
			"Most programs have two marks for it, connected now and connected when the machine starts: take both away.",
		},
		See: "The settings show them as not connected, and the others as connected.",
		Mistakes: []Mistake{{"only the mark for now is removed", "after the next start it is connected again"},
			{"an adapter is removed, not disconnected", "the ones behind it change their numbers and names"}},
	}
}

// connect plugs in what was left off.
func (b *writer) connect(m *plan.Machine) Step {
	list := b.later(m)
	if len(list) == 0 || len(b.replaced(m)) > 0 {
		return Step{}
	}
	return Step{ID: "connect." + m.Name, Title: "Connect what was left off of " + m.Name, Table: b.plugTable(list),
		Do: []string{
			"Set both marks again: connected now, and connected when the machine starts. Leave every other adapter as it is.",
		},
		See: "Its overview shows a link on each, and an address where one was planned.",
		Mistakes: []Mistake{{"one is still off", "the port has no link, and machines behind it reach nothing"},
			{"an unused one is connected as well", "an unplanned machine is on the appliance"}}}
}

func (b *writer) plugTable(list []*plan.Adapter) *Table {
	t := &Table{Head: []string{"adapter", "for", "attached to"}, Tick: true}
	for _, a := range list {
		t.Rows = append(t.Rows, []string{b.w.Say(b.w.Adapter, "number", fmt.Sprint(a.Number)), a.Name, b.attach(a)})
	}
	return t
}

// swap switches over from what an appliance replaces.
func (b *writer) swap(m *plan.Machine) []Step {
	olds := b.replaced(m)
	if len(olds) == 0 {
		return nil
	}
	var steps []Step
	for _, old := range olds {
		before := Step{ID: "before." + old.Name, Title: "Keep what " + old.Name + " has",
			Do: []string{"Save its configuration, and a " + b.w.Snapshot + " of it, shut down.",
				"Note the leases of its DHCP server: guests keep those addresses until they renew them."},
			See:      "A saved configuration that is not empty, with today's date.",
			Mistakes: []Mistake{{"it is saved on the machine itself", "it cannot be had back when it is needed"}}}
		clash := "The successor takes over none of it, according to the file."
		if list := check.Conflicts(b.p, old); len(list) > 0 {
			clash = "Both must never be on together: " + strings.Join(list, "; ") + "."
		}
		over := Step{ID: "swap." + old.Name, Title: "Switch over from " + old.Name + " to " + m.Name, Why: clash,
			Do: []string{fmt.Sprintf("Shut %s down, not suspended, and take its start with the host away.", old.Name),
				fmt.Sprintf("Connect the adapters of %s in the table: both marks, now and at power-on.", m.Name),
				"Restart each guest, or renew its lease.",
				"Where the site's router remembers the old MAC address, wait some minutes or restart it."},
			Table: b.plugTable(b.later(m)),
			See: fmt.Sprintf(
				"A guest's next hop has the MAC address of %s: `bastion compare LAB LISTING --as GUEST`.",
				m.Name,
			),
			Mistakes: []Mistake{
				{
					"the old one is only suspended",
					"it resumes with the same addresses, and both lose connections, alternately",
				},
				{"guests keep their old lease", "some reach outside and some do not, until their leases end"},
			}}
		back := Step{ID: "back." + old.Name, Title: "The way back, should it be needed",
			Do: []string{
				fmt.Sprintf("Disconnect the same adapters of %s, or shut it down.", m.Name),
				fmt.Sprintf("Start %s.", old.Name),
				"Restart each guest, or renew its lease.",
			},
			See:      "Everything is as before.",
			Mistakes: []Mistake{{"both run for a moment", "guests have leases from both"}}}
		steps = append(steps, before, over, back)
	}
	return steps
}
