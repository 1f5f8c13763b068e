package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/term"

	"openbastion/internal/diagnose"
	"openbastion/internal/observe/listing"
)

// How many questions are put at most, and how sure one must be to stop before.
const (
	mostQuestions = 12
	sureEnough    = 0.85
)

// askSeen asks on a terminal what is seen, until one cause is left.
func (a *app) askSeen(in *os.File, s *diagnose.Study) (seen []diagnose.Seen, err error) {
	err = a.dialogue(in, func(d *dialogue) error {
		fmt.Fprintln(
			d.t,
			"What do you see? Enter: not checked. ?: how to check. p: paste output. end: show the result now. Ctrl-C quits.",
		)
		questions, asked := s.Questions(), map[string]bool{}
		for n := 1; n <= mostQuestions; n++ {
			causes := s.Causes(seen)
			if len(causes) == 0 ||
				diagnose.Abnormal(seen) && causes[0].Explains() && diagnose.Sure(causes) >= sureEnough {
				return nil
			}
			q := s.Next(causes, questions, asked)
			if q == nil {
				return nil
			}
			asked[q.ID] = true
			more, end, err := d.look(s, q, n)
			if err != nil || end {
				return err
			}
			seen = append(seen, more...)
		}
		return nil
	})
	return seen, err
}

// pasted reads what a machine shows, up to a line that is a dot.
func (d *dialogue) pasted(s *diagnose.Study, q *diagnose.Question) ([]diagnose.Seen, error) {
	if q.Machine == nil {
		return nil, errors.New("this question is not about one machine: answer it")
	}
	fmt.Fprintf(d.t, "  Paste the output of %s, including tests; a line with a single dot ends it.\n", q.Machine.Name)
	d.t.SetPrompt("")
	var b strings.Builder
	for b.Len() < listing.MaxSize {
		line, err := d.t.ReadLine()
		if err != nil && !errors.Is(err, term.ErrPasteIndicator) {
			return nil, errLeft
		}
		if strings.TrimSpace(line) == "." {
			break
		}
		b.WriteString(line + "\n")
	}
	return s.FromPaste(q.Machine, b.String()), nil
}

// look puts one question.
func (d *dialogue) look(s *diagnose.Study, q *diagnose.Question, n int) (seen []diagnose.Seen, end bool, err error) {
	fmt.Fprintf(d.t, "\n%d. %s\n", n, q.Text)
	for i, o := range q.Options {
		fmt.Fprintf(d.t, "   %2d  %s\n", i+1, o.Text)
	}
	prompt := "number"
	switch {
	case q.Reads:
		prompt = "it shows"
	case q.Whole:
		prompt = "guests"
	}
	err = d.ask(prompt, "", q.Do, func(line string) error {
		seen = nil
		if line = strings.TrimSpace(line); line == "" {
			return nil
		}
		if line == "end" {
			end = true
			return nil
		}
		var err error
		if line == "p" {
			if seen, err = d.pasted(s, q); err == nil && len(seen) == 0 {
				err = errors.New("nothing in it is evidence")
			}
			return err
		}
		switch {
		case q.Whole:
			seen, err = s.Who(line)
		case q.Reads:
			seen, err = s.Settings(q, line)
		default:
			i, bad := strconv.Atoi(line)
			if bad != nil || i < 1 || i > len(q.Options) {
				return fmt.Errorf("a number from 1 to %d, or nothing", len(q.Options))
			}
			seen = q.Options[i-1].Seen
		}
		return err
	})
	return seen, end, err
}
