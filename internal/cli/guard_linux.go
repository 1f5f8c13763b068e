package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/guard"
	"openbastion/internal/verify/verdict"
)

// guardLab watches a lab that runs until it is interrupted: it asks the claims that disturb nobody, again when something
// changed and every so often, and tells what broke, what changed just before, and when it held again.
func (a *app) guardLab(file string, o guardOptions) error {
	l, p, err := a.findPlanned(file)
	if err != nil {
		return err
	}
	var history *os.File
	if o.history != "" {
		if history, err = os.OpenFile(o.history, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644); err != nil {
			return notWritten(err)
		}
		defer history.Close()
	}
	g := guard.New(time.Now(), o.every)
	tell := func(list []guard.Entry) error {
		for _, e := range list {
			if err := a.guarded(p, e, history, o.command); err != nil {
				return err
			}
		}
		return nil
	}
	verdicts, asking := make(chan verdict.Document, 1), false
	checks := 0
	err = a.follow(a.ctx, l, func(_ status.Lab, c status.Change) error {
		now := time.Now()
		if err := tell(g.Seen(now, c.Events)); err != nil {
			return err
		}
		select {
		case doc := <-verdicts:
			asking = false
			entries := g.Judged(now, doc)
			if o.metrics != "" && len(doc.Claims) > 0 {
				if err := a.writeNew(o.metrics, guard.Metrics(p.Name, doc, now), true); err != nil {
					return err
				}
			}
			if checks++; checks == 1 && a.format == "text" {
				a.guardBegins(p, doc, o.every)
			}
			return tell(entries)
		default:
		}
		if !asking && g.Due(now) {
			if r, err := l.folder.Read(); err == nil && r.Digest != l.record.Digest { // it was changed while it runs
				l.record = r
				if p, err = a.asStarted(l); err != nil {
					return err
				}
			}
			asking = true
			go func(p *plan.Plan) { verdicts <- a.askGently(a.ctx, p, l) }(p)
		}
		return nil
	})
	if a.ctx.Err() == nil {
		return err
	}
	if g.Broken() > 0 {
		return failure{status: exitBroken}
	}
	return nil // that is how one stops watching
}

// askGently returns the verdict on the claims that can be asked without disturbing anybody.
func (a *app) askGently(ctx context.Context, p *plan.Plan, l started) verdict.Document {
	c, err := a.dial(l)
	if err != nil {
		return verdict.Document{}
	}
	defer c.Hang()
	doc, _, err := judge(ctx, p, c, true)
	if err != nil {
		return verdict.Document{} // somebody checks the lab just now, or it ends: the next time
	}
	return doc
}

// guardBegins says what is watched.
func (a *app) guardBegins(p *plan.Plan, doc verdict.Document, every time.Duration) {
	n := map[claims.Verdict]int{}
	for _, r := range doc.Claims {
		n[r.Verdict]++
	}
	s := a.screen()
	a.title(
		s,
		p,
		fmt.Sprintf("watched: %d checks hold, %d broken; checked after each change, and every %s", n[claims.Holds],
			n[claims.Broken], every),
	)
	if n[claims.Unknown] > 0 {
		s.para(
			2,
			2,
			faint,
			fmt.Sprintf("%d more checks would disturb the lab: run bastion verify for them.", n[claims.Unknown]),
		)
	}
}

// guarded tells an entry of the history: to whoever looks, to the history's file, and to a command.
func (a *app) guarded(p *plan.Plan, e guard.Entry, history *os.File, command string) error {
	if history != nil {
		if err := json.NewEncoder(history).Encode(e); err != nil {
			return notWritten(err)
		}
	}
	if a.format == "json" {
		if err := a.jsonLine(e); err != nil {
			return err
		}
	} else {
		a.screen().line(guardLine(a.screen(), e))
	}
	if command == "" || e.Kind == guard.Changed {
		return nil
	}
	c := exec.CommandContext(a.ctx, "/bin/sh", "-c", command)
	c.Env = append(os.Environ(), "BASTION_LAB="+p.Name, "BASTION_EVENT="+string(e.Kind), "BASTION_CLAIM="+e.Claim,
		"BASTION_GUEST="+e.Guest, "BASTION_TEXT="+e.Text)
	c.Stdout, c.Stderr = a.err, a.err
	if err := c.Run(); err != nil && a.ctx.Err() == nil {
		a.note(fmt.Sprintf("The command failed: %v.", err))
	}
	return nil
}

func guardLine(s *screen, e guard.Entry) string {
	text, st, sign := e.Text, plain, signNote
	switch e.Kind {
	case guard.Broke, guard.Began:
		st, sign, text = broken, signBroken, e.Claim+": "+e.Text
	case guard.Bypass:
		st, sign, text = broken, signBroken, "bypass: "+e.Text
	case guard.Held:
		sign, text = signHolds, fmt.Sprintf("%s holds again, after %s", e.Claim, time.Duration(e.Lasts)*time.Second)
	case guard.Lost:
		sign, text = signUnknown, e.Claim+" is unknown: "+e.Text
	}
	if len(e.After) > 0 && e.Kind != guard.Changed {
		text += " (just before: " + strings.Join(e.After, "; ") + ")"
	}
	return s.paint(faint, e.At.Local().Format("15:04:05")) + " " + s.paint(st, sign+" "+text)
}
