// Package cli is the commands: it reads arguments and files, asks the core, and
// shows what comes back. It is the only package that prints.
package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"unicode/utf16"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/hostinfo"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/testbed/remote"
)

// Version of the program; the build sets it.
var Version = "0.1.0"

// Exit statuses.
const (
	exitDone        = 0
	exitBroken      = 1
	exitUsage       = 2
	exitLacking     = 3
	exitInterrupted = 130
)

// failure is an error with its exit status. An empty text prints nothing: the
// command has said it all.
type failure struct {
	status int
	text   string
	hint   string
}

func (f failure) Error() string { return f.text }

func usage(format string, args ...any) error {
	return failure{exitUsage, fmt.Sprintf(format, args...), ""}
}

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	format   string
	color    string
	quiet    bool
	verbose  bool
	allHelp  bool              // help lists every command
	ctx      context.Context   // ends when the program is interrupted
	stopping func()            // takes the watch for that away
	bench    int               // which copy of its lab a file is read as; 0: the lab itself
	named    []string          // profiles outside the lab's folder that the user named
	carried  map[string]string // profiles that came with a plan that was carried, by the names in it
	inputs   []string          // files that this call has read
	texts    map[string][]byte // what lab files held when they were read
	spooled  *os.File          // standard input, where it is kept to be read anywhere
	atEnd    []func()          // what to do when the call ends
	cleaning sync.Mutex
	cleanup  []func() // what to do when interrupted
}

func (a *app) screen() *screen { return newScreen(a.out, a.color) }

// note writes a message to standard error, unless --quiet.
func (a *app) note(text string) {
	if !a.quiet {
		newScreen(a.err, a.color).para(0, 2, plain, text)
	}
}

// checkedWriter remembers the first error of what it writes to, as those who
// print do not look: a result that was not written is an error of the call.
type checkedWriter struct {
	w   io.Writer
	err error
}

func (c *checkedWriter) Write(b []byte) (int, error) {
	if c.err != nil {
		return len(b), nil
	}
	n, err := c.w.Write(b)
	c.err = err
	return n, err
}

// Main runs the program and gives its exit status.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	checked := &checkedWriter{w: out}
	a := &app{in: in, out: checked, err: errs}
	root := a.root(args)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(checked)
	root.SetErr(errs)
	a.ctx = context.Background()
	err := root.ExecuteContext(a.ctx)
	defer a.stop()
	for _, end := range a.atEnd {
		end()
	}
	switch {
	case a.ctx.Err() != nil:
		a.cleanUp()
		return exitInterrupted
	case checked.err != nil:
		return a.fail(failure{exitUsage, "the result could not be written: " + cause(checked.err).Error(), ""})
	case err == nil:
		return exitDone
	}
	return a.fail(err)
}

func (a *app) fail(err error) int {
	s := newScreen(a.err, a.color)
	var faults lab.Faults
	if errors.As(err, &faults) {
		for _, f := range faults {
			where := f.File
			if !f.Pos.IsZero() {
				where += ":" + f.Pos.String()
			}
			text := where + ": " + f.Message
			if f.Instead != "" {
				text += "; " + f.Instead
			}
			s.line(s.paint(broken, signBroken), " ", text)
			if line, mark := f.Excerpt(); line != "" {
				s.line("    ", s.paint(faint, line))
				s.line("    ", s.paint(broken, mark))
			}
		}
		return exitUsage
	}
	var f failure
	if errors.As(err, &f) {
		if f.text != "" {
			s.line(s.paint(broken, signBroken), " ", f.text)
		}
		if f.hint != "" {
			s.line("  ", f.hint)
		}
		return f.status
	}
	s.line(s.paint(broken, signBroken), " ", err.Error())
	return exitUsage
}

// command is how a command is made, and in which group help lists it.
type command struct {
	name, group string
	make        func(*app) *cobra.Command
}

// commands is filled at start, as making help looks through it.
var commands []command

func init() { commands = allCommands() }

// allCommands returns every command, in the order of the work.
func allCommands() []command {
	return []command{
		{"demo", groupStart, (*app).demo},
		{"survey", groupPlan, (*app).survey},
		{"image", groupPlan, (*app).image},
		{"profile", groupPlan, (*app).profile},
		{"new", groupPlan, (*app).newLab},
		{"adopt", groupPlan, (*app).adoptLab},
		{"plan", groupPlan, (*app).plan},
		{"check", groupPlan, (*app).check},
		{"rehearse", groupProve, (*app).rehearse},
		{"prove", groupProve, (*app).prove},
		{"trace", groupProve, (*app).trace},
		{"diagnose", groupProve, (*app).diagnose},
		{"drill", groupProve, (*app).drill},
		{"course", groupStart, (*app).course},
		{"start", groupReal, (*app).start},
		{"status", groupReal, (*app).status},
		{"shell", groupReal, (*app).shell},
		{"verify", groupReal, (*app).verify},
		{"repair", groupReal, (*app).repair},
		{"machine", groupReal, (*app).machine},
		{"snapshot", groupReal, (*app).snapshot},
		{"stop", groupReal, (*app).stopLab},
		{"probe", groupReal, (*app).probe},
		{"witness", groupReal, (*app).witness},
		{"carry", groupReal, (*app).carry},
		{"grade", groupReal, (*app).grade},
		{"class", groupReal, (*app).classGroup},
		{"pack", groupReal, (*app).packCommand},
		{keepCommand, groupNotShown, (*app).keep},
		{remote.BenchCommand, groupNotShown, (*app).benches},
		{insideName, groupNotShown, (*app).firstProcess},
		{"draw", groupBuild, (*app).draw},
		{"runbook", groupBuild, (*app).runbook},
		{"export", groupBuild, (*app).export},
		{"map", groupBuild, (*app).mapping},
		{"compare", groupBuild, (*app).compare},
		{"explain", groupLookUp, (*app).explain},
		{"schema", groupLookUp, (*app).schema},
		{"completion", groupLookUp, (*app).completion},
		{"version", groupLookUp, (*app).version},
		{hostinfo.TryCommand, groupNotShown, (*app).tryAccelerator},
		{"lab-file", groupNotShown, (*app).labTopic},
		{"sentences", groupNotShown, (*app).sentenceTopic},
		{"exit-status", groupNotShown, (*app).exitTopic},
	}
}

// Commands returns all commands, for what describes them, such as manual pages.
func Commands() *cobra.Command {
	return (&app{in: strings.NewReader(""), out: io.Discard, err: io.Discard}).root(nil)
}

// root makes the command that args call for. When their first names a command
// only that one is made, so that starting stays cheap however many there are.
func (a *app) root(args []string) *cobra.Command {
	root := &cobra.Command{
		Use:           "bastion",
		Short:         "Plan, simulate, build and check a lab behind a firewall or router",
		SilenceErrors: true, SilenceUsage: true,
		Args: cobra.NoArgs,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if c.Annotations["group"] != groupLookUp {
				a.watchInterrupts()
			}
			if !oneOf(a.color, "auto", "always", "never") {
				return usage("--color is auto, always or never, not %q", a.color)
			}
			return nil
		},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	f := root.PersistentFlags()
	f.StringVar(&a.format, "format", "text", "output format: text or json (default text)")
	f.StringVar(&a.color, "color", "auto", "colour: auto, always or never (default auto)")
	f.StringArrayVar(
		&a.named,
		"profile",
		nil,
		"profile outside the lab's folder that the lab file may name, repeatable",
	)
	f.BoolVarP(&a.quiet, "quiet", "q", false, "print only the verdict")
	f.BoolVarP(&a.verbose, "verbose", "v", false, "show evidence and assumptions")
	cobra.EnableCommandSorting = false
	root.CompletionOptions.DisableDefaultCmd = true
	only := len(args) > 0 && slices.ContainsFunc(commands, func(c command) bool { return c.name == args[0] })
	for _, c := range commands {
		if only && args[0] != c.name {
			continue
		}
		made := c.make(a)
		made.Annotations = map[string]string{"group": c.group}
		root.AddCommand(made)
	}
	a.voice(root)
	if completing(args) {
		a.complete(root)
	}
	return root
}

func oneOf(text string, known ...string) bool {
	for _, k := range known {
		if k == text {
			return true
		}
	}
	return false
}

// wantFormat refuses a format that the command does not write.
func (a *app) wantFormat(known ...string) error {
	if !oneOf(a.format, known...) {
		return usage("--format is %s, not %q", strings.Join(known, " or "), a.format)
	}
	return nil
}

// wantForm refuses a form that the command does not write, and one beside
// --format json.
func (a *app) wantForm(form string, known ...string) error {
	if err := a.wantFormat("text", "json"); err != nil {
		return err
	}
	if !oneOf(form, known...) {
		return usage("--form is %s, not %q", strings.Join(known, " or "), form)
	}
	if a.format == "json" && form != known[0] {
		return usage("use --form %s or --format json, not both", form)
	}
	return nil
}

// json writes a document.
func (a *app) json(doc any) error { return a.encoded(doc, false) }

// jsonLine writes a document on a line of its own.
func (a *app) jsonLine(doc any) error { return a.encoded(doc, true) }

func (a *app) encoded(doc any, oneLine bool) error {
	data, err := api.Marshal(doc, oneLine)
	if err == nil {
		_, err = a.out.Write(escaped(data))
	}
	return err
}

// escaped writes what does not show in JSON as JSON's own escapes.
func escaped(b []byte) []byte {
	if sanitize.Lines(string(b)) == string(b) {
		return b
	}
	var out bytes.Buffer
	for _, r := range string(b) {
		if r == '\n' || sanitize.Clean(string(r)) {
			out.WriteRune(r)
			continue
		}
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&out, `\u%04x`, unit)
		}
	}
	return out.Bytes()
}

// labArg returns the LAB argument: a file, lab.yaml when there is none.
func labArg(args []string) string {
	if len(args) > 0 {
		return args[0]
	}
	return "lab.yaml"
}

// read reads at most limit bytes of a file, or of standard input for "-".
func (a *app) read(file string, limit int64) ([]byte, error) {
	in := a.in
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			hint := ""
			if os.IsNotExist(err) && file == "lab.yaml" {
				hint = "name a lab file, or write one to start from: bastion new NAME"
			}
			return nil, failure{exitUsage, fmt.Sprintf("cannot read %s: %v", file, cause(err)), hint}
		}
		defer f.Close()
		in = f
		a.inputs = append(a.inputs, file)
	}
	data, err := io.ReadAll(io.LimitReader(in, limit))
	if err != nil {
		return nil, failure{exitUsage, fmt.Sprintf("cannot read %s: %v", file, cause(err)), ""}
	}
	return data, nil
}

// cause takes the operation and the path off an error of the file system.
func cause(err error) error {
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// load reads and plans a lab file.
func (a *app) load(file string) (*plan.Plan, error) {
	data, err := a.read(file, lab.MaxSize+1)
	if err != nil {
		return nil, err
	}
	if a.texts == nil {
		a.texts = map[string][]byte{}
	}
	if a.bench > 0 {
		if data, err = asBench(file, data, a.bench); err != nil {
			return nil, err
		}
	}
	a.texts[file] = data
	return a.planOf(file, data)
}

// asBench returns the text of a lab file as that of a copy of its lab.
func asBench(file string, data []byte, bench int) ([]byte, error) {
	l, err := lab.Read(file, data)
	if err != nil {
		return nil, err
	}
	e := lab.NewEditor(data)
	e.Set(l, "lab", fmt.Sprintf("%s-%d", l.Name, bench))
	return e.Bytes(), nil
}
