package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/internal/hostinfo"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/profiles"
)

func (a *app) newLab() *cobra.Command {
	o := draft.Options{}
	var to, lan, join string
	var replace, yes, blind bool
	c := &cobra.Command{
		Use: "new NAME", Short: "Create a lab file",
		Long: `Writes a commented lab file. On a terminal it asks what it is not told by a
flag, with a default for each answer; ? explains. It looks at this machine's
networks, so that the lab keeps clear of them.

Shapes:
` + shapeList(),
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				o.Lab = args[0]
			}
			if err := draft.SetLAN(&o, lan); err != nil {
				return usage("--lan-address: %v", err)
			}
			if o.Pool != "" {
				if err := draft.SetPool(&o, o.Pool); err != nil {
					return usage("--pool: %v", err)
				}
			}
			if !oneOf(join, "", "bridged", "nat") {
				return usage("--join is bridged or nat, not %q", join)
			}
			if !blind {
				useSurvey(&o, hostinfo.Look("."))
			}
			if join != "" {
				o.NAT = join == "nat"
			}
			if in, ok := a.in.(*os.File); ok && !yes && term.IsTerminal(int(in.Fd())) {
				told := func(flag string) bool { return c.Flags().Changed(flag) }
				if err := a.askNew(in, &o, &to, told); err != nil {
					return err
				}
			}
			if err := a.useProfile(&o, to); err != nil {
				return err
			}
			if o.Hypervisor != "" {
				if _, err := a.wordingNamed(o.Hypervisor); err != nil {
					return err
				}
			}
			if o.Lab == "" {
				return usage("usage: bastion new NAME [OPTIONS]")
			}
			data, err := draft.Write(o)
			if err != nil {
				return usage("%v", err)
			}
			if _, err := lab.Read("the lab file", data); err != nil {
				return err // a name that is none
			}
			if to == "-" {
				_, err := a.out.Write(data)
				return err
			}
			if err := a.writeNew(to, data, replace); err != nil {
				return err
			}
			a.note(fmt.Sprintf("%s written. Next: bastion plan %s, then bastion rehearse %s", to, to, to))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&to, "to", "lab.yaml", "the file to write; - for standard output")
	f.BoolVar(&replace, "replace", false, "replace an existing file")
	f.BoolVar(&yes, "yes", false, "ask nothing: use the default wherever no option is given")
	f.BoolVar(&blind, "no-survey", false, "do not look at this machine's networks")
	f.StringVar(&o.Shape, "shape", draft.Shapes[0].Name, "the lab's shape, see above")
	f.StringVar(&o.Title, "title", "", "description of the lab")
	f.StringVar(&o.Appliance, "appliance", "gate", "the appliance's name")
	f.StringVar(&o.Profile, "profile", "", "what kind of appliance: a shipped profile, or a file of your own")
	f.StringVar(&o.WAN, "wan", "outer", "the WAN segment's name")
	f.StringSliceVar(&o.LANs, "lan", []string{"inner"}, "shape one-lan: a LAN segment's name; may be given again")
	f.IntVar(&o.Guests, "guests", 1, "how many guests on each inside segment")
	f.IntVar(&o.Benches, "benches", 4, "shape classroom: how many benches")
	f.StringVar(&o.Uplink, "uplink", "", "the host's adapter that the WAN is bridged to")
	f.StringVar(&join, "join", "", "how the WAN leaves the host: bridged or nat (default: as this machine allows)")
	f.StringVar(&o.LANUplink, "second-uplink", "enp2", "shapes sockets and lines-and-tags: the host's second adapter")
	f.StringVar(
		&o.Hypervisor,
		"hypervisor",
		"",
		"the hypervisor's terms in the runbook: "+strings.Join(profiles.WordingNames(), ", ")+", or a file",
	)
	f.StringVar(
		&lan,
		"lan-address",
		"",
		"the appliance's address on the first LAN, such as 10.83.16.1/24 (default: planned)",
	)
	f.StringVar(&o.Pool, "pool", "", "DHCP pool there, such as 10.83.16.50-10.83.16.199 (default: planned)")
	return c
}

// useProfile sees that the profile is one, and names a file as the lab file
// will: from its own folder.
func (a *app) useProfile(o *draft.Options, to string) error {
	if o.Profile == "" {
		return nil
	}
	if _, shipped := profiles.Profile(o.Profile); shipped {
		return nil
	}
	if _, err := a.profileNamed(o.Profile); err != nil {
		return err
	}
	path := o.Profile
	if to != "-" && !filepath.IsAbs(path) {
		rel, err := filepath.Rel(filepath.Dir(to), path)
		if err != nil {
			return usage("%s cannot be named from %s: %v", path, to, err)
		}
		path = rel
	}
	if o.Profile = filepath.ToSlash(path); !filepath.IsAbs(path) && !strings.HasPrefix(path, ".") {
		o.Profile = "./" + o.Profile
	}
	return nil
}

func shapeList() string {
	text := ""
	for _, s := range draft.Shapes {
		text += fmt.Sprintf("  %-14s %s\n", s.Name, s.What)
	}
	return text
}

// useSurvey fills in what this machine tells.
func useSurvey(o *draft.Options, r *hostinfo.Report) {
	o.Networks = r.Networks()
	up, ok := r.Uplink()
	if o.Uplink == "" && ok && up.Kind == hostinfo.Wired {
		o.Uplink = up.Name
	}
	o.NAT = o.Uplink == ""
}
