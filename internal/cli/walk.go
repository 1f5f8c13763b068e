package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
	"openbastion/internal/render/runbook"
)

// walker leads through a book on whatever reads and writes lines.
type walker struct {
	a     *app
	p     *plan.Plan
	make  func() runbook.Book // of the plan as it is now
	steps []runbook.Step
	walk  runbook.Walk
	in    *bufio.Reader
	s     *screen
	file  string
}

const walkHelp = `Enter   done, on to the next
p       paste what a machine shows, to be judged; end it with a line that is a dot,
        or with Ctrl-D
p NAME  the same for another machine
f       go on although the check does not hold
s WHY   skip the step
b       back to the step before
q       stop; the same command goes on here`

// walk leads through a book from where the person stopped.
func (a *app) walk(p *plan.Plan, makeBook func() runbook.Book, state, record string, replace bool) error {
	w := &walker{a: a, p: p, make: makeBook, in: bufio.NewReaderSize(a.in, 1<<16), s: a.screen(), file: state,
		walk: runbook.Walk{Schema: runbook.WalkSchema, Lab: p.Name}}
	if err := w.load(); err != nil {
		return err
	}
	w.call(w.walk.Devices)
	book := makeBook()
	w.steps = book.Steps()
	err := w.proceed(book)
	book = makeBook()
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
		return usage("cannot read the saved position, %s: %s", w.file, cause(err))
	}
	return nil
}

func (w *walker) save() error {
	data, err := json.MarshalIndent(w.walk, "", "  ")
	if err != nil {
		return err
	}
	return notWritten(
		atomicfile.Write(w.file, append(data, '\n'), atomicfile.Options{Replace: true, Inputs: w.a.inputs}),
	)
}

// call has the plan go by what interfaces are really called, by machine and port.
func (w *walker) call(devices map[string]string) {
	called := map[*plan.Adapter]string{}
	for _, ad := range w.p.Adapters {
		if d := devices[ad.Machine.Name+"."+ad.Name]; d != "" {
			called[ad] = d
		}
	}
	w.p.Call(called)
}

// line reads a line; false at the end of what there is to read. On a terminal that is
// Ctrl-D, and what is typed afterwards is read again.
func (w *walker) line(prompt string) (string, bool) {
	fmt.Fprint(w.a.err, prompt)
	var b strings.Builder
	for {
		part, err := w.in.ReadString('\n')
		if b.Len() < listing.MaxSize {
			b.WriteString(part)
		}
		switch {
		case err == nil || b.Len() > 0 && errors.Is(err, io.EOF):
			return strings.TrimRight(b.String(), "\r\n"), true
		case err != nil:
			fmt.Fprintln(w.a.err)
			return "", false
		}
	}
}

func (w *walker) proceed(book runbook.Book) error {
	at := w.walk.Next(w.steps)
	if at > 0 && at < len(w.steps) {
		w.s.line(fmt.Sprintf("Going on at step %d of %d.", at+1, len(w.steps)))
	}
	for at < len(w.steps) {
		step := w.steps[at]
		part, first, last := book.PartOf(step.ID)
		w.s.line()
		if first {
			w.s.line(w.s.paint(faint, part.Title))
			if _, err := w.a.out.Write(part.Before(min(w.s.width, 100))); err != nil {
				return err
			}
		}
		w.s.line(w.s.paint(strong, fmt.Sprintf("%d of %d  %s", at+1, len(w.steps), step.Title)))
		_, err := w.a.out.Write(step.Brief().Text(min(w.s.width, 100)))
		if err != nil {
			return err
		}
		next, stop, err := w.answer(step)
		if err != nil {
			return err
		}
		if stop {
			w.s.line(fmt.Sprintf("Stopped at step %d of %d; the same command continues here.", at+1, len(w.steps)))
			if part.Unproved != "" {
				w.s.para(0, 0, faint, "Still unseen: "+part.Unproved+".")
			}
			return nil
		}
		if last && next > 0 {
			if _, err := w.a.out.Write(part.After(min(w.s.width, 100))); err != nil {
				return err
			}
		}
		at = max(0, at+next)
	}
	w.s.line()
	w.s.line(signHolds, fmt.Sprintf(" All %d steps of %s are done.", len(w.steps), book.Lab))
	return nil
}

// answer asks what became of a step and gives by how many steps to go on.
func (w *walker) answer(step runbook.Step) (next int, stop bool, err error) {
	prompt := "Enter: done · s: skip · b: back · q: stop · ?: more > "
	if step.Check != runbook.NoCheck {
		prompt = "Enter: done · p: paste a listing · s: skip · b: back · q: stop · ?: more > "
	}
	var judged judgement
	finish := func(o runbook.Outcome, note string) (int, bool, error) {
		w.walk.Add(
			runbook.Entry{
				Step:    step.ID,
				Title:   step.Title,
				Outcome: o,
				At:      time.Now().UTC().Truncate(time.Second),
				Seen:    judged.said,
				Note:    note,
			},
		)
		return 1, false, w.save()
	}
	for {
		text, ok := w.line(prompt)
		if !ok {
			return 0, true, nil
		}
		word, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
		switch {
		case word == "" && judged.amiss:
			w.s.line("The check failed. p: paste again; f: continue anyway; s: skip")
		case word == "" && w.walk.Proved(step.ID): // looked at again: what was checked stays so
			return 1, false, nil
		case word == "":
			return finish(runbook.Done, "")
		case word == "f" && judged.said != nil:
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
				w.s.line("No machine ", name, ".")
				continue
			}
			judged = w.judge(step.Check, m, judged)
			for _, j := range judged.said {
				w.s.para(4, 2, plain, j)
			}
			switch {
			case judged.amiss:
			case judged.lacking:
				w.s.line("No differences so far; values are missing. p: paste more; Enter: you have seen the rest")
			case judged.said != nil:
				return finish(runbook.Proved, "")
			}
		default:
			if word == "?" {
				if _, err := w.a.out.Write(step.Text(min(w.s.width, 100))); err != nil {
					return 0, true, err
				}
			}
			w.s.line(walkHelp)
		}
	}
}

// judgement is what came of pastes at a step.
type judgement struct {
	pasted  string // so far, while nothing in it was against the plan
	of      *plan.Machine
	said    []string
	amiss   bool
	lacking bool
}

// judge reads a pasted listing and holds it against the plan, with what was pasted
// before it of the same machine.
func (w *walker) judge(check runbook.Check, m *plan.Machine, before judgement) judgement {
	w.s.line("Paste what ", m.Name, " shows, then a line that is a dot:")
	out := judgement{of: m}
	if before.of == m && !before.amiss {
		out.pasted = before.pasted
	}
	for len(out.pasted) < listing.MaxSize {
		line, more := w.line("")
		if !more || line == "." {
			break
		}
		out.pasted += line + "\n"
	}
	l := listing.Read(out.pasted, w.p.Names()...)
	for _, r := range runbook.Judge(w.p, m, check, l) {
		sign := signHolds
		switch r.Sight {
		case runbook.Amiss:
			sign, out.amiss = signBroken, true
		case runbook.Lacking:
			sign, out.lacking = signUnknown, true
		case runbook.Remark:
			sign = signNote
		}
		out.said = append(out.said, sign+" "+r.Text)
	}
	if !out.amiss {
		w.found(m, l)
	}
	return out
}

// found keeps what interfaces are really called: the steps to come go by it.
func (w *walker) found(m *plan.Machine, l listing.Listing) {
	news := false
	for port, device := range runbook.Devices(w.p, m, l) {
		if w.walk.Devices == nil {
			w.walk.Devices = map[string]string{}
		}
		news = news || w.walk.Devices[m.Name+"."+port] != device
		w.walk.Devices[m.Name+"."+port] = device
	}
	if news {
		w.call(w.walk.Devices)
		w.steps = w.make().Steps()
	}
}
