package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
	"openbastion/profiles"
)

func (a *app) profile() *cobra.Command {
	c := &cobra.Command{
		Use: "profile", Short: "List, check and create appliance profiles",
		Long: `A profile says what differs from one kind of appliance to the next: what its
system calls the interfaces, which role it takes its adapters for, which topics
its console asks, what it has drivers for, how it comes from the factory. Those
that ship with the program hold no facts of one product; a profile of your own
is how these come in.`,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
		Args: cobra.NoArgs,
	}
	c.AddCommand(a.profileList(), a.profileCheck(), a.profileStart())
	return c
}

func (a *app) profileList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "The profiles that ship with the program",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			rows := []api.ProfileRow{}
			t := table{}
			for _, name := range profiles.Names() {
				p, err := a.profileNamed(name)
				if err != nil {
					return err
				}
				rows = append(rows, api.ProfileRow{Name: p.Name, Title: p.Title})
				t.add(p.Name, cell{p.Title, faint})
			}
			if a.format == "json" {
				return a.json(api.Profiles{Schema: api.ProfilesSchema, Profiles: rows})
			}
			a.screen().table(t)
			return nil
		},
	}
}

func (a *app) profileCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE|NAME", Short: "Show what a profile states and what it omits",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			p, err := a.profileNamed(args[0])
			if err != nil {
				return err
			}
			facts := p.Facts()
			if a.format == "json" {
				return a.json(api.Profile{Schema: api.ProfileSchema, Name: p.Name, Facts: facts})
			}
			s := a.screen()
			s.line(s.paint(strong, orNone(p.Name)), "  ", s.paint(faint, p.Title))
			t := table{head: []string{"", "key", "services"}}
			left := 0
			for _, f := range facts {
				c := verdictSign(f.Given)
				if !f.Given {
					left++
				}
				t.add(c, cell{f.Key, strong}, f.Does)
			}
			s.line()
			s.table(t)
			s.line()
			if left == 0 {
				s.line(signHolds, " It is complete.")
				return nil
			}
			s.para(
				0,
				2,
				plain,
				fmt.Sprintf(
					"%s It can be used. %s missing: there the plan uses the usual values, and the sheet refers to the label or the console.",
					signHolds,
					count(left, "key is", "keys are"),
				),
			)
			return nil
		},
	}
}

func verdictSign(given bool) cell {
	if given {
		return cell{signHolds, plain}
	}
	return cell{signNote, faint}
}

func (a *app) profileStart() *cobra.Command {
	var to, from string
	var replace bool
	c := &cobra.Command{
		Use: "start NAME", Short: "Create a commented profile to fill in",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := lab.CheckName(args[0]); err != nil {
				return usage("%v", err)
			}
			if to == "" {
				to = args[0] + ".yaml"
			}
			data := bytes.Replace(profiles.Start(), []byte("name: NAME"), []byte("name: "+args[0]), 1)
			if from != "" {
				text, err := a.read(from, listing.MaxSize)
				if err != nil {
					return err
				}
				seen := identify.ReadFactory(string(text))
				if len(seen.Roles)+len(seen.Devices)+len(seen.Seen) == 0 {
					return usage("%s shows no interface of an appliance; paste what its console lists", from)
				}
				data = seen.Fill(data)
			}
			if to == "-" {
				_, err := a.out.Write(data)
				return err
			}
			return a.deliver(to, "a profile to fill in", data, replace)
		},
	}
	c.Flags().StringVar(&to, "to", "", "the file to write (default NAME.yaml), - for standard output")
	c.Flags().
		StringVar(&from, "listing", "", "a text from the appliance's console, or - for standard input: device names, roles, address and pool are taken from it")
	c.Flags().BoolVar(&replace, "replace", false, "replace an existing file")
	return c
}

// profileNamed reads a profile that the user named: one that ships with the
// program, or a file.
func (a *app) profileNamed(name string) (*lab.Profile, error) {
	if data, shipped := profiles.Profile(name); shipped {
		return lab.ReadProfile(name+".yaml", data)
	}
	if _, err := os.Stat(name); err != nil && name != "-" {
		return nil, noProfile(name)
	}
	data, err := a.read(name, lab.MaxSize+1)
	if err != nil {
		return nil, err
	}
	return lab.ReadProfile(name, data)
}

func noProfile(name string) failure {
	return failure{exitUsage, fmt.Sprintf("no profile %s, neither shipped nor as a file", name),
		"shipped are " + strings.Join(profiles.Names(), ", ")}
}

// profileOf reads a profile that a lab file names: one that ships with the
// program, or a file in the lab's folder. A lab file may come from anybody, so
// what it points at elsewhere is read only when the user names it too, and what
// turns out to be no profile is not shown.
func (a *app) profileOf(name, folder string) (*lab.Profile, error) {
	if data, shipped := profiles.Profile(name); shipped {
		return lab.ReadProfile(name+".yaml", data)
	}
	if text, ok := a.carried[name]; ok {
		return lab.ReadProfile(name, []byte(text))
	}
	path := name
	if !filepath.IsAbs(path) {
		path = filepath.Join(folder, path)
	}
	for _, named := range a.named {
		meant, err := os.Stat(named)
		there, err2 := os.Stat(path)
		if err == nil && err2 == nil && os.SameFile(meant, there) {
			return a.profileNamed(path)
		}
	}
	root, err := os.OpenRoot(cmp.Or(folder, "."))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	info, err := root.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, noProfile(name)
	case err != nil:
		return nil, failure{exitUsage, fmt.Sprintf("profile: %s is outside the lab's folder and is not read", name),
			"if you mean it, name it too: --profile " + path}
	case !info.Mode().IsRegular():
		return nil, failure{exitUsage, fmt.Sprintf("profile: %s is not a valid plain file", name), ""}
	}
	f, err := root.Open(name)
	if err != nil {
		return nil, failure{exitUsage, fmt.Sprintf("cannot read %s: %v", path, cause(err)), ""}
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, lab.MaxSize+1))
	if err != nil {
		return nil, failure{exitUsage, fmt.Sprintf("cannot read %s: %v", path, cause(err)), ""}
	}
	a.inputs = append(a.inputs, path)
	if !bytes.Contains(data, []byte("bastion-profile:")) {
		return nil, failure{
			exitUsage,
			fmt.Sprintf("profile: %s is not a valid profile", name),
			"bastion profile start NAME writes one to fill in",
		}
	}
	return lab.ReadProfile(path, data)
}

// profiles reads the profiles that a lab's appliances name: one that ships
// with the program by its name, another as a file beside the lab file.
func (a *app) profiles(l *lab.Lab, file string) error {
	l.Profiles = map[string]*lab.Profile{}
	folder := ""
	if file != "-" {
		folder = filepath.Dir(file)
	}
	for _, ap := range l.Appliances {
		if l.Profiles[ap.Profile] != nil {
			continue
		}
		name := ap.Profile
		if name == "" {
			name = profiles.Default
		}
		p, err := a.profileOf(name, folder)
		if f, ok := err.(failure); ok {
			return lab.Faults{{File: l.File, Pos: ap.At("profile"), Message: f.text, Instead: f.hint}}
		}
		if err != nil {
			return err
		}
		l.Profiles[ap.Profile] = p
	}
	return nil
}
