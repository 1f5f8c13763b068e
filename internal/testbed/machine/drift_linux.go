package machine

import (
	"fmt"
	"slices"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/stage"
)

// unplugged is an adapter whose cable was taken out since the lab was started.
type unplugged struct {
	*plan.Adapter
	since time.Time
}

// cabled keeps since when an adapter is unplugged that is planned to be plugged in.
func (l *Lab) cabled(a *plan.Adapter, in bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.unplugged = slices.DeleteFunc(l.unplugged, func(u unplugged) bool { return u.Adapter == a })
	if !in && a.Plugged {
		l.unplugged = append(l.unplugged, unplugged{a, time.Now()})
	}
}

// pulled returns the adapters that are unplugged, and since when.
func (l *Lab) pulled() []unplugged {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.unplugged)
}

// clock writes when something was.
func clock(t time.Time) string { return t.Local().Format("15:04:05") }

// drifts returns how the machines differ from the plan by what was done with them since the start.
func (l *Lab) drifts() (out []stage.Drift) {
	for _, u := range l.pulled() {
		machine, name := u.Machine.Name, u.Name
		if name == "" {
			name = fmt.Sprint(u.Number)
		}
		text := name + " is"
		if u.Port == nil {
			text = fmt.Sprintf("adapter %d is", u.Number)
		}
		out = append(out, stage.Drift{
			Drift: status.Drift{Machine: machine, Found: text + " unplugged since " + clock(u.since), Remedy: "plug it in", Undo: true},
			Mend:  func() error { return l.Plug(l.ctx, machine, name, true) },
			Undo:  func() error { return l.Plug(l.ctx, machine, name, false) },
		})
	}
	for _, m := range l.plan.Machines {
		x := l.of(m)
		if x == nil || m.Off {
			continue
		}
		switch word, why := x.state(); word {
		case "off":
			out = append(out, stage.Drift{
				Drift: status.Drift{Machine: m.Name, Found: "is switched off since " + clock(x.offSince()), Remedy: "switch it on", Undo: true},
				Mend:  func() error { return l.Power(l.ctx, m.Name, true) },
				Undo:  func() error { return l.Power(l.ctx, m.Name, false) },
			})
		case "failed":
			out = append(out, stage.Drift{Drift: status.Drift{Machine: m.Name, Found: "has failed: " + why,
				Remedy: "stop the lab and start it again"}})
		}
	}
	return out
}

// Drift returns how the machines differ from the plan by what was done with them since the start: cables that are out, machines that
// are off or have failed. What is set inside a machine is not looked at.
func (l *Lab) Drift() []status.Drift { return stage.Found(l.drifts()) }

// Repair sets right what Drift tells, as far as the program can, and returns what it has set right.
func (l *Lab) Repair() ([]status.Drift, error) { return l.repairs.Repair(l.drifts()) }

// UndoRepair puts back what the last Repair found, and returns what it has put back.
func (l *Lab) UndoRepair() ([]status.Drift, error) { return l.repairs.UndoRepair() }
