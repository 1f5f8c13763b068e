package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/supervisor"
)

// started is a lab that was started, as the user names it.
type started struct {
	folder  supervisor.Folder
	record  supervisor.Record
	changed string // what is to be said of its file now, empty when it is the same
	differs bool   // its file says another lab
}

// find returns the lab that the user means: by its file, or by its name.
func (a *app) find(named string) (started, error) {
	home, err := supervisor.Home()
	if err != nil {
		return started{}, failure{exitLacking, err.Error(), ""}
	}
	known, err := supervisor.Known(home)
	if err != nil {
		return started{}, failure{exitUsage, "cannot read the record: " + err.Error(), ""}
	}
	abs, err := filepath.Abs(named)
	if err != nil {
		return started{}, err
	}
	var of []string
	for name, r := range known {
		if r.File == abs {
			of = append(of, name)
		}
	}
	slices.SortFunc(of, func(x, y string) int { return known[x].Bench - known[y].Bench })
	if len(of) == 1 || len(of) > 1 && known[of[0]].Bench == 0 {
		return a.held(supervisor.Of(home, of[0]), known[of[0]]), nil
	}
	if len(of) > 1 {
		return started{}, failure{
			exitUsage,
			fmt.Sprintf("%d copies of %s run: %s", len(of), named, listed(of)),
			"Name one of them.",
		}
	}
	if r, ok := known[named]; ok {
		return a.held(supervisor.Of(home, named), r), nil
	}
	p, err := a.load(named)
	if err != nil {
		return started{}, err
	}
	hint := "bastion start " + named
	if r, ok := known[p.Name]; ok {
		hint = fmt.Sprintf("A lab of this name was started from %s.", r.File)
	}
	return started{}, failure{exitUsage, p.Name + " was not started from " + named, hint}
}

// held holds a lab that was started against its file.
func (a *app) held(f supervisor.Folder, r supervisor.Record) started {
	out := started{folder: f, record: r}
	a.named = append(a.named, r.Profiles...)
	if _, err := os.Stat(r.File); errors.Is(err, fs.ErrNotExist) {
		out.changed = "its file is gone since"
		return out
	}
	was := a.bench
	a.bench = r.Bench
	p, err := a.load(r.File)
	a.bench = was
	switch {
	case err != nil:
		out.changed = "its file has changed since, and cannot be read now"
	case p.Fingerprint() != r.Digest:
		out.changed, out.differs = "its file has changed since", true
	}
	return out
}

// asStarted plans the lab as it was started, whatever has become of its file.
func (a *app) asStarted(l started) (*plan.Plan, error) {
	data, err := os.ReadFile(l.folder.Text())
	if err != nil {
		return nil, failure{exitUsage, "the record cannot be read: " + err.Error(), ""}
	}
	made, err := lab.Read(l.record.File, data)
	if err != nil {
		return nil, err
	}
	if err := a.profiles(made, l.record.File); err != nil {
		return nil, err
	}
	return plan.Build(made)
}

// findPlanned returns the lab that the user means, with its plan as it was started.
func (a *app) findPlanned(named string) (started, *plan.Plan, error) {
	l, err := a.find(named)
	if err != nil {
		return l, nil, err
	}
	p, err := a.asStarted(l)
	return l, p, err
}

// dial reaches the process of a lab.
func (a *app) dial(l started) (*supervisor.Client, error) {
	if !l.record.Alive() {
		return nil, failure{exitBroken, l.record.Lab + " has stopped: its process ended unexpectedly",
			"Only the lab's record is left: bastion stop " + l.record.Lab + " removes it."}
	}
	if l.record.Elsewhere() && l.record.Place.Boot != "" {
		if c, err := l.folder.Dial(); err == nil { // another view of the same machine's processes
			return c, nil
		}
		return nil, failure{exitLacking, l.record.Lab + " runs on " + l.record.Place.String(), "Run this there."}
	}
	c, err := l.folder.Dial()
	if err != nil {
		return nil, failure{
			exitBroken,
			fmt.Sprintf("the process of %s does not answer: %v", l.record.Lab, cause(err)),
			"",
		}
	}
	return c, nil
}
