package stage

import (
	"errors"
	"fmt"
	"slices"
	"sync"

	"openbastion/internal/model/status"
)

// Drift is a difference between a machine and the plan, with what sets it right, and what puts it back as it was found; either
// is nil where nothing can.
type Drift struct {
	status.Drift
	Mend, Undo func() error
}

// Found returns what differences say.
func Found(list []Drift) (out []status.Drift) {
	for _, d := range list {
		out = append(out, d.Drift)
	}
	return out
}

// Repairs sets differences right, and keeps those that can be put back. The zero Repairs has repaired nothing.
type Repairs struct {
	mu   sync.Mutex
	done []Drift
}

// Repair sets right what can be, and returns that.
func (r *Repairs) Repair(list []Drift) (done []status.Drift, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.done = nil
	mended, err := each(slices.All(list), func(d Drift) func() error { return d.Mend })
	for _, d := range mended {
		if d.Undo != nil {
			r.done = append(r.done, d)
		}
	}
	return Found(mended), err
}

// UndoRepair puts back what the last Repair found, the last of it first, and returns that.
func (r *Repairs) UndoRepair() (undone []status.Drift, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	back, err := each(slices.Backward(r.done), func(d Drift) func() error { return d.Undo })
	r.done = nil
	return Found(back), err
}

// each does about each difference what there is to be done, and returns those with which it was.
func each(list func(func(int, Drift) bool), what func(Drift) func() error) (done []Drift, err error) {
	var all []error
	for _, d := range list {
		do := what(d)
		if do == nil {
			continue
		}
		if err := do(); err != nil {
			all = append(all, fmt.Errorf("%s: %s: %w", d.Machine, d.Found, err))
			continue
		}
		done = append(done, d)
	}
	return done, errors.Join(all...)
}
