package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/export"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/explain"
	"openbastion/profiles"
)

// completing reports whether the call is a shell's question.
func completing(args []string) bool {
	return len(args) > 0 && (args[0] == cobra.ShellCompRequestCmd || args[0] == cobra.ShellCompNoDescRequestCmd)
}

// complete lets commands answer a shell: lab files, and the names, codes and
// words that fit the lab at hand.
func (a *app) complete(root *cobra.Command) {
	const files = cobra.ShellCompDirectiveFilterFileExt
	const none = cobra.ShellCompDirectiveNoFileComp
	labFiles := []string{"yaml", "yml"}
	fixed := func(words ...string) cobra.CompletionFunc {
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) { return words, none }
	}
	onLab := func(words func(*plan.Plan) []string) cobra.CompletionFunc {
		return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			p, err := a.load(labArg(args))
			if err != nil {
				return nil, none
			}
			return words(p), none
		}
	}
	flag := func(c *cobra.Command, name string, fn cobra.CompletionFunc) {
		if c.Flags().Lookup(name) != nil {
			_ = c.RegisterFlagCompletionFunc(name, fn)
		}
	}
	var kinds []string
	for _, k := range export.Kinds() {
		kinds = append(kinds, k.Name+"\t"+k.About)
	}
	var shapes []string
	for _, s := range draft.Shapes {
		shapes = append(shapes, s.Name)
	}
	for _, c := range root.Commands() {
		switch c.Name() {
		case "plan", "check", "map", "draw", "runbook", "export", "rehearse", "start", "status", "verify", "stop":
			c.ValidArgsFunction = func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
				if len(args) > 0 {
					return nil, none
				}
				return labFiles, files
			}
		case "compare":
			c.ValidArgsFunction = func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
				if len(args) > 0 {
					return nil, cobra.ShellCompDirectiveDefault
				}
				return labFiles, files
			}
		case "trace":
			c.ValidArgsFunction = a.completeFlow
		case "shell":
			c.ValidArgsFunction = a.completeShell
		case "explain":
			words := findingCodes()
			for _, w := range explain.Words() {
				words = append(words, w.Name)
			}
			c.ValidArgsFunction = fixed(words...)
		}
		if c.Name() == "export" {
			flag(c, "kind", fixed(kinds...))
		} else {
			flag(c, "as", onLab((*plan.Plan).Names))
		}
		flag(c, "profile", fixed(profiles.Names()...))
		flag(c, "only", fixed(findingCodes()...))
		flag(c, "except", fixed(findingCodes()...))
		flag(c, "shape", fixed(shapes...))
		flag(c, "form", fixed("text", "markdown", "html", "svg", "png", "pdf", "csv", "sarif"))
		flag(c, "ground", fixed("light", "dark"))
		flag(c, "wording", fixed(profiles.WordingNames()...))
		flag(c, "of", fixed("lab", "profile", "wording"))
		if c.Name() == "plan" {
			var parts []string
			for _, p := range planParts {
				parts = append(parts, p.name)
			}
			flag(c, "part", fixed(parts...))
		}
		flag(c, "on", fixed("kernel"))
		flag(c, "then", fixed("verify"))
		flag(c, "add-server", onLab(func(p *plan.Plan) (out []string) {
			for _, s := range p.Segments {
				out = append(out, s.Name)
			}
			return out
		}))
		flag(c, "fault", onLab(faultWords))
		flag(c, "device", onLab(func(p *plan.Plan) []string {
			var out []string
			for _, x := range p.Adapters {
				if x.Machine.Appliance != nil {
					out = append(out, fmt.Sprintf("%s.%s=%s", x.Machine.Name, x.Name, x.Linux()))
				}
			}
			return out
		}))
	}
	_ = root.RegisterFlagCompletionFunc("color", fixed("auto", "always", "never"))
	_ = root.RegisterFlagCompletionFunc("format", fixed("text", "json"))
}

func faultWords(p *plan.Plan) []string {
	var out []string
	for _, m := range p.Machines {
		out = append(out, "unplug="+m.Name, "reboot="+m.Name)
	}
	for _, s := range p.Segments {
		out = append(out, "slow="+s.Name, "loss="+s.Name, "reorder="+s.Name)
	}
	return out
}

// namedLab reads the lab that arguments begin with, else the one at hand, and gives the
// other arguments.
func (a *app) namedLab(args []string) (*plan.Plan, []string, error) {
	given := args
	if len(args) > 0 && (strings.HasSuffix(args[0], ".yaml") || strings.HasSuffix(args[0], ".yml")) {
		args = args[1:]
	} else {
		given = nil
	}
	p, err := a.load(labArg(given))
	return p, args, err
}

// completeShell completes what shell takes: a lab file, a machine, and what the caller's
// own shell completes.
func (a *app) completeShell(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, args, err := a.namedLab(args)
	switch {
	case err != nil:
		return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
	case len(args) > 0:
		return nil, cobra.ShellCompDirectiveDefault
	}
	var names []string
	for _, m := range p.Machines {
		names = append(names, m.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completeFlow completes what trace takes: a lab file, from, to, a service.
func (a *app) completeFlow(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	const none = cobra.ShellCompDirectiveNoFileComp
	p, args, err := a.namedLab(args)
	if err != nil {
		return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
	}
	switch len(args) {
	case 0, 1:
		return append((*plan.Plan).Names(p), "outside"), none
	case 2:
		services := []string{"icmp", "tcp/80", "tcp/443", "udp/53"}
		for _, m := range p.Appliances() {
			for _, v := range m.Publishes {
				services = append(services, fmt.Sprintf("%s/%d", v.Proto, v.Port))
			}
			for _, r := range m.Rules {
				for _, s := range r.Services {
					if s.Proto != lab.Any && !s.AllPorts() && s.From == s.To {
						services = append(services, s.String())
					}
				}
			}
		}
		slices.Sort(services)
		return slices.Compact(services), none
	}
	return nil, none
}
