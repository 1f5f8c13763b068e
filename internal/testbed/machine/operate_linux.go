package machine

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/machine/keys"
	"openbastion/internal/testbed/supervisor"
)

// byName returns the virtual machine of a name.
func (l *Lab) byName(name string) (*vm, error) {
	m := l.plan.Machine(name)
	switch {
	case m == nil:
		return nil, fmt.Errorf("no machine %q in the lab", name)
	case l.of(m) == nil:
		return nil, fmt.Errorf("%s is not a virtual machine here", name)
	}
	return l.of(m), nil
}

// port returns the adapter of a machine that is its own, by its name or number.
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
	l.cabled(a, in)
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
		err = x.control.Do(ctx, "blockdev-change-medium", map[string]any{"id": "drive0", "filename": file, "format": "raw",
			"read-only-mode": "read-only"}, nil)
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
		at := map[string]any{
			"type": "inet",
			"host": "127.0.0.1",
			"port": fmt.Sprint(firstDisplay),
			"to":   firstDisplay + displays,
		}
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

// Detach is what a person types to leave a machine's console: Ctrl-^.
const Detach = 0x1e

// Console joins a person's terminal to a machine's serial line, until the person detaches,
// the input ends, or the machine does. What was said last is shown first.
func (l *Lab) Console(ctx context.Context, machine string, in io.Reader, out io.Writer) error {
	x, err := l.byName(machine)
	if err != nil {
		return err
	}
	leave := x.console.join(out)
	defer leave()
	typed := make(chan struct{})
	go func() {
		defer close(typed)
		b := make([]byte, 1<<10)
		for {
			n, err := in.Read(b)
			at := bytes.IndexByte(b[:n], Detach)
			if at >= 0 {
				n = at
			}
			if n > 0 {
				if _, e := x.console.line.Write(b[:n]); e != nil {
					return
				}
			}
			if err != nil || at >= 0 {
				return
			}
		}
	}()
	select {
	case <-typed:
		if _, terminal := out.(*os.File); terminal {
			pause(ctx, lastSaid) // what it says to what was typed last
		}
		return nil
	case <-x.ended:
		return fmt.Errorf("%s has ended", machine)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// lastSaid is how long a console is listened to after the input has ended.
const lastSaid = 300 * time.Millisecond

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// Power turns a machine on that is off, or asks its system to power down.
func (l *Lab) Power(ctx context.Context, machine string, on bool) error {
	x, err := l.byName(machine)
	if err != nil {
		return err
	}
	word, why := x.state()
	switch {
	case word == "failed" && on:
		return fmt.Errorf("%s: it comes back with the lab alone (stop it, and start it again)", why)
	case on == (word == running):
		return fmt.Errorf("%s is %s already", machine, map[bool]string{true: "on", false: "off"}[on])
	case !on:
		ctx, cancel := context.WithTimeout(ctx, powerTime)
		defer cancel()
		if !x.power(ctx) {
			return fmt.Errorf("%s did not power down within %s", machine, powerTime)
		}
		return nil
	}
	if x.reference {
		x.agent.Restarted()
	}
	x.on()
	if err := errors.Join(x.reset(ctx), x.resume(ctx)); err != nil {
		return fmt.Errorf("%s: %w", machine, err)
	}
	return x.wait(ctx, readyTime)
}

// Operate does what a client of the lab's process wants done with a machine.
func (l *Lab) Operate(ctx context.Context, o supervisor.Operation) (said string, err error) {
	argument := ""
	if len(o.Args) > 0 {
		argument = o.Args[0]
	}
	switch o.Verb {
	case "console":
		if len(o.Files) < 2 {
			return "", errors.New("no terminal came")
		}
		return "", l.Console(ctx, o.Machine, o.Files[0], o.Files[1])
	case "screen":
		return asJSON(l.Screen(ctx, o.Machine))
	case "picture":
		return "", l.savePicture(ctx, o)
	case "type":
		return "", l.typed(ctx, o.Machine, o.Args)
	case "settled":
		return asJSON(l.Settled(ctx, o.Machine))
	case "answer":
		if len(o.Args) != 2 {
			return "", errors.New("an answer is a keyboard layout and a text")
		}
		return "", l.Answer(ctx, o.Machine, o.Args[0], o.Args[1])
	case "up":
		m := l.plan.Machine(o.Machine)
		return fmt.Sprint(m != nil && l.answersFor(m)), nil
	case "guests":
		return "", l.StartGuests(ctx)
	case "media":
		return "", l.Insert(ctx, o.Machine, argument)
	case "plug", "unplug":
		return "", l.Plug(ctx, o.Machine, argument, o.Verb == "plug")
	case "on", "off":
		return "", l.Power(ctx, o.Machine, o.Verb == "on")
	case "display":
		address, password, err := l.Display(ctx, o.Machine)
		return address + " " + password, err
	case "take":
		return "", l.Take(ctx, argument)
	case "back":
		return "", l.Back(ctx, argument)
	case "snapshots":
		return asJSON(l.Snapshots(), nil)
	}
	return "", fmt.Errorf("%q is nothing that can be done with a machine", o.Verb)
}

// asJSON returns what was said as JSON, but for an error.
func asJSON(said any, err error) (string, error) {
	if err != nil {
		return "", err
	}
	data, err := json.Marshal(said)
	return string(data), err
}

func (l *Lab) savePicture(ctx context.Context, o supervisor.Operation) error {
	x, err := l.byName(o.Machine)
	if err != nil {
		return err
	}
	if len(o.Files) < 1 {
		return errors.New("no file came")
	}
	data, err := l.picture(ctx, x, "png")
	if err == nil {
		_, err = o.Files[0].Write(data)
	}
	return err
}

// typed types what a client wants: its layout, and then texts, or keys by name that begin
// with a plus.
func (l *Lab) typed(ctx context.Context, machine string, args []string) error {
	if len(args) == 0 {
		return errors.New("no keyboard layout was given")
	}
	board, err := keys.Of(args[0])
	if err != nil {
		return err
	}
	list, err := board.Typed(args[1:])
	if err != nil {
		return err
	}
	return l.Type(ctx, machine, list)
}

// Start says that a virtual machine runs its own programs.
func (l *Lab) Start(machine string, _ supervisor.Program) (supervisor.Process, error) {
	if _, err := l.byName(machine); err != nil {
		return nil, err
	}
	return nil, fmt.Errorf(
		"a virtual machine runs its own programs, not this one's: bastion machine console LAB %s",
		machine,
	)
}
