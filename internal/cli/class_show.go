package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/classroom/class"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/remote"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// benchRange returns which benches are on a host: neighbours as from … to.
func benchRange(names []string) string {
	var parts []string
	for i := 0; i < len(names); {
		j := i
		for j+1 < len(names) && following(names[j], names[j+1]) {
			j++
		}
		switch number := names[j][strings.LastIndexByte(names[j], '-')+1:]; {
		case j == i:
			parts = append(parts, names[i])
		default:
			parts = append(parts, names[i]+" to "+number)
		}
		i = j + 1
	}
	return strings.Join(parts, ", ")
}

// following reports whether two names of benches have numbers one after the other.
func following(a, b string) bool {
	var x, y int
	_, e1 := fmt.Sscan(strings.TrimLeft(a[strings.LastIndexByte(a, '-')+1:], "0"), &x)
	_, e2 := fmt.Sscan(strings.TrimLeft(b[strings.LastIndexByte(b, '-')+1:], "0"), &y)
	return e1 == nil && e2 == nil && y == x+1
}

// showPlaced returns which host would carry which bench.
func (a *app) showPlaced(p *plan.Plan, o startOptions, hosts *lab.Hosts, benches []class.Bench) error {
	need, on := benchNeed(p, o), map[string][]string{}
	for _, b := range benches {
		on[b.Host] = append(on[b.Host], b.Name)
	}
	list, without := []api.PlacedHost{}, slices.Concat([]string{}, on[""])
	for _, h := range hosts.List {
		n := len(on[h.Name])
		list = append(list, api.PlacedHost{Name: h.Name, SSH: h.SSH, Benches: on[h.Name], CPUs: n * need.CPUs,
			CPUsMost: h.CPUs * hosts.Share, Memory: lab.Bytes(n) * need.Memory, MemoryMost: h.Memory,
			BenchesMost: class.Host{CPUs: h.CPUs * hosts.Share, Memory: h.Memory}.Fits(need)})
	}
	if a.format == "json" {
		if err := a.json(api.Placement{Schema: api.PlacementSchema, Lab: p.Name, Stage: o.stage, Hosts: list, Without: without}); err != nil {
			return err
		}
	} else {
		a.placedText(p, need, list, len(benches)-len(without))
	}
	if len(without) > 0 {
		return failure{
			exitBroken,
			fmt.Sprintf(
				"%s could not be placed: each needs %s",
				count(len(without), "bench", "benches"),
				needText(need),
			),
			"Add hosts or memory, reduce the machines' memory, or raise share: in the hosts file.",
		}
	}
	return nil
}

func needText(n class.Need) string {
	memory := size(uint64(n.Memory)) + " of memory"
	if n.CPUs == 0 {
		return memory
	}
	return count(n.CPUs, "planned processor", "planned processors") + " and " + memory
}

func (a *app) placedText(p *plan.Plan, need class.Need, list []api.PlacedHost, placed int) {
	s := a.screen()
	showTitle(
		s,
		p,
		fmt.Sprintf(
			"%s on %s, each of %s",
			count(placed, "bench", "benches"),
			count(len(list), "host", "hosts"),
			needText(need),
		),
	)
	t := table{head: []string{"host", "benches", "room for", "processors", "memory", "which"}}
	for _, h := range list {
		most := cell{grouped(h.BenchesMost), plain}
		if h.BenchesMost == 0 {
			most = cell{signBroken + " none", broken}
		}
		t.add(
			cell{h.Name, strong},
			grouped(len(h.Benches)),
			most,
			fmt.Sprintf("%d of %d", h.CPUs, h.CPUsMost),
			fmt.Sprintf(
				"%s of %s",
				size(uint64(h.Memory)),
				size(uint64(h.MemoryMost)),
			),
			cell{benchRange(h.Benches), faint},
		)
	}
	s.below(t)
	s.line()
	s.para(0, 2, faint, "A bench runs on one host, with all its segments. Nothing was sent or started.")
}

// seen reads how each bench is from what became of it on its host.
func seenOf(r class.Record, came map[string]remote.Answer, silent map[string]error) class.Status {
	out := class.Status{Schema: class.StatusSchema, Lab: r.Lab, File: r.File, Stage: r.Stage,
		Hosts: []class.HostStatus{}, Benches: []class.State{}}
	for _, h := range r.Hosts {
		s := class.HostStatus{Name: h.Name, Answers: silent[h.Name] == nil}
		if !s.Answers {
			s.Why = silent[h.Name].Error()
		}
		out.Hosts = append(out.Hosts, s)
	}
	for _, b := range r.Benches {
		var now status.Lab
		answer, ok := came[b.Name]
		switch why := unanswered(b, answer, ok, silent); {
		case why != "":
			out.Benches = append(out.Benches, class.State{Bench: b, Why: why})
		case json.Unmarshal(answer.Result, &now) != nil:
			out.Benches = append(out.Benches, class.State{Bench: b, Why: "its host's report cannot be read"})
		default:
			out.Benches = append(out.Benches, class.See(b, now))
		}
	}
	return out
}

// unanswered returns why nothing is known of a bench; empty when something is.
func unanswered(b class.Bench, answer remote.Answer, ok bool, silent map[string]error) string {
	switch {
	case b.Host == "":
		return "no host has room for it"
	case !ok && silent[b.Host] != nil:
		return silent[b.Host].Error()
	case !ok:
		return b.Host + " is missing from the report"
	case len(answer.Result) == 0 && strings.Contains(answer.Said, "was not started"):
		return "it does not run"
	case len(answer.Result) == 0:
		return cmp.Or(answer.Said, fmt.Sprintf("the program ended with status %d and no message", answer.Status))
	}
	return ""
}

// saidClass shows how all benches are.
func (a *app) saidClass(r class.Record, st class.Status, title string, next bool) error {
	ill := 0
	for _, b := range st.Benches {
		if b.Why != "" || b.Escapes > 0 {
			ill++
		}
	}
	if a.format == "json" {
		if err := a.json(st); err != nil {
			return err
		}
	} else {
		a.classText(r, st, title)
		if next && !a.quiet {
			t := table{}
			t.add("bastion status "+r.Lab, cell{"all benches", faint})
			t.add("bastion verify "+r.Lab, cell{"the checks on all benches, one verdict", faint})
			t.add("bastion stop "+r.Lab, cell{"stops all benches and removes everything", faint})
			a.screen().below(t)
		}
	}
	if ill > 0 {
		again := "bastion start " + fromHere(r.File) + " --hosts FILE starts the missing ones, on other hosts if necessary."
		if r.Class != "" {
			again = "bastion class start " + fromHere(r.Class) + " starts the missing ones."
		}
		return failure{exitBroken, fmt.Sprintf("%d of %s not running", ill, count(len(st.Benches), "bench", "benches")), again}
	}
	return nil
}

func (a *app) classText(r class.Record, st class.Status, title string) {
	s := a.screen()
	s.line(s.paint(strong, st.Lab), "  ", s.paint(faint, count(len(st.Benches), "bench", "benches")+" "+title))
	t := table{head: []string{"host", "", "running", "machines", "leases", "which"}}
	for _, h := range st.Hosts {
		names, running, machines, leases := r.On(h.Name), 0, 0, 0
		for _, b := range st.Benches {
			if b.Host == h.Name {
				machines, leases = machines+b.Machines, leases+b.Leases
				if b.Phase == status.Running {
					running++
				}
			}
		}
		sign := cell{signHolds + " answers", plain}
		if !h.Answers {
			sign = cell{signBroken + " silent", broken}
		}
		t.add(
			cell{h.Name, strong},
			sign,
			fmt.Sprintf("%d of %d", running, len(names)),
			seenOn(r, machines),
			seenOn(r, leases),
			cell{benchRange(names), faint},
		)
	}
	s.below(t)
	shown := 0
	for _, b := range st.Benches {
		text := b.Why
		if b.Escapes > 0 {
			text = count(b.Escapes, "escape", "escapes") + " changes; bastion status there shows them"
		}
		if text == "" {
			continue
		}
		if shown++; shown > maxShown && !a.verbose {
			s.line("  … and more; --verbose shows all")
			break
		}
		if shown == 1 {
			s.line()
		}
		s.para(2, 4, plain, s.paint(broken, signBroken)+" "+b.Title()+": "+text)
	}
	a.memberTable(s, st)
}

// memberTable shows who works at which bench, where students or groups are named.
func (a *app) memberTable(s *screen, st class.Status) {
	t := table{head: []string{"bench", "for", "host", "state"}}
	for _, b := range st.Benches {
		if b.For == "" {
			return
		}
		state := cell{signHolds + " " + string(b.Phase), plain}
		if b.Why != "" || b.Escapes > 0 {
			state = cell{signBroken + " " + cmp.Or(string(b.Phase), "not running"), broken}
		}
		t.add(cell{b.Name, strong}, b.For, cell{b.Host, faint}, state)
	}
	s.below(t)
	s.line()
}

// seenOn returns a count of what was seen on a host; of a job's nodes nothing of the kind is.
func seenOn(r class.Record, n int) string {
	if r.Job != "" {
		return ""
	}
	return grouped(n)
}

// classStatus asks all hosts how their benches are.
func (a *app) classStatus(r class.Record) error {
	came, silent := a.answers(a.ctx, r, "status", nil, func(int) {})
	if a.ctx.Err() != nil {
		return a.ctx.Err()
	}
	return a.saidClass(r, seenOf(r, came, silent), "since "+r.Started.Local().Format("2006-01-02 15:04"), false)
}

// verifyClass has the claims checked on all benches and puts the verdicts together.
func (a *app) verifyClass(r class.Record, o classVerify) error {
	began, progress := time.Now(), a.progress("benches checked")
	came, silent := a.answers(a.ctx, r, "verify", nil, func(done int) { progress(done, len(r.Benches)) })
	progress(0, 0)
	if a.ctx.Err() != nil {
		return a.ctx.Err()
	}
	var judged []class.Judged
	for _, b := range r.Benches {
		var doc verdict.Document
		answer, ok := came[b.Name]
		switch why := unanswered(b, answer, ok, silent); {
		case why != "":
			judged = append(judged, class.Unjudged(b, why))
		case json.Unmarshal(answer.Result, &doc) != nil || doc.Verdict == "":
			judged = append(judged, class.Unjudged(b, "its host's report is not a valid verdict"))
		default:
			judged = append(judged, class.Judge(b, doc))
		}
	}
	v := class.Whole(r.Lab, r.Stage, judged)
	if a.format == "json" {
		if err := a.json(v); err != nil {
			return err
		}
	} else {
		a.classVerdict(v, r, time.Since(began))
	}
	if len(o.reports) > 0 {
		p, err := a.load(r.File)
		if err == nil {
			err = a.classPages(p, v, o.reports, o.replace)
		}
		if err != nil {
			return err
		}
	}
	if v.Verdict != claims.Holds {
		return failure{status: exitBroken}
	}
	return nil
}

func (a *app) classVerdict(v class.Verdict, r class.Record, took time.Duration) {
	s := a.screen()
	if a.quiet {
		a.wholeVerdict(s, v)
		return
	}
	s.line(
		s.paint(strong, v.Lab),
		"  ",
		s.paint(faint, fmt.Sprintf("%s on %s, checked in %s", count(len(v.Benches), "bench", "benches"),
			count(len(r.Hosts), "host", "hosts"), took.Round(10*time.Millisecond))),
	)
	a.wholeVerdict(s, v)
	t := table{head: []string{"host", "passed", "failed", "unknown", "which"}}
	for _, h := range r.Hosts {
		n := map[claims.Verdict]int{}
		for _, b := range v.Benches {
			if b.Host == h.Name {
				n[b.Verdict]++
			}
		}
		t.add(cell{h.Name, strong}, grouped(n[claims.Holds]), grouped(n[claims.Broken]), grouped(n[claims.Unknown]),
			cell{benchRange(r.On(h.Name)), faint})
	}
	s.below(t)
	a.openBenches(s, v)
}

// wholeVerdict shows the verdict on a class: one line.
func (a *app) wholeVerdict(s *screen, v class.Verdict) {
	total := map[claims.Verdict]int{}
	for _, b := range v.Benches {
		total[b.Verdict]++
	}
	sign := map[claims.Verdict]string{claims.Holds: signHolds, claims.Broken: s.paint(broken, signBroken),
		claims.Unknown: signUnknown}[v.Verdict]
	text := fmt.Sprintf("%s %d of %s passed all checks", sign, total[claims.Holds], count(len(v.Benches), "bench", "benches"))
	if n := total[claims.Broken]; n > 0 {
		text += fmt.Sprintf(", %d failed", n)
	}
	if n := total[claims.Unknown]; n > 0 {
		text += fmt.Sprintf(", %d could not be decided", n)
	}
	s.line(text + ".")
}

// openBenches shows which checks of which benches did not pass.
func (a *app) openBenches(s *screen, v class.Verdict) {
	total := map[claims.Verdict]int{}
	for _, b := range v.Benches {
		if total[b.Verdict]++; b.Verdict != claims.Holds &&
			(a.verbose || total[claims.Broken]+total[claims.Unknown] <= maxShown) {
			showBench(s, b)
		}
	}
	if open := total[claims.Broken] + total[claims.Unknown]; open > maxShown && !a.verbose {
		s.line()
		s.line(fmt.Sprintf("  … and %d more; --verbose shows all", open-maxShown))
	}
}

// showBench says what does not hold on a bench.
func showBench(s *screen, b class.Judged) {
	s.line()
	where := ""
	if b.Host != "" {
		where = " on " + b.Host
	}
	if b.Why != "" {
		s.para(2, 4, plain, signUnknown+" "+b.Title()+where+": unknown: "+b.Why)
		return
	}
	s.para(
		2,
		4,
		plain,
		fmt.Sprintf("%s %s%s: %d passed, %d failed, %d unknown", s.paint(broken, signBroken), b.Title(), where,
			b.Counts.Holds, b.Counts.Broken, b.Counts.Unknown),
	)
	for i, c := range b.Open {
		if i == maxShown {
			s.line("    … and ", count(len(b.Open)-i, "claim more", "claims more"))
			break
		}
		s.para(4, 6, plain, c.ID+": "+c.Observed)
	}
	for _, f := range b.Findings {
		s.para(4, 6, plain, f.Code+" "+f.Subject+": "+f.Message)
	}
}

// endClass ends all benches, on all hosts.
func (a *app) endClass(r class.Record, o stopOptions) error {
	began := time.Now()
	var arguments []string
	if o.now {
		arguments = append(arguments, "--now")
	}
	if o.discard {
		arguments = append(arguments, "--discard")
	}
	came, silent := a.answers(a.ctx, r, "stop", arguments, func(int) {})
	open := a.unended(r, came, silent)
	left := r
	left.Benches, left.Hosts = open, nil
	for i, err := range eachHost(r.Hosts, func(_ int, h class.RecordHost) error {
		if silent[h.Name] != nil {
			return silent[h.Name]
		}
		if len(left.On(h.Name)) > 0 {
			return fmt.Errorf("%s has benches that did not stop", h.Name)
		}
		return onHost(r, h).Remove(a.ctx)
	}) {
		if err != nil && (len(r.On(r.Hosts[i].Name)) > 0 || r.Hosts[i].Left) {
			left.Hosts = append(left.Hosts, r.Hosts[i])
		}
	}
	if a.ctx.Err() != nil {
		return a.ctx.Err()
	}
	if len(left.Hosts) > 0 {
		if err := writeClass(left); err != nil {
			return failure{exitUsage, err.Error(), ""}
		}
		return failure{
			exitBroken,
			fmt.Sprintf("%s was not stopped on %s", r.Lab, count(len(left.Hosts), "host", "hosts")),
			"bastion stop " + r.Lab + " again stops the rest, once they answer.",
		}
	}
	if err := removeClass(r); err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	if a.format == "json" {
		return a.json(api.Stopped{Schema: api.StoppedSchema, Lab: r.Lab, Said: ""})
	}
	if !a.quiet {
		a.screen().line(signHolds, " ", r.Lab, " stopped on ", count(len(r.Hosts), "host", "hosts"), " in ",
			time.Since(began).Round(time.Millisecond).String())
	}
	return nil
}

// unended returns the benches that did not end, and says why.
func (a *app) unended(r class.Record, came map[string]remote.Answer, silent map[string]error) []class.Bench {
	var open []class.Bench
	for _, b := range r.Benches {
		answer, ok := came[b.Name]
		if ok && (answer.Status == 0 || strings.Contains(answer.Said, "was not started")) || b.Host == "" ||
			!ok && silent[b.Host] == nil {
			continue
		}
		open = append(open, b)
		why := answer.Said
		if !ok {
			why = silent[b.Host].Error()
		}
		a.note(fmt.Sprintf("%s was not stopped: %s", b.Name, why))
	}
	return open
}
