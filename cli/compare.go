package cli

import (
	"github.com/spf13/cobra"

	"openbastion/core/assign"
	"openbastion/core/listing"
)

func (a *app) compare() *cobra.Command {
	var as string
	c := &cobra.Command{
		Use: "compare LAB LISTING", Short: "What a guest or appliance shows of itself, against the plan",
		Long: `Reads what you copied from a guest (or from the appliance with --as): addresses,
routes and resolvers, in the output of the usual commands of Linux, BSD and
desktop systems, one after another. Says what differs from the plan, worst first.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if args[0] == "-" && args[1] == "-" {
				return usage("only one of the lab and the listing can be standard input")
			}
			p, err := a.load(args[0])
			if err != nil {
				return err
			}
			m, err := machineNamed(p, as)
			if err != nil {
				return err
			}
			data, err := a.read(args[1], listing.MaxSize)
			if err != nil {
				return err
			}
			shown := listing.ReadShown(string(data))
			if len(shown.Interfaces) == 0 && len(shown.Gateways) == 0 {
				return failure{exitUsage, "no interface and no route is found in " + args[1], "copy the whole output: addresses, then routes, then resolvers"}
			}
			list := assign.Compare(p, m, shown)
			wrong := 0
			for _, d := range list {
				if d.Wrong {
					wrong++
				}
			}
			if a.format == "json" {
				err = a.json(struct {
					Schema      string              `json:"schema"`
					Lab         string              `json:"lab"`
					Machine     string              `json:"machine"`
					Differences []assign.Difference `json:"differences"`
				}{"openbastion.compare/1", p.Name, m.Name, append([]assign.Difference{}, list...)})
				if err != nil {
					return err
				}
			} else {
				s := a.screen()
				showTitle(s, p, "what "+m.Name+" shows, against the plan")
				for _, d := range list {
					sign := s.paint(broken, signBroken)
					if !d.Wrong {
						sign = s.paint(outside, signUnknown)
					}
					s.para(2, 2, plain, sign+" "+d.Message)
					fix := "to mend it: " + d.Fix
					if d.Code != "" {
						fix += " (bastion explain " + d.Code + ")"
					}
					s.para(4, 2, inside, fix)
				}
				if len(list) == 0 {
					s.line("  ", s.paint(inside, signHolds), " It is as planned.")
				}
			}
			if wrong > 0 {
				return failure{status: exitBroken}
			}
			return nil
		},
	}
	c.Flags().StringVar(&as, "as", "", "whose listing it is; the first appliance when absent")
	return c
}
