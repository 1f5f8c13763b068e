package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/internal/diagnose"
	"openbastion/internal/diagnose/drill"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/plan"
)

// drillOptions are what a drill is told.
type drillOptions struct {
	level    int
	seed     uint64
	code     string
	results  string
	on       string
	answer   string
	giveUp   bool
	class    int
	key      string
	to       string
	open     string
	replace  bool
	seedSaid bool
}

func (a *app) drill() *cobra.Command {
	var o drillOptions
	c := &cobra.Command{
		Use: "drill [LAB]", Short: "Plant a mistake to find",
		Long: `Plants a mistake in the lab and shows what a person at the bench would see: ask for
pings, listings, consoles, pages, and say what is wrong. The points are for how few
looks that took, against the fewest possible. With --on kernel or machines the lab is
started with the mistake in it, and you look with your own tools; --answer then says
what it was. --for-class writes a different drill for each of a class, with an answer
sheet that only the teacher's key opens.`,
		Example: "  bastion drill saltmarsh.yaml --level 1\n  bastion drill saltmarsh.yaml --on kernel --level 2\n" +
			"  bastion drill saltmarsh.yaml --answer 'leases sluice.lan'\n" +
			"  bastion drill saltmarsh.yaml --for-class 24 --key teacher.key --to drills\n  bastion drill --open drills/answers.sealed --key teacher.key",
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			o.seedSaid = c.Flags().Changed("seed")
			if err := o.check(len(args) > 0, a.format); err != nil {
				return err
			}
			if o.open != "" {
				return a.openSheet(o)
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			switch {
			case o.class > 0:
				return a.drillsForClass(p, o)
			case o.answer != "" || o.giveUp:
				return a.answerPlanted(p, labArg(args), o)
			case o.on != "":
				return a.drillOn(p, labArg(args), o)
			}
			return a.drillHere(p, labArg(args), o)
		},
	}
	f := c.Flags()
	f.IntVar(&o.level, "level", 1, "1: common, with many symptoms; 2: any; 3: two at once")
	f.Uint64Var(&o.seed, "seed", 0, "plant the mistake with this number (default: random, and printed)")
	f.StringVar(&o.code, "code", "", "the code of a class drill")
	f.StringVar(&o.on, "on", "", "start the lab with the mistake in it: kernel or machines")
	f.StringVar(&o.answer, "answer", "", "the mistake in the lab that was started so, in words or by its name")
	f.BoolVar(&o.giveUp, "give-up", false, "of the lab that was started so: name the mistake")
	f.IntVar(&o.class, "for-class", 0, "write this many different drills, and a sealed answer sheet")
	f.StringVar(&o.key, "key", "", "the teacher's key: a file, created if missing")
	f.StringVar(&o.to, "to", "drills", "the folder that --for-class writes to")
	f.StringVar(&o.open, "open", "", "open this sealed answer sheet with --key")
	f.StringVar(&o.results, "results", "", "with --open: check the results that students handed in, a line each")
	f.BoolVar(&o.replace, "replace", false, "replace existing files")
	return c
}

// check refuses options that do not go together.
func (o *drillOptions) check(labSaid bool, format string) error {
	switch {
	case o.level < 1 || o.level > drill.Levels:
		return usage("--level is from 1 to %d, not %d", drill.Levels, o.level)
	case !oneOf(o.on, "", onKernel, onMachines):
		return usage("--on is kernel or machines, not %q", o.on)
	case o.class < 0 || o.class > mostStudents:
		return usage("--for-class is from 1 to %d", mostStudents)
	case (o.class > 0 || o.open != "") && o.key == "":
		return usage("the teacher's key is required: --key teacher.key; --for-class creates it")
	case o.key != "" && o.class == 0 && o.open == "":
		return usage("--key goes with --for-class or --open")
	case o.open != "" && labSaid:
		return usage("--open takes no lab: the sheet contains it")
	case o.code != "" && o.seedSaid:
		return usage("use --code or --seed, not both")
	case format == "json":
		return usage("drills are for people: --format json is for diagnose")
	}
	return nil
}

// mostStudents bounds a class.
const mostStudents = 500

// planted makes the drill that options say. plain keeps to what any stage can be built
// with.
func (a *app) planted(p *plan.Plan, o *drillOptions, plain bool) (*drill.Drill, error) {
	var salt []byte
	if n, _ := fmt.Sscanf(o.code, seedPrefix+"%d:%d", &o.level, &o.seed); n == 2 { // of a lab's record
	} else if o.code != "" {
		level, bytes, err := readCode(o.code)
		if err != nil {
			return nil, err
		}
		o.level, salt = level, bytes
	} else if !o.seedSaid {
		o.seed = rand.Uint64N(1_000_000)
	}
	s, err := a.study(p)
	if err != nil {
		return nil, err
	}
	var fits func(mistakes.Mistake) bool
	if plain {
		fits = drill.Plain
	}
	var d *drill.Drill
	if salt != nil {
		d, err = drill.NewSealed(s, o.level, salt, fits)
	} else {
		d, err = drill.New(s, o.level, o.seed, fits)
	}
	if err != nil {
		return nil, failure{exitUsage, err.Error(), ""}
	}
	return d, nil
}

// drillHere leads through a drill in memory.
func (a *app) drillHere(p *plan.Plan, file string, o drillOptions) error {
	d, err := a.planted(p, &o, false)
	if err != nil {
		return err
	}
	s := a.screen()
	title := fmt.Sprintf("drill, level %d", o.level)
	if o.code == "" {
		title += fmt.Sprintf(" (--seed %d plants it again)", o.seed)
	}
	showTitle(s, p, title)
	a.sayComplaint(s, d)
	s.para(0, 0, faint, "Ask; `help` lists the questions; `answer` names the mistake.")
	in := bufio.NewReaderSize(a.in, 1<<16)
	x := &examination{a: a, s: s, d: d, bench: d.Bench(), code: o.code, file: file}
	prompt := ""
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		prompt = "> "
	}
	for !x.over {
		fmt.Fprint(a.err, prompt)
		line, err := in.ReadString('\n')
		if line = strings.TrimSpace(line); line != "" {
			x.answer(line)
		}
		if errors.Is(err, io.EOF) || a.ctx.Err() != nil {
			break
		}
		if err != nil {
			return usage("cannot read: %v", err)
		}
	}
	if a.ctx.Err() != nil {
		return a.ctx.Err()
	}
	return x.end()
}

// sayComplaint returns what the people at the bench came with.
func (a *app) sayComplaint(s *screen, d *drill.Drill) {
	count := "Something is wrong."
	if len(d.Mistakes) > 1 {
		count = "Two things are wrong."
	}
	s.para(0, 0, plain, count+" Reported: "+strings.Join(d.Complaint(), "; ")+".")
}

// examination is a person's way through a drill.
type examination struct {
	a     *app
	s     *screen
	d     *drill.Drill
	bench *drill.Bench
	code  string
	file  string
	looks int
	wrong int
	found map[string]bool
	over  bool
	left  bool
	told  bool               // what was planted
	list  []mistakes.Mistake // what the last answer could mean
}

// answer takes a line.
func (x *examination) answer(line string) {
	verb, rest, _ := strings.Cut(line, " ")
	switch strings.ToLower(verb) {
	case "help", "?":
		x.lines(drill.Help)
	case "quit", "exit":
		x.over, x.left = true, true
	case "fewest":
		x.s.line(fmt.Sprintf("%s would do.", count(x.d.Fewest(), "look", "looks")))
	case "hint":
		x.hint()
	case "give":
		x.over, x.left = true, true
		if x.code == "" {
			x.tell()
		}
	case "answer":
		x.judge(rest)
	default:
		if n, err := strconv.Atoi(line); err == nil && n >= 1 && n <= len(x.list) {
			x.decide(x.list[n-1])
			return
		}
		reply, err := x.bench.Do(line)
		if err != nil {
			x.s.para(0, 2, faint, err.Error())
			return
		}
		x.looks += reply.Looks
		x.lines(reply.Text)
	}
}

// lines shows a text line by line, as it stands.
func (x *examination) lines(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		x.s.line("  ", line)
	}
}

// hint names the next look that tells most, and costs two.
func (x *examination) hint() {
	x.looks += 2
	s := x.d.Study
	if q := s.Next(s.Causes(nil), s.LookQuestions(), nil); q != nil {
		x.s.para(0, 2, plain, q.Text+" ("+q.Do+")")
	}
	x.s.para(0, 2, faint, "It is about "+string(x.d.Mistakes[0].Family)+".")
}

// mostOffered is how many mistakes an answer may mean to be asked which.
const mostOffered = 12

// judge takes what a person says is wrong.
func (x *examination) judge(text string) {
	list := x.d.Find(text)
	switch {
	case len(list) == 0:
		x.s.para(0, 2, faint, "no mistake matches those words; use fewer, such as `answer gateway ferry`.")
	case len(list) == 1:
		x.decide(list[0])
	case len(list) > mostOffered:
		x.s.para(0, 2, faint, fmt.Sprintf("%d mistakes match; use more words.", len(list)))
	default:
		x.list = list
		for i, m := range list {
			x.s.para(2, 4, plain, fmt.Sprintf("%d  %s", i+1, m))
		}
		x.s.para(0, 2, faint, "Which one? Enter its number.")
	}
}

func (x *examination) decide(m mistakes.Mistake) {
	x.list = nil
	if !x.d.Right(m) {
		x.wrong++
		x.s.line(x.s.paint(broken, signBroken), " No: that mistake has other symptoms.")
		return
	}
	if x.found == nil {
		x.found = map[string]bool{}
	}
	x.found[m.ID()] = true
	x.s.para(0, 2, plain, signHolds+" Yes: "+m.String()+".")
	x.s.para(2, 2, faint, "why: "+m.Fill(m.Why))
	x.s.para(2, 2, faint, "remedy: "+m.Fill(m.Remedy))
	if x.over = len(x.found) >= len(x.d.Mistakes); !x.over {
		x.s.line("One more is left.")
	}
}

// tell returns what was planted.
func (x *examination) tell() {
	x.told = true
	for _, m := range x.d.Mistakes {
		x.s.para(0, 2, plain, "It was: "+m.String()+" ("+m.ID()+").")
		x.s.para(2, 2, faint, "look: "+diagnose.Confirm(m))
	}
}

// end returns the points.
func (x *examination) end() error {
	solved := !x.left && len(x.found) >= len(x.d.Mistakes)
	points := 0
	if solved {
		points = x.d.Points(x.looks, x.wrong)
	}
	x.s.line()
	x.s.line(
		fmt.Sprintf(
			"%s, %s; %d would do: %d points of 100.",
			count(x.looks, "look", "looks"),
			count(x.wrong, "wrong answer",
				"wrong answers"),
			x.d.Fewest(),
			points,
		),
	)
	if (solved || x.told) && x.bench != nil && !x.a.quiet {
		x.s.line("What would have been enough:")
		for _, text := range x.d.Enough() {
			x.s.para(2, 4, plain, text)
		}
	}
	if x.code != "" {
		proof := ""
		if solved {
			var ids []string
			for _, m := range x.d.Mistakes {
				ids = append(ids, m.ID())
			}
			proof = drill.Proof(x.code, ids)
		}
		x.s.para(0, 2, plain, "Hand this in: "+resultLine(x.code, proof, x.looks, x.wrong, points))
	}
	if !solved {
		return failure{status: exitBroken}
	}
	return nil
}
