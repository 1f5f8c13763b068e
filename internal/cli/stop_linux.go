package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"openbastion/internal/api"
	"openbastion/internal/testbed/supervisor"
	"time"
)

func (a *app) endLab(named string, o stopOptions) error {
	l, err := a.find(named)
	if err != nil {
		return err
	}
	return a.end(l.folder, l.record, o)
}

func (a *app) end(f supervisor.Folder, r supervisor.Record, o stopOptions) error {
	began := time.Now()
	said, err := supervisor.End(a.ctx, f, o.now)
	if err == nil {
		err = a.keptDisks(r.Lab, o.discard)
	}
	if err != nil {
		return failure{exitUsage, fmt.Sprintf("%s could not be stopped: %v", r.Lab, err), ""}
	}
	if said != "" {
		a.note(r.Lab + ": " + said + ".")
	}
	if a.format == "json" {
		return a.json(api.Stopped{Schema: api.StoppedSchema, Lab: r.Lab, Said: said})
	}
	if !a.quiet {
		a.screen().line(signHolds, " ", r.Lab, " stopped in ", time.Since(began).Round(time.Millisecond).String())
	}
	return nil
}

func (a *app) endAll(o stopOptions) error {
	home, err := supervisor.Home()
	if err != nil {
		return failure{exitLacking, err.Error(), ""}
	}
	names, err := supervisor.All(home)
	if err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	over, err := classes()
	if err != nil {
		return err
	}
	var all []error
	for _, r := range over {
		all = append(all, a.endClass(r, o))
	}
	for _, name := range names {
		f := supervisor.Of(home, name)
		r, err := f.Read()
		switch {
		case err == nil:
			all = append(all, a.end(f, r, o))
		case errors.Is(err, fs.ErrNotExist): // a start that did not come to its record
			if unlock, ok, err := f.Lock(); ok && err == nil {
				all = append(all, f.Remove())
				unlock()
			}
		default:
			all = append(all, failure{exitUsage, err.Error(), ""})
		}
	}
	if len(names)+len(over) == 0 {
		a.note("No lab was started.")
	}
	return errors.Join(all...)
}
