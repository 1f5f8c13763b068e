package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"openbastion/examples"
	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// The sample lab and its leaky twin, in the order in which they are shown.
var demoLabs = []struct {
	file, says string
	want       claims.Verdict
}{
	{"saltmarsh.yaml", "The sample lab: a WAN, three segments behind one appliance, four guests.", claims.Holds},
	{
		"saltmarsh-leaky.yaml",
		"The leaky variant: a second adapter was left plugged in, and the host's DHCP server is on.",
		claims.Broken,
	},
}

func (a *app) demo() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "demo", Short: "Run the whole job on the sample lab",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if dir != "" {
				if err := a.writeDemo(dir); err != nil {
					return err
				}
			}
			return a.runDemo(dir)
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "write the two lab files into this folder")
	return c
}

// writeDemo puts the sample labs into a folder; what is there stays.
func (a *app) writeDemo(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return failure{exitUsage, fmt.Sprintf("cannot make %s: %v", dir, cause(err)), ""}
	}
	for _, d := range demoLabs {
		data, err := examples.Labs.ReadFile(d.file)
		if err != nil {
			return err
		}
		if err := a.writeNew(filepath.Join(dir, d.file), data, false); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) runDemo(dir string) error {
	s := a.screen()
	doc := api.Demo{Schema: api.DemoSchema}
	asPlanned := true
	for i, d := range demoLabs {
		data, err := examples.Labs.ReadFile(d.file)
		if err != nil {
			return err
		}
		l, err := lab.Read(d.file, data)
		if err != nil {
			return err
		}
		if err := a.profiles(l, "-"); err != nil {
			return err
		}
		p, err := plan.Build(l)
		if err != nil {
			return err
		}
		verdict, frames, err := a.rehearsal(p, "", false, nil)
		if err != nil {
			return err
		}
		asPlanned = asPlanned && verdict.Verdict == d.want
		doc.Lab = p.Name
		doc.Steps = append(doc.Steps, api.DemoStep{Plan: p.Document(), Verdict: verdict})
		if a.format == "json" {
			continue
		}
		if i > 0 {
			s.line()
		}
		s.line(s.paint(strong, fmt.Sprintf("%d  %s", i+1, d.says)))
		if i == 0 {
			for _, t := range []section{wireTables(p)[0], addressTables(p)[0], ruleTables(p)[0]} {
				s.section(t)
			}
		}
		s.heading(fmt.Sprintf("Rehearsal: %s", count(frames, "frame", "frames")))
		a.showVerdict(s, verdict, nil)
	}
	if a.format == "json" {
		if err := a.json(doc); err != nil {
			return err
		}
	} else {
		showNext(s, dir)
	}
	if !asPlanned {
		return failure{exitBroken, "the demo failed: please report this", ""}
	}
	return nil
}

func showNext(s *screen, dir string) {
	s.heading("Next")
	t := table{}
	at := func(file string) string { return filepath.Join(dir, file) }
	if dir == "" {
		t.add("bastion demo --dir saltmarsh", "writes both lab files into a folder, to change and try")
		at = func(file string) string { return filepath.Join("saltmarsh", file) }
	}
	t.add("bastion rehearse "+at("saltmarsh-leaky.yaml"), "remove otter's second adapter, then rehearse again")
	t.add("bastion plan "+at("saltmarsh.yaml"), "the whole plan: MAC addresses, pools, rules")
	t.add("bastion start "+at("saltmarsh.yaml"), "the same on this machine's kernel (Linux)")
	t.add("bastion new mylab", "creates a lab file of your own")
	s.table(t)
}
