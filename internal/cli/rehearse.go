package cli

import (
	"bufio"
	"fmt"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"openbastion/internal/atomicfile"
	"openbastion/internal/format/pcapng"
	"openbastion/internal/model/plan"
	"openbastion/internal/render/report"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

func (a *app) rehearse() *cobra.Command {
	var capture, against, fault string
	var reports []string
	var replace bool
	c := &cobra.Command{
		Use: "rehearse [LAB]", Short: "Simulate the lab packet by packet and check it",
		Long: `Runs every machine of the lab, its host and an outside in memory, and asks what
must hold: leases, next hops, names, the path outside, and that no guest gets out
past the appliance. Each answer names the frames that show it.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			if against != "" {
				a.inputs = append(a.inputs, against) // it is read once the capture is written
			}
			began := time.Now()
			if fault != "" {
				if capture != "" || against != "" {
					return usage("--fault goes with neither --capture nor --against")
				}
				return a.fault(p, fault)
			}
			var log *report.Log
			if slices.ContainsFunc(reports, isPage) {
				log = &report.Log{}
			}
			doc, frames, err := a.rehearsal(p, capture, replace, log)
			if err != nil {
				return err
			}
			remember(p, doc.Verdict)
			if against != "" {
				if err := a.against(p, doc, against); err != nil {
					return err
				}
			} else if a.format == "json" {
				err = a.json(doc)
			} else {
				s := a.screen()
				a.title(s, p, fmt.Sprintf("rehearsal: %s in %s", count(frames, "frame", "frames"),
					time.Since(began).Round(time.Millisecond)))
				a.showVerdict(s, doc, nil)
			}
			if capture != "" && err == nil {
				a.note(fmt.Sprintf("%s written to %s", count(frames, "frame", "frames"), capture))
			}
			for _, file := range reports {
				if err == nil {
					err = a.report(file, p, doc, log, replace)
				}
			}
			if err == nil && doc.Verdict != claims.Holds {
				err = failure{status: exitBroken}
			}
			return err
		},
	}
	c.Flags().StringVar(&capture, "capture", "", "write every frame to this file (pcapng)")
	c.Flags().StringVar(
		&against,
		"against",
		"",
		"also rehearse this lab, the earlier version, and show changed checks",
	)
	c.Flags().StringVar(
		&fault,
		"fault",
		"",
		"a fault for a minute: "+simulator.FaultForms,
	)
	c.Flags().BoolVar(&replace, "replace", false, "replace existing files")
	c.Flags().StringArrayVar(
		&reports,
		"report",
		nil,
		"write the verdict to this file, repeatable: .html (page), .md (Markdown) or .xml (JUnit)",
	)
	return c
}

// isPage reports whether it is a report that shows frames.
func isPage(file string) bool { return strings.HasPrefix(strings.ToLower(filepath.Ext(file)), ".htm") }

// rehearsal runs a plan and gives the verdict and how many frames it took. log,
// where there is one, keeps the frames.
func (a *app) rehearsal(p *plan.Plan, capture string, replace bool, log *report.Log) (verdict.Document, int, error) {
	// Most of what a rehearsal allocates are frames that live for an instant; what stays is small.
	defer debug.SetGCPercent(debug.SetGCPercent(50))
	l := simulator.New(p)
	l.Progress = a.progress("hostile guests")
	defer l.Progress(0, 0)
	var recorders simulator.Recorders
	if log != nil {
		log.Segments, log.Start = l.World().Segments, simulator.Epoch
		recorders = append(recorders, log)
	}
	l.World().Recorder = recorders
	if capture == "" {
		doc, _, err := verdict.Run(a.ctx, p, l)
		return doc, l.World().Frames(), err
	}
	// The capture appears whole or not at all: also when the run is interrupted.
	f, err := atomicfile.Create(capture, atomicfile.Options{Replace: replace, Inputs: a.inputs})
	if err != nil {
		return verdict.Document{}, 0, notWritten(err)
	}
	a.onInterrupt(f.Abort)
	defer f.Abort()
	buffer := bufio.NewWriterSize(f, 1<<16)
	w := pcapng.NewWriter(buffer, "bastion "+Version, "rehearsal of "+p.Name)
	for _, name := range l.World().Segments {
		w.AddInterface(name, segmentComment(p, name))
	}
	l.World().Recorder = append(recorders, w)
	doc, _, err := verdict.Run(a.ctx, p, l)
	for _, step := range []func() error{w.Err, buffer.Flush, f.Commit} {
		if err == nil {
			err = step()
		}
	}
	if err != nil && a.ctx.Err() == nil {
		err = notWritten(err)
	}
	return doc, l.World().Frames(), err
}

func segmentComment(p *plan.Plan, name string) string {
	seg := p.Segment(name)
	if seg == nil {
		return "beyond upstream: the network of the test server"
	}
	return fmt.Sprintf("segment %s, %s, %s", seg.Name, seg.Subnet, reachWords(seg))
}

func verdictCell(v claims.Verdict) cell {
	switch v {
	case claims.Holds:
		return cell{signHolds, plain}
	case claims.Broken:
		return cell{signBroken, broken}
	case claims.Unknown:
		return cell{signUnknown, strong}
	}
	return cell{signNote, faint}
}

// maxRows is how many guests the matrix shows; of a larger lab only those for
// which something does not hold.
const maxRows = 40

// showVerdict shows a verdict: what it is, its causes with what to change, the table of all claims,
// and what it covers. more adds to the causes. Evidence is for verbose; quiet leaves nothing but the
// verdict.
func (a *app) showVerdict(s *screen, doc verdict.Document, more func()) {
	s.para(0, 2, plain, summary(s, doc))
	if a.quiet {
		return
	}
	showCauses(s, doc.Causes)
	if more != nil {
		more()
	}
	for _, text := range doc.Proof.Disagree {
		s.para(2, 2, plain, s.paint(broken, signBroken)+" "+doc.Differs()+": "+text)
	}
	showMatrix(s, doc)
	showOthers(s, doc)
	if a.verbose {
		s.line()
		for i, r := range doc.Claims {
			if i == maxShown {
				s.line(
					"  … and ",
					count(len(doc.Claims)-maxShown, "claim more", "claims more"),
					"; --format json has all",
				)
				break
			}
			showClaim(s, r)
		}
	}
	s.line()
	s.para(2, 2, faint, doc.Introduction()+" "+doc.Scope())
}

// maxCauses is how many causes are shown.
const maxCauses = 12

// showCauses shows what is to be changed, each with its place, the bypass that it opens, its remedy,
// and the checks that fail because of it.
func showCauses(s *screen, list []verdict.Cause) {
	for i, c := range list {
		if i == maxCauses {
			s.line("  … and ", count(len(list)-i, "cause more", "causes more"), "; --format json has all")
			return
		}
		sign, st := signBroken, broken
		if c.Code == string(claims.Unknown) {
			sign, st = signUnknown, strong
		}
		where := ""
		if c.File != "" {
			where = fmt.Sprintf("%s:%d: ", c.File, c.Line)
		}
		s.para(2, 2, plain, s.paint(st, sign)+" "+where+s.paint(strong, c.Code)+": "+c.Message)
		if len(c.Bypass) > 0 {
			s.para(4, 2, plain, "bypass: "+pathLine(s, c.Bypass))
		}
		if c.Remedy != "" {
			s.para(4, 2, strong, "remedy: "+c.Remedy)
		}
		if len(c.Explains) > 0 {
			s.para(4, 2, faint, "knock-on: "+listed(c.Explains))
		}
	}
}

// maxShown is how many claims are shown one by one.
const maxShown = 100

func summary(s *screen, doc verdict.Document) string {
	c := verdictCell(doc.Verdict)
	return s.paint(c.st, c.text) + " " + doc.Summary()
}

func showMatrix(s *screen, doc verdict.Document) {
	rows := doc.Guests()
	if len(rows) == 0 {
		return
	}
	t := table{head: []string{"guest"}}
	for _, k := range claims.GuestKinds {
		t.head = append(t.head, string(k))
	}
	hidden := 0
	for _, group := range verdict.Groups(rows, mostAlike) {
		r := group.Row
		if len(rows) > maxRows && r.Sound && group.Count == 1 {
			hidden++
			continue
		}
		cells := []any{group.Name()}
		for _, k := range claims.GuestKinds {
			c := cell{}
			if v, ok := r.Verdicts[k]; ok {
				c = verdictCell(v)
			}
			c.text = centered(c.text, len(k))
			cells = append(cells, c)
		}
		t.add(cells...)
	}
	s.line()
	if len(t.rows) > 0 {
		s.table(t)
	}
	if hidden > 0 {
		s.line(
			"  ",
			signHolds,
			" ",
			count(hidden, "guest, all checks ok", "guests, all checks ok for each"),
		)
	}
}

func centered(text string, room int) string {
	if text == "" {
		return ""
	}
	return strings.Repeat(" ", max(room-width(text), 0)/2) + text
}

// showOthers shows the claims that are not about guests, by kind: those that hold
// in a row of their own, but for sentences, which are told one by one. Of many of one
// kind, those that hold are only counted.
func showOthers(s *screen, doc verdict.Document) {
	t := table{}
	total := map[claims.Kind]int{}
	for _, r := range doc.Claims {
		total[r.Kind]++
	}
	for _, k := range claims.Kinds {
		if slices.Contains(claims.GuestKinds, k) {
			continue
		}
		var others []claims.Result
		var sound []string
		many := total[k] > 12
		for _, r := range doc.Claims {
			if r.Kind != k {
				continue
			}
			if r.Verdict == claims.Holds && (k != claims.Expect || many) {
				sound = append(sound, r.Subject())
			} else {
				others = append(others, r)
			}
		}
		label := string(k)
		add := func(v claims.Verdict, text string) {
			t.add(cell{label, faint}, verdictCell(v), text)
			label = ""
		}
		for _, r := range others {
			add(r.Verdict, r.Subject())
		}
		switch {
		case many && len(sound) > 0:
			add(claims.Holds, fmt.Sprintf("%s of %s", grouped(len(sound)), grouped(total[k])))
		case len(sound) > 0:
			add(claims.Holds, strings.Join(sound, ", "))
		}
	}
	s.below(t)
}

// maxEvidence bounds the lines of evidence shown for a claim.
const maxEvidence = 6

// showClaim shows a claim with its evidence.
func showClaim(s *screen, r claims.Result) {
	c := verdictCell(r.Verdict)
	s.line("  ", s.paint(c.st, c.text), " ", s.paint(strong, r.ID))
	if len(r.Escapes) == 0 {
		s.para(4, 0, plain, r.Observed)
	}
	for _, w := range r.Escapes {
		s.para(4, 2, plain, fmt.Sprintf("%s reaches %s:", w.From, w.To))
		s.line("      ", pathLine(s, w.Path))
		s.para(6, 2, plain, w.Tried)
	}
	for i, e := range r.Evidence {
		if i == maxEvidence {
			s.para(4, 2, faint, fmt.Sprintf("… and %d more", len(r.Evidence)-i))
			break
		}
		s.para(4, 2, faint, e.String())
	}
	if r.Follows != "" {
		s.para(4, 2, plain, "knock-on of "+r.Follows)
	}
	if r.Remedy != "" {
		s.para(4, 2, strong, "remedy: "+r.Remedy)
	}
}

// pathLine draws a way as machines with the segments between them.
func pathLine(s *screen, path []string) string {
	var b strings.Builder
	for i, name := range path {
		if i%2 == 1 {
			b.WriteString(s.paint(broken, " ─"+name+"→ "))
			continue
		}
		b.WriteString(name)
	}
	return b.String()
}
