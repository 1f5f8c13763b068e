package machine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/machine/boot"
)

// prepare makes what machines start from.
func (l *Lab) prepare(ctx context.Context, list []*plan.Machine) (map[*plan.Machine]Setup, error) {
	out := map[*plan.Machine]Setup{}
	for _, m := range list {
		s := Setup{Machine: m, Accelerated: l.options.Accelerated}
		if l.options.references(m) {
			if err := l.reference(); err != nil {
				return nil, err
			}
			s.Kernel, s.Initial = l.kernel, l.initial
		} else if err := l.images(ctx, m, &s); err != nil {
			return nil, err
		}
		state := filepath.Join(l.options.Folder, "state-"+m.Name+".qcow2")
		if err := makeDisk(ctx, state, "", stateSize); err != nil {
			return nil, err
		}
		s.State = state
		out[m] = s
	}
	return out, nil
}

// references reports whether it is a machine that names nothing to start from.
func (o Options) references(m *plan.Machine) bool {
	return o.Reference || References(m)
}

// reference makes the files of reference machines, once.
func (l *Lab) reference() error {
	if l.kernel != "" {
		return nil
	}
	k, err := boot.Find(l.options.Kernel, boot.Keep)
	if err != nil {
		return lacking{err}
	}
	modules, err := k.Order(boot.Wanted)
	if err != nil {
		return err
	}
	program, err := os.ReadFile(cmp.Or(l.options.Inner, "/proc/self/exe"))
	if err != nil {
		return err
	}
	if err := boot.Alone(program); err != nil {
		return lacking{fmt.Errorf("what reference machines are to run: %w", err)}
	}
	kernel, initial := filepath.Join(l.options.Folder, "kernel"), filepath.Join(l.options.Folder, "initial")
	if err := os.WriteFile(kernel, k.Image, 0o600); err != nil {
		return err
	}
	f, err := os.OpenFile(initial, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(boot.Write(f, program, modules), f.Close()); err != nil {
		return err
	}
	l.kernel, l.initial = kernel, initial
	return nil
}

// lacking is an error that this machine lacks something.
type lacking struct{ error }

func (e lacking) Unwrap() error { return e.error }

// Lacks says that it is this machine that lacks something.
func (lacking) Lacks() bool { return true }
