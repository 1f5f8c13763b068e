package cli

import (
	"fmt"
	"os"
	"os/signal"
	"time"

	"golang.org/x/term"
)

// onInterrupt cleans up and ends with the status of an interrupted command
// when the person presses Ctrl-C.
func (a *app) onInterrupt() {
	c := make(chan os.Signal, 1)
	signal.Notify(c, os.Interrupt)
	go func() {
		<-c
		for _, clean := range a.cleanup {
			clean()
		}
		os.Exit(exitInterrupted)
	}()
}

// progress gives what shows how far something is: on a terminal, from half a
// second on, ten times a second. A total of 0 takes the line away.
func (a *app) progress(what string) func(done, total int) {
	f, ok := a.err.(*os.File)
	if !ok || a.quiet || !term.IsTerminal(int(f.Fd())) {
		return func(int, int) {}
	}
	began, last, shown := time.Now(), time.Time{}, false
	return func(done, total int) {
		now := time.Now()
		switch {
		case total == 0 && shown:
			fmt.Fprint(f, "\r\x1b[K")
			shown = false
		case total > 0 && now.Sub(began) > 500*time.Millisecond && now.Sub(last) > 100*time.Millisecond:
			last, shown = now, true
			fmt.Fprintf(f, "\r%s: %s of %s\x1b[K", what, grouped(done), grouped(total))
		}
	}
}
