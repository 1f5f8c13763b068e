package cli

import "github.com/spf13/cobra"

// repairOptions are how a lab is repaired.
type repairOptions struct{ yes, dry, undo bool }

func (a *app) repair() *cobra.Command {
	var o repairOptions
	c := &cobra.Command{
		Use: "repair [LAB]", Short: "Restore what was changed by hand in a running lab",
		Long: `Compares each machine of a lab that runs on the kernel with the plan: devices, addresses,
routes, the packet filter, and forwarding. It shows each difference with its repair, asks
(or --yes), repairs, and checks the lab. What cannot be undone says so; --undo puts the
rest back as it was found. Where the lab file is the mistake, it corrects it as "check
--mend" does, and changes the lab to it; what only you can decide is named by the checks.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if o.undo && (o.yes || o.dry) || o.yes && o.dry {
				return usage("--yes, --dry-run and --undo do not go with one another")
			}
			return a.repairLab(labArg(args), o)
		},
	}
	c.Flags().BoolVar(&o.yes, "yes", false, "repair without asking")
	c.Flags().BoolVar(&o.dry, "dry-run", false, "show the differences, but repair nothing")
	c.Flags().BoolVar(&o.undo, "undo", false, "put back what the last repair found")
	return c
}
