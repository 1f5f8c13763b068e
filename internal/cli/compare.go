package cli

import (
	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/image"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
	"openbastion/internal/testbed/libvirt"
	"openbastion/internal/verify/claims"
)

func (a *app) compare() *cobra.Command {
	var as, built, machine, on string
	c := &cobra.Command{
		Use: "compare LAB [LISTING]", Short: "Compare a machine with the plan",
		Long: `Reads what you copied from a guest (or from the appliance with --as): addresses,
routes and DNS servers, in the output of the usual commands of Linux, BSD and
desktop systems, one after another; or, from the host, the definitions of its virtual
networks (libvirt's). With --built it reads a machine that a
hypervisor exported (OVF or OVA): adapters in their order, networks, models,
sizes, media. Says what differs from the plan, worst first.

With --on it asks the machine manager libvirt itself, for reading alone, and compares
every network and machine of the lab: qemu:///system, qemu:///session, or
qemu+ssh://HOST/system by your SSH client. Where a listing is read, here, by "map",
"adopt" and "diagnose", such an address may stand in its place.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			given := len(args) - 1
			for _, flag := range []string{built, on} {
				if flag != "" {
					given++
				}
			}
			if given != 1 {
				return usage("compare takes a listing, --built with an exported machine, or --on with a machine manager")
			}
			if len(args) == 2 && args[0] == "-" && args[1] == "-" {
				return usage("only one of the lab and the listing can be standard input")
			}
			p, err := a.load(args[0])
			if err != nil {
				return err
			}
			if on != "" {
				return a.compareManaged(p, on, as)
			}
			if built != "" {
				return a.compareBuilt(p, as, built, machine)
			}
			if libvirt.IsURI(args[1]) {
				return a.compareManaged(p, args[1], as)
			}
			return a.compareListing(p, args[0], args[1], as)
		},
	}
	c.Flags().
		StringVar(&as, "as", "", "which machine the listing is from: a machine of the lab, or host (default: detected)")
	c.Flags().StringVar(&built, "built", "", "a machine that was exported: an .ovf or .ova file")
	c.Flags().StringVar(&on, "on", "", "a machine manager instead of a listing, as qemu:///system")
	c.Flags().StringVar(&machine, "machine", "", "which machine of the export, when it has several")
	return c
}

// compareListing compares what a machine shows.
func (a *app) compareListing(p *plan.Plan, file, from, as string) error {
	data, err := a.paste(from, p.Name, as)
	if err != nil {
		return err
	}
	if networks := listing.Networks(string(data)); len(networks) > 0 && (as == "" || as == identify.Host) {
		return a.showFacts(
			p,
			identify.Host,
			"the host's networks, compared with the plan",
			identify.CompareNetworks(p, networks),
		)
	}
	l := listing.Read(string(data), p.Names()...)
	if l.Empty() && len(l.Tries) == 0 {
		return failure{
			exitUsage,
			"no addresses found in " + from,
			"copy the whole output: addresses, then routes, then DNS servers",
		}
	}
	if as == identify.Host {
		return a.showFacts(p, identify.Host, "the host's listing, compared with the plan", identify.CompareHost(p, l))
	}
	m, why, err := whose(p, l, as)
	if err != nil {
		return err
	}
	return a.showFacts(p, m.Name, m.Name+"'s listing, compared with the plan"+why, identify.Compare(p, m, l))
}

// whose returns the machine that a listing is of: the one named, else the one that it
// shows, with the evidence in brackets.
func whose(p *plan.Plan, l listing.Listing, as string) (*plan.Machine, string, error) {
	if as != "" {
		m, err := machineNamed(p, as)
		return m, "", err
	}
	owner, err := identify.Whose(p, l)
	if err != nil {
		return nil, "", failure{exitUsage, err.Error(), ""}
	}
	return owner.Machine, " (" + owner.Why + ")", nil
}

// compareBuilt compares an exported machine: the one named, else the one that
// is called as the machine of the lab, else the only one.
func (a *app) compareBuilt(p *plan.Plan, as, file, machine string) error {
	name := machine
	if name == "" {
		name = as
	}
	s, _, err := a.pack(file, machine)
	if err != nil && machine == "" && name != "" {
		s, _, err = a.pack(file, name)
	}
	if err != nil {
		return err
	}
	if as == "" && p.Machine(s.Title()) != nil {
		as = s.Title()
	}
	m, err := machineNamed(p, as)
	if err != nil {
		return err
	}
	return a.showFacts(
		p,
		m.Name,
		m.Name+"'s definition, compared with the plan",
		identify.CompareBuilt(p, m, image.Built(*s)),
	)
}

func (a *app) showFacts(p *plan.Plan, name, title string, facts []identify.Fact) error {
	verdict := identify.Verdict(facts)
	if a.format == "json" {
		err := a.json(
			api.Comparison{
				Schema:  api.ComparisonSchema,
				Lab:     p.Name,
				Machine: name,
				Verdict: claims.Verdict(verdict),
				Facts:   facts,
			},
		)
		if err != nil {
			return err
		}
	} else {
		a.tellFacts(p, title, facts)
	}
	if verdict != "holds" {
		return failure{status: exitBroken}
	}
	return nil
}

func (a *app) tellFacts(p *plan.Plan, title string, facts []identify.Fact) {
	s := a.screen()
	sights := map[identify.Sight]int{}
	for _, f := range facts {
		sights[f.Sight]++
	}
	a.title(s, p, title)
	switch identify.Verdict(facts) {
	case "holds":
		s.line(signHolds, " As planned.")
	case "broken":
		s.line(s.paint(broken, signBroken), " Differences: ", differs(sights), ".")
	default:
		s.line(
			s.paint(strong, signUnknown),
			" No differences so far; ",
			count(sights[identify.Unseen], "value is", "values are"),
			" missing.",
		)
	}
	if a.quiet {
		return
	}
	told := ""
	for _, f := range facts {
		sign := sightCell(f.Sight)
		s.para(2, 2, plain, s.paint(sign.st, sign.text)+" "+f.Message)
		if f.Remedy == "" || f.Remedy == told && f.Sight == identify.Unseen { // the next thing to type is told once
			continue
		}
		told = f.Remedy
		fix := map[identify.Sight]string{identify.Differs: "remedy: ", identify.Unseen: "next: ", identify.Remark: ""}[f.Sight] + f.Remedy
		if f.Code != "" {
			fix += " (bastion explain " + f.Code + ")"
		}
		st := strong
		if f.Sight == identify.Remark {
			st = faint
		}
		s.para(4, 2, st, fix)
	}
}

// differs counts what is against the plan, and what was not shown.
func differs(of map[identify.Sight]int) string {
	text := count(of[identify.Differs], "value differs", "values differ")
	if n := of[identify.Unseen]; n > 0 {
		text += ", " + count(n, "value is missing", "values are missing")
	}
	return text
}

func sightCell(sight identify.Sight) cell {
	switch sight {
	case identify.Differs:
		return cell{signBroken, broken}
	case identify.Unseen:
		return cell{signUnknown, strong}
	case identify.AsPlanned:
		return cell{signHolds, plain}
	}
	return cell{signNote, faint}
}
