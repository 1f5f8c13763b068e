package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/export"
	"openbastion/internal/export/fileset"
	"openbastion/internal/export/nft"
	"openbastion/internal/export/seed"
	"openbastion/internal/model/plan"
)

func (a *app) export() *cobra.Command {
	var carry carryOptions
	var kindName, to string
	var devices []string
	var replace bool
	var about strings.Builder
	for _, k := range export.Kinds() {
		fmt.Fprintf(&about, "\n  %-8s %s", k.Name, k.About)
	}
	c := &cobra.Command{
		Use: "export [LAB]", Short: "Write configuration files for other programs",
		Long: "Exports the plan for other programs. A single file goes to standard output unless\n--to names a folder; several files need --to. No file contains a secret that the lab\nfile does not, except a probe's plan when you ask for one.\n\nKinds:" + about.String(),
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text"); err != nil {
				return err
			}
			kind, err := kindNamed(kindName)
			if err != nil {
				return err
			}
			p, err := a.loadWarned(labArg(args))
			if err != nil {
				return err
			}
			if len(devices) > 0 {
				if kindName != "nft" {
					return usage("--device goes with --kind nft")
				}
				named, err := devicesNamed(p, devices)
				if err != nil {
					return err
				}
				kind.Files = func(p *plan.Plan) ([]fileset.File, error) { return nft.Files(p, named), nil }
			}
			if carry.witness+carry.bench+carry.name != "" {
				if kindName != "seed" {
					return usage("--witness, --bench and --name go with --kind seed")
				}
				carried, err := a.carriedForAll(labArg(args), p, carry)
				if err != nil {
					return err
				}
				kind.Files = func(p *plan.Plan) ([]fileset.File, error) { return seed.FilesWith(p, carried) }
			}
			if seg := p.Undetermined(); seg != nil && kind.Addressed() {
				return failure{exitUsage, "the network of " + seg.Name + " is unknown, and " + kind.Name + " needs it",
					"write its subnet:, or run bastion survey --write on the host that runs the lab"}
			}
			files, err := kind.Files(p)
			if err != nil {
				return usage("%s", err)
			}
			if len(files) == 0 {
				return usage("nothing to export as %s: no machine of %s needs it", kindName, p.Name)
			}
			if to == "" {
				if len(files) > 1 {
					return usage("%s makes %d files; use --to FOLDER", kindName, len(files))
				}
				_, err := a.out.Write(files[0].Data)
				return err
			}
			if err := fileset.Write(to, files, replace, a.inputs...); err != nil {
				return notWritten(err)
			}
			s := a.screen()
			for _, f := range files {
				s.line(filepath.Join(to, filepath.FromSlash(f.Name)))
			}
			return nil
		},
	}
	c.Flags().StringVar(&kindName, "kind", "", "the kind, see above")
	c.Flags().StringVar(&to, "to", "", "the folder to write into")
	c.Flags().BoolVar(&replace, "replace", false, "replace existing files")
	c.Flags().StringVar(&carry.witness, "witness", "",
		"with --kind seed: put the plan for \"bastion probe\" into "+seed.Carried+" of each machine, with the test server's address; "+
			"it contains a secret of the bench")
	c.Flags().StringVar(&carry.bench, "bench", "", "with --kind seed: also for this bench")
	c.Flags().StringVar(&carry.name, "name", "", "with --kind seed: also a name that resolves to the test server")
	c.Flags().StringArrayVar(&devices, "device", nil,
		"with --kind nft: the device of a port, APPLIANCE.PORT=DEVICE; repeatable")
	return c
}

func kindNamed(name string) (export.Kind, error) {
	var known []string
	for _, k := range export.Kinds() {
		if k.Name == name {
			return k, nil
		}
		known = append(known, k.Name)
	}
	if name == "" {
		return export.Kind{}, usage("--kind KIND is required: %s", strings.Join(known, ", "))
	}
	return export.Kind{}, usage("--kind %s is not known; use %s", name, strings.Join(known, ", "))
}

// devicesNamed reads APPLIANCE.PORT=DEVICE.
func devicesNamed(p *plan.Plan, list []string) (func(*plan.Adapter) string, error) {
	named := map[*plan.Adapter]string{}
	for _, text := range list {
		port, device, ok := strings.Cut(text, "=")
		machine, name, dotted := strings.Cut(port, ".")
		if !ok || !dotted || device == "" {
			return nil, usage("--device is APPLIANCE.PORT=DEVICE, not %q", text)
		}
		found := false
		for _, a := range p.Adapters {
			if a.Machine.Appliance != nil && a.Machine.Name == machine && a.Name == name {
				named[a], found = device, true
			}
		}
		if !found {
			return nil, usage("--device: no appliance has the port %s", port)
		}
	}
	return func(a *plan.Adapter) string {
		if d := named[a]; d != "" {
			return d
		}
		return a.Device()
	}, nil
}
