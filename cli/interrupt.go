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

// ticker gives what writes a line of progress over the last one, and takes it
// away when the text is empty. It is false where nobody watches.
func (a *app) ticker() (bool, func(text string)) {
	f, ok := a.err.(*os.File)
	if !ok || a.quiet || !term.IsTerminal(int(f.Fd())) {
		return false, nil
	}
	shown := false
	return true, func(text string) {
		if text != "" || shown {
			fmt.Fprintf(f, "\r%s\x1b[K", text)
		}
		shown = text != ""
	}
}

// progress gives what shows how far something is: on a terminal, from half a
// second on, ten times a second. A total of 0 takes the line away.
func (a *app) progress(what string) func(done, total int) {
	show, line := a.ticker()
	if !show {
		return func(int, int) {}
	}
	began, last := time.Now(), time.Time{}
	return func(done, total int) {
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
