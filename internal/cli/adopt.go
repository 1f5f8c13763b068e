package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/image"
	"openbastion/internal/model/lab"
	"openbastion/internal/observe/adopt"
	"openbastion/internal/observe/listing"
	"openbastion/internal/testbed/libvirt"
)

func (a *app) adoptLab() *cobra.Command {
	var name, to string
	var replace bool
	c := &cobra.Command{
		Use: "adopt [NAME=]FILE…", Short: "Create a lab file from existing machines and pastes",
		Long: `Writes the lab file of a lab that exists: from machines that a hypervisor exported
(OVF or OVA) and from pastes of what consoles, guests and the host show (addresses,
routes, DNS servers, lists of adapters with their networks), or from the machine manager
libvirt, as qemu:///system. It finds which adapters
are on one network, which machine is between them, which side leads outside, and where
DHCP servers are. What was not shown is written as "later", and is not guessed.

NAME=FILE says whose paste it is; host=FILE that it is of the host itself, which
shows whether the host is on a segment. Then "bastion check", "bastion rehearse"
and "bastion prove" judge what is there.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text"); err != nil {
				return err
			}
			if err := lab.CheckName(name); err != nil {
				return usage("--name: %v", err)
			}
			var sources []adopt.Source
			for _, arg := range args {
				found, err := a.source(arg)
				if err != nil {
					return err
				}
				sources = append(sources, found...)
			}
			data, notes, err := adopt.Write(name, sources)
			if err != nil {
				return failure{exitUsage, err.Error(), "pass exports (.ovf, .ova) or pasted addresses and routes"}
			}
			l, err := lab.Read("the lab file", data)
			if err != nil {
				return err
			}
			for _, n := range notes {
				a.note(n)
			}
			if to == "-" {
				_, err := a.out.Write(data)
				return err
			}
			if err := a.writeNew(to, data, replace); err != nil {
				return err
			}
			a.note(
				fmt.Sprintf(
					"%s written, with %s. Next: bastion check %s",
					to,
					count(len(l.Open), "open question", "open questions"),
					to,
				),
			)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&name, "name", "found", "the lab's name")
	f.StringVar(&to, "to", "lab.yaml", "the file to write; - for standard output")
	f.BoolVar(&replace, "replace", false, "replace an existing file")
	return c
}

// source reads one export or paste: NAME=FILE, or FILE.
func (a *app) source(arg string) ([]adopt.Source, error) {
	name, file, said := strings.Cut(arg, "=")
	if !said {
		name, file = "", arg
	}
	if name != "" && name != adopt.Host {
		if err := lab.CheckName(name); err != nil {
			return nil, usage("%s: %v", arg, err)
		}
	}
	if libvirt.IsURI(file) {
		return a.adopted(file)
	}
	if file != "-" {
		if c, err := a.inspect(file, false); err != nil {
			return nil, err
		} else if c.Package != nil {
			var out []adopt.Source
			for i := range c.Package.Systems {
				built := image.Built(c.Package.Systems[i])
				if i > 0 {
					name = "" // one name is one machine's
				}
				out = append(out, adopt.Source{File: file, Name: name, Built: &built})
			}
			return out, nil
		}
	}
	data, err := a.read(file, listing.MaxSize)
	if err != nil {
		return nil, err
	}
	l := listing.Read(string(data))
	if l.Empty() {
		return nil, failure{exitUsage, "no machines or addresses found in " + file,
			"an export is an .ovf or .ova file; a paste is the whole output of a command"}
	}
	for _, r := range l.Slips {
		a.note(fmt.Sprintf("%s:%d: %s", file, r.Line, r.Text))
	}
	return []adopt.Source{{File: file, Name: name, Shown: &l}}, nil
}
