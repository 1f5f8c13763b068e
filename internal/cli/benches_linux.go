package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"

	"openbastion/internal/testbed/remote"
	"openbastion/internal/testbed/supervisor"
)

// eachBench runs the program for each bench of a folder, several at once, and says a line
// for each. A start leaves those that run alone. It and a stop first end what runs here of
// benches that are none of the named ones: those were put elsewhere.
func (a *app) eachBench(verb string, names, arguments []string) error {
	own, err := os.Executable()
	if err != nil {
		return err
	}
	runs := map[string]bool{}
	if verb == "start" || verb == "stop" {
		if runs, err = running(); err != nil {
			return err
		}
		for name := range runs {
			if !oneOf(name, names...) {
				a.oneBench(own, "stop", name, []string{"--now"})
			}
		}
	}
	answers := make(chan remote.Answer)
	told := make(chan error, 1)
	go func() {
		out := json.NewEncoder(a.out)
		var all []error
		for answer := range answers {
			all = append(all, out.Encode(answer))
		}
		told <- errors.Join(all...)
	}()
	var all errgroup.Group
	all.SetLimit(max(runtime.NumCPU()/2, 1))
	for _, name := range names {
		all.Go(func() error {
			if verb == "start" && runs[name] {
				answers <- a.oneBench(own, "status", name, nil)
			} else {
				answers <- a.oneBench(own, verb, name, arguments)
			}
			return nil
		})
	}
	_ = all.Wait()
	close(answers)
	return <-told
}

// running returns the benches of this folder that run.
func running() (map[string]bool, error) {
	home, err := supervisor.Home()
	if err != nil {
		return nil, err
	}
	known, err := supervisor.Known(home)
	if err != nil {
		return nil, err
	}
	here, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for name, r := range known {
		if r.Alive() && r.File == filepath.Join(here, remote.BenchFile(name)) {
			out[name] = true
		}
	}
	return out, nil
}

func (a *app) oneBench(own, verb, name string, arguments []string) remote.Answer {
	c := exec.CommandContext(
		a.ctx,
		own,
		append([]string{verb, remote.BenchFile(name), "--format", "json"}, arguments...)...)
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	err := c.Run()
	answer := remote.Answer{Bench: name, Said: strings.TrimSpace(said.String())}
	if json.Valid(out.Bytes()) {
		var dense bytes.Buffer
		_ = json.Compact(&dense, out.Bytes()) // it is valid
		answer.Result = dense.Bytes()
	}
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		answer.Status = cmp.Or(max(exit.ExitCode(), 0), exitBroken)
	} else if err != nil {
		answer.Status, answer.Said = exitLacking, err.Error()
	}
	return answer
}
