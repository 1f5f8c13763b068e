package cli

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"syscall"

	"github.com/creack/pty"
	"golang.org/x/term"

	"openbastion/internal/testbed/supervisor"
)

func (a *app) runShell(named, machine string, command []string) error {
	l, err := a.find(named)
	if err != nil {
		return err
	}
	c, err := a.dial(l)
	if err != nil {
		return err
	}
	defer c.Hang()
	if len(command) == 0 {
		command = []string{"/bin/sh"}
		if sh := os.Getenv("SHELL"); sh != "" {
			if _, err := exec.LookPath(sh); err == nil {
				command = []string{sh}
			}
		}
	}
	dir, err := os.Getwd()
	if err != nil {
		dir = "/"
	}
	p := supervisor.Program{
		Args:  command,
		Env:   os.Environ(),
		Dir:   dir,
		Files: [3]*os.File{os.Stdin, os.Stdout, os.Stderr},
	}
	a.leaveSignals()
	exit, err := throughTerminal(c, machine, p)
	if err != nil {
		return failure{exitUsage, fmt.Sprintf("%s in %s: %v", command[0], machine, cause(err)), ""}
	}
	if exit != 0 {
		return failure{status: exit}
	}
	return nil
}

// throughTerminal runs a program in a machine, with a terminal of its own where ours
// is one, and passes on signals and sizes.
func throughTerminal(c *supervisor.Client, machine string, p supervisor.Program) (int, error) {
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGQUIT, syscall.SIGHUP, syscall.SIGWINCH)
	defer signal.Stop(signals)
	if !term.IsTerminal(int(p.Files[0].Fd())) || !term.IsTerminal(int(p.Files[1].Fd())) {
		go func() {
			for s := range signals {
				if s != syscall.SIGWINCH {
					c.Signal(s.(syscall.Signal))
				}
			}
		}()
		return c.Shell(context.Background(), machine, p)
	}
	ours, theirs, err := pty.Open()
	if err != nil {
		return 0, err
	}
	defer ours.Close()
	in, out := p.Files[0], p.Files[1]
	_ = pty.InheritSize(in, ours)
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		theirs.Close()
		return 0, err
	}
	defer func() { _ = term.Restore(int(in.Fd()), before) }()
	p.Files, p.Terminal = [3]*os.File{theirs, theirs, theirs}, true
	go func() {
		for s := range signals {
			if s == syscall.SIGWINCH {
				_ = pty.InheritSize(in, ours)
			} else {
				c.Signal(s.(syscall.Signal))
			}
		}
	}()
	go func() { _, _ = ours.ReadFrom(in) }()
	shown := make(chan struct{})
	go func() { _, _ = out.ReadFrom(ours); close(shown) }()
	exit, err := c.Shell(context.Background(), machine, p)
	theirs.Close()
	<-shown // the terminal gives an error once nobody has its other end
	return exit, err
}
