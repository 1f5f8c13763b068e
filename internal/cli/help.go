package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"openbastion/internal/model/lab"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/explain"
)

// The stretches of the work, in whose order help lists the commands.
const (
	groupStart    = "Try it"
	groupPlan     = "Plan"
	groupBuild    = "Build"
	groupProve    = "Rehearse"
	groupReal     = "Run it"
	groupLookUp   = "Look up"
	groupNotShown = ""
)

// groups in the order of the work.
var groups = []string{groupStart, groupPlan, groupProve, groupReal, groupBuild, groupLookUp}

// firstScreen are the commands that help shows first, in the order of the work.
var firstScreen = []string{"demo", "new", "adopt", "plan", "check", "rehearse", "prove", "trace", "diagnose",
	"runbook", "map", "compare", "draw", "export", "start", "status", "verify", "stop", "explain"}

// voice lets a command tree speak as the rest of the program does: help in
// groups, errors that say how a command is called.
func (a *app) voice(root *cobra.Command) {
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { a.showHelp(c) })
	root.SetHelpCommand(a.helpCommand(root))
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return failure{
			exitUsage,
			fmt.Sprintf("%s: %v", c.CommandPath(), err),
			"its options: " + c.CommandPath() + " --help",
		}
	})
	var each func(*cobra.Command)
	each = func(c *cobra.Command) {
		fits := c.Args
		c.Args = func(c *cobra.Command, args []string) error {
			if fits == nil || fits(c, args) == nil {
				return nil
			}
			if c.HasSubCommands() && len(args) > 0 {
				return unknownCommand(c, args[0])
			}
			return failure{exitUsage, "usage: " + callLine(c), "details: " + c.CommandPath() + " --help"}
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(root)
}

func unknownCommand(c *cobra.Command, name string) error {
	var known []string
	for _, sub := range c.Commands() {
		known = append(known, sub.Name())
	}
	if c.Parent() == nil {
		known = nil
		for _, x := range commands {
			known = append(known, x.name)
		}
	}
	hint := "all commands: " + c.CommandPath() + " --help"
	if near := lab.Nearest(name, known); near != "" {
		hint = "did you mean " + c.CommandPath() + " " + near + "?"
	}
	return failure{exitUsage, fmt.Sprintf("%s has no command %s", c.CommandPath(), name), hint}
}

// callLine returns how a command is called.
func callLine(c *cobra.Command) string {
	path := c.CommandPath()
	if c.HasParent() {
		path = c.Parent().CommandPath() + " " + c.Use
	}
	if c.HasSubCommands() {
		path += " COMMAND"
	}
	if c.HasAvailableFlags() && c.Runnable() {
		path += " [OPTIONS]"
	}
	return path
}

func (a *app) showHelp(c *cobra.Command) {
	s := newScreen(a.out, a.color)
	s.width = min(s.width, 80)
	if !c.Runnable() && !c.HasSubCommands() {
		s.page(c.Long)
		return // a page of text
	}
	s.line("usage: ", callLine(c))
	s.line()
	s.para(0, 0, plain, strings.TrimSuffix(c.Short, ".")+".")
	a.showCommands(s, c)
	s.flags("Options", c.LocalNonPersistentFlags())
	if c.Example != "" {
		s.heading("Examples")
		for line := range strings.SplitSeq(c.Example, "\n") {
			s.line(line)
		}
	}
	if c.Long != "" && c.HasParent() {
		s.heading("Details")
		s.page(c.Long)
	}
	s.flags("Global options", c.Root().PersistentFlags())
	s.line()
	switch {
	case !c.HasParent():
		s.line("Start with: bastion demo")
		s.line("bastion help COMMAND   one command      bastion help --all   all commands")
		s.line("bastion explain WORD   a word, a finding or a check")
	case c.HasSubCommands():
		s.line("Details: ", c.CommandPath(), " COMMAND --help")
	}
}

// showCommands lists the commands below one: of the program the first ones, or all in groups.
func (a *app) showCommands(s *screen, c *cobra.Command) {
	byGroup, byName := map[string]*table{}, map[string]*cobra.Command{}
	for _, sub := range c.Commands() {
		group := sub.Annotations["group"]
		byName[sub.Name()] = sub
		if !sub.Hidden && (c.HasParent() || group != groupNotShown) {
			if byGroup[group] == nil {
				byGroup[group] = &table{}
			}
			byGroup[group].add(cell{sub.Name(), strong}, sub.Short)
		}
	}
	if !c.HasParent() && !a.allHelp {
		t := table{}
		for _, name := range firstScreen {
			if sub := byName[name]; sub != nil {
				t.add(cell{name, strong}, sub.Short)
			}
		}
		s.heading("Commands")
		s.table(t)
		return
	}
	for _, group := range append([]string{groupNotShown}, groups...) {
		if t := byGroup[group]; t != nil {
			s.heading(cmp.Or(group, "Commands"))
			s.table(*t)
		}
	}
}

// page sets a text of paragraphs: plain lines run on and wrap, indented ones
// stay lines, and wrap under their second column.
func (s *screen) page(text string) {
	var run []string
	flush := func() {
		if run != nil {
			s.para(0, 0, plain, strings.Join(run, " "))
			run = nil
		}
	}
	for _, l := range strings.Split(text, "\n") {
		if l != "" && l[0] != ' ' {
			run = append(run, l)
			continue
		}
		flush()
		body := strings.TrimLeft(l, " ")
		lead := len(l) - len(body)
		if _, rest, columns := strings.Cut(body, "  "); columns {
			lead += len(body) - len(strings.TrimLeft(rest, " "))
		}
		if width(l) <= s.width {
			s.line(l)
			continue
		}
		for i, part := range wrap(l[lead:], s.width-lead) {
			if i == 0 {
				s.line(l[:lead], part)
			} else {
				s.line(strings.Repeat(" ", lead), part)
			}
		}
	}
	flush()
}

// flags shows a command's options.
func (s *screen) flags(title string, set *pflag.FlagSet) {
	t := table{}
	set.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if f.Value.Type() != "bool" {
			name += " …"
		}
		text := f.Usage
		if d := strings.Trim(f.DefValue, "[]"); d != "" && d != "false" && d != "0" && d != "text" && d != "auto" {
			text += " (default " + d + ")"
		}
		t.add(cell{name, strong}, text)
	})
	if len(t.rows) > 0 {
		s.heading(title)
		s.table(t)
	}
}

// helpCommand shows a command's or a topic's page.
func (a *app) helpCommand(root *cobra.Command) *cobra.Command {
	c := &cobra.Command{
		Use: "help [COMMAND|TOPIC|WORD]", Short: "Show a command, a topic (lab-file, sentences, exit-status), or explain a word",
		Annotations: map[string]string{"group": groupLookUp},
		RunE: func(_ *cobra.Command, args []string) error {
			c, rest, err := root.Find(args)
			if err == nil && len(rest) == 0 {
				a.showHelp(c)
				return nil
			}
			name := strings.ToLower(strings.Join(args, " "))
			_, word := explain.Find(name)
			if _, finding := check.Lookup(name); !word && !finding {
				return unknownCommand(root, name)
			}
			return a.explainWord(name)
		},
	}
	c.Flags().BoolVar(&a.allHelp, "all", false, "list all commands, in groups")
	return c
}

// completion writes what a shell needs to complete commands.
func (a *app) completion() *cobra.Command {
	shells := []string{"bash", "zsh", "fish", "powershell"}
	return &cobra.Command{
		Use: "completion SHELL", Short: "Print shell completion",
		Long: `Writes what a shell needs to complete commands, lab files, and the names in the
lab at hand. For bash, in this session:

  source <(bastion completion bash)

For good, put that line into the shell's start-up file.`,
		Args: cobra.ExactArgs(1), ValidArgs: shells,
		RunE: func(c *cobra.Command, args []string) error {
			root := Commands()
			switch args[0] {
			case "bash":
				return root.GenBashCompletionV2(a.out, true)
			case "zsh":
				return root.GenZshCompletion(a.out)
			case "fish":
				return root.GenFishCompletion(a.out, true)
			case "powershell":
				return root.GenPowerShellCompletionWithDesc(a.out)
			}
			return failure{exitUsage, "no completion for " + args[0], "shells: " + strings.Join(shells, ", ")}
		},
	}
}
