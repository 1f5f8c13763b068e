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

func (a *app) runbook() *cobra.Command {
	var form, to, wording, since, state, record, machine string
	var replace, walk, anyway, full bool
	var on string
	install := installOptions{start: startOptions{size: "64MiB", accel: "auto"}}
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
			if form == "" {
				form = map[string]string{".md": "markdown", ".html": "html", ".htm": "html"}[strings.ToLower(filepath.Ext(to))]
				if form == "" {
					form = "text"
				}
			}
			if !oneOf(form, "text", "markdown", "html") {
				return usage("--form is text, markdown or html, not %q", form)
			}
			if !walk && (record != "" || state != "") {
				return usage("--record and --state go with --walk")
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			warning := brokenPlan(p)
			if err := a.goOn(warning, anyway); err != nil {
				return err
			}
			if on != "" {
				if !walk || on != onMachines || labArg(args) == "-" {
					return usage("--on machines needs --walk, and a lab from a file")
				}
				return a.install(p, labArg(args), install)
			}
			if wording == "" {
				wording = ownWording(p.Lab)
			}
			words, err := a.wordingNamed(wording)
			if err != nil {
				return err
			}
			write := runbook.Of
			if machine != "" {
				if _, err := machineNamed(p, machine); err != nil {
					return err
				}
				write = func(p *plan.Plan, w *lab.Wording) runbook.Book {
					if m := p.Machine(machine); m != nil {
						return runbook.For(p, w, m)
					}
					return runbook.Book{} // an older lab has no such machine
				}
			}
			makeBook := func() (runbook.Book, []string) { return write(p, words), nil }
			if since != "" {
				old, err := a.load(since)
				if err != nil {
					return err
				}
				makeBook = func() (runbook.Book, []string) {
					sameNames(p, old)
					return runbook.Since(write(old, words), write(p, words))
				}
			}
			book, gone := makeBook()
			book.Warning = warning
			if since != "" {
				for _, title := range gone {
					a.note("no longer needed: " + title)
				}
				if len(book.Parts) == 0 {
					a.note("no step differs from those of " + since)
					return nil
				}
			}
			if walk {
				if state == "" {
					if labArg(args) == "-" {
						return usage("a lab from standard input cannot be walked through: use a file")
					}
					state = strings.TrimSuffix(labArg(args), filepath.Ext(labArg(args))) + ".walk.json"
				}
				return a.walk(p, func() runbook.Book { b, _ := makeBook(); return b }, state, record, replace)
			}
			var data []byte
			if !full && form != "html" {
				book = book.Brief()
			}
			switch form {
			case "markdown":
				data = book.Markdown()
			case "html":
				var svg bytes.Buffer
				if err := diagram.Of(p, diagram.Options{}).SVG(&svg, diagram.Light); err != nil {
					return usage("%s", err)
				}
				if data, err = book.HTML(svg.Bytes()); err != nil {
					return usage("%s", err)
				}
			default:
				data = book.Text(a.lineWidth(to))
			}
			return a.deliver(to, "the runbook", data, replace)
		},
	}
	c.Flags().StringVar(&form, "form", "", "text, markdown or html")
	c.Flags().StringVar(&to, "to", "", "the file to write (default: standard output)")
	c.Flags().BoolVar(&replace, "replace", false, "replace an existing file")
	c.Flags().
		StringVar(&wording, "wording", "", "hypervisor terms: desktop, server, kernel, or a file (default: the lab file's, else desktop)")
	c.Flags().StringVar(&since, "since", "", "only the steps that differ from those of this lab file")
	c.Flags().StringVar(&machine, "for", "", "only the part of one machine")
	c.Flags().BoolVar(&anyway, "anyway", false, "also for a lab with errors; every page says so")
	c.Flags().BoolVar(&full, "full", false, "with reasons, usual mistakes and general advice")
	c.Flags().BoolVar(&walk, "walk", false, "one step at a time, remembered")
	c.Flags().
		StringVar(&on, "on", "", "with --walk: machines, to build the lab as virtual machines and go through their consoles' questions")
	c.Flags().
		BoolVar(&install.yes, "yes", false, "with --on machines: type every planned answer without asking; stop at an unknown question")
	c.Flags().
		StringVar(&install.layout, "layout", "us", "with --on machines: the keyboard that the console is set up for")
	c.Flags().StringVar(&install.start.kernel, "kernel", "", "with --on machines: as for \"bastion start\"")
	c.Flags().StringVar(&install.start.inside, "inside", "", "with --on machines: as for \"bastion start\"")
	c.Flags().StringArrayVar(&install.start.only, "only", nil, "with --on machines: as for \"bastion start\"")
	c.Flags().StringVar(&state, "state", "", "with --walk: the state file (default: beside the lab file)")
	c.Flags().StringVar(&record, "record", "", "with --walk: the file for the as-built record (Markdown)")
	return c
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
