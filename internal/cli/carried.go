package cli

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"

	"openbastion/internal/classroom/bundle"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/field"
)

// planFor writes the plan that is carried into a guest.
func (a *app) planFor(file string, p *plan.Plan, o carryOptions) error {
	c, err := a.carriedFor(file, p, o)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.json(c)
	}
	line, err := c.Line()
	if err != nil {
		return err
	}
	return a.deliver(o.to, "the plan for "+o.guest, []byte(line+"\n"), o.replace)
}

// carryOptions are what goes into a guest.
type carryOptions struct {
	guest, bench, witness, name, to string
	replace                         bool
}

// carriedForAll returns the lines for all machines of a lab.
func (a *app) carriedForAll(file string, p *plan.Plan, o carryOptions) (map[string]string, error) {
	out := map[string]string{}
	for _, m := range p.Machines {
		o.guest = m.Name
		c, err := a.carriedFor(file, p, o)
		if err == nil {
			out[m.Name], err = c.Line()
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// carriedFor returns the plan that is carried into a guest.
func (a *app) carriedFor(file string, p *plan.Plan, o carryOptions) (bundle.Plan, error) {
	if p.Machine(o.guest) == nil && o.guest != field.Outside {
		return bundle.Plan{}, usage("the lab %s has no machine %q", p.Name, o.guest)
	}
	token, err := tokenOf("", p.Name)
	if err != nil {
		return bundle.Plan{}, err
	}
	if o.bench == "" {
		o.bench = p.Name // the lab is its only bench; its own token opens all of them, and stays here
	}
	if err := lab.CheckName(o.bench); err != nil {
		return bundle.Plan{}, usage("--bench: %v", err)
	}
	token = token.Bench(o.bench)
	key, err := ownWitness(p.Name)
	if err != nil {
		return bundle.Plan{}, err
	}
	c := bundle.Plan{Schema: bundle.Schema, Lab: p.Name, Guest: o.guest, Bench: o.bench, File: filepath.Base(file),
		Text:     string(a.texts[file]),
		Profiles: map[string]string{}, Print: p.Fingerprint(), Token: token.String(), Name: o.name, Key: key}
	if o.witness != "" {
		if c.Witness, err = netip.ParseAddr(o.witness); err != nil {
			return c, usage("--witness is an address, not %q", o.witness)
		}
	}
	for _, ap := range p.Lab.Appliances {
		if !strings.ContainsAny(ap.Profile, "./") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(filepath.Dir(file), ap.Profile))
		if err != nil {
			return c, failure{exitUsage, fmt.Sprintf("cannot read the profile %s: %v", ap.Profile, cause(err)), ""}
		}
		c.Profiles[ap.Profile] = string(text)
	}
	return c, nil
}
