package runbook

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"openbastion/internal/model/sanitize"
)

// Outcome is what became of a step.
type Outcome string

// The outcomes.
const (
	Done    Outcome = "said" // by the person
	Skipped Outcome = "skipped"
	Proved  Outcome = "seen"   // a listing was judged and held
	Forced  Outcome = "forced" // a listing was judged, did not hold, and the person went on
)

// Entry is a step that was walked.
type Entry struct {
	Step    string    `json:"step"`
	Title   string    `json:"title"`
	Outcome Outcome   `json:"outcome"`
	At      time.Time `json:"time"`
	Seen    []string  `json:"seen,omitempty"` // what a check said
	Note    string    `json:"note,omitempty"`
}

// Walk is how far a person has come.
type Walk struct {
	Schema  string  `json:"schema"` // openbastion.walk/1
	Lab     string  `json:"lab"`
	Entries []Entry `json:"entries"`

	Devices map[string]string `json:"devices,omitempty"` // what interfaces are called, by machine and port
}

// WalkSchema names the JSON form of a walk.
const WalkSchema = "openbastion.walk/1"

// ReadWalk reads a walk through a lab as it was written: JSON with WalkSchema.
func ReadWalk(data []byte, lab string) (Walk, error) {
	var w Walk
	if err := json.Unmarshal(data, &w); err != nil {
		return Walk{}, err
	}
	if w.Schema != WalkSchema || w.Lab != lab {
		return Walk{}, fmt.Errorf("it is not the state of a walk through %s", lab)
	}
	for i, e := range w.Entries { // as they were called before
		switch e.Outcome {
		case "done":
			w.Entries[i].Outcome = Done
		case "checked":
			w.Entries[i].Outcome = Proved
		}
	}
	return w, nil
}

// Next returns the index of the first step that has not been walked; the number
// of steps when all have.
func (w *Walk) Next(steps []Step) int {
	walked := map[string]bool{}
	for _, e := range w.Entries {
		walked[e.Step] = true
	}
	for i, s := range steps {
		if !walked[s.ID] {
			return i
		}
	}
	return len(steps)
}

// Add notes what became of a step; the last word on a step counts.
func (w *Walk) Add(e Entry) {
	for i := range w.Entries {
		if w.Entries[i].Step == e.Step {
			w.Entries = append(w.Entries[:i], w.Entries[i+1:]...)
			break
		}
	}
	w.Entries = append(w.Entries, e)
}

// Proved reports whether a step's check held.
func (w *Walk) Proved(step string) bool {
	for _, e := range w.Entries {
		if e.Step == step {
			return e.Outcome == Proved
		}
	}
	return false
}

// Record writes the walk as the record of what was built.
func (w *Walk) Record(b Book) []byte {
	var out bytes.Buffer
	escape := strings.NewReplacer("|", `\|`, "<", "&lt;").Replace
	plain := func(text string) string { return escape(sanitize.Line(strings.ReplaceAll(text, "\n", " "))) }
	fmt.Fprintf(&out, "# %s as built\n", b.Lab)
	if b.Lead != "" {
		fmt.Fprintf(&out, "\n%s\n", plain(b.Lead))
	}
	by := map[string]Entry{}
	for _, e := range w.Entries {
		by[e.Step] = e
	}
	n := map[Outcome]int{}
	open := 0
	for _, s := range b.Steps() {
		if e, ok := by[s.ID]; ok {
			n[e.Outcome]++
		} else {
			open++
		}
	}
	fmt.Fprintf(
		&out,
		"\n%d steps reported done, %d seen done, %d continued past a failed check, %d skipped, %d open.\n\n| step | outcome | time | seen |\n| --- | --- | --- | --- |\n",
		n[Done],
		n[Proved],
		n[Forced],
		n[Skipped],
		open,
	)
	for i, p := range b.Parts {
		for j, s := range p.Steps {
			e, ok := by[s.ID]
			if !ok {
				fmt.Fprintf(&out, "| %s %s | open | | |\n", number(i, j), plain(s.Title))
				continue
			}
			seen := strings.Join(e.Seen, "; ")
			if e.Note != "" {
				seen = strings.TrimPrefix(seen+"; "+e.Note, "; ")
			}
			fmt.Fprintf(
				&out,
				"| %s %s | %s | %s | %s |\n",
				number(i, j),
				plain(s.Title),
				e.Outcome,
				e.At.Format(time.RFC3339),
				plain(seen),
			)
		}
	}
	return out.Bytes()
}
