package machine

import (
	"context"
	"crypto/rand"
	"fmt"
	"path/filepath"
	"time"

	"openbastion/core/plan"
)

// byName gives the virtual machine of a name.
func (l *Lab) byName(name string) (*vm, error) {
	m := l.plan.Machine(name)
	switch {
	case m == nil:
		return nil, fmt.Errorf("there is no machine %q in the lab", name)
	case l.of(m) == nil:
		return nil, fmt.Errorf("%s is no virtual machine here", name)
	}
	return l.of(m), nil
}

// port gives the adapter of a machine that is its own, by its name or number.
func (x *vm) port(name string) (*plan.Adapter, error) {
	for _, a := range x.plan.Own() {
		if a.Name == name || fmt.Sprint(a.Number) == name {
			return a, nil
		}
	}
	return nil, fmt.Errorf("%s has no adapter %q", x.plan.Name, name)
}

// link has a machine see its cable in or out.
func (x *vm) link(ctx context.Context, a *plan.Adapter, up bool) error {
	return x.control.Do(ctx, "set_link", map[string]any{"name": fmt.Sprint("adapter", a.Number), "up": up}, nil)
}

// Plug plugs a machine's adapter, or unplugs it: at the machine, which sees it, and at the
// switch.
func (l *Lab) Plug(ctx context.Context, machine, adapter string, in bool) error {
	x, err := l.byName(machine)
	if err != nil {
		return err
	}
	a, err := x.port(adapter)
	if err != nil {
		return err
	}
	if err := x.link(ctx, a, in); err != nil {
		return fmt.Errorf("%s: %w", machine, err)
	}
	l.loop.Do(l.ctx, func(time.Duration) { l.live.Plug(a, in) })
	return nil
}

// Insert puts a medium into a machine's drive; an empty name takes out what is in it.
func (l *Lab) Insert(ctx context.Context, machine, file string) error {
	x, err := l.byName(machine)
	if err != nil {
		return err
	}
	if x.reference {
		return fmt.Errorf("%s is a reference machine: it has no drive", machine)
	}
	if file == "" {
		err = x.control.Do(ctx, "eject", map[string]any{"id": "drive0", "force": true}, nil)
	} else {
		if file, err = filepath.Abs(file); err != nil {
			return err
		}
		err = x.control.Do(ctx, "blockdev-change-medium", map[string]any{"id": "drive0", "filename": file, "format": "raw", "read-only-mode": "read-only"}, nil)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", machine, err)
	}
	return nil
}

// Ports on which viewers are served.
const (
	firstDisplay = 5900
	displays     = 200
)

// Display lets a viewer see a machine's screen, from this machine only, and gives where,
// and with which password.
func (l *Lab) Display(ctx context.Context, machine string) (address, password string, err error) {
	x, err := l.byName(machine)
	if err != nil {
		return "", "", err
	}
	const letters = 8 // the most that the protocol's password has (RFC 6143, section 7.2.2)
	password = rand.Text()[:letters]
	err = x.control.Do(ctx, "set_password", map[string]any{"protocol": "vnc", "password": password}, nil)
	if err == nil {
		at := map[string]any{"type": "inet", "host": "127.0.0.1", "port": fmt.Sprint(firstDisplay), "to": firstDisplay + displays}
		err = x.control.Do(ctx, "display-update", map[string]any{"type": "vnc", "addresses": []any{at}}, nil)
	}
	var shown struct {
		Service string `json:"service"`
		Host    string `json:"host"`
	}
	if err == nil {
		err = x.control.Do(ctx, "query-vnc", nil, &shown)
	}
	if err != nil {
		return "", "", fmt.Errorf("%s: %w", machine, err)
	}
	return shown.Host + ":" + shown.Service, password, nil
}
