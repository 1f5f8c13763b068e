package machine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"openbastion/internal/testbed/machine/keys"
	"openbastion/internal/testbed/machine/screen"
)

// A screen has settled when its text has stayed the same for so long; the cursor blinks, so
// that its pixels never do.
const (
	settledFor  = time.Second
	settledMost = 2 * time.Minute
	between     = 100 * time.Millisecond
)

// Settled waits until the text on a machine's screen stays as it is, and gives it.
func (l *Lab) Settled(ctx context.Context, machine string) (screen.Text, error) {
	var last screen.Text
	since := time.Now()
	for began := time.Now(); time.Since(began) < settledMost; pause(ctx, between) {
		now, err := l.Screen(ctx, machine)
		if err != nil {
			return now, err
		}
		if ctx.Err() != nil {
			return now, ctx.Err()
		}
		if now.String() != last.String() || now.Mode != last.Mode {
			last, since = now, time.Now()
		} else if time.Since(since) >= settledFor {
			return now, nil
		}
	}
	return last, fmt.Errorf("the screen of %s does not come to rest", machine)
}

// echoTime is how long a console may take to show what was typed.
const echoTime = 3 * time.Second

// Answer types an answer at a console's question, after a snapshot of the lab. What was
// typed is read back before Enter is pressed: where it does not stand on the screen as it
// should, the lab is put back and the answer is not given.
func (l *Lab) Answer(ctx context.Context, machine, layout, text string) error {
	board, err := keys.Of(layout)
	if err != nil {
		return err
	}
	list, err := board.Text(text)
	if err != nil {
		return err
	}
	before, err := l.Settled(ctx, machine)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("answer-%d", len(l.Snapshots())+1)
	if err := l.Take(ctx, name); err != nil {
		return err
	}
	if err := l.Type(ctx, machine, list); err != nil {
		return err
	}
	want := lastLine(before.String()) + " " + text
	for began := time.Now(); text != ""; pause(ctx, between) {
		now, err := l.Screen(ctx, machine)
		if err != nil {
			return err
		}
		if squeezed(lastLine(now.String())) == squeezed(want) {
			break
		}
		if time.Since(began) > echoTime || ctx.Err() != nil {
			if err := l.Back(context.WithoutCancel(ctx), name); err != nil {
				return err
			}
			return fmt.Errorf(
				"%q was typed, and the screen showed %q: Enter was not pressed, and the lab is back at %s",
				text,
				lastLine(now.String()),
				name,
			)
		}
	}
	return l.enter(ctx, machine)
}

// enter presses Enter, and waits until the screen shows that something came of it: the
// same question may not be answered twice.
func (l *Lab) enter(ctx context.Context, machine string) error {
	enter, err := keys.Named("enter")
	if err != nil {
		return err
	}
	before, err := l.Screen(ctx, machine)
	if err == nil {
		err = l.Type(ctx, machine, []keys.Press{enter})
	}
	for began := time.Now(); err == nil; pause(ctx, between) {
		var now screen.Text
		if now, err = l.Screen(ctx, machine); err != nil || now.String() != before.String() {
			return err
		}
		if time.Since(began) > settledMost || ctx.Err() != nil {
			return fmt.Errorf("the screen of %s did not change after Enter", machine)
		}
	}
	return err
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimRight(text, " \n"), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// squeezed takes blanks out, as a screen does not keep those at the end of a line.
func squeezed(text string) string { return strings.Join(strings.Fields(text), "") }
