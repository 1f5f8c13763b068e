package cli

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/diagnose"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// mostCauses is how many causes are shown.
const mostCauses = 5

func (a *app) diagnose() *cobra.Command {
	var seen, pastes, from []string
	var table, replace bool
	var form, to, said string
	c := &cobra.Command{
		Use: "diagnose [LAB]", Short: "Find the mistake that explains the symptoms",
		Long: `Rehearses every mistake at every place of the lab, and says which of them would
look exactly as what you saw: likeliest first, with why, what to look at, and what
to do; then pairs of mistakes, when no single one explains it; then what nothing
explains. On a terminal it asks, in a few questions, cheapest look first. Elsewhere
say what you saw: --seen WHAT=HOW, where WHAT is a claim or a look (heron.dhcp,
heron.gateway, heron.number, heron.name, sluice.wan.address; --seen ? lists them) and
HOW is holds, broken, none, refused, late, other, open, an address and the like.`,
		Example: "  bastion diagnose saltmarsh.yaml\n" +
			"  bastion diagnose saltmarsh.yaml --seen heron.dhcp=none --seen ferry.gateway=holds\n" +
			"  bastion diagnose saltmarsh.yaml --listing heron=pasted.txt --evidence verdict.json\n" +
			"  bastion diagnose saltmarsh.yaml --table --form markdown",
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantForm(form, "text", "markdown", "html"); err != nil {
				return err
			}
			if !table && (form != "text" || to != "") {
				return usage("--form and --to go with --table")
			}
			if table && len(seen)+len(pastes)+len(from) > 0 {
				return usage("--table lists all mistakes' symptoms; it takes no symptoms")
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			if table {
				return a.symptomTable(p, form, to, replace)
			}
			if len(seen) == 1 && seen[0] == "?" {
				return a.looks(p)
			}
			return a.diagnosis(p, labArg(args), sources{seen, pastes, from, said})
		},
	}
	f := c.Flags()
	f.StringArrayVar(&seen, "seen", nil, "a symptom: WHAT=VALUE, such as heron.dhcp=none; repeatable; ? lists them")
	f.StringArrayVar(
		&pastes,
		"listing",
		nil,
		"pasted output of a machine, with pings, names and pages tried on it: MACHINE=FILE; repeatable",
	)
	f.StringArrayVar(&from, "evidence", nil, "a verdict (JSON), saved answers, or a probe's evidence; repeatable")
	f.StringVar(&said, "token", "", "the token of the evidence's test server")
	f.BoolVar(&table, "table", false, "instead list each mistake's symptoms in this lab")
	f.StringVar(&form, "form", "text", "the table's form: text, markdown or html")
	f.StringVar(&to, "to", "", "write the table to this file")
	f.BoolVar(&replace, "replace", false, "replace an existing file")
	return c
}

// sources are where what was seen comes from.
type sources struct {
	seen, pastes, evidence []string
	token                  string
}

func (x sources) none() bool { return len(x.seen)+len(x.pastes)+len(x.evidence) == 0 }

// mentions returns which guests what was seen is about: of a verdict those of which a check did not
// hold.
func (x sources) mentions() func(guest string) bool {
	named := map[string]bool{}
	for _, text := range append(slices.Clone(x.seen), x.pastes...) {
		name, _, _ := strings.Cut(text, "=")
		name, _, _ = strings.Cut(name, ".")
		named[name] = true
	}
	for _, file := range x.evidence {
		data, err := os.ReadFile(file)
		if err != nil {
			continue // it is read again, and told then
		}
		if doc, err := verdict.ReadDocument(data); err == nil {
			for _, r := range doc.Claims {
				if r.Verdict != claims.Holds {
					named[r.Guest] = true
				}
			}
		}
	}
	return func(guest string) bool { return named[guest] }
}

// study rehearses every mistake in a lab.
func (a *app) study(p *plan.Plan) (*diagnose.Study, error) {
	s := diagnose.NewStudy(p)
	return s, a.pursue(s)
}

// pursue does the jobs of a study that was begun, on all processors.
func (a *app) pursue(s *diagnose.Study) error {
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // most of what is allocated lives for an instant
	kept := a.studied(s.Plan)
	if data, err := os.ReadFile(kept); err == nil && s.Restore(data) {
		return nil
	}
	progress := a.progress("mistakes tried")
	defer progress(0, 0)
	var next, done atomic.Int64
	var all sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for a.ctx.Err() == nil {
				job := int(next.Add(1)) - 1
				if job >= s.Jobs() {
					return
				}
				s.Do(job)
				progress(int(done.Add(1)), s.Jobs())
			}
		})
	}
	all.Wait()
	s.Finish()
	if a.ctx.Err() == nil {
		keepInCache(kept, s.Saved())
	}
	return a.ctx.Err()
}

// studied returns where what mistakes look like in this very lab is kept: in the user's
// cache, under a digest of this very program, the lab file's text and its profiles. Empty
// when it cannot be.
func (a *app) studied(p *plan.Plan) string {
	cache, err := os.UserCacheDir()
	self, e := os.Executable()
	if err != nil || e != nil || a.texts[p.Lab.File] == nil {
		return ""
	}
	info, err := os.Stat(self)
	if err != nil {
		return ""
	}
	program := sha256.Sum256(fmt.Appendf(nil, "%s %d %d", self, info.Size(), info.ModTime().UnixNano()))
	return filepath.Join(cache, "openbastion", "symptoms", p.Fingerprint()+"-"+hex.EncodeToString(program[:6]))
}

// diagnosis finds the mistake that explains what was seen, or asks for that.
func (a *app) diagnosis(p *plan.Plan, file string, x sources) error {
	in, terminal := a.in.(*os.File)
	terminal = terminal && term.IsTerminal(int(in.Fd()))
	if x.none() && (!terminal || a.format == "json") {
		return failure{
			exitUsage,
			"no symptoms given",
			"pass --seen WHAT=VALUE, --listing MACHINE=FILE or --evidence FILE; on a terminal you are asked",
		}
	}
	began := time.Now()
	p, left := diagnose.Few(p, x.mentions())
	if left > 0 {
		a.note(
			fmt.Sprintf(
				"%s that differ from others by name alone are left out.",
				count(left, "guest", "guests"),
			),
		)
	}
	s, err := a.study(p)
	if err != nil {
		return err
	}
	seen, err := a.gather(s, p, file, x)
	if err != nil {
		return err
	}
	took := time.Since(began)
	if x.none() {
		if seen, err = a.askSeen(in, s); err != nil {
			return err
		}
	}
	return a.tellCauses(s, p, seen, took)
}

// tellCauses shows what explains what was seen.
func (a *app) tellCauses(s *diagnose.Study, p *plan.Plan, seen []diagnose.Seen, took time.Duration) error {
	causes := explaining(s, seen)
	most := mostCauses
	if len(seen) > 0 && !diagnose.Abnormal(seen) && !a.verbose {
		most = 0 // what does not show in it is no cause of it
	}
	doc := s.Document(seen, causes, most)
	if a.format == "json" {
		if err := a.json(doc); err != nil {
			return err
		}
	} else {
		a.showDiagnosis(p, doc, took)
	}
	if len(doc.Unexplained) > 0 || len(doc.Causes) > 0 && !doc.Causes[0].Explains {
		return failure{status: exitBroken}
	}
	return nil
}

// explaining returns the causes that explain all that was seen; where no single one does,
// pairs that do, then what explains most.
func explaining(s *diagnose.Study, seen []diagnose.Seen) []diagnose.Cause {
	causes := s.Causes(seen)
	if len(causes) == 0 || causes[0].Explains() {
		n := 0
		for n < len(causes) && causes[n].Explains() {
			n++
		}
		return causes[:n]
	}
	return append(s.Pairs(seen, causes), causes[:min(len(causes), 3)]...)
}

// gather reads what was seen from where it was said.
func (a *app) gather(s *diagnose.Study, p *plan.Plan, file string, x sources) ([]diagnose.Seen, error) {
	var out []diagnose.Seen
	for _, text := range x.seen {
		one, err := s.ParseSeen(text)
		if err != nil {
			return nil, usage("--seen %s: %v", text, err)
		}
		out = append(out, one)
	}
	for _, text := range x.pastes {
		name, from, ok := strings.Cut(text, "=")
		if !ok {
			return nil, usage("--listing %s: name the machine, as in heron=pasted.txt", text)
		}
		m, err := machineNamed(p, name)
		if err != nil {
			return nil, err
		}
		data, err := a.paste(from, p.Name, name)
		if err != nil {
			return nil, err
		}
		found := s.FromPaste(m, string(data))
		if len(found) == 0 {
			return nil, failure{exitUsage, "nothing recognized in " + from + " that distinguishes " + name,
				"copy complete output with the commands: addresses, routes, DNS servers, pings"}
		}
		out = append(out, found...)
	}
	for _, from := range x.evidence {
		found, err := a.evidenceSeen(s, p, file, from, x.token)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}

// evidenceSeen reads a verdict, saved answers, or evidence of a probe.
func (a *app) evidenceSeen(s *diagnose.Study, p *plan.Plan, file, from, said string) ([]diagnose.Seen, error) {
	if !evidence.IsBrief([]byte(from)) {
		data, err := a.read(from, mostPacked)
		if err != nil {
			return nil, err
		}
		var head struct {
			Schema string `json:"schema"`
			Lab    string `json:"lab"`
		}
		_ = json.Unmarshal(bytes.TrimSpace(data), &head) // what is neither is told so below
		if head.Lab != "" && head.Lab != p.Name &&
			(head.Schema == claims.AnswersSchema || head.Schema == verdict.Schema) {
			return nil, usage("%s is for the lab %s, not %s", from, head.Lab, p.Name)
		}
		switch head.Schema {
		case claims.AnswersSchema:
			var answers claims.Answers
			if err := json.Unmarshal(data, &answers); err != nil {
				return nil, usage("%s: %v", from, err)
			}
			return s.FromAnswers(answers.Facts, answers.Answers), nil
		case verdict.Schema:
			doc, err := verdict.ReadDocument(data)
			if err != nil {
				return nil, usage("%s: %v", from, err)
			}
			return s.FromVerdict(doc), nil
		}
	}
	token, err := tokenOf(said, p.Name)
	if err != nil {
		return nil, err
	}
	trust := trusted{token: said}
	if err := trust.settle(p.Name); err != nil {
		return nil, err
	}
	files, briefs, remarks, err := a.evidence([]string{from}, p, byLab(token), trust)
	if err != nil {
		return nil, err
	}
	for _, r := range remarks {
		if !r.Refused {
			continue
		}
		return nil, usage("%s: %s", from, r.Text)
	}
	j := evidence.For(p).Join(files)
	return s.FromVerdict(j.JudgeWith(p, briefs)), nil
}

// looks lists what can be looked at in a lab.
func (a *app) looks(p *plan.Plan) error {
	s := diagnose.NewStudy(p)
	out := a.screen()
	showTitle(out, p, "what can be observed, and its values")
	t := table{head: []string{"what", "values"}}
	for _, l := range s.Looks {
		t.add(l.ID, cell{l.Words(p), faint})
	}
	out.table(t)
	out.para(2, 2, faint, "Claims take ok or broken: heron.outside, heron.dns, reedbed.one-dhcp.")
	return nil
}

// showDiagnosis shows a diagnosis.
func (a *app) showDiagnosis(p *plan.Plan, d diagnose.Document, took time.Duration) {
	s := a.screen()
	showTitle(s, p, fmt.Sprintf("diagnosis: %s, %s tried in %s", count(len(d.Seen), "symptom", "things seen"),
		count(d.Tried, "mistake", "mistakes"), took.Round(10*time.Millisecond)))
	if d.Fine {
		s.para(
			2,
			2,
			plain,
			s.paint(inside, signHolds)+" Nothing shown is wrong: all "+count(len(d.Seen), "value is", "values are")+
				" as planned.",
		)
		if !a.verbose {
			s.para(2, 2, faint, "Mistakes that do not show in it: --verbose.")
			return
		}
	}
	if len(d.Causes) > 0 && !d.Causes[0].Explains {
		s.para(2, 2, strong, signUnknown+" No mistake, and no two of them, explain all symptoms. Closest:")
	} else if len(d.Causes) > 0 && d.Causes[0].Pair {
		s.para(2, 2, strong, signUnknown+" No single mistake explains all symptoms. These two together do:")
	}
	for i, c := range d.Causes {
		if i > 0 && d.Causes[i-1].Explains && !c.Explains {
			s.line()
			s.para(2, 2, faint, "Each of these alone explains most of it:")
		}
		s.line()
		a.showCause(s, i+1, c)
	}
	if len(d.Unexplained) > 0 {
		s.line()
		for _, x := range d.Unexplained {
			s.para(2, 2, plain, s.paint(broken, signBroken)+" not explained: "+x.Text)
		}
	}
}

// mostBeside is how much of what one would see as well is shown.
const mostBeside = 4

func (a *app) showCause(s *screen, n int, c diagnose.Told) {
	lead := fmt.Sprintf("%d. ", n)
	likely := ""
	if c.Explains && !c.Pair {
		likely = "  " + s.paint(faint, "fits all")
	}
	if c.AsFile {
		s.para(2, 3, strong, lead+"what the lab file itself plans: everything looks as planned"+likely)
		s.para(5, 2, plain, "`bastion check` and `bastion rehearse` show what is wrong in the file itself")
		return
	}
	for i, m := range c.Mistakes {
		switch {
		case i == 0:
			s.para(2, 3, strong, lead+m.Says+likely)
		case c.Pair:
			s.para(5, 2, strong, "and "+m.Says)
		default:
			s.para(5, 2, strong, "or "+m.Says)
		}
		if i == 0 || c.Pair || a.verbose {
			s.para(5, 2, faint, "why: "+m.Why)
		}
		s.para(5, 2, plain, "look: "+m.Look)
		fix := "remedy: " + m.Remedy
		if m.Finding != "" {
			fix += " (bastion explain " + m.Finding + ")"
		}
		s.para(5, 2, plain, fix)
	}
	if c.Check != "" && !c.Pair {
		s.para(5, 2, faint, "to confirm: "+c.Check)
	}
	if also := c.Also; c.Explains && !c.Pair && len(also) > 0 {
		more := ""
		if k := len(also); k > mostBeside && !a.verbose {
			also, more = also[:mostBeside], fmt.Sprintf("; and %d more", k-mostBeside)
		}
		s.para(5, 2, faint, "further symptoms: "+strings.Join(also, "; ")+more)
	}
	for _, m := range c.Misses {
		s.para(5, 2, plain, s.paint(broken, signBroken)+" does not explain "+m.Text)
	}
}
