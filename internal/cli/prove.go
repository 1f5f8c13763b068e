package cli

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

func (a *app) prove() *cobra.Command {
	var ask, whatIf string
	var matrix, replay, anyFault bool
	c := &cobra.Command{
		Use: "prove [LAB | OLD NEW]", Short: "Prove that no packet bypasses the appliance",
		Long: `Follows sets of packets from every guest through the lab: whether any gets
outside past the appliance, or through it although the file says that it may not;
each time with one packet and its way. With two labs it shows what the second lets
through or stops that the first did not.`,
		Example: "  bastion prove saltmarsh.yaml\n  bastion prove saltmarsh.yaml --ask \"newt to outside\"\n  bastion prove saltmarsh.yaml --what-if \"unplug sluice.wan\"",
		Args:    cobra.MaximumNArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if n := len(slices.DeleteFunc([]bool{ask != "", whatIf != "", matrix, anyFault, len(args) == 2},
				func(b bool) bool { return !b })); n > 1 {
				return usage("--ask, --matrix, --what-if, --any-one-fault and a second lab cannot be combined")
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			switch {
			case len(args) == 2:
				now, err := a.load(args[1])
				if err != nil {
					return err
				}
				return a.showChanges(now, "compared with "+args[0], reachability.Compare(p, now))
			case ask != "":
				return a.askProof(p, ask)
			case matrix:
				return a.showMatrixOf(p)
			case whatIf != "":
				return a.whatIf(p, whatIf)
			case anyFault:
				return a.anyOneFault(p)
			}
			return a.showProofOf(p, replay)
		},
	}
	f := c.Flags()
	f.BoolVar(
		&replay,
		"replay",
		false,
		"also send each bypassing packet in a simulation, and show which machine receives it",
	)
	f.StringVar(&ask, "ask", "", "all traffic that passes, such as \"newt to outside\" or \"outside to ferry tcp\"")
	f.BoolVar(&matrix, "matrix", false, "what each segment reaches")
	f.StringVar(
		&whatIf,
		"what-if",
		"",
		"what one change would let through: \"unplug sluice.wan\", \"gannet forwards\" or \"host forwards\"",
	)
	f.BoolVar(
		&anyFault,
		"any-one-fault",
		false,
		"try each adapter on each wrong segment: does it open a bypass, and which checks notice?",
	)
	return c
}

func proofVerdict(verdict string) cell {
	return verdictCell(claims.Verdict(verdict))
}

// replays sends the packet of each escape in a rehearsal.
func (a *app) replays(p *plan.Plan, doc reachability.Document) ([]api.Replay, error) {
	l := simulator.New(p)
	if _, err := l.Open(a.ctx, p); err != nil {
		return nil, err
	}
	var out []api.Replay
	for i, e := range doc.Found() {
		when := claims.Running
		if doc.Escapes[i].Bypass {
			when = claims.Unplugged
		}
		if err := l.Set(a.ctx, when); err != nil {
			return nil, err
		}
		answer := claims.AskOne(a.ctx, l, claims.PacketOf(p, e))
		r := api.Replay{Missing: answer.Missing, Path: []string{}}
		if got, ok := answer.Got.(claims.GotPacket); ok {
			r.Arrived, r.Path = got.TakenBy(e.To), got.Path
		}
		out = append(out, r)
	}
	return out, a.ctx.Err()
}

func (a *app) showProofOf(p *plan.Plan, replay bool) error {
	doc := reachability.New(p, netip.Addr{}).Prove()
	var sent []api.Replay
	if replay {
		var err error
		if sent, err = a.replays(p, doc); err != nil {
			return err
		}
	}
	if a.format == "json" {
		if err := a.json(api.Proof{Document: doc, Replays: sent}); err != nil {
			return err
		}
	} else {
		a.tellProof(p, doc, sent)
	}
	if doc.Verdict != "holds" {
		return failure{status: exitBroken}
	}
	return nil
}

func (a *app) tellProof(p *plan.Plan, doc reachability.Document, sent []api.Replay) {
	s := a.screen()
	c := proofVerdict(doc.Verdict)
	a.title(s, p, "proof, all packets")
	s.para(0, 2, plain, s.paint(c.st, c.text)+" "+proofSentence(doc))
	if a.quiet {
		return
	}
	for _, o := range doc.Open {
		s.para(2, 2, plain, s.paint(strong, signUnknown)+" "+o)
	}
	for i, e := range doc.Escapes {
		if i == maxShown {
			s.line("  … and ", count(len(doc.Escapes)-i, "path more", "paths more"), "; --format json has all")
			break
		}
		what, reason := " reaches ", e.Reason
		if e.Bypass { // which says it all
			what, reason = " bypasses the appliance to ", ""
		}
		s.line("  ", s.paint(broken, signBroken), " ", s.paint(strong, e.From+what+e.To), "  ", s.paint(faint, reason))
		s.line("      ", pathLine(s, e.Path))
		s.para(6, 2, plain, "packet: "+e.Packet.String())
		if sent != nil {
			text := "in the rehearsal it arrives: " + strings.Join(sent[i].Path, " ")
			if !sent[i].Arrived {
				text = "in the simulation it does not arrive, which is a bug of the program: " + strings.Join(
					sent[i].Path,
					" ",
				) + sent[i].Missing
			}
			s.para(6, 2, faint, text)
		}
	}
	if len(doc.Leaves) > 0 {
		t := table{head: []string{"segment", "may go outside", "via", "decided by"}}
		for _, l := range doc.Leaves {
			via := strings.Join(through(p, l.Path), ", ")
			if via == "" {
				via = strings.Join(l.Path[1:len(l.Path)-1], " → ") + " (bypass)"
			}
			t.add(cell{l.From, inside}, strings.Join(l.Sets, "; "), via, ruleText(l))
		}
		s.line()
		s.table(t)
	}
	s.line()
	s.para(
		2,
		2,
		faint,
		"Exhaustive: "+doc.Covered+". Not covered: DNS tunnels, relays, leaking switches (bastion explain scope).",
	)
	for _, text := range doc.Assumes {
		if a.verbose {
			s.para(2, 2, faint, signNote+" "+text)
		}
	}
}

// proofSentence returns the verdict of a proof in a sentence.
func proofSentence(doc reachability.Document) string {
	around := 0
	for _, e := range doc.Escapes {
		if e.Bypass {
			around++
		}
	}
	forbidden := len(doc.Escapes) - around
	switch {
	case doc.Verdict == "unknown" && len(doc.Open) > 0:
		return "Undecided: no bypass so far, but " + count(
			len(doc.Open),
			"open question",
			"open questions",
		) + " can change that."
	case doc.Verdict == "unknown":
		return "Undecided: the rules are too many for a proof over all packets; no bypass was found among those examined."
	case len(doc.Escapes) == 0:
		return "No packet bypasses the appliance, and no forbidden packet passes."
	case around == 0:
		return count(forbidden, "path", "paths") + " through the appliance that the file forbids."
	case forbidden == 0:
		return count(around, "bypass", "bypasses") + ": traffic reaches outside without passing the appliance."
	}
	return count(around, "bypass", "bypasses") + ": traffic reaches outside without passing the appliance; and " +
		count(forbidden, "path", "paths") + " through it that the file forbids."
}

// through returns the appliances that a path passes.
func through(p *plan.Plan, path []string) []string {
	var out []string
	for _, name := range path {
		if m := p.Machine(name); m != nil && m.Appliance != nil {
			out = append(out, name)
		}
	}
	return out
}

func ruleText(l reachability.PassageOf) string {
	if l.Line > 0 {
		return fmt.Sprintf("%s (line %d)", l.Rule, l.Line)
	}
	return l.Rule
}

// askProof tells exactly what passes from one to another.
func (a *app) askProof(p *plan.Plan, text string) error {
	e, err := lab.ParseExpectation(strings.Replace(text, " to ", " reaches ", 1))
	if err != nil {
		return usage(
			"--ask takes SOURCE to DESTINATION [PROTO[/PORT]], such as \"newt to outside tcp/443\", not %q",
			text,
		)
	}
	for _, w := range []*lab.Who{&e.From, &e.To} {
		if err := resolve(p, w); err != nil {
			return err
		}
	}
	m := reachability.New(p, netip.Addr{}, e.From.Prefix, e.To.Prefix)
	answer := m.Ask(reachability.Running, e.From, e.To, e.Service)
	var list []reachability.PassageOf
	for _, x := range answer.Passages {
		list = append(list, m.Told(x, x.Path[0], x.Path[len(x.Path)-1]))
	}
	if a.format == "json" {
		return a.json(
			api.Passages{Schema: api.PassagesSchema, Lab: p.Name, Asked: text, Passages: list, Partial: answer.Partial},
		)
	}
	s := a.screen()
	showTitle(s, p, "what passes: "+text)
	for i, l := range list {
		if i == maxShown {
			s.line("  … and ", count(len(list)-i, "way more", "ways more"), "; --format json shows all")
			break
		}
		s.line()
		s.line("  ", pathLine(s, l.Path))
		for _, set := range l.Sets {
			s.para(4, 2, plain, set)
		}
		if l.Rule != "" {
			s.para(4, 2, faint, "decided by "+ruleText(l))
		}
		s.para(4, 2, faint, "for example "+l.Packet.String())
	}
	s.line()
	switch {
	case answer.Partial:
		s.line(signUnknown, " The rules cut the packets into too many parts to look at them all: more may pass.")
	case len(list) == 0:
		s.line(signNote, " Nothing passes.")
	default:
		s.line(
			signNote,
			" ",
			count(len(list), "way", "ways"),
			". Whoever sends is taken to be hostile, and may forge its source.",
		)
	}
	return nil
}

// resolve finds what a name in a question stands for.
func resolve(p *plan.Plan, w *lab.Who) error {
	if w.Kind != lab.WhoSegment {
		return nil
	}
	switch m := p.Machine(w.Name); {
	case m != nil && m.Guest != nil:
		w.Kind = lab.WhoGuest
	case m != nil:
		w.Kind = lab.WhoAppliance
	case p.Segment(w.Name) == nil:
		var known []string
		for _, s := range p.Segments {
			known = append(known, s.Name)
		}
		for _, m := range p.Machines {
			known = append(known, m.Name)
		}
		if near := lab.Nearest(w.Name, known); near != "" {
			return usage("no %s in this lab; did you mean %s?", w.Name, near)
		}
		return usage("no %s in this lab", w.Name)
	}
	return nil
}

// maxWide is up to how many guests a matrix shows one by one: more make no table
// that one can read, and those that stand alike share a row and a column.
const maxWide = 6

func (a *app) showMatrixOf(p *plan.Plan) error {
	m := reachability.New(p, netip.Addr{})
	var cells []reachability.Cell
	alike, segments := map[string]int{}, map[string]int{}
	if a.format == "text" && len(p.Guests()) > maxWide {
		kinds := m.MatrixOfKinds()
		cells, alike, segments = kinds.Cells, kinds.Count, kinds.Segments
	} else {
		cells = m.Matrix()
	}
	if a.format == "json" {
		return a.json(api.Matrix{Schema: api.MatrixSchema, Lab: p.Name, Cells: cells})
	}
	s := a.screen()
	showTitle(s, p, "reachability of each segment, hostile senders included")
	var names []string
	at := map[[2]string]reachability.Cell{}
	for _, c := range cells {
		if !slices.Contains(names, c.From) {
			names = append(names, c.From)
		}
		at[[2]string{c.From, c.To}] = c
	}
	called := func(name string) string {
		if n := alike[name]; segments[name] > 1 {
			return fmt.Sprintf("%s and %d like it (%d segments)", name, n-1, segments[name])
		} else if n > 1 {
			return fmt.Sprintf("%s and %d like it", name, n-1)
		}
		return name
	}
	t := table{head: []string{"from \\ to"}}
	for _, name := range names {
		t.head = append(t.head, called(name))
	}
	for _, from := range names {
		row := []any{cell{called(from), strong}}
		for _, to := range names {
			c, ok := at[[2]string{from, to}]
			list := c.Services
			switch {
			case !ok:
				row = append(row, "")
			case len(list) == 0:
				row = append(row, cell{signNote, faint})
			case len(list) > 3:
				row = append(row, strings.Join(list[:3], ", ")+fmt.Sprintf(" +%d", len(list)-3))
			default:
				row = append(row, strings.Join(list, ", "))
			}
		}
		t.add(row...)
	}
	s.line()
	s.table(t)
	if len(segments) > 0 {
		s.line()
		s.para(2, 2, faint, "A cell of a row with several segments is of guests of two segments; within one segment "+
			"everything passes.")
	}
	return nil
}

// planOf plans a changed lab.
func planOf(p *plan.Plan, l *lab.Lab) (*plan.Plan, error) {
	l.Profiles = p.Lab.Profiles
	return plan.Build(l)
}

func (a *app) whatIf(p *plan.Plan, text string) error {
	l, err := mistakes.WhatIf(p, text)
	if err != nil {
		return usage("%v", err)
	}
	changed, err := planOf(p, l)
	if err != nil {
		return failure{exitUsage, "with that the lab could not be planned: " + err.Error(), ""}
	}
	opens := a.showChanges(changed, "what if "+text, reachability.Compare(p, changed))
	if a.format == "json" || a.quiet {
		return opens
	}
	doc := reachability.New(changed, netip.Addr{}).Prove()
	c := proofVerdict(doc.Verdict)
	s := a.screen()
	s.line()
	s.line(s.paint(c.st, c.text), " With it: ", proofSentence(doc))
	if doc.Verdict != "holds" {
		return failure{status: exitBroken}
	}
	return opens
}
