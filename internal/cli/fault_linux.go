package cli

import (
	"context"
	"fmt"
	"time"

	"openbastion/internal/simulator"
	"openbastion/internal/testbed/supervisor"
	"openbastion/internal/verify/outage"
)

// faultInLab lets something go wrong with a lab that runs, shows what guests saw of it, puts it right and checks it.
func (a *app) faultInLab(file string, o faultOptions) error {
	l, p, err := a.findPlanned(file)
	if err != nil {
		return err
	}
	if _, err := simulator.ParseFault(p, o.what); err != nil {
		return usage("--fault: %v", err)
	}
	c, err := a.dial(l)
	if err != nil {
		return err
	}
	defer c.Hang()
	facts, err := c.Open(a.ctx, p)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	f := outage.Fault{
		Begin: func(ctx context.Context) error { return c.Strike(ctx, o.what) }, End: c.Heal, Lasts: o.lasts,
	}
	seen, err := outage.Run(a.ctx, c, outage.Trials(p, facts.Witness), f, runningClock{c, time.Now()})
	if err == nil {
		err = c.Close(a.ctx)
	}
	if a.ctx.Err() != nil {
		return a.ctx.Err() // the lab's process puts it right
	}
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	doc, _, err := judge(a.ctx, p, c, false)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	return a.faultVerdict(p, o.what, fmt.Sprintf("%s for %s, then put right; it runs on the %s", o.what, o.lasts, doc.Stage),
		seen, doc)
}

// runningClock is the clock of a lab that runs.
type runningClock struct {
	*supervisor.Client
	began time.Time
}

func (r runningClock) Now() time.Duration { return time.Since(r.began) }
