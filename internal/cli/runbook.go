package cli

import (
	"bytes"
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/render/diagram"
	"openbastion/internal/render/runbook"
	"openbastion/profiles"
)

// runbookOptions are how a runbook is written.
type runbookOptions struct {
	form, to, wording, since string
	machine                  string // whose part alone is written; empty: all
	replace, anyway, full    bool

	walk          bool
	state, record string
	on            string
	install       installOptions
}

func (a *app) runbook() *cobra.Command {
	o := runbookOptions{install: installOptions{start: startOptions{size: "64MiB", accel: "auto"}}}
	c := &cobra.Command{
		Use: "runbook [LAB]", Short: "Write the step-by-step instructions",
		Long: `Writes the whole job in order, for this lab and with its values: images, machines,
adapters, console questions with their answers, settings on its pages, rules, guests,
tests: values to type, what to see, a box to tick. --full adds to each step why, what is
often wrong there and how that shows, and what stands in every lab's runbook. The page
(--form html) holds both.

--wording puts a hypervisor's words in: desktop, server or kernel (Linux bridges and
tap devices), which ship with the program, or a file of your own ("bastion schema --of wording" describes it).
--since writes the steps that differ from an older lab file, --for those of one machine
for the person who looks after it. --walk takes you through the steps one at a time, judges
listings that you paste, and remembers where you stopped; --record writes what was done as
the as-built record.

--walk --on machines does it: it makes the virtual machines, reads what an appliance's
console asks from its screen, shows the planned answer and types it when you press Enter,
ejects the medium where that is asked for, and starts the guests once the appliance
answers. A snapshot is taken before each answer, and what was typed is read back before
Enter is pressed. A question that no rule knows is left to you.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text"); err != nil {
				return err
			}
			if err := o.check(); err != nil {
				return err
			}
			return a.writeRunbook(labArg(args), o)
		},
	}
	f := c.Flags()
	f.StringVar(&o.form, "form", "", "text, markdown or html")
	f.StringVar(&o.to, "to", "", "the file to write (default: standard output)")
	f.BoolVar(&o.replace, "replace", false, "replace an existing file")
	f.StringVar(&o.wording, "wording", "",
		"hypervisor terms: desktop, server, kernel, or a file (default: the lab file's, else desktop)")
	f.StringVar(&o.since, "since", "", "only the steps that differ from those of this lab file")
	f.StringVar(&o.machine, "for", "", "only the part of one machine")
	f.BoolVar(&o.anyway, "anyway", false, "also for a lab with errors, marked on every page")
	f.BoolVar(&o.full, "full", false, "with reasons, usual mistakes and general advice")
	f.BoolVar(&o.walk, "walk", false, "one step at a time, remembered")
	f.StringVar(&o.on, "on", "",
		"with --walk: machines, to build the lab as virtual machines and go through their consoles' questions")
	f.BoolVar(&o.install.yes, "yes", false,
		"with --on machines: type every planned answer without asking; stop at an unknown question")
	f.StringVar(&o.install.layout, "layout", "us", "with --on machines: the keyboard that the console is set up for")
	f.StringVar(&o.install.start.kernel, "kernel", "", "with --on machines: as for \"bastion start\"")
	f.StringVar(&o.install.start.inside, "inside", "", "with --on machines: as for \"bastion start\"")
	f.StringArrayVar(&o.install.start.only, "only", nil, "with --on machines: as for \"bastion start\"")
	f.StringVar(&o.state, "state", "", "with --walk: the state file (default: beside the lab file)")
	f.StringVar(&o.record, "record", "", "with --walk: the file for the as-built record (Markdown)")
	return c
}

// check fills the form in from the name of the file, and refuses what does not go together.
func (o *runbookOptions) check() error {
	if o.form == "" {
		byName := map[string]string{".md": "markdown", ".html": "html", ".htm": "html"}
		o.form = cmp.Or(byName[strings.ToLower(filepath.Ext(o.to))], "text")
	}
	if !oneOf(o.form, "text", "markdown", "html") {
		return usage("--form is text, markdown or html, not %q", o.form)
	}
	if !o.walk && (o.record != "" || o.state != "") {
		return usage("--record and --state go with --walk")
	}
	return nil
}

// writeRunbook writes the runbook of a lab, or goes through it.
func (a *app) writeRunbook(file string, o runbookOptions) error {
	p, err := a.load(file)
	if err != nil {
		return err
	}
	warning := brokenPlan(p)
	if err := a.goOn(warning, o.anyway); err != nil {
		return err
	}
	if o.on != "" {
		if !o.walk || o.on != onMachines || file == "-" {
			return usage("--on machines needs --walk, and a lab from a file")
		}
		return a.install(p, file, o.install)
	}
	makeBook, err := a.bookMaker(p, o)
	if err != nil {
		return err
	}
	book, gone := makeBook()
	book.Warning = warning
	if o.since != "" {
		for _, title := range gone {
			a.note("no longer needed: " + title)
		}
		if len(book.Parts) == 0 {
			a.note("no step differs from those of " + o.since)
			return nil
		}
	}
	if o.walk {
		if o.state == "" {
			if file == "-" {
				return usage("a lab from standard input cannot be walked through: use a file")
			}
			o.state = strings.TrimSuffix(file, filepath.Ext(file)) + ".walk.json"
		}
		return a.walk(p, func() runbook.Book { b, _ := makeBook(); return b }, o.state, o.record, o.replace)
	}
	data, err := a.formed(p, book, o)
	if err != nil {
		return err
	}
	return a.deliver(o.to, "the runbook", data, o.replace)
}

// bookMaker returns what writes the book as it is asked for: in a hypervisor's words, for one machine, or what differs
// from an older lab, with the titles of steps that are no more.
func (a *app) bookMaker(p *plan.Plan, o runbookOptions) (func() (runbook.Book, []string), error) {
	words, err := a.wordingNamed(cmp.Or(o.wording, ownWording(p.Lab)))
	if err != nil {
		return nil, err
	}
	write := runbook.Of
	if o.machine != "" {
		if _, err := machineNamed(p, o.machine); err != nil {
			return nil, err
		}
		write = func(p *plan.Plan, w *lab.Wording) runbook.Book {
			if m := p.Machine(o.machine); m != nil {
				return runbook.For(p, w, m)
			}
			return runbook.Book{} // an older lab has no such machine
		}
	}
	if o.since == "" {
		return func() (runbook.Book, []string) { return write(p, words), nil }, nil
	}
	old, err := a.load(o.since)
	if err != nil {
		return nil, err
	}
	return func() (runbook.Book, []string) {
		sameNames(p, old)
		return runbook.Since(write(old, words), write(p, words))
	}, nil
}

// formed returns a book in the form that is asked for.
func (a *app) formed(p *plan.Plan, book runbook.Book, o runbookOptions) ([]byte, error) {
	if !o.full && o.form != "html" {
		book = book.Brief()
	}
	switch o.form {
	case "markdown":
		return book.Markdown(), nil
	case "html":
		var svg bytes.Buffer
		if err := diagram.Of(p, diagram.Options{}).SVG(&svg, diagram.Light); err != nil {
			return nil, usage("%s", err)
		}
		return book.HTML(svg.Bytes())
	}
	return book.Text(a.lineWidth(o.to)), nil
}

// ownWording returns the wording that a lab file names, a file as seen from it; desktop
// where it names none.
func ownWording(l *lab.Lab) string {
	name := l.Site.Hypervisor
	if _, shipped := profiles.Wording(name); name == "" || shipped || filepath.IsAbs(name) {
		return cmp.Or(name, "desktop")
	}
	return filepath.Join(filepath.Dir(l.File), name)
}

// wordingNamed reads a wording that ships with the program, or a file; what a
// file does not say is said in plain words.
func (a *app) wordingNamed(name string) (*lab.Wording, error) {
	if data, shipped := profiles.Wording(name); shipped {
		return lab.ReadWording(name+".yaml", data)
	}
	if _, e := os.Stat(name); e != nil && name != "-" {
		return nil, usage("no wording %s, neither shipped nor as a file; shipped: %s", name,
			strings.Join(profiles.WordingNames(), ", "))
	}
	data, err := a.read(name, lab.MaxSize+1)
	if err != nil {
		return nil, err
	}
	w, err := lab.ReadWording(name, data)
	if err != nil {
		return nil, err
	}
	plain, err := a.wordingNamed("desktop")
	if err == nil {
		w.Fill(plain)
	}
	return w, err
}

// sameNames has another plan call interfaces as one does, so that names which were
// found do not make steps differ.
func sameNames(p, other *plan.Plan) {
	called := map[*plan.Adapter]string{}
	for _, m := range p.Machines {
		o := other.Machine(m.Name)
		if o == nil {
			continue
		}
		for _, ad := range m.Adapters {
			at := slices.IndexFunc(o.Adapters, func(x *plan.Adapter) bool { return x.Name == ad.Name })
			if at >= 0 && ad.Seen() != "" && o.Adapters[at].Seen() != ad.Seen() {
				called[o.Adapters[at]] = ad.Seen()
			}
		}
	}
	other.Call(called)
}
