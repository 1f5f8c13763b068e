package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"openbastion/internal/atomicfile"
	"openbastion/internal/diagnose/course"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// courseState is how far a person has come, in the course's folder.
type courseState struct {
	Schema string `json:"schema"`
	Done   []int  `json:"done"`
	Hints  int    `json:"hints"` // taken in the exercise that is next
}

const (
	courseSchema = "openbastion.course/1"
	courseFile   = "course.json"
)

func (a *app) course() *cobra.Command {
	var hint, again, list bool
	c := &cobra.Command{
		Use: "course [FOLDER]", Short: "Eight guided exercises",
		Long: `Leads through eight exercises on the sample lab, from the first guest online to a
second door that is found and closed. The first call writes the first lab file into the
folder and says what to do; you change the file with your editor; the same command judges
it, by the claims that "rehearse" judges, and goes on to the next. Nothing else is needed,
no network and no machine.`,
		Example: "  bastion course\n  bastion course --hint\n  bastion course lessons --list",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text"); err != nil {
				return err
			}
			folder := "course"
			if len(args) > 0 {
				folder = args[0]
			}
			state, begun, err := readCourse(folder)
			if err != nil {
				return err
			}
			switch {
			case list:
				a.listCourse(state)
				return nil
			case len(state.Done) >= len(course.Exercises):
				a.screen().para(0, 2, plain, signHolds+" All eight exercises are done. Next: `bastion drill`.")
				return nil
			}
			e := course.Exercises[len(state.Done)]
			file := filepath.Join(folder, fmt.Sprintf("exercise-%d.yaml", e.Number))
			_, missing := os.Stat(file)
			switch {
			case !begun || again || errors.Is(missing, fs.ErrNotExist):
				return a.beginExercise(folder, file, e, state, again)
			case hint:
				return a.hintExercise(folder, file, e, state)
			}
			return a.judgeExercise(folder, file, e, state)
		},
	}
	c.Flags().BoolVar(&hint, "hint", false, "show the exercise's next hint")
	c.Flags().BoolVar(&again, "again", false, "restart the exercise: its lab file is overwritten")
	c.Flags().BoolVar(&list, "list", false, "list the exercises and which are done")
	return c
}

func readCourse(folder string) (state courseState, begun bool, err error) {
	state.Schema = courseSchema
	file := filepath.Join(folder, courseFile)
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return state, false, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &state)
	}
	if err != nil || state.Schema != courseSchema || len(state.Done) > len(course.Exercises) {
		return state, true, usage("%s is not the state of a course: remove it to start over", file)
	}
	return state, true, nil
}

func (a *app) saveCourse(folder string, state courseState) error {
	data, err := json.MarshalIndent(state, "", "  ")
	if err != nil {
		return err
	}
	return notWritten(
		atomicfile.Write(filepath.Join(folder, courseFile), append(data, '\n'), atomicfile.Options{Replace: true}),
	)
}

func (a *app) listCourse(state courseState) {
	s := a.screen()
	for i, e := range course.Exercises {
		sign := cell{signUnknown, faint}
		if i < len(state.Done) {
			sign = cell{signHolds, plain}
		}
		s.line(" ", s.paint(sign.st, sign.text), fmt.Sprintf(" %d  %s", e.Number, e.Title))
	}
}

// beginExercise writes the lab file of an exercise and says what is wanted.
func (a *app) beginExercise(folder, file string, e course.Exercise, state courseState, again bool) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return notWritten(err)
	}
	if err := a.writeNew(file, e.Start(), again); err != nil {
		return err
	}
	if err := a.saveCourse(folder, state); err != nil {
		return err
	}
	a.sayTask(file, e)
	return nil
}

func (a *app) sayTask(file string, e course.Exercise) {
	s := a.screen()
	s.line(s.paint(strong, fmt.Sprintf("Exercise %d of %d: %s", e.Number, len(course.Exercises), e.Title)))
	s.para(0, 0, plain, e.Task)
	s.line()
	s.line(s.paint(faint, "The lab file: "), file)
	s.line(s.paint(faint, "What reveals the mistake:"))
	for _, look := range e.Look {
		s.line("  ", strings.Replace(look, "LAB", file, 1))
	}
	s.para(0, 2, faint, "Change the file, then run `bastion course` again; --hint helps.")
}

func (a *app) hintExercise(folder, file string, e course.Exercise, state courseState) error {
	n := min(state.Hints, len(e.Hints)-1)
	a.screen().para(0, 2, plain, fmt.Sprintf("Hint %d of %d: %s", n+1, len(e.Hints), e.Hints[n]))
	state.Hints = n + 1
	return a.saveCourse(folder, state)
}

// judgeExercise judges the lab file as it is now.
func (a *app) judgeExercise(folder, file string, e course.Exercise, state courseState) error {
	p, err := a.load(file)
	if err != nil {
		return err
	}
	doc, _, err := a.rehearsal(p, "", false, nil)
	if err != nil {
		return err
	}
	goals, done := e.Judge(p, doc)
	s := a.screen()
	s.line(s.paint(strong, fmt.Sprintf("Exercise %d of %d: %s", e.Number, len(course.Exercises), e.Title)))
	for _, g := range goals {
		sign := s.paint(broken, signBroken)
		if g.Met {
			sign = signHolds
		}
		s.para(2, 2, plain, sign+" "+g.Text)
	}
	if !done {
		a.sayNext(p, doc)
		s.para(0, 2, faint, "Not yet. The task: "+e.Task)
		return failure{status: exitBroken}
	}
	s.line()
	s.para(0, 2, plain, signHolds+" Done. "+e.Learnt)
	state.Done, state.Hints = append(state.Done, e.Number), 0
	if err := a.saveCourse(folder, state); err != nil {
		return err
	}
	if len(state.Done) == len(course.Exercises) {
		s.para(0, 2, plain, "That was the last one. Next: `bastion drill` plants a mistake for you to find.")
		return nil
	}
	s.line()
	next := course.Exercises[len(state.Done)]
	return a.beginExercise(
		folder,
		filepath.Join(folder, fmt.Sprintf("exercise-%d.yaml", next.Number)),
		next,
		state,
		false,
	)
}

// sayNext names the first thing that check finds, or the first claim that is broken.
func (a *app) sayNext(p *plan.Plan, doc verdict.Document) {
	s := a.screen()
	for _, f := range check.Run(p, time.Now()) {
		if f.Severity == check.Error {
			s.para(2, 2, faint, "check finds: "+f.Code+", "+f.Subject+": "+f.Message)
			return
		}
	}
	for _, r := range doc.Claims {
		if r.Verdict == claims.Broken {
			s.para(2, 2, faint, r.ID+": "+r.Observed)
			return
		}
	}
}
