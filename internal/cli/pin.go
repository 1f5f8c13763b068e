package cli

import (
	"bytes"
	"fmt"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// pin writes what the plan chose into the lab file.
func (a *app) pin(file string, p *plan.Plan) error {
	data, err := a.text(file)
	if err != nil {
		return err
	}
	pinned, n := p.Pin(data)
	if n == 0 {
		a.note("everything is in " + file + " already")
		return nil
	}
	return a.rewrite(file, data, pinned, n)
}

// rewrite puts a changed lab file in the place of the old one and shows what
// is new in it.
func (a *app) rewrite(file string, old, changed []byte, n int) error {
	if err := a.replan(file, changed); err != nil {
		return err
	}
	s := a.screen()
	for _, line := range added(old, changed) {
		s.line(s.paint(inside, "+ "+line))
	}
	return a.replace(file, old, changed, n)
}

// replan makes sure that a changed lab file can still be planned.
func (a *app) replan(file string, changed []byte) error {
	if _, err := a.planOf(file, changed); err != nil {
		return failure{
			exitUsage,
			fmt.Sprintf("%s is unchanged: the change would make it invalid: %v", file, err),
			"edit it yourself",
		}
	}
	return nil
}

// replace writes a lab file that was changed from an old text, in which n values
// are new. When the file holds another text by now, that one stays.
func (a *app) replace(file string, old, changed []byte, n int) error {
	if err := atomicfile.Edit(file, old, changed); err != nil {
		return notWritten(err)
	}
	a.note(count(n, "value", "values") + " written into " + file)
	return nil
}

// added returns the lines of b that are not in a, in order.
func added(a, b []byte) []string {
	there := map[string]int{}
	for _, l := range bytes.Split(a, []byte("\n")) {
		there[string(l)]++
	}
	var out []string
	for _, l := range bytes.Split(b, []byte("\n")) {
		if there[string(l)] > 0 {
			there[string(l)]--
			continue
		}
		out = append(out, string(l))
	}
	return out
}

// planOf plans the text of a lab file, as it is or changed.
func (a *app) planOf(file string, text []byte) (*plan.Plan, error) {
	name := file
	if file == "-" {
		name = "standard input"
	}
	l, err := lab.Read(name, text)
	if err != nil {
		return nil, err
	}
	if err := a.profiles(l, file); err != nil {
		return nil, err
	}
	return plan.Build(l)
}
