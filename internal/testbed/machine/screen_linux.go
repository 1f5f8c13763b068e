package machine

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"openbastion/internal/format/qr"
	"openbastion/internal/testbed/machine/keys"
	"openbastion/internal/testbed/machine/screen"
)

// picture takes what a machine's display shows, as a file of a format: png or ppm.
func (l *Lab) picture(ctx context.Context, x *vm, format string) ([]byte, error) {
	name := filepath.Join(l.options.Folder, "screen-"+x.plan.Name+"."+format)
	defer os.Remove(name)
	if err := x.control.Do(ctx, "screendump", map[string]any{"filename": name, "format": format}, nil); err != nil {
		return nil, fmt.Errorf("%s: %w", x.plan.Name, err)
	}
	return os.ReadFile(name)
}

// Screen reads the text on a machine's screen.
func (l *Lab) Screen(ctx context.Context, machine string) (screen.Text, error) {
	x, err := l.byName(machine)
	if err != nil {
		return screen.Text{}, err
	}
	x.looking.Lock()
	defer x.looking.Unlock()
	data, err := l.picture(ctx, x, "ppm")
	if err != nil {
		return screen.Text{}, err
	}
	p, err := screen.ReadPPM(data)
	if err != nil {
		return screen.Text{}, fmt.Errorf("%s: its screen: %w", machine, err)
	}
	if p.InTextMode() {
		t, err := l.textMemory(ctx, x)
		t.Squares = qr.Read(t.Rows)
		return t, err
	}
	if x.font == nil {
		if x.font, err = l.font(ctx, x); err != nil {
			return screen.Text{}, err
		}
	}
	t := x.font.Read(p)
	t.Squares = qr.ReadPicture(p.Image()) // by its points, as not every font has half blocks
	return t, nil
}

// textMemory reads a display in text mode. The machine stands still meanwhile, as it uses
// the same registers.
func (l *Lab) textMemory(ctx context.Context, x *vm) (t screen.Text, err error) {
	if err := x.control.Do(ctx, "stop", nil, nil); err != nil {
		return t, err
	}
	defer func() {
		if e := x.control.Do(context.WithoutCancel(ctx), "cont", nil, nil); err == nil {
			err = e
		}
	}()
	register := map[byte]byte{}
	was, err := x.input(ctx, 0x3d4)
	if err != nil {
		return t, err
	}
	for _, n := range screen.Registers {
		if err := x.output(ctx, 0x3d4, n); err != nil {
			return t, err
		}
		if register[n], err = x.input(ctx, 0x3d5); err != nil {
			return t, err
		}
	}
	if err := x.output(ctx, 0x3d4, was); err != nil {
		return t, err
	}
	memory, err := l.memory(ctx, x, screen.Base, screen.Size)
	if err != nil {
		return t, err
	}
	return screen.FromMemory(register, memory)
}

// input reads a port of the machine, output writes one.
func (x *vm) input(ctx context.Context, port int) (byte, error) {
	text, err := x.control.Human(ctx, fmt.Sprintf("i /1b %#x", port))
	if err != nil {
		return 0, err
	}
	_, value, _ := strings.Cut(strings.TrimSpace(text), "= ")
	n, err := strconv.ParseUint(value, 0, 8)
	return byte(n), err
}

func (x *vm) output(ctx context.Context, port int, value byte) error {
	_, err := x.control.Human(ctx, fmt.Sprintf("o /1b %#x %#x", port, value))
	return err
}

// memory reads a machine's memory.
func (l *Lab) memory(ctx context.Context, x *vm, at, size uint64) ([]byte, error) {
	name := filepath.Join(l.options.Folder, "memory-"+x.plan.Name)
	defer os.Remove(name)
	if err := x.control.Do(ctx, "pmemsave", map[string]any{"val": at, "size": size, "filename": name}, nil); err != nil {
		return nil, fmt.Errorf("%s: %w", x.plan.Name, err)
	}
	return os.ReadFile(name)
}

// Where the firmware of a machine's display is, in which its font lies.
const (
	firmwareAt = 0xc0000
	firmwareTo = 0x100000
)

// font reads the font of a machine's own video firmware, which systems show text with.
func (l *Lab) font(ctx context.Context, x *vm) (screen.Font, error) {
	f := screen.Font{}
	area, err := l.memory(ctx, x, firmwareAt, firmwareTo-firmwareAt)
	if err != nil {
		return nil, err
	}
	for _, at := range screen.FindFonts(area) {
		if err := f.Add(area[at:]); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// Between two keys: systems that poll the keyboard lose what comes faster.
const keyPause = 40 * time.Millisecond

// Type types keys on a machine's keyboard.
func (l *Lab) Type(ctx context.Context, machine string, list []keys.Press) error {
	x, err := l.byName(machine)
	if err != nil {
		return err
	}
	for _, p := range list {
		var names []any
		for _, k := range p {
			names = append(names, map[string]any{"type": "qcode", "data": k})
		}
		if err := x.control.Do(ctx, "send-key", map[string]any{"keys": names}, nil); err != nil {
			return fmt.Errorf("%s: %w", machine, err)
		}
		select {
		case <-time.After(keyPause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}
