package cli

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
)

func (a *app) mapping() *cobra.Command {
	var as, adopt string
	var files []string
	var byLink, yes bool
	c := &cobra.Command{
		Use: "map [LAB]", Short: "Match listed interfaces to planned ports",
		Long: `Without a listing, shows the adapters to compare with a console, the bytes that
tell them apart set off. With --listing it reads what you copied from the console,
however it is written, or typed by hand with address tails only, and says which
device is which port, what to answer, and what does not fit.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if oneOf("-", files...) && labArg(args) == "-" {
				return usage("only one of the lab and the listing can be standard input")
			}
			if len(files) > 1 && !byLink {
				return usage(
					"several listings are read with --by-link: the first with all connected, then with one adapter unplugged at a time",
				)
			}
			p, err := a.loadWarned(labArg(args))
			if err != nil {
				return err
			}
			if len(files) == 0 && adopt == "" || byLink {
				m, err := machineNamed(p, as)
				if err != nil {
					return err
				}
				if byLink {
					return a.mapByLink(p, m, files)
				}
				return a.showTails(p, m)
			}
			if len(files) > 0 && adopt != "" {
				return usage("--listing reads the planned machine's console, --adopt another one's: use one of them")
			}
			file := adopt
			if adopt == "" {
				file = files[0]
			}
			l, err := a.listing(p, file, as)
			if err != nil {
				return err
			}
			m, err := a.consoleOf(p, l, as)
			if err != nil {
				return err
			}
			if adopt != "" {
				return a.adopt(labArg(args), p, m, l, yes)
			}
			return a.showMapping(p, m, identify.Listed(p, m, l), labArg(args), file)
		},
	}
	c.Flags().
		BoolVar(&yes, "yes", false, "with --adopt: accept the order where there is no other evidence, without asking")
	c.Flags().
		StringArrayVar(&files, "listing", nil, "what the console shows: a file, or - for standard input; several with --by-link")
	c.Flags().BoolVar(&byLink, "by-link", false,
		"identify devices by unplugging one adapter after another; asks on a terminal when there are no listings")
	c.Flags().StringVar(&adopt, "adopt", "",
		"the other way round: write what the console lists, MAC addresses and the names of interfaces, into the lab file")
	c.Flags().StringVar(&as, "as", "", "which machine's console it is (default: detected), else the first appliance")
	return c
}

// listing reads a listing that must hold some interface.
func (a *app) listing(p *plan.Plan, file, machine string) (listing.Listing, error) {
	data, err := a.paste(file, p.Name, machine)
	if err != nil {
		return listing.Listing{}, err
	}
	l := listing.Read(string(data), p.Names()...)
	if len(l.Named()) == 0 {
		return l, failure{exitUsage, "no interface is found in " + file,
			"copy the whole list from the console; a name and a MAC address per line are enough"}
	}
	return l, nil
}

// consoleOf returns the machine whose console a listing is from: the one named, the one
// that it shows, else the first appliance.
func (a *app) consoleOf(p *plan.Plan, l listing.Listing, as string) (*plan.Machine, error) {
	if as == "" {
		if owner, err := identify.Whose(p, l); err == nil {
			return owner.Machine, nil
		}
	}
	return machineNamed(p, as)
}

// mapByLink tells devices by which of them loses its link. The listings come
// from files, or from the person at the terminal, one after another.
func (a *app) mapByLink(p *plan.Plan, m *plan.Machine, files []string) error {
	var lists [][]listing.Interface
	if len(files) == 0 {
		in, ok := a.in.(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return usage("--by-link takes two listings or more: all connected, then one adapter unplugged at a time")
		}
		lines := bufio.NewScanner(in)
		for n := 0; n == 0 || n <= len(m.Own()); n++ {
			what := "all adapters connected"
			if n > 0 {
				what = fmt.Sprintf("adapter %d unplugged and all others connected", n)
			}
			fmt.Fprintf(a.err, "With %s, copy the console's list here; an empty line ends it:\n", sanitize.Line(what))
			var b strings.Builder
			for lines.Scan() && strings.TrimSpace(lines.Text()) != "" {
				b.WriteString(lines.Text() + "\n")
			}
			lists = append(lists, listing.Read(b.String()).Named())
		}
	}
	for _, f := range files {
		l, err := a.listing(p, f, m.Name)
		if err != nil {
			return err
		}
		lists = append(lists, l.Named())
	}
	if len(lists) < 2 || len(lists[0]) == 0 {
		return usage("--by-link takes two listings or more: all connected, then one adapter unplugged at a time")
	}
	return a.showMapping(p, m, identify.ByLink(m, lists[0], lists[1:]), "", "")
}

// adopt writes what a console shows of a machine that is there already into the lab
// file: hardware addresses and the names of interfaces. What only the order tells is
// asked for first.
func (a *app) adopt(file string, p *plan.Plan, m *plan.Machine, l listing.Listing, yes bool) error {
	if file == "-" {
		return usage("--adopt changes a file; standard input is none")
	}
	found, err := identify.Adopt(p, m, l)
	if err != nil {
		return failure{exitUsage, err.Error(), "list each adapter once, with its whole address"}
	}
	data, err := a.text(file)
	if err != nil {
		return err
	}
	changed, n := plan.Adopt(data, found.Found)
	if n == 0 {
		a.note("everything is in " + file + " already")
		return nil
	}
	for _, by := range found.By {
		a.note(by)
	}
	if found.ByOrder && !yes {
		in, ok := a.in.(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return failure{exitUsage, "only their order distinguishes the interfaces, which is a guess",
				"look for a command that shows MAC addresses or roles, or take the order with --yes"}
		}
		if !a.agreed("Only their order distinguishes them, which is a guess. Accept it?") {
			a.note(file + " is unchanged")
			return nil
		}
	}
	return a.rewrite(file, data, changed, n)
}

// machineNamed returns the machine that a console belongs to.
func machineNamed(p *plan.Plan, name string) (*plan.Machine, error) {
	if name == "" {
		if len(p.Appliances()) == 0 {
			return nil, usage("the lab has no appliance: name the machine with --as")
		}
		return p.Appliances()[0], nil
	}
	if m := p.Machine(name); m != nil {
		return m, nil
	}
	known := p.Names()
	if near := lab.Nearest(name, known); near != "" {
		return nil, usage("no machine %s; did you mean %s?", name, near)
	}
	return nil, usage("no machine %s in this lab", name)
}

// showTails shows the planned adapters, to compare by eye.
func (a *app) showTails(p *plan.Plan, m *plan.Machine) error {
	if a.format == "json" {
		rows := []identify.Row{}
		for _, ad := range m.Adapters {
			rows = append(
				rows,
				identify.Row{
					Device:  ad.Device(),
					MAC:     ad.MAC.String(),
					Machine: m.Name,
					Number:  ad.Number,
					Port:    ad.Name,
					Role:    ad.Role,
					Segment: ad.Segment.Name,
				},
			)
		}
		return a.mapJSON(p, rows)
	}
	s := a.screen()
	showTitle(s, p, "adapters of "+m.Name+", to compare with its console")
	t := table{head: []string{"no.", "port", "role", "segment", "MAC address", "tail", "likely device"}}
	n := m.TailLength()
	for _, ad := range m.Adapters {
		t.add(
			fmt.Sprint(ad.Number),
			ad.Name,
			cell{string(ad.Role), roleStyle(ad.Role)},
			segmentCell(ad.Segment),
			cell{ad.MAC.String(), faint},
			cell{ad.MAC.Tail(n), strong},
			strings.Join(ad.Devices, " or "),
		)
	}
	s.line()
	s.table(t)
	s.line()
	s.para(
		2,
		0,
		faint,
		fmt.Sprintf("The last %s distinguish them. Copy the console's list and run: bastion map --listing FILE",
			count(n, "byte", "bytes")),
	)
	return nil
}

func (a *app) mapJSON(p *plan.Plan, rows []identify.Row) error {
	return a.json(api.Map{Schema: api.MapSchema, Lab: p.Name, Interfaces: rows})
}

func (a *app) showMapping(p *plan.Plan, m *plan.Machine, r identify.Result, file, from string) error {
	if a.format == "json" {
		if err := a.mapJSON(p, r.Rows); err != nil {
			return err
		}
	} else {
		s := a.screen()
		showTitle(s, p, m.Name+"'s list, compared with the plan")
		t := table{head: []string{"", "device", "MAC address", "no.", "port", "role", "segment", "by"}}
		for _, row := range r.Rows {
			c, number := cell{signHolds, plain}, fmt.Sprint(row.Number)
			switch {
			case row.Conflict != "":
				c = cell{signBroken, broken}
			case !row.Wired():
				c = cell{signUnknown, strong}
			}
			if row.Number == 0 {
				number = ""
			}
			t.add(c, cell{row.Device, strong}, row.MAC, number, row.Port, cell{string(row.Role), roleStyle(row.Role)}, row.Segment, string(row.How))
		}
		s.line()
		s.table(t)
		if !r.Sound() || r.Risk != "" {
			s.line()
		}
		for _, row := range r.Rows {
			if row.Conflict != "" {
				s.para(2, 2, plain, s.paint(broken, signBroken)+" "+row.Device+": "+row.Conflict)
			}
		}
		for _, ad := range r.Missing {
			s.para(2, 2, plain, fmt.Sprintf("%s adapter %d (%s, …%s) is not in the list", s.paint(broken, signBroken), ad.Number, ad.Name,
				ad.MAC.Tail(2)))
		}
		for _, d := range r.Doubts {
			s.para(2, 2, plain, s.paint(strong, signUnknown)+" "+d)
		}
		if r.Risk != "" {
			s.para(2, 2, strong, "! "+r.Risk)
		}
		if next := nextOf(r, file, from); next != "" {
			s.line()
			s.para(2, 2, faint, "To use these values in the plan, the answers and the runbook:")
			s.line("    ", next)
		}
		if m.Appliance != nil {
			s.section(section{"Console prompts", answerTable(r.Answers(p, m), m, "console")})
		}
	}
	if !r.Sound() || slices.ContainsFunc(r.Rows, func(row identify.Row) bool { return !row.How.Sure() }) {
		return failure{status: exitBroken}
	}
	return nil
}

// nextOf returns what to type to take what was found into the lab file; nothing when it
// is there already.
func nextOf(r identify.Result, file, from string) string {
	if file == "" || file == "-" || from == "-" {
		return ""
	}
	for _, row := range r.Rows {
		if ad := row.Adapter(); ad != nil && row.Conflict == "" &&
			(!ad.MACGiven && len(row.MAC) == 17 || ad.Seen() == "" &&
				row.Device != ad.Name) {
			return fmt.Sprintf("bastion map %s --adopt %s", file, from)
		}
	}
	return ""
}
