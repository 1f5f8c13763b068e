package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"openbastion/internal/classroom/bundle"
	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/format/qr"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/field"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// probeOptions are what a probe is told.
type probeOptions struct {
	plan, as, witness, name, token, bench, to string
	at                                        []string
	cut, line, square                         bool
	replace, answer, answered, servers        bool
}

func (a *app) probe() *cobra.Command {
	var o probeOptions
	c := &cobra.Command{
		Use: "probe", Short: "Test from inside a guest",
		Long: `Looks from within a guest whether the lab is as planned: adapters, addresses, leases, the
next hop, names, paths outside, and what the test server outside sees of it. Without --plan it says
in a few lines what this machine sees. The plan is what "plan --for GUEST" writes (a file,
"-", or the line itself), or a lab file with --as. Without rights it does what it can, and
says what it could not. With --cut it waits until you have unplugged the appliance's WAN,
tries every path outside, and says when to plug it in again; a guest that may go outside sees
by itself that it is so, for any other press Enter.

What it found goes into a file of evidence (--to, or --line to copy it), which "verify
--from" puts together with that of other guests. --as outside, on a machine in front of
the appliance, tries what must not be reached from there.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if o.plan == "" {
				if o.as+o.to != "" || o.cut || o.line || o.square {
					return usage("--as, --to, --line, --square and --cut go with --plan")
				}
				return a.probeAlone(o)
			}
			if o.servers {
				return usage(
					"--servers is for a probe without --plan: with a plan, DHCP servers are checked as far as needed",
				)
			}
			return a.probeGuest(o)
		},
	}
	c.Flags().StringVar(
		&o.plan,
		"plan",
		"",
		"the plan: a file, - for standard input, or the line that plan --for writes",
	)
	c.Flags().StringVar(
		&o.as,
		"as",
		"",
		"the machine that runs it, or outside (default: the plan's machine)",
	)
	c.Flags().StringVar(&o.witness, "witness", "", "the address of the test server outside (default: the plan's)")
	c.Flags().StringVar(
		&o.name,
		"name",
		"",
		"a name that resolves to the test server, to check DNS with (default: the plan's)",
	)
	c.Flags().StringVar(&o.token, "token", "", "with a lab file: the lab's token, as the test server shows it")
	c.Flags().StringVar(&o.bench, "bench", "", "with a lab file: the bench this is")
	c.Flags().StringArrayVar(&o.at, "at", nil,
		"the address of a machine that the plan leaves open, MACHINE=ADDRESS; of an appliance, outside; repeatable")
	c.Flags().BoolVar(
		&o.answer,
		"answer",
		false,
		"only answer on the ports that others check, until interrupted; check nothing",
	)
	c.Flags().BoolVar(
		&o.answered,
		"others-answer",
		false,
		"the other machines of the lab run probe --answer: their silence counts",
	)
	c.Flags().BoolVar(&o.cut, "cut", false, "also check no-bypass: wait until you have unplugged the appliance's WAN")
	c.Flags().
		StringVar(&o.to, "to", "", "write the evidence to this file (default: MACHINE.evidence.json, unless --line)")
	c.Flags().BoolVar(
		&o.servers,
		"servers",
		false,
		"without a plan: also list the DHCP servers on each adapter (Linux, as root)",
	)
	c.Flags().BoolVar(&o.line, "line", false, "write the evidence as a line to copy, to standard output")
	c.Flags().BoolVar(
		&o.square,
		"square",
		false,
		"show its brief result as a QR code; verify --from accepts its text too",
	)
	c.Flags().BoolVar(&o.replace, "replace", false, "replace an existing file")
	return c
}

// probeAlone returns what this machine sees, without a plan.
func (a *app) probeAlone(o probeOptions) error {
	s, err := field.Look()
	if err != nil {
		return failure{exitLacking, err.Error(), ""}
	}
	v := s.Glance(a.ctx, o.servers)
	if a.format == "json" {
		return a.json(v)
	}
	out := a.screen()
	t := table{}
	for _, x := range v.Adapters {
		if x.Kind != "" {
			x.Name += ", " + x.Kind
		}
		text := strings.Join(x.Addresses, ", ")
		if text == "" {
			text = "no address: is it plugged in, and is there a DHCP server?"
		}
		t.add(cell{x.Name, strong}, cell{x.MAC, faint}, text, x.How)
	}
	out.line(out.paint(strong, "This machine"), "  ", out.paint(faint, runtime.GOOS))
	out.below(t)
	out.line()
	for _, line := range v.Says {
		sign := signHolds
		if !line.Good {
			sign = out.paint(broken, signBroken)
		}
		out.para(2, 4, plain, sign+" "+line.Text)
	}
	out.line()
	out.para(0, 2, faint, "With a plan it also checks whether that is right: bastion probe --plan LINE")
	return a.ctx.Err()
}

// brought reads the plan that a probe was given.
func (a *app) brought(o probeOptions) (*plan.Plan, bundle.Plan, error) {
	var c bundle.Plan
	data := []byte(o.plan)
	if !strings.HasPrefix(o.plan, "ob1.") {
		var err error
		if data, err = a.read(o.plan, lab.MaxSize+1); err != nil {
			return nil, c, err
		}
	}
	text := bytes.TrimSpace(data)
	if bytes.HasPrefix(text, []byte("ob1.")) || bytes.HasPrefix(text, []byte("{")) {
		c, err := bundle.Read(data)
		if err != nil {
			return nil, c, failure{
				exitUsage,
				"the plan: " + err.Error(),
				"Write it again: bastion plan LAB --for GUEST",
			}
		}
		a.carried = c.Profiles
		l, err := lab.Read(c.File, []byte(c.Text))
		if err == nil {
			err = a.profiles(l, "-")
		}
		if err != nil {
			return nil, c, err
		}
		p, err := plan.Build(l)
		return p, c, err
	}
	p, err := a.load(o.plan)
	if err != nil {
		return nil, c, err
	}
	c = bundle.Plan{Lab: p.Name, Bench: cmp.Or(o.bench, p.Name), Print: p.Fingerprint()}
	if o.as == "" {
		return nil, c, usage("with a lab file, name the machine: --as")
	}
	token, err := tokenOf(o.token, p.Name)
	if err == nil {
		token = token.Bench(c.Bench)
	}
	c.Token = token.String()
	return p, c, err
}

func (a *app) probeGuest(o probeOptions) error {
	p, c, err := a.brought(o)
	if err != nil {
		return err
	}
	s, err := a.fieldStage(p, c, o)
	if err != nil {
		return err
	}
	if o.answer {
		return a.answering(p, s)
	}
	began := time.Now()
	_, answers, err := verdict.Run(a.ctx, p, s)
	if err != nil {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		return failure{exitLacking, err.Error(), ""}
	}
	runs := s.Settle(a.ctx, answers.Answers)
	e := evidence.Evidence{
		Lab:     p.Name,
		Bench:   c.Bench,
		Guest:   s.Self,
		Print:   p.Fingerprint(),
		Asks:    claims.Digest(p),
		Program: Version,
		Made:    time.Now().UTC().Truncate(time.Second),
		System:  runtime.GOOS + "/" + runtime.GOARCH,
		Facts:   answers.Facts,
		Witness: s.Guest.Witness,
		Reports: s.Reports(),
		Answers: own(p, s.Self, answers),
		Runs:    runs,
	}
	token, err := witness.ParseToken(c.Token)
	if err != nil {
		return err
	}
	signed, err := e.Sign(token.Evidence())
	if err != nil {
		return err
	}
	alone := evidence.For(p).Join([]evidence.File{{Evidence: e}})
	alone.Facts = answers.Facts
	for _, missing := range answers.Answers {
		if missing.Missing != "" { // why others would have to tell it
			alone.Answers = append(alone.Answers, missing)
		}
	}
	doc := alone.Judge(p)
	mine := ofMachine(doc, p, s.Self)
	if a.format == "json" {
		err = a.json(mine)
	} else {
		a.showProbe(p, s, mine, time.Since(began))
	}
	if err == nil {
		err = a.handOver(o, s.Self, signed)
	}
	if err == nil && o.square {
		err = a.showSquare(e.Brief(p, doc, token.Evidence()))
	}
	if err == nil && mine.Verdict != claims.Holds {
		err = failure{status: exitBroken}
	}
	return err
}

// own returns the answers that are this machine's to give.
func own(p *plan.Plan, self string, got claims.Answers) []claims.Answer {
	mine := map[string]bool{}
	for _, q := range claims.Questions(p, got.Facts) {
		mine[q.ID] = evidence.Of(self, q.Ask)
	}
	return slices.DeleteFunc(
		slices.Clone(got.Answers),
		func(a claims.Answer) bool { return !mine[a.ID] && a.Missing != "" },
	)
}

// answering returns who this machine is, until interrupted.
func (a *app) answering(p *plan.Plan, s *field.Probe) error {
	x, err := field.Answer(p, s.Self, claims.Facts{Witness: s.Witness})
	if err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	out := a.screen()
	out.line(
		out.paint(strong, s.Self),
		" answers on ",
		servicesText(x.Open),
		out.paint(faint, ", until interrupted"),
	)
	if len(x.Taken) > 0 {
		out.para(2, 2, plain, signNote+" something else listens on "+servicesText(x.Taken)+", or that needs root")
	}
	x.Run(a.ctx)
	return a.ctx.Err()
}

func servicesText(list []lab.Service) string {
	var names []string
	for _, s := range list {
		names = append(names, s.String())
	}
	if len(names) == 0 {
		return "nothing"
	}
	return listed(names)
}

// fieldStage makes the stage that a probe is.
func (a *app) fieldStage(p *plan.Plan, c bundle.Plan, o probeOptions) (*field.Probe, error) {
	s := &field.Probe{
		Self:    c.Guest,
		Witness: claims.Witness{Address: c.Witness, Name: c.Name},
		At:      map[string]netip.Addr{},
		Answers: o.answered,
	}
	if o.as != "" {
		s.Self = o.as
	}
	if s.Self != field.Outside && p.Machine(s.Self) == nil {
		return nil, usage("the lab %s has no machine %q", p.Name, s.Self)
	}
	if o.witness != "" {
		at, err := netip.ParseAddr(o.witness)
		if err != nil {
			return nil, usage("--witness is an address, not %q", o.witness)
		}
		s.Witness.Address = at
	}
	if o.name != "" {
		s.Witness.Name = o.name
	}
	for _, text := range o.at {
		name, address, _ := strings.Cut(text, "=")
		at, err := netip.ParseAddr(address)
		if m := p.Machine(name); err != nil || m == nil {
			return nil, usage("--at is MACHINE=ADDRESS, not %q", text)
		}
		s.At[name] = at
	}
	token, err := witness.ParseToken(c.Token)
	if err != nil {
		return nil, usage("the token: %v", err)
	}
	s.Guest = field.Guest{Token: token, Bench: c.Bench, Witness: c.Key}
	if o.cut {
		s.Cut = a.byHand(s)
	}
	return s, nil
}

// byHand has the person unplug the appliance's WAN, and plug it in again: it waits until the
// probe sees that it is so, or until Enter.
func (a *app) byHand(s *field.Probe) func(ctx context.Context, plugged bool) error {
	lines := make(chan error)
	read := sync.OnceFunc(func() {
		go func() {
			for in := bufio.NewReader(a.in); ; {
				_, err := in.ReadString('\n')
				lines <- err
			}
		}()
	})
	saw := false
	return func(ctx context.Context, plugged bool) error {
		if saw { // who pressed Enter late meant what was asked before
			select {
			case <-lines:
			default:
			}
		}
		saw = false
		what := "Unplug the WAN of the appliance now"
		if plugged {
			what = "Plug the WAN of the appliance in again"
		}
		fmt.Fprintf(a.err, "%s, then press Enter. > ", what)
		read()
		watch, end := context.WithCancel(ctx)
		seen := make(chan bool)
		go func() { seen <- s.Sees(watch, plugged) }()
		defer func() { end(); <-seen }()
		select {
		case err := <-lines:
			if err != nil && !plugged {
				return errors.New("--unplugged is missing: is the WAN unplugged?")
			}
			return nil
		case <-seen:
			close(seen)
			saw = true
			fmt.Fprintln(a.err, "It is.")
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// ofMachine returns the part of a verdict that is about one machine and its segments.
func ofMachine(doc verdict.Document, p *plan.Plan, self string) verdict.Document {
	out := doc
	out.Claims, out.Verdict, out.Stage, out.Findings = nil, claims.Holds, claims.FieldStage, []verdict.Finding{}
	for _, r := range doc.Claims {
		if !evidence.About(p, self, r) {
			continue
		}
		out.Claims = append(out.Claims, r)
		out.Verdict = out.Verdict.And(r.Verdict)
	}
	if len(out.Claims) == 0 {
		out.Claims, out.Verdict = []claims.Result{}, claims.Unknown
	}
	return out
}

// showSquare shows a brief as a square code, and as the text that is in it.
func (a *app) showSquare(brief string) error {
	picture, err := qr.Draw(brief)
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(a.out, picture, brief, "\n")
	return err
}

// handOver writes evidence to a file, or as a line.
func (a *app) handOver(o probeOptions, self string, signed []byte) error {
	if o.line {
		var dense bytes.Buffer
		if err := json.Compact(&dense, signed); err != nil {
			return err
		}
		line, err := bundle.Pack(dense.Bytes())
		if err != nil {
			return err
		}
		_, err = fmt.Fprintln(a.out, line)
		return err
	}
	to := o.to
	if to == "" {
		to = self + ".evidence.json"
	}
	if err := a.writeNew(to, append(signed, '\n'), o.replace || o.to == ""); err != nil {
		return notWritten(err)
	}
	a.note(
		"The evidence is in " + to + "; bastion verify LAB --from " + filepath.Base(
			to,
		) + " … puts it together with others'.",
	)
	return nil
}
