package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"golang.org/x/term"

	"openbastion/internal/model/sanitize"
)

// grace is how long a command that was interrupted may take to end in order,
// before it is ended.
const grace = 500 * time.Millisecond

// watchInterrupts has the app's context end when somebody interrupts the program,
// ends it or closes its terminal. What has not come to its end soon after is
// ended with everything cleaned up. A command that only looks something up is
// not watched: it leaves nothing behind, and the watch costs a tenth of its time.
func (a *app) watchInterrupts() {
	ctx, release := signal.NotifyContext(a.ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	over := make(chan struct{})
	go func() {
		select {
		case <-over:
			return
		case <-ctx.Done():
		}
		select {
		case <-over:
		case <-time.After(grace):
			a.cleanUp()
			os.Exit(exitInterrupted)
		}
	}()
	// Letting go of the signals waits for other threads, which a program that
	// is about to end need not.
	a.ctx, a.stopping = ctx, func() { close(over); go release() }
}

// stop takes the watch for interrupts away, when there is one.
func (a *app) stop() {
	if a.stopping != nil {
		a.stopping()
		a.stopping = nil
	}
}

// leaveSignals hands the signals to whoever takes them next; the call goes on.
func (a *app) leaveSignals() {
	a.stop()
	a.ctx = context.Background()
}

// cleanUp takes away what a command left half done.
func (a *app) cleanUp() {
	a.cleaning.Lock()
	defer a.cleaning.Unlock()
	for _, clean := range a.cleanup {
		clean()
	}
	a.cleanup = nil
}

// onInterrupt has something done when the command is interrupted.
func (a *app) onInterrupt(clean func()) {
	a.cleaning.Lock()
	defer a.cleaning.Unlock()
	a.cleanup = append(a.cleanup, clean)
}

// ticker returns what writes a line of progress over the last one, and takes it
// away when the text is empty. It is false where nobody watches.
func (a *app) ticker() (bool, func(text string)) {
	f, ok := a.err.(*os.File)
	if !ok || a.quiet || !term.IsTerminal(int(f.Fd())) {
		return false, nil
	}
	shown := false
	return true, func(text string) {
		if text != "" || shown {
			fmt.Fprintf(f, "\r%s\x1b[K", sanitize.Line(text))
		}
		shown = text != ""
	}
}

// progress returns what shows how far something is: on a terminal, from half a
// second on, ten times a second. A total of 0 takes the line away. Several at once may
// tell it.
func (a *app) progress(what string) func(done, total int) {
	show, line := a.ticker()
	if !show {
		return func(int, int) {}
	}
	var showing sync.Mutex
	began, last := time.Now(), time.Time{}
	return func(done, total int) {
		showing.Lock()
		defer showing.Unlock()
		now := time.Now()
		switch {
		case total == 0:
			line("")
		case now.Sub(began) > 500*time.Millisecond && now.Sub(last) > 100*time.Millisecond:
			last = now
			line(fmt.Sprintf("%s: %s of %s", what, grouped(done), grouped(total)))
		}
	}
}
