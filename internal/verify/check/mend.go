package check

import (
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// maxTrials bounds how often a lab is planned anew to try mends. What is not
// tried within is not offered.
const maxTrials = 64

// trial tries mends on the text of a lab file.
type trial struct {
	p    *plan.Plan
	text []byte
	on   time.Time
	was  map[[2]string]bool // the errors that stand in the lab as it is
	left int                // how many more labs may be planned
}

// Offer leaves to some of all the findings of a plan, whose lab file has the text,
// only those mechanical mends that help: changed by all of them together, the file
// can be read and planned, what they mend is gone, and no error is there that was
// not before. on is the day that Run was given.
func Offer(p *plan.Plan, text []byte, on time.Time, all, findings []Finding) {
	t := &trial{p: p, text: text, on: on, was: map[[2]string]bool{}, left: maxTrials}
	var mendable []int
	for i, f := range findings {
		if len(f.mends) > 0 && f.Accepted == "" {
			mendable = append(mendable, i)
		}
	}
	if len(mendable) == 0 {
		return
	}
	for _, f := range all {
		if f.Severity == Error {
			t.was[f.what()] = true
		}
	}
	offered := map[int]bool{}
	for _, i := range t.choose(findings, nil, mendable) {
		offered[i] = true
	}
	for _, i := range mendable {
		if !offered[i] {
			findings[i].mends, findings[i].Lines = nil, []string{}
		}
	}
}

func (f Finding) what() [2]string { return [2]string{f.Code, f.Subject} }

// choose returns those of more that help together with the mends chosen already,
// and these. Halves are tried apart where the whole does not help, so that few
// bad mends among many cost few trials.
func (t *trial) choose(findings []Finding, chosen, more []int) []int {
	if len(more) == 0 || t.left == 0 {
		return chosen
	}
	all := append(append([]int(nil), chosen...), more...)
	if t.helps(findings, all) {
		return all
	}
	if len(more) == 1 {
		return chosen
	}
	half := len(more) / 2
	return t.choose(findings, t.choose(findings, chosen, more[:half]), more[half:])
}

// helps reports whether the mends of some findings can be made and are of use.
func (t *trial) helps(findings []Finding, which []int) bool {
	t.left--
	var list []Finding
	mended := map[[2]string]bool{}
	for _, i := range which {
		list = append(list, findings[i])
		mended[findings[i].what()] = true
	}
	text, _ := Mend(t.text, list)
	l, err := lab.Read(t.p.Lab.File, text)
	if err != nil {
		return false
	}
	l.Profiles = t.p.Lab.Profiles
	p, err := plan.Build(l)
	if err != nil {
		return false
	}
	for _, f := range Run(p, t.on) {
		if mended[f.what()] || f.Severity == Error && f.Accepted == "" && !t.was[f.what()] {
			return false
		}
	}
	return true
}

// Mend returns the lab file's text with every mechanical mend of the findings in
// it, and how many values that were.
func Mend(text []byte, findings []Finding) ([]byte, int) {
	e := lab.NewEditor(text)
	type key struct {
		object lab.Object
		name   string
	}
	done := map[key]bool{}
	for _, f := range findings {
		if f.Accepted != "" {
			continue
		}
		for _, m := range f.mends {
			if k := (key{m.object, m.key}); !done[k] { // the first finding decides
				done[k] = true
				e.Set(m.object, m.key, m.value)
			}
		}
	}
	return e.Bytes(), e.Changed()
}

// Harmless returns those of the findings whose mends, all of them together, do not make the lab
// worse; worse judges a mended text. Mends that do are left out one by one.
func Harmless(text []byte, findings []Finding, worse func(mended []byte) bool) []Finding {
	var out []Finding
	for _, f := range findings {
		if len(f.mends) == 0 || f.Accepted != "" {
			out = append(out, f)
		}
	}
	for _, f := range findings {
		if len(f.mends) == 0 || f.Accepted != "" {
			continue
		}
		if mended, _ := Mend(text, append(slices.Clone(out), f)); worse(mended) {
			f.mends, f.Lines = nil, []string{}
		}
		out = append(out, f)
	}
	return out
}
