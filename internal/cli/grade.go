package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"openbastion/internal/api"
	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/grade"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/render/report"
	"openbastion/internal/verify/check"
)

// gradeOptions are how work is graded.
type gradeOptions struct {
	lab, plan, page, record string
	trust                   trusted
	self, replace           bool
}

func (a *app) grade() *cobra.Command {
	var o gradeOptions
	c := &cobra.Command{
		Use: "grade RUBRIC EVIDENCE…", Short: "Grade evidence by a rubric",
		Long: `Gives points by a rubric file (schema --of rubric) for what a class hands in: files of
evidence, lines, briefs, and archives that "bastion pack" made, of any number of benches. Each is
judged by the plan; what was altered, is another bench's, or was held against another plan
counts for nothing, and that is said.

With --self a student sees what is still open before handing in: by the plan that was
carried into the guest (--plan), without the teacher's token.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if o.self != (o.plan != "") {
				return usage("--self needs --plan, the bundle plan of the guest")
			}
			return a.gradeWork(args[0], args[1:], o)
		},
	}
	c.Flags().StringVar(&o.lab, "lab", "lab.yaml", "the lab the class was to build")
	c.Flags().StringVar(&o.trust.token, "token", "", "the lab's token (default: this machine's)")
	c.Flags().
		StringVar(&o.trust.witness, "witness-key", "", "the key of the lab's test server (default: this machine's)")
	c.Flags().DurationVar(&o.trust.since, "since", 0, "refuse evidence that is older than this, such as 24h")
	c.Flags().BoolVar(&o.self, "self", false, "for a student: what is still missing")
	c.Flags().StringVar(&o.plan, "plan", "", "with --self: the guest's bundle plan, a file or the line")
	c.Flags().StringVar(&o.record, "record", "", "with --self: the runbook's record")
	c.Flags().StringVar(&o.page, "page", "", "write one page per bench into this folder")
	c.Flags().BoolVar(&o.replace, "replace", false, "replace existing files")
	return c
}

// marking is what a class's work is held against.
type marking struct {
	rubric   *lab.Rubric
	plan     *plan.Plan
	joiner   *evidence.Joiner
	tokens   func(string) witness.Token
	findings []check.Finding
}

func (a *app) gradeWork(rubric string, from []string, o gradeOptions) error {
	text, err := a.read(rubric, lab.MaxSize+1)
	if err != nil {
		return err
	}
	m := marking{}
	if m.rubric, err = lab.ReadRubric(rubric, text); err != nil {
		return err
	}
	if err := a.heldAgainst(&m, o); err != nil {
		return err
	}
	empty := m.joiner.Join(nil)
	if err := grade.Check(m.rubric, m.plan, empty.Judge(m.plan).Claims); err != nil {
		return err
	}
	if err := o.trust.settle(m.plan.Name); err != nil {
		return err
	}
	works, notes, err := a.works(m, from, o)
	if err != nil {
		return err
	}
	cards := m.cards(works)
	for _, n := range notes {
		a.note(n)
	}
	if o.page != "" {
		if err := a.pages(m, cards, o); err != nil {
			return err
		}
	}
	if a.format == "json" {
		return a.json(
			api.Grades{Schema: api.GradesSchema, Lab: m.plan.Name, Title: m.rubric.Title, Cards: cards, Notes: notes},
		)
	}
	a.showCards(m, cards, o.self)
	return nil
}

// heldAgainst finds the plan and the tokens.
func (a *app) heldAgainst(m *marking, o gradeOptions) error {
	if o.self {
		p, c, err := a.brought(probeOptions{plan: o.plan, as: "-"})
		if err != nil {
			return err
		}
		token, err := witness.ParseToken(c.Token)
		if err != nil {
			return usage("the token: %v", err)
		}
		m.plan, m.joiner, m.tokens = p, evidence.For(p), func(string) witness.Token { return token }
	} else {
		p, err := a.load(o.lab)
		if err != nil {
			return err
		}
		token, err := tokenOf(o.trust.token, p.Name)
		if err != nil {
			return err
		}
		m.plan, m.joiner, m.tokens = p, evidence.For(p), byLab(token)
	}
	m.findings = check.Run(m.plan, time.Time{})
	return nil
}

// handed is what came of one bench.
type handed struct {
	files   []evidence.File
	briefs  []evidence.Brief
	remarks []evidence.Remark
	record  string
	of      string    // the archive that the record is from
	newest  time.Time // the evidence in that archive
}

// intake takes what was handed in, file by file. What cannot be told to be any bench's is noted, and ends
// nothing.
type intake struct {
	m      marking
	o      gradeOptions
	works  map[string]*handed
	notes  []string
	record evidence.Record // of the witness
	kept   bool
}

func (x *intake) of(bench string) *handed {
	if x.works[bench] == nil {
		x.works[bench] = &handed{}
	}
	return x.works[bench]
}

func (x *intake) note(name, format string, args ...any) {
	x.notes = append(x.notes, sanitize.Line(name)+": "+fmt.Sprintf(format, args...))
}

// take takes one file, and returns whose it is and when it was made. Of an archive that speaks for a
// bench nothing counts for another.
func (x *intake) take(name string, data []byte, only string) (bench string, made time.Time) {
	apart := func(bench string) bool {
		if only != "" && bench != only {
			x.note(name, "it is from %s, but the archive is for %s: ignored", bench, only)
			return true
		}
		return false
	}
	if r, is := evidence.ReadRecord(data); is && only == "" && !evidence.IsBrief(data) {
		x.record.Join(r)
		x.kept = true
		return "", made
	}
	if evidence.IsBrief(data) {
		b, err := evidence.ReadBrief(data, x.m.plan, x.m.tokens)
		switch {
		case err != nil:
			x.note(name, "%v", err)
			return "", made
		case apart(b.Bench):
			return "", made
		}
		if why := evidence.Stale(b.Made, time.Now(), x.o.trust.since); why != "" {
			x.note(name, "%s", why)
			return "", made
		}
		x.of(b.Bench).briefs = append(x.of(b.Bench).briefs, b)
		return b.Bench, b.Made
	}
	e, err := readEvidence(data, x.m.tokens)
	if err != nil {
		x.note(name, "not readable: %v", err)
		return "", made
	}
	if apart(e.Bench) {
		return "", made
	}
	if why := evidence.Stale(e.Made, time.Now(), x.o.trust.since); why != "" {
		x.note(name, "%s", why)
		return "", made
	}
	w := x.of(e.Bench)
	if why := e.Trust(x.o.trust.key); why != "" && !x.o.self {
		w.remarks = append(w.remarks, evidence.Remark{File: name, Subject: e.Guest, Text: why})
	}
	w.files = append(w.files, evidence.File{Name: name, Evidence: e})
	return e.Bench, e.Made
}

// archive takes what pack made. It speaks for one bench: that of its first evidence that counts. Its
// record of the runbook, which nobody signs, counts for that bench where no archive has newer evidence.
func (x *intake) archive(name string, data []byte) {
	h, err := unpackWork(data)
	if err != nil {
		x.note(name, "not readable: %v", err)
		return
	}
	bench, newest, found := "", time.Time{}, false
	for _, inner := range slices.Sorted(maps.Keys(h.evidence)) {
		if slices.Contains(h.wrong, packEvidence+inner) {
			x.note(name, "%s does not match its checksum", inner)
			continue
		}
		only := ""
		if found {
			only = cmp.Or(bench, noBench)
		}
		was := len(x.notes)
		of, made := x.take(filepath.Base(name)+":"+inner, h.evidence[inner], only)
		if len(x.notes) > was || made.IsZero() {
			continue
		}
		if bench, found = of, true; made.After(newest) {
			newest = made
		}
	}
	if h.record == "" || !found || slices.Contains(h.wrong, packRecord) {
		return
	}
	w := x.of(bench)
	if w.of != "" && h.record != w.record {
		x.note(
			name,
			"%s hands in another record for %s: that with the newer evidence counts",
			w.of,
			cmp.Or(bench, x.m.plan.Name),
		)
	}
	if w.of == "" || newest.After(w.newest) {
		w.record, w.of, w.newest = h.record, filepath.Base(name), newest
	}
}

// noBench stands for the one bench of a lab that has no other; no bench has such a name.
const noBench = "-"

// works reads what was handed in, by bench.
func (a *app) works(m marking, from []string, o gradeOptions) (map[string]*handed, []string, error) {
	x := &intake{m: m, o: o, works: map[string]*handed{}, notes: []string{}}
	for _, name := range from {
		if evidence.IsBrief([]byte(name)) { // copied off a square code
			x.take("a brief", []byte(name), "")
			continue
		}
		data, err := a.read(name, mostPacked+1)
		switch {
		case err != nil:
			x.note(name, "%v", err)
		case len(data) > mostPacked:
			x.note(name, "not readable: it is larger than %s", size1024(mostPacked))
		case bytes.HasPrefix(data, []byte("PK")):
			x.archive(name, data)
		default:
			x.take(filepath.Base(name), data, "")
		}
	}
	if o.record != "" {
		text, err := a.read(o.record, lab.MaxSize)
		if err != nil {
			return nil, nil, err
		}
		for _, w := range x.works {
			w.record = string(text)
		}
	}
	if o.self && len(x.works) == 0 {
		x.of("")
	}
	for _, w := range x.works {
		for i := range w.files {
			if !x.kept {
				break
			}
			for _, why := range x.record.Add(m.plan, &w.files[i].Evidence) {
				w.remarks = append(
					w.remarks,
					evidence.Remark{File: w.files[i].Name, Subject: w.files[i].Guest, Text: why},
				)
			}
		}
	}
	return x.works, x.notes, nil
}

// cards grades each bench, several at once, in the order of their names.
func (m marking) cards(works map[string]*handed) []grade.Card {
	benches := slices.Sorted(maps.Keys(works))
	out := make([]grade.Card, len(benches))
	var all errgroup.Group
	all.SetLimit(runtime.NumCPU())
	for i, b := range benches {
		all.Go(func() error {
			w := works[b]
			j := m.joiner.Join(w.files)
			doc := j.JudgeWith(m.plan, w.briefs)
			j.Remarks = append(w.remarks, j.Remarks...)
			out[i] = grade.Points(
				m.rubric,
				m.plan,
				grade.Work{Bench: b, Verdict: doc, Findings: m.findings, Guests: j.Guests,
					Remarks: j.Remarks, Record: w.record},
			)
			return nil
		})
	}
	_ = all.Wait() // nobody fails
	return out
}

// pages writes a page for each bench.
func (a *app) pages(m marking, cards []grade.Card, o gradeOptions) error {
	if err := os.MkdirAll(o.page, 0o755); err != nil {
		return failure{exitUsage, fmt.Sprintf("cannot write to %s: %v", o.page, cause(err)), ""}
	}
	for _, c := range cards {
		page, err := report.Card(m.plan.Name, m.rubric.Title, c)
		if err != nil {
			return err
		}
		name := filepath.Join(o.page, cmp.Or(c.Bench, m.plan.Name)+".html")
		if err := a.writeNew(name, page, o.replace); err != nil {
			return err
		}
	}
	a.note(count(len(cards), "page", "pages") + " in " + o.page)
	return nil
}

func (a *app) showCards(m marking, cards []grade.Card, self bool) {
	s := a.screen()
	title := m.rubric.Title
	if title == "" {
		title = "points for evidence"
	}
	showTitle(s, m.plan, title)
	t := table{head: []string{"bench", "points", "", "missing"}}
	for _, c := range cards {
		sign := cell{}
		if c.Passed != nil && *c.Passed {
			sign = cell{signHolds + " passed", plain}
		} else if c.Passed != nil {
			sign = cell{signBroken + " not yet", broken}
		}
		var missing []string
		for _, i := range c.Items {
			if len(i.Missing) > 0 {
				missing = append(missing, i.Text)
			}
		}
		t.add(
			cell{cmp.Or(c.Bench, m.plan.Name), strong},
			fmt.Sprintf("%s of %d", report.Points(c.Points), c.Of),
			sign,
			listed(missing),
		)
	}
	s.below(t)
	if !self {
		s.para(
			2,
			2,
			faint,
			"Evidence is a guest's word, and its student may own the guest: the test server's record beside it,"+
				" or your own bastion verify on the bench, shows what it cannot. (docs/security.md)",
		)
	}
	if !self && !a.verbose {
		return
	}
	for _, c := range cards {
		s.heading(cmp.Or(c.Bench, m.plan.Name))
		for _, n := range c.Notes {
			s.para(2, 4, plain, s.paint(broken, signBroken)+" "+n)
		}
		for _, i := range c.Items {
			sign := signHolds
			if len(i.Missing) > 0 {
				sign = s.paint(broken, signBroken)
			}
			s.para(2, 4, plain, fmt.Sprintf("%s %s  %s of %d", sign, i.Text, report.Points(i.Points), i.Of))
			for k, why := range i.Missing {
				if k == maxShown && !a.verbose {
					s.line("      … and ", count(len(i.Missing)-k, "more", "more"))
					break
				}
				s.para(6, 8, faint, why)
			}
		}
	}
}
