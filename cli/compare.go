package cli

import (
	"github.com/spf13/cobra"

	"openbastion/core/identify"
	"openbastion/core/listing"
	"openbastion/core/plan"
	"openbastion/image"
)

func (a *app) compare() *cobra.Command {
	var as, built, machine string
	c := &cobra.Command{
		Use: "compare LAB [LISTING]", Short: "What a guest, an appliance or an exported machine shows, against the plan",
		Long: `Reads what you copied from a guest (or from the appliance with --as): addresses,
routes and resolvers, in the output of the usual commands of Linux, BSD and
desktop systems, one after another. With --built it reads a machine that a
hypervisor exported (OVF or OVA): adapters in their order, networks, models,
sizes, media. Says what differs from the plan, worst first.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if (built == "") == (len(args) == 1) {
				return usage("compare takes a listing, or --built with an exported machine")
			}
			if len(args) == 2 && args[0] == "-" && args[1] == "-" {
				return usage("only one of the lab and the listing can be standard input")
			}
			p, err := a.load(args[0])
			if err != nil {
				return err
			}
			if built != "" {
				return a.compareBuilt(p, as, built, machine)
			}
			m, err := machineNamed(p, as)
			if err != nil {
				return err
			}
			data, err := a.read(args[1], listing.MaxSize)
			if err != nil {
				return err
			}
			if slip := listing.Slip(string(data)); slip != "" {
				return failure{exitUsage, args[1] + ": " + slip, ""}
			}
			shown := listing.ReadShown(string(data))
			if len(shown.Interfaces) == 0 && len(shown.Gateways) == 0 {
				return failure{exitUsage, "no interface and no route is found in " + args[1],
					"copy the whole output: addresses, then routes, then resolvers"}
			}
			return a.showDifferences(p, m, "what "+m.Name+" shows, against the plan", identify.Compare(p, m, shown))
		},
	}
	c.Flags().StringVar(&as, "as", "", "whose listing it is; the first appliance when absent")
	c.Flags().StringVar(&built, "built", "", "a machine that was exported: an .ovf or .ova file")
	c.Flags().StringVar(&machine, "machine", "", "which machine of the export, when it has several")
	return c
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
	return a.showDifferences(p, m, "how "+m.Name+" was built, against the plan", identify.CompareBuilt(p, m, image.Built(*s)))
}

func (a *app) showDifferences(p *plan.Plan, m *plan.Machine, title string, list []identify.Difference) error {
	wrong := 0
	for _, d := range list {
		if d.Wrong {
			wrong++
		}
	}
	if a.format == "json" {
		err := a.json(struct {
			Schema      string                `json:"schema"`
			Lab         string                `json:"lab"`
			Machine     string                `json:"machine"`
			Differences []identify.Difference `json:"differences"`
		}{"openbastion.compare/1", p.Name, m.Name, append([]identify.Difference{}, list...)})
		if err != nil {
			return err
		}
	} else {
		s := a.screen()
		showTitle(s, p, title)
		for _, d := range list {
			sign := s.paint(broken, signBroken)
			if !d.Wrong {
				sign = s.paint(strong, signUnknown)
			}
			s.para(2, 2, plain, sign+" "+d.Message)
			fix := "remedy: " + d.Remedy
			if d.Code != "" {
				fix += " (bastion explain " + d.Code + ")"
			}
			s.para(4, 2, strong, fix)
		}
		if len(list) == 0 {
			s.line("  ", signHolds, " It is as planned.")
		}
	}
	if wrong > 0 {
		return failure{status: exitBroken}
	}
	return nil
}
