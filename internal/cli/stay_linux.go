package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/supervisor"
	"openbastion/internal/verify/claims"
)

// stayWith starts a lab and stays until it ends. A signal to end stops it; USR1 has its claims checked. The exit status is
// that of the last check, where there was one.
func (a *app) stayWith(p *plan.Plan, f supervisor.Folder, file string, o startOptions) error {
	ends, checks := make(chan os.Signal, 4), make(chan os.Signal, 4)
	signal.Notify(ends, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	signal.Notify(checks, syscall.SIGUSR1)
	if o.results != "" {
		if err := os.MkdirAll(o.results, 0o755); err != nil {
			return failure{exitUsage, fmt.Sprintf("cannot write to %s: %v", o.results, cause(err)), ""}
		}
	}
	args, how, err := a.keepArgs(p, file, o)
	if err != nil {
		return err
	}
	starting, interrupted := context.WithCancel(context.Background())
	up := make(chan error, 1)
	began := time.Now()
	go func() {
		report, err := supervisor.SpawnTied(starting, f, args, how, a.sayProgress)
		up <- a.spawned(p, o, report, err)
	}()
	select {
	case err = <-up:
	case <-ends:
		interrupted()
		<-up
		return nil
	}
	defer interrupted()
	if err != nil {
		return err
	}
	a.note(
		fmt.Sprintf(
			"%s runs, started in %s. TERM stops it; USR1 checks it.",
			p.Name,
			time.Since(began).Round(time.Millisecond),
		),
	)
	var last error
	if o.then == "verify" {
		last = a.checkStaying(p, f, o.results)
	}
	for gone := time.NewTicker(time.Second); ; {
		select {
		case <-ends:
			if _, err := supervisor.End(context.Background(), f, false); err != nil {
				return failure{exitUsage, fmt.Sprintf("%s could not be stopped: %v", p.Name, err), ""}
			}
			return last
		case <-checks:
			last = a.checkStaying(p, f, o.results)
		case <-gone.C:
			switch r, err := f.Read(); {
			case err != nil: // it was stopped by somebody
				return last
			case !r.Alive():
				return failure{
					exitBroken,
					p.Name + " has stopped: its process ended unexpectedly",
					"bastion stop " + p.Name,
				}
			}
		}
	}
}

// checkStaying has the claims of a lab checked, and writes the verdict into a folder: the whole of it or nothing.
func (a *app) checkStaying(p *plan.Plan, f supervisor.Folder, folder string) error {
	c, err := f.Dial()
	if err != nil {
		return failure{exitBroken, fmt.Sprintf("the process of %s does not answer: %v", p.Name, cause(err)), ""}
	}
	defer c.Hang()
	doc, _, err := judge(a.ctx, p, c, false)
	if err != nil {
		return failure{exitBroken, err.Error(), ""}
	}
	if folder == "" {
		a.title(a.screen(), p, "checked "+time.Now().Format("15:04:05"))
		a.showVerdict(a.screen(), doc, func() {})
	} else {
		var data bytes.Buffer
		out := json.NewEncoder(&data)
		out.SetIndent("", "  ")
		if err := out.Encode(doc); err != nil {
			return err
		}
		to := filepath.Join(folder, p.Name+".json")
		if err := atomicfile.Write(to, data.Bytes(), atomicfile.Options{Replace: true}); err != nil {
			return notWritten(err)
		}
		a.note(fmt.Sprintf("%s: %s, in %s.", p.Name, doc.Verdict, to))
	}
	if doc.Verdict != claims.Holds {
		return failure{status: exitBroken}
	}
	return nil
}
