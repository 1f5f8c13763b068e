package cli

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/render/sarif"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/verdict"
)

func (a *app) check() *cobra.Command {
	var failOn, on, form string
	var only, except []string
	var mend, yes bool
	c := &cobra.Command{
		Use: "check [LAB]", Short: "Lint a lab file",
		Long: `Reads the plan of a lab and says what will go wrong: where it stands in the file,
what you would see if you built it so, and the remedy. bastion explain CODE
tells more. What is meant to be so is written under accept: in the lab file.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantForm(form, "text", "sarif"); err != nil {
				return err
			}
			if !oneOf(failOn, "error", "warning", "note", "never") {
				return usage("--fail-on is error, warning, note or never, not %q", failOn)
			}
			day := time.Now().UTC().Truncate(24 * time.Hour)
			if on != "" {
				var err error
				if day, err = time.Parse(time.DateOnly, on); err != nil {
					return usage("--on is a day such as 2026-11-20, not %q", on)
				}
			}
			for _, code := range append(append([]string(nil), only...), except...) {
				if err := knownCode(code); err != nil {
					return err
				}
			}
			file := labArg(args)
			if mend && file == "-" {
				return usage("--mend changes a file; standard input is none")
			}
			p, err := a.load(file)
			if err != nil {
				return err
			}
			all := check.Run(p, day)
			list := chosen(all, only, except)
			check.Offer(p, a.texts[file], day, all, list)
			if mend {
				return a.mend(file, p, list, yes)
			}
			if err := a.showFindings(p, list, form, file); err != nil {
				return err
			}
			for _, f := range list {
				if f.Accepted == "" && failOn != "never" && f.Severity.AtLeast(check.Severity(failOn)) {
					return failure{status: exitBroken}
				}
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&failOn, "fail-on", "error", "findings that make the status 1: error, warning, note or never")
	f.StringVar(&on, "on", "", "the day to judge trial periods by, such as 2026-11-20 (default: today)")
	f.StringSliceVar(&only, "only", nil, "only these findings")
	f.StringSliceVar(&except, "except", nil, "all but these findings")
	f.StringVar(&form, "form", "text", "text, or sarif for annotations in a code host")
	f.BoolVar(&mend, "mend", false, "write the mechanical fixes into the lab file")
	f.BoolVar(&yes, "yes", false, "with --mend: do not ask")
	return c
}

// simulated returns the verdict of a rehearsal.
func simulated(p *plan.Plan) verdict.Document { return verdict.Finish(p, simulator.New(p).Outcome()) }

func knownCode(code string) error {
	if _, ok := check.Lookup(code); ok {
		return nil
	}
	if near := lab.Nearest(code, findingCodes()); near != "" {
		return usage("no finding %s; did you mean %s?", code, near)
	}
	return usage("no finding %s; `bastion explain finding` lists them", code)
}

func findingCodes() []string {
	var codes []string
	for _, e := range check.Catalogue() {
		codes = append(codes, e.Code)
	}
	return codes
}

// chosen leaves out what the flags leave out.
func chosen(list []check.Finding, only, except []string) []check.Finding {
	out := []check.Finding{}
	for _, f := range list {
		if (len(only) == 0 || oneOf(f.Code, only...)) && !oneOf(f.Code, except...) {
			out = append(out, f)
		}
	}
	return out
}

func (a *app) showFindings(p *plan.Plan, list []check.Finding, form, file string) error {
	switch {
	case a.format == "json":
		return a.json(api.Findings{Schema: api.FindingsSchema, Lab: p.Name, Findings: list, Rehearsed: recall(p)})
	case form == "sarif":
		return sarif.Write(a.out, Version, list)
	}
	s := a.screen()
	count := map[check.Severity]int{}
	var accepted, open, rest []check.Finding
	for _, f := range list {
		switch {
		case f.Accepted != "":
			accepted = append(accepted, f)
		case f.Undecided():
			open = append(open, f)
		default:
			count[f.Severity]++
			rest = append(rest, f)
		}
	}
	s.line(tally(s, count, len(accepted), len(open)))
	if a.quiet {
		return nil
	}
	s.line()
	showGrouped(s, rest, a.verbose)
	for _, f := range accepted {
		s.line(s.paint(faint, fmt.Sprintf("%s %s  %s: accepted, %s", signNote, f.Code, f.Subject, f.Accepted)))
	}
	showOpen(s, open)
	sayRehearsed(s, recall(p), file)
	return nil
}

// showOpen lists what is not decided yet, with what works meanwhile.
func showOpen(s *screen, open []check.Finding) {
	if len(open) == 0 {
		return
	}
	s.line(s.paint(strong, "Open questions"))
	for _, f := range open {
		s.line(
			signUnknown,
			" ",
			f.Message,
			"  ",
			s.paint(faint, fmt.Sprintf("%s:%d:%d", f.At.File, f.At.Line, f.At.Column)),
		)
		s.para(4, 0, faint, f.See)
	}
	s.line()
}

func severityCell(v check.Severity) cell {
	switch v {
	case check.Error:
		return cell{signBroken, broken}
	case check.Warning:
		return cell{"!", strong}
	}
	return cell{signNote, faint}
}

func showFinding(s *screen, f check.Finding, notes ...string) {
	c := severityCell(f.Severity)
	s.line(s.paint(c.st, c.text), " ", s.paint(strong, f.Code), "  ", f.Subject, "  ",
		s.paint(faint, fmt.Sprintf("%s:%d:%d", f.At.File, f.At.Line, f.At.Column)))
	s.para(4, 0, plain, f.Message)
	if f.See != "" {
		s.para(4, 2, faint, "symptom: "+f.See)
	}
	s.para(4, 2, strong, "remedy: "+f.Remedy)
	for _, l := range f.Lines {
		s.line("        ", s.paint(inside, l))
	}
	for _, text := range notes {
		s.para(4, 2, plain, text)
	}
	s.line()
}

// Bounds of how findings of one kind are shown.
const (
	mostWhole = 4  // up to how many are each shown whole; of more the first is
	mostNamed = 12 // whose subjects are named then
)

// showGrouped shows findings in their order; where many are of one kind, the first of them speaks for
// the others, which it names.
func showGrouped(s *screen, list []check.Finding, each bool) {
	of := map[string][]check.Finding{}
	for _, f := range list {
		of[f.Code+string(f.Severity)] = append(of[f.Code+string(f.Severity)], f)
	}
	for _, f := range list {
		key := f.Code + string(f.Severity)
		group := of[key]
		switch {
		case each || len(group) > 0 && len(group) <= mostWhole:
			showFinding(s, f)
		case len(group) > 0:
			showFinding(s, f, alsoAt(group[1:]))
			of[key] = nil // said of all
		}
	}
}

// alsoAt names where else a finding is.
func alsoAt(others []check.Finding) string {
	var at []string
	for _, f := range others[:min(len(others), mostNamed)] {
		at = append(at, fmt.Sprintf("%s (line %d)", f.Subject, f.At.Line))
	}
	text := "also: " + strings.Join(at, ", ")
	if n := len(others) - mostNamed; n > 0 {
		text += fmt.Sprintf(", and %s more; -v shows each", grouped(n))
	}
	return text
}

func tally(s *screen, found map[check.Severity]int, accepted, open int) string {
	var parts []string
	for _, x := range []struct {
		v         check.Severity
		one, many string
	}{{check.Error, "error", "errors"}, {check.Warning, "warning", "warnings"}, {check.Note, "note", "notes"}} {
		if found[x.v] > 0 {
			parts = append(parts, count(found[x.v], x.one, x.many))
		}
	}
	if open > 0 {
		parts = append(parts, count(open, "open question", "open questions"))
	}
	if accepted > 0 {
		parts = append(parts, fmt.Sprintf("%d accepted", accepted))
	}
	switch {
	case found[check.Error] > 0:
		return s.paint(broken, signBroken) + " " + strings.Join(parts, ", ") + "."
	case len(parts) == 0:
		return signHolds + " No findings."
	case found[check.Warning] > 0:
		return s.paint(strong, "!") + " No errors: " + strings.Join(parts, ", ") + "."
	}
	return signHolds + " No errors: " + strings.Join(parts, ", ") + "."
}

// terminal reports whether the user can be asked at a terminal.
func (a *app) terminal() bool {
	in, ok := a.in.(*os.File)
	return ok && term.IsTerminal(int(in.Fd()))
}

// agreed asks a question that somebody at the terminal answers with yes or no.
func (a *app) agreed(question string) bool {
	fmt.Fprint(a.err, sanitize.Line(question+" [y/N] "))
	answer, _ := bufio.NewReader(a.in).ReadString('\n')
	return strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y")
}

// mend shows what the mechanical mends change, asks on a terminal, and writes.
func (a *app) mend(file string, p *plan.Plan, list []check.Finding, yes bool) error {
	data, err := a.text(file)
	if err != nil {
		return err
	}
	before := simulated(p)
	list = check.Harmless(data, list, func(mended []byte) bool {
		changed, err := a.planOf(file, mended)
		return err != nil || verdict.Worse(before, simulated(changed))
	})
	mended, n := check.Mend(data, list)
	s := a.screen()
	for _, f := range list {
		if !f.Mechanical() && f.Accepted == "" {
			s.line(s.paint(strong, "left: "), f.Code, " ", f.Subject, ": ", f.Remedy)
		}
	}
	if n == 0 {
		a.note("nothing here can be fixed mechanically")
		return nil
	}
	for _, l := range added(mended, data) {
		s.line(s.paint(broken, "- "+l))
	}
	for _, l := range added(data, mended) {
		s.line(s.paint(inside, "+ "+l))
	}
	if err := a.replan(file, mended); err != nil {
		return err
	}
	if !yes && a.terminal() {
		if !a.agreed("Write this into " + file + "?") {
			a.note(file + " is unchanged")
			return nil
		}
	}
	if bytes.Equal(data, mended) {
		return nil
	}
	return a.replace(file, data, mended, n)
}
