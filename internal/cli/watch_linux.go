package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/render/live"
)

// looked is how often a lab is looked at while it is watched.
const looked = 400 * time.Millisecond

// follow looks at a lab again and again and tells what changed, with what it is now,
// until the context ends or tell fails.
func (a *app) follow(ctx context.Context, l started, tell func(status.Lab, status.Change) error) error {
	c, err := a.dial(l)
	if err != nil {
		return err
	}
	defer c.Hang()
	before, err := c.Status(ctx)
	if err != nil {
		return err
	}
	last := time.Now()
	known := before // whoever begins to watch is told of the escapes so far
	known.Escapes = nil
	if err := tell(before, status.Compare(known, before, last, 0)); err != nil {
		return err
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(looked):
		}
		now, err := c.Status(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return failure{exitBroken, fmt.Sprintf("%s does not run any more", l.record.Lab), ""}
		}
		at := time.Now()
		if err := tell(now, status.Compare(before, now, at, at.Sub(last))); err != nil {
			return err
		}
		before, last = now, at
	}
}

// watchStatus shows a lab as it goes on: on a terminal as a picture that is drawn anew,
// elsewhere a line for each thing that happens.
func (a *app) watchStatus(l started) error {
	terminal := false
	var height int
	if c, ok := a.out.(*checkedWriter); ok {
		if f, ok := c.w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			terminal = a.format == "text"
			_, height, _ = term.GetSize(int(f.Fd()))
		}
	}
	v := &view{segments: map[string]style{}}
	if p, err := a.asStarted(l); err == nil {
		for _, s := range p.Segments {
			v.segments[s.Name] = segmentStyle(s)
		}
	}
	if terminal {
		fmt.Fprint(a.out, "\x1b[?1049h\x1b[?25l")
		back := func() { fmt.Fprint(a.out, "\x1b[?25h\x1b[?1049l") }
		a.onInterrupt(back)
		defer back()
	}
	err := a.follow(a.ctx, l, func(now status.Lab, c status.Change) error {
		switch {
		case a.format == "json":
			for _, e := range c.Events {
				if err := a.jsonLine(e); err != nil {
					return err
				}
			}
		case terminal:
			v.take(c)
			a.drawView(v, now, c, height)
		default:
			s := a.screen()
			for _, e := range c.Events {
				s.line(eventLine(s, e))
			}
		}
		return nil
	})
	if a.ctx.Err() != nil {
		return nil // that is how one stops watching
	}
	return err
}

// view is what a watcher has seen so far.
type view struct {
	segments map[string]style
	events   []status.Event
}

// maxEvents bounds what a view remembers.
const maxEvents = 200

func (v *view) take(c status.Change) {
	for _, e := range c.Events {
		if e.Kind != status.Blocked { // that is counted in a table of its own
			v.events = append(v.events, e)
		}
	}
	v.events = v.events[max(len(v.events)-maxEvents, 0):]
}

func eventLine(s *screen, e status.Event) string {
	st, sign := plain, signNote
	switch e.Kind {
	case status.Escaped, status.Failed:
		st, sign = broken, signBroken
	case status.LeaseGiven, status.LeaseGone, status.Moved:
		st = inside
	case status.FlowBegun:
		st = outside
	case status.Blocked:
		sign = "▪"
	}
	return s.paint(faint, e.At.Local().Format("15:04:05")) + " " + s.paint(st, sign+" "+e.Text)
}

// drawView draws the lab as it is now, on the whole terminal.
func (a *app) drawView(v *view, now status.Lab, c status.Change, height int) {
	var b bytes.Buffer
	color := a.color
	if color == "auto" {
		color = "never"
		if a.screen().color {
			color = "always"
		}
	}
	s := newScreen(&b, color)
	s.width = a.screen().width
	s.para(
		0,
		2,
		plain,
		s.paint(
			strong,
			now.Lab,
		)+"  "+s.paint(
			faint,
			fmt.Sprintf("%s, %s; Ctrl-C quits, the lab keeps running", now.Phase,
				c.At.Local().Format("15:04:05")),
		),
	)
	if now.Phase == status.Running {
		showChecked(s, now, now.File)
	}
	s.line()
	v.rates(s, c)
	stops := table{head: []string{"stopped by", "rule", "", "packets"}}
	for _, r := range now.Rules {
		if r.Blocks && r.Hits.Packets > 0 {
			number := "·"
			if r.Number > 0 {
				number = fmt.Sprint(r.Number)
			}
			stops.add(r.Appliance, number, r.Text, grouped(int(r.Hits.Packets)))
		}
	}
	s.below(stops)
	leases := table{head: []string{"lease", "of", "on", "from"}}
	for _, x := range now.Leases {
		leases.add(x.Address.String(), x.Hostname, x.Segment, x.Server)
	}
	if len(leases.rows) > 0 && len(leases.rows) <= shownFlows {
		s.line()
		s.table(leases)
	}
	s.line()
	room := max(height-strings.Count(b.String(), "\n")-1, 3)
	for _, e := range v.events[max(len(v.events)-room, 0):] {
		for i, text := range wrap(e.Text, s.width-12) { // so that a long one does not push out the others
			if i == 0 {
				e.Text = text
				s.line("  ", eventLine(s, e))
			}
		}
	}
	lines := strings.SplitAfter(b.String(), "\n")
	fmt.Fprint(
		a.out,
		"\x1b[H\x1b[2J"+strings.TrimSuffix(strings.Join(lines[:min(len(lines), max(height-1, 1))], ""), "\n"),
	)
}

// rates shows what each segment carries.
func (v *view) rates(s *screen, c status.Change) {
	const longest = 24
	most := 1.0
	for _, r := range c.Segments {
		most = max(most, r.Bytes)
	}
	t := table{head: []string{"segment", "", "packets/s", "bytes/s"}}
	for _, r := range c.Segments {
		st, known := v.segments[r.Name]
		if !known {
			st = outside
		}
		n := int(longest * r.Bytes / most)
		if r.Bytes > 0 {
			n = max(n, 1)
		}
		t.add(
			cell{r.Name, st},
			cell{strings.Repeat("█", n) + strings.Repeat(" ", longest-n) + "│", st},
			fmt.Sprintf("%.0f", r.Packets),
			size(uint64(r.Bytes)),
		)
	}
	s.table(t)
}

// pageTime bounds how long a request to the page may take to be read.
const pageTime = 5 * time.Second

// servePage serves the page of a lab on loopback, until it is interrupted.
func (a *app) servePage(l started, at string) error {
	p, err := a.asStarted(l)
	if err != nil {
		return err
	}
	c, err := a.dial(l) // so that a lab that is gone is told at once
	if err != nil {
		return err
	}
	c.Hang()
	return a.serveLive(p, at, func(ctx context.Context, tell func(status.Change) error) error {
		return a.follow(ctx, l, func(_ status.Lab, c status.Change) error { return tell(c) })
	})
}

func (a *app) serveLive(p *plan.Plan, at string, watch live.Watch) error {
	host, _, err := net.SplitHostPort(at)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return usage("--at is an address of this machine itself and a port, as 127.0.0.1:8090, not %q", at)
	}
	in, err := net.Listen("tcp", at)
	if err != nil {
		return failure{exitUsage, "the page cannot be served: " + err.Error(), ""}
	}
	token := live.Token()
	handler, err := live.Handler(p, token, watch)
	if err != nil {
		return err
	}
	server := &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: pageTime,
		BaseContext:       func(net.Listener) context.Context { return a.ctx },
	}
	stop := context.AfterFunc(a.ctx, func() { server.Close() })
	defer stop()
	fmt.Fprintln(a.out, live.Address(in.Addr().String(), token))
	a.note("Only for this machine and only with this address; Ctrl-C ends the page, not the lab.")
	if err := server.Serve(in); !errors.Is(err, http.ErrServerClosed) {
		return failure{exitUsage, err.Error(), ""}
	}
	return nil
}
