package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"openbastion/core/listing"
	"openbastion/core/plan"
	"openbastion/runbook"
	"openbastion/wholefile"
)

// walker leads through a book on whatever reads and writes lines.
type walker struct {
	a     *app
	p     *plan.Plan
	steps []runbook.Step
	walk  runbook.Walk
	in    *bufio.Scanner
	s     *screen
	file  string
}

const walkHelp = `Enter   done, on to the next
p       paste what a machine shows, to be judged; end it with a line that is a dot
p NAME  the same for another machine
f       go on although the check does not hold
s WHY   skip the step
b       back to the step before
q       stop; the same command goes on here`

// walk leads through a book from where the person stopped.
func (a *app) walk(p *plan.Plan, book runbook.Book, state, record string, replace bool) error {
	w := &walker{a: a, p: p, steps: book.Steps(), in: bufio.NewScanner(a.in), s: a.screen(), file: state,
		walk: runbook.Walk{Schema: runbook.WalkSchema, Lab: p.Name}}
	w.in.Buffer(nil, listing.MaxSize)
	if err := w.load(); err != nil {
		return err
	}
	err := w.proceed(book)
	if err == nil && record != "" {
		if err = a.writeNew(record, w.walk.Record(book), replace); err == nil {
			a.note("the record is in " + record)
		}
	}
	return err
}

func (w *walker) load() error {
	data, err := os.ReadFile(w.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		w.walk, err = runbook.ReadWalk(data, w.p.Name)
	}
	if err != nil {
		return usage("cannot read where you stopped, %s: %s", w.file, cause(err))
	}
	return nil
}

func (w *walker) save() error {
	data, err := json.MarshalIndent(w.walk, "", "  ")
	if err != nil {
		return err
	}
	return notWritten(wholefile.Write(w.file, append(data, '\n'), wholefile.Options{Replace: true, Inputs: w.a.inputs}))
}

// line reads an answer; false when there are no more.
func (w *walker) line(prompt string) (string, bool) {
	fmt.Fprint(w.a.err, prompt)
	if !w.in.Scan() {
		fmt.Fprintln(w.a.err)
		return "", false
	}
	return strings.TrimRight(w.in.Text(), "\r"), true
}

func (w *walker) proceed(book runbook.Book) error {
	at := w.walk.Next(w.steps)
	if at > 0 && at < len(w.steps) {
		w.s.line(fmt.Sprintf("Going on at step %d of %d.", at+1, len(w.steps)))
	}
	for at < len(w.steps) {
		step := w.steps[at]
		w.s.line()
		w.s.line(w.s.paint(strong, fmt.Sprintf("%d of %d  %s", at+1, len(w.steps), step.Title)))
		_, err := w.a.out.Write(step.Text(min(w.s.width, 100)))
		if err != nil {
			return err
		}
		next, stop, err := w.answer(step)
		if err != nil {
			return err
		}
		if stop {
			w.s.line(fmt.Sprintf("Stopped at step %d of %d; the same command goes on here.", at+1, len(w.steps)))
			return nil
		}
		at = max(0, at+next)
	}
	w.s.line()
	w.s.line(signHolds, fmt.Sprintf(" All %d steps of %s are behind you.", len(w.steps), book.Lab))
	return nil
}

// answer asks what became of a step and gives by how many steps to go on.
func (w *walker) answer(step runbook.Step) (next int, stop bool, err error) {
	prompt := "Enter: done · s: skip · b: back · q: stop · ?: more > "
	if step.Check != runbook.NoCheck {
		prompt = "Enter: done · p: paste a listing · s: skip · b: back · q: stop · ?: more > "
	}
	judged, held := []string(nil), false
	finish := func(o runbook.Outcome, note string) (int, bool, error) {
		w.walk.Add(runbook.Entry{Step: step.ID, Title: step.Title, Outcome: o, At: time.Now().UTC().Truncate(time.Second), Seen: judged,
			Note: note})
		return 1, false, w.save()
	}
	for {
		text, ok := w.line(prompt)
		if !ok {
			return 0, true, nil
		}
		word, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
		switch {
		case word == "" && judged != nil && !held:
			w.s.line("The check does not hold. p: paste again; f: go on all the same; s: skip")
		case word == "" && w.walk.Proved(step.ID): // looked at again: what was checked stays so
			return 1, false, nil
		case word == "":
			return finish(runbook.Done, "")
		case word == "f" && judged != nil:
			return finish(runbook.Forced, rest)
		case word == "s":
			return finish(runbook.Skipped, rest)
		case word == "b":
			return -1, false, nil
		case word == "q":
			return 0, true, nil
		case word == "p" && step.Check != runbook.NoCheck:
			name := step.Machine
			if rest != "" {
				name = strings.TrimSpace(rest)
			}
			m := w.p.Machine(name)
			if m == nil {
				w.s.line("There is no machine ", name, ".")
				continue
			}
			if judged, held, ok = w.judge(step.Check, m); !ok {
				return 0, true, nil
			}
			for _, j := range judged {
				w.s.para(4, 2, plain, j)
			}
			if held {
				return finish(runbook.Proved, "")
			}
		default:
			w.s.line(walkHelp)
		}
	}
}

// judge reads a pasted listing and holds it against the plan.
func (w *walker) judge(check runbook.Check, m *plan.Machine) (said []string, held, ok bool) {
	w.s.line("Paste what ", m.Name, " shows, then a line that is a dot:")
	var b strings.Builder
	for {
		line, more := w.line("")
		if !more {
			return nil, false, false
		}
		if line == "." {
			break
		}
		b.WriteString(line + "\n")
	}
	held = true
	for _, r := range runbook.Judge(w.p, m, check, b.String()) {
		sign := signHolds
		switch r.Sight {
		case runbook.Amiss:
			sign, held = signBroken, false
		case runbook.Remark:
			sign = signNote
		}
		said = append(said, sign+" "+r.Text)
	}
	return said, held, true
}
