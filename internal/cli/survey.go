package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/hostinfo"
	"openbastion/internal/model/lab"
)

func (a *app) survey() *cobra.Command {
	var write string
	c := &cobra.Command{
		Use: "survey", Short: "Show what this machine offers for a lab",
		Long: `Looks at this machine's adapters, networks, processors, memory and disk, tries
whether virtual machines can be accelerated, and says what follows for a lab.
With --write the site of a lab file is set to what was seen.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			r := hostinfo.Look(".")
			r.Accelerate()
			if write != "" {
				return a.writeSite(write, r)
			}
			if a.format == "json" {
				return a.json(api.Survey{Schema: api.SurveySchema, Report: r, Follows: r.Follows()})
			}
			showSurvey(a.screen(), r)
			return nil
		},
	}
	c.Flags().StringVar(&write, "write", "", "write it under site: into this lab file")
	return c
}

// tryAccelerator is the hidden command that the survey runs as a child.
func (a *app) tryAccelerator() *cobra.Command {
	return &cobra.Command{
		Use: hostinfo.TryCommand, Hidden: true, Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := hostinfo.TryAccelerator(); err != nil {
				fmt.Fprint(a.err, err)
				return failure{status: exitLacking}
			}
			return nil
		},
	}
}

func showSurvey(s *screen, r *hostinfo.Report) {
	s.line(s.paint(strong, "this machine"), "  ", s.paint(faint, r.System))
	t := table{head: []string{"adapter", "kind", "link", "speed", "MAC address", "addresses"}}
	for _, ad := range r.Adapters {
		var addrs []string
		for _, p := range ad.Addresses {
			addrs = append(addrs, p.String())
		}
		link, speed, st := "down", "", plain
		if ad.Up {
			link = "up"
		}
		if ad.Speed > 0 {
			speed = grouped(ad.Speed) + " Mbit/s"
		}
		if ad.Name == r.Default {
			st = outside
		}
		t.add(cell{ad.Name, st}, string(ad.Kind), link, speed, ad.MAC, strings.Join(addrs, " "))
	}
	s.section(section{"Adapters", t})
	facts := table{}
	fact := func(name, text string) {
		if text != "" {
			facts.add(cell{name, faint}, text)
		}
	}
	if r.Default != "" {
		text := "by " + r.Default
		if r.Gateway.IsValid() {
			text += ", next hop " + r.Gateway.String()
		}
		fact("path outside", text)
	} else {
		fact("path outside", "none")
	}
	var nets, resolvers []string
	for _, n := range r.Networks() {
		nets = append(nets, n.String())
	}
	for _, x := range r.Resolvers {
		resolvers = append(resolvers, x.String())
	}
	fact("networks", strings.Join(nets, " "))
	fact("resolvers", strings.Join(resolvers, " "))
	fact("processors", fmt.Sprint(r.CPUs))
	if r.Memory > 0 {
		fact("memory", fmt.Sprintf("%s, %s free", round(r.Memory), round(r.Available)))
	}
	if r.Disk > 0 {
		fact("disk", round(r.Disk).String()+" free here")
	}
	fact("acceleration", string(r.Accelerated)+": "+r.Why)
	s.section(section{"What it has", facts})
	s.heading("What follows for a lab")
	for _, f := range r.Follows() {
		s.para(2, 2, plain, f)
	}
	if len(r.Unseen) > 0 {
		s.heading("Not seen")
		for _, u := range r.Unseen {
			s.para(2, 2, faint, u)
		}
	}
}

// round drops what nobody plans with: the part below a 64th.
func round(b lab.Bytes) lab.Bytes {
	for _, unit := range []lab.Bytes{lab.TiB, lab.GiB, lab.MiB} {
		if b >= unit {
			return b / (unit / 4) * (unit / 4)
		}
	}
	return b
}

// siteKeys returns the keys of site: as the survey saw them, in order.
func siteKeys(r *hostinfo.Report) [][2]string {
	var nets, uplinks []string
	for _, n := range r.Networks() {
		nets = append(nets, n.String())
	}
	for _, ad := range r.Adapters {
		if ad.Kind != hostinfo.Virtual {
			uplinks = append(uplinks, lab.Value(ad.Name)+": "+string(ad.Kind))
		}
	}
	keys := [][2]string{{"networks", "[" + strings.Join(nets, ", ") + "]"}}
	if uplinks != nil {
		keys = append(keys, [2]string{"uplinks", "{" + strings.Join(uplinks, ", ") + "}"})
	}
	keys = append(keys, [2]string{"cpus", fmt.Sprint(r.CPUs)})
	if r.Memory > 0 {
		keys = append(keys, [2]string{"memory", round(r.Memory).String()})
	}
	if r.Disk > 0 {
		keys = append(keys, [2]string{"disk", round(r.Disk).String()})
	}
	if up, ok := r.Uplink(); ok && up.Kind == hostinfo.Virtual {
		keys = append(keys, [2]string{"virtual", "true"})
	}
	if r.Accelerated != hostinfo.Unknown {
		keys = append(keys, [2]string{"accelerated", fmt.Sprint(r.Accelerated == hostinfo.Yes)})
	}
	return keys
}

// writeSite puts what was seen into a lab file; everything else in it stays.
func (a *app) writeSite(file string, r *hostinfo.Report) error {
	data, err := a.text(file)
	if err != nil {
		return err
	}
	l, err := lab.Read(file, data)
	if err != nil {
		return err
	}
	e := lab.NewEditor(data)
	if l.Has("site") {
		for _, kv := range siteKeys(r) {
			e.Set(&l.Site, kv[0], kv[1])
		}
	} else {
		text := "site:                       # this machine, as surveyed\n"
		for _, kv := range siteKeys(r) {
			text += "  " + kv[0] + ": " + kv[1] + "\n"
		}
		after := "lab"
		if l.Has("title") {
			after = "title"
		}
		e.AddObject(l, after, text)
	}
	return a.rewrite(file, data, e.Bytes(), e.Changed())
}
