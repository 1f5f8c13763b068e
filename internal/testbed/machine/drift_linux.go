package machine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
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

// drift is a difference from the plan, and what sets it right and back.
type drift struct {
	status.Drift
	mend, undo func(ctx context.Context) error
}

// drifts returns how the machines differ from the plan by what was done with them since the start.
func (l *Lab) drifts() (out []drift) {
	for _, u := range l.pulled() {
		machine, name := u.Machine.Name, u.Name
		if name == "" {
			name = fmt.Sprint(u.Number)
		}
		text := name + " is"
		if u.Port == nil {
			text = fmt.Sprintf("adapter %d is", u.Number)
		}
		out = append(out, drift{
			status.Drift{Machine: machine, Found: text + " unplugged since " + clock(u.since), Remedy: "plug it in", Undo: true},
			func(ctx context.Context) error { return l.Plug(ctx, machine, name, true) },
			func(ctx context.Context) error { return l.Plug(ctx, machine, name, false) },
		})
	}
	for _, m := range l.plan.Machines {
		x := l.of(m)
		if x == nil || m.Off {
			continue
		}
		switch word, why := x.state(); word {
		case "off":
			out = append(out, drift{
				status.Drift{Machine: m.Name, Found: "is switched off since " + clock(x.offSince()), Remedy: "switch it on", Undo: true},
				func(ctx context.Context) error { return l.Power(ctx, m.Name, true) },
				func(ctx context.Context) error { return l.Power(ctx, m.Name, false) },
			})
		case "failed":
			out = append(out, drift{Drift: status.Drift{Machine: m.Name, Found: "has failed: " + why,
				Remedy: "stop the lab and start it again"}})
		}
	}
	return out
}

// Drift returns how the machines differ from the plan by what was done with them since the start: cables that are out, machines that
// are off or have failed. What is set inside a machine is not looked at.
func (l *Lab) Drift() []status.Drift { return toldOf(l.drifts()) }

func toldOf(list []drift) []status.Drift {
	out := []status.Drift{}
	for _, d := range list {
		out = append(out, d.Drift)
	}
	return out
}

// Repair sets right what Drift tells, as far as the program can, and returns what it has set right.
func (l *Lab) Repair() ([]status.Drift, error) {
	return l.each(l.drifts(), func(d drift) func(context.Context) error { return d.mend })
}

// UndoRepair puts back what the last Repair found, and returns what it has put back.
func (l *Lab) UndoRepair() ([]status.Drift, error) {
	l.mu.Lock()
	list := l.repaired
	l.mu.Unlock()
	if len(list) == 0 {
		return nil, errors.New("nothing was repaired that could be undone")
	}
	return l.each(list, func(d drift) func(context.Context) error { return d.undo })
}

// each does something about each difference, as far as there is something to do.
func (l *Lab) each(list []drift, what func(drift) func(context.Context) error) ([]status.Drift, error) {
	var done []drift
	var all []error
	for _, d := range list {
		do := what(d)
		if do == nil {
			continue
		}
		if err := do(l.ctx); err != nil {
			all = append(all, err)
			continue
		}
		done = append(done, d)
	}
	l.mu.Lock()
	l.repaired = done
	l.mu.Unlock()
	return toldOf(done), errors.Join(all...)
}
