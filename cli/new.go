package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"openbastion/core/draft"
	"openbastion/core/lab"
)

func (a *app) newLab() *cobra.Command {
	var o draft.Options
	var to string
	var replace bool
	c := &cobra.Command{
		Use: "new NAME", Short: "Write a lab file to start from",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("say the name of the lab: bastion new NAME")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			o.Lab = args[0]
			data := draft.Write(o)
			if _, err := lab.Read("the lab file", data); err != nil {
				return err // a name that is none
			}
			if to == "-" {
				_, err := a.out.Write(data)
				return err
			}
			if err := writeNew(to, data, replace); err != nil {
				return err
			}
			a.note(fmt.Sprintf("%s written. Next: bastion plan %s, then bastion rehearse %s", to, to, to))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&to, "to", "lab.yaml", "the file to write; - for standard output")
	f.BoolVar(&replace, "replace", false, "replace the file when it is there")
	f.StringVar(&o.Title, "title", "", "what the lab is for")
	f.StringVar(&o.Appliance, "appliance", "gate", "the appliance's name")
	f.StringVar(&o.WAN, "wan", "outer", "the WAN segment's name")
	f.StringSliceVar(&o.LANs, "lan", []string{"inner"}, "a LAN segment's name; may be given again")
	f.IntVar(&o.Guests, "guests", 1, "how many guests on each LAN")
	f.StringVar(&o.Uplink, "uplink", "", "the host's adapter that the WAN is bridged to")
	return c
}
