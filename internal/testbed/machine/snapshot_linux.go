package machine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// Snapshot is the whole lab as it was once.
type Snapshot struct {
	Name string       `json:"name"`
	At   time.Time    `json:"time"`
	off  map[*vm]bool // machines that were off
}

// snapshotName reports whether it is a name that a snapshot may have.
func snapshotName(name string) bool {
	const letters, most = "abcdefghijklmnopqrstuvwxyz0123456789", 64
	return name != "" && len(name) <= most && strings.Contains(letters, name[:1]) &&
		strings.Trim(name, letters+"._-") == ""
}

// Take takes a snapshot of all machines, which stand still meanwhile.
func (l *Lab) Take(ctx context.Context, name string) error {
	if !snapshotName(name) {
		return fmt.Errorf("%q is not a snapshot name; use lower-case letters, digits, and . _ - inside", name)
	}
	l.snapping.Lock()
	defer l.snapping.Unlock()
	if slices.ContainsFunc(l.snapshots, func(s Snapshot) bool { return s.Name == name }) {
		return fmt.Errorf("there is a snapshot %s already", name)
	}
	taken := Snapshot{Name: name, off: map[*vm]bool{}}
	for _, x := range l.all() {
		word, why := x.state()
		if why != "" {
			return fmt.Errorf("no snapshot is taken of what does not run well: %s", why)
		}
		taken.off[x] = word != running
	}
	runs := func(x *vm) bool { return !taken.off[x] }
	if err := l.still(ctx, runs, func(x *vm) error { return x.snapshotJob(ctx, "snapshot-save", name) }); err != nil {
		_ = l.still(
			ctx,
			runs,
			func(x *vm) error { return x.snapshotJob(ctx, "snapshot-delete", name) },
		) // whole, or not at all
		return err
	}
	taken.At = time.Now()
	l.snapshots = append(l.snapshots, taken)
	return nil
}

// Back puts all machines back to a snapshot; those that were off then are off again.
func (l *Lab) Back(ctx context.Context, name string) error {
	l.snapping.Lock()
	defer l.snapping.Unlock()
	at := slices.IndexFunc(l.snapshots, func(s Snapshot) bool { return s.Name == name })
	if at < 0 {
		return fmt.Errorf("no snapshot %q", name)
	}
	off := l.snapshots[at].off
	return l.still(ctx, func(x *vm) bool { return !off[x] }, func(x *vm) error {
		if word, _ := x.state(); word != running { // what has ended takes nothing before it was reset
			if err := x.reset(ctx); err != nil {
				return err
			}
		}
		if err := x.snapshotJob(ctx, "snapshot-load", name); err != nil {
			return err
		}
		if off[x] {
			return nil
		}
		x.on()
		if x.reference {
			return x.onReset(ctx, "shutdown")
		}
		return nil
	})
}

// Snapshots returns what was taken, in order.
func (l *Lab) Snapshots() []Snapshot {
	l.snapping.Lock()
	defer l.snapping.Unlock()
	return slices.Clone(l.snapshots)
}

// still does something with each machine while all stand still, and lets those go on
// afterwards that shall.
func (l *Lab) still(ctx context.Context, goesOn func(*vm) bool, do func(*vm) error) error {
	list := l.all()
	each := func(f func(x *vm) error) error {
		errs := make([]error, len(list))
		var all sync.WaitGroup
		for i, x := range list {
			all.Go(func() {
				if err := f(x); err != nil {
					errs[i] = fmt.Errorf("%s: %w", x.plan.Name, err)
				}
			})
		}
		all.Wait()
		return errors.Join(errs...)
	}
	err := each(func(x *vm) error { return x.control.Do(ctx, "stop", nil, nil) })
	if err == nil {
		err = each(do)
	}
	return errors.Join(err, each(func(x *vm) error {
		if !goesOn(x) {
			return nil
		}
		return x.resume(ctx)
	}))
}

// snapshotJob has QEMU save, load or delete a snapshot.
func (x *vm) snapshotJob(ctx context.Context, what, name string) error {
	devices := []string{"state"}
	if !x.reference {
		devices = append(devices, "disk")
	}
	args := map[string]any{"job-id": what, "tag": name, "devices": devices}
	if what != "snapshot-delete" {
		args["vmstate"] = "state"
	}
	if err := x.control.Do(ctx, what, args, nil); err != nil {
		return err
	}
	return x.control.Job(ctx, what)
}
