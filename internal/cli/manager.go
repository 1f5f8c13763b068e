package cli

import (
	"errors"
	"fmt"
	"strings"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/adopt"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
	"openbastion/internal/testbed/libvirt"
	"openbastion/internal/verify/claims"
)

// definitions asks a machine manager for the definitions of its networks and machines.
func (a *app) definitions(uri string) (networks, domains []libvirt.Definition, err error) {
	c, err := libvirt.Dial(a.ctx, uri)
	if err == nil {
		defer c.Close()
		networks, err = c.Networks()
	}
	if err == nil {
		domains, err = c.Domains()
	}
	var lacks interface{ Lacks() bool }
	switch {
	case errors.As(err, &lacks):
		return nil, nil, failure{
			exitLacking,
			err.Error(),
			"start libvirtd there, or paste what virsh net-dumpxml and virsh dumpxml print",
		}
	case err != nil:
		return nil, nil, failure{exitUsage, uri + ": " + err.Error(), ""}
	}
	return networks, domains, nil
}

// paste reads pasted text: from a file, or the definitions of machines, of the one alone where it is named, from
// the machine manager that a URI names.
func (a *app) paste(from, lab, machine string) ([]byte, error) {
	if !libvirt.IsURI(from) {
		return a.read(from, listing.MaxSize)
	}
	_, domains, err := a.definitions(from)
	var text strings.Builder
	for _, d := range domains {
		if machine == "" || d.Name == machine || d.Name == lab+"-"+machine {
			text.WriteString(d.XML + "\n")
		}
	}
	if text.Len() > listing.MaxSize {
		return nil, failure{
			exitUsage,
			fmt.Sprintf("%s keeps more definitions than are read: over %d MiB", from, listing.MaxSize>>20),
			"",
		}
	}
	return []byte(text.String()), err
}

// adopted returns what a machine manager keeps as sources of a lab: its machines, and what its networks are.
func (a *app) adopted(uri string) ([]adopt.Source, error) {
	networks, domains, err := a.definitions(uri)
	if err != nil {
		return nil, err
	}
	var out []adopt.Source
	for _, n := range networks {
		out = append(out, adopt.Source{File: uri, Networks: listing.Networks(n.XML)})
	}
	for _, d := range domains {
		l := listing.Read(d.XML)
		if l.Empty() {
			continue // a machine without adapters is on no network
		}
		name := d.Name
		if lab.CheckName(name) != nil {
			name = ""
		}
		out = append(out, adopt.Source{File: uri + ", " + d.Name, Name: name, Shown: &l})
	}
	if len(out) == len(networks) {
		return nil, failure{exitUsage, "no machine with an adapter is defined in " + uri, ""}
	}
	return out, nil
}

// compareManaged compares all that a machine manager keeps of a lab: its networks, and each of its machines.
func (a *app) compareManaged(p *plan.Plan, uri, as string) error {
	networks, domains, err := a.definitions(uri)
	if err != nil {
		return err
	}
	doc := api.Comparisons{Schema: api.ComparisonsSchema, Lab: p.Name, Verdict: claims.Holds, Of: []api.Comparison{}}
	add := func(name string, facts []identify.Fact) {
		v := claims.Verdict(identify.Verdict(facts))
		doc.Of = append(
			doc.Of,
			api.Comparison{Schema: api.ComparisonSchema, Lab: p.Name, Machine: name, Verdict: v, Facts: facts},
		)
		if v == claims.Broken || v == claims.Unknown && doc.Verdict == claims.Holds {
			doc.Verdict = v
		}
	}
	if as == "" || as == identify.Host {
		var list []listing.Network
		for _, n := range networks {
			list = append(list, listing.Networks(n.XML)...)
		}
		add(identify.Host, identify.CompareNetworks(p, list))
	}
	for _, m := range p.Made() {
		if m.Physical || as != "" && as != m.Name {
			continue
		}
		text, found := definitionOf(p, m, domains)
		if !found {
			add(
				m.Name,
				[]identify.Fact{{Sight: identify.Unseen, Message: "no machine " + m.Name + " is defined in " + uri,
					Remedy: "define it, or name it so"}},
			)
			continue
		}
		add(m.Name, identify.Compare(p, m, listing.Read(text, p.Names()...)))
	}
	if len(doc.Of) == 0 {
		return usage("no machine %s in this lab", as)
	}
	if a.format == "json" {
		err = a.json(doc)
	} else {
		a.tellComparisons(p, uri, doc)
	}
	if err == nil && doc.Verdict != claims.Holds {
		err = failure{status: exitBroken}
	}
	return err
}

// definitionOf returns the definition of a machine of the lab: by its name, alone or behind the lab's.
func definitionOf(p *plan.Plan, m *plan.Machine, domains []libvirt.Definition) (string, bool) {
	for _, name := range []string{p.Name + "-" + m.Name, m.Name} {
		for _, d := range domains {
			if d.Name == name {
				return d.XML, true
			}
		}
	}
	return "", false
}

// tellComparisons shows first what it comes to, then each machine with what is not as planned.
func (a *app) tellComparisons(p *plan.Plan, uri string, doc api.Comparisons) {
	s := a.screen()
	a.title(s, p, uri+", compared with the plan")
	good := 0
	for _, c := range doc.Of {
		if c.Verdict == claims.Holds {
			good++
		}
	}
	sign := map[claims.Verdict]string{claims.Holds: signHolds, claims.Broken: signBroken, claims.Unknown: signUnknown}
	s.line(sign[doc.Verdict], fmt.Sprintf(" %d of %d as planned.", good, len(doc.Of)))
	if a.quiet {
		return
	}
	for _, c := range doc.Of {
		name := c.Machine
		if name == identify.Host {
			name = "networks"
		}
		if c.Verdict == claims.Holds && !a.verbose {
			s.para(2, 4, plain, signHolds+" "+name)
			continue
		}
		s.para(2, 4, strong, sign[c.Verdict]+" "+name)
		for _, f := range c.Facts {
			if f.Sight == identify.AsPlanned && !a.verbose {
				continue
			}
			mark := sightCell(f.Sight)
			s.para(4, 6, plain, s.paint(mark.st, mark.text)+" "+f.Message)
			if f.Remedy != "" && f.Sight != identify.Remark {
				s.para(
					6,
					6,
					faint,
					map[identify.Sight]string{identify.Differs: "remedy: ", identify.Unseen: "next: "}[f.Sight]+f.Remedy,
				)
			}
		}
	}
}
