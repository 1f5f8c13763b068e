package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"openbastion/internal/atomicfile"
	"openbastion/internal/classroom/class"
	"openbastion/internal/testbed/remote"
	"openbastion/internal/testbed/supervisor"
)

// benches is the hidden command that works on the benches of a class where they are.
func (a *app) benches() *cobra.Command {
	return &cobra.Command{
		Use: remote.BenchCommand + " start|status|verify|stop BENCH… -- ARGUMENT…", Hidden: true, Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 1 || !oneOf(args[0], "start", "status", "verify", "stop") {
				return usage("a command, the benches and, after --, the arguments for each: %s", c.UseLine())
			}
			return a.eachBench(args[0], args[1:at], args[at:])
		},
	}
}

// classFile returns where a class's record is: beside the folder of all labs.
func classFile(lab string) (string, error) {
	home, err := supervisor.Home()
	if err != nil {
		return "", failure{exitLacking, err.Error(), ""}
	}
	return filepath.Join(filepath.Dir(home), "classes", lab+".json"), nil
}

// classes returns the records of all classes that were started, by lab.
func classes() (map[string]class.Record, error) {
	all, err := classFile("*")
	if err != nil {
		return nil, err
	}
	files, err := filepath.Glob(all)
	if err != nil {
		return nil, err
	}
	out := map[string]class.Record{}
	for _, f := range files {
		var r class.Record
		data, err := os.ReadFile(f)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = json.Unmarshal(data, &r)
		}
		if err != nil {
			return nil, failure{exitUsage, fmt.Sprintf("cannot read the record of hosts: %s: %v", f, err), ""}
		}
		out[r.Lab] = r
	}
	return out, nil
}

// aClass returns the class that the user names by its lab file or its name, when there is one.
func aClass(named string) (class.Record, bool, error) {
	all, err := classes()
	if err != nil || len(all) == 0 {
		return class.Record{}, false, err
	}
	if r, ok := all[named]; ok {
		return r, true, nil
	}
	abs, err := filepath.Abs(named)
	for _, r := range all {
		if r.File == abs {
			return r, true, err
		}
	}
	return class.Record{}, false, err
}

// onHosts returns the class on hosts that the user names by its lab file or its name, when there is one.
func onHosts(named string) (class.Record, bool, error) {
	r, ok, err := aClass(named)
	if ok && r.Job != "" {
		err = usage("%s runs as job %s of a batch system: bastion class status, verify and stop take its class file", r.Lab, r.Job)
	}
	return r, ok, err
}

func writeClass(r class.Record) error {
	file, err := classFile(r.Lab)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	r.Schema = class.RecordSchema
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Write(file, append(data, '\n'), atomicfile.Options{Replace: true})
}

func removeClass(r class.Record) error {
	file, err := classFile(r.Lab)
	if err != nil {
		return err
	}
	return os.Remove(file)
}

func onHost(r class.Record, h class.RecordHost) remote.Host {
	return remote.Host{Name: h.Name, Destination: h.SSH, Folder: "class/" + r.Lab}
}

// atOnce is how many hosts are spoken to at a time.
const atOnce = 32

// eachHost does something for each host, several at a time, and gives the error of each.
func eachHost(hosts []class.RecordHost, do func(i int, h class.RecordHost) error) []error {
	out := make([]error, len(hosts))
	var all errgroup.Group
	all.SetLimit(atOnce)
	for i, h := range hosts {
		all.Go(func() error {
			out[i] = do(i, h)
			return nil
		})
	}
	_ = all.Wait()
	return out
}

// answers has something done to all benches where they are, and gives what became of each by
// its name, and of each host why it said nothing.
func (a *app) answers(
	ctx context.Context,
	r class.Record,
	verb string,
	arguments []string,
	each func(done int),
) (map[string]remote.Answer,
	map[string]error) {
	var lock sync.Mutex
	out, silent := map[string]remote.Answer{}, map[string]error{}
	errs := eachHost(r.Hosts, func(_ int, h class.RecordHost) error {
		names := r.On(h.Name)
		if len(names) == 0 && !h.Left {
			return nil
		}
		return onHost(r, h).Benches(ctx, verb, names, arguments, func(answer remote.Answer) {
			lock.Lock()
			defer lock.Unlock()
			if slices.Contains(names, answer.Bench) {
				out[answer.Bench] = answer
				each(len(out))
			}
		})
	})
	for i, err := range errs {
		if err != nil {
			silent[r.Hosts[i].Name] = err
		}
	}
	return out, silent
}
