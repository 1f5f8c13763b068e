package evidence

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// Run is a round of forged packets that a guest sent. What came of them only the witness
// knows, who hears them and answers none.
type Run struct {
	Number   uint32   `json:"run"`
	Question string   `json:"question"` // that it belongs to
	Forged   []Forged `json:"forged"`   // by their place
	Sent     int      `json:"sent"`     // of them
	Told     bool     `json:"told"`     // the witness said what it heard of them
}

// Forged is one packet of a run.
type Forged struct {
	Tried string     `json:"tried"`
	By    claims.Ref `json:"by"`
}

// Heard puts what the witness heard of a run into the answer that it belongs to; what it
// cannot have heard is left out.
func (r Run) Heard(p *plan.Plan, a *claims.Answer, attempts []int, listening bool, at time.Time) {
	got, is := a.Got.(claims.GotAttack)
	if !is || !listening && len(attempts) == 0 {
		return
	}
	evidence := func(format string, args ...any) claims.Evidence {
		return claims.Evidence{Reading: "the test server", At: at, Text: fmt.Sprintf(format, args...)}
	}
	if listening {
		got.Attempts += r.Sent
	}
	for _, n := range attempts {
		if n >= len(r.Forged) {
			continue
		}
		f := r.Forged[n]
		on := "its segment"
		if ad, err := f.By.In(p); err == nil && ad != nil {
			on = ad.Segment.Name
		}
		got.Ways = append(
			got.Ways,
			claims.Way{From: f.By.Machine, To: Outside, Path: []string{f.By.Machine, on, Outside},
				Tried: f.Tried, Door: f.By, Packet: evidence("it heard %s", f.Tried)},
		)
	}
	a.Got = got
	a.Evidence = append(a.Evidence, evidence("it received %d of %d forged packets", len(attempts), r.Sent))
}

// Record is what a witness kept of forged packets.
type Record struct {
	Listening time.Time // to all that comes to its machine since then; zero: to its ports alone
	Heard     map[uint32][]int
}

// RecordLine is what a witness's record holds of forged packets: that it begins to listen to
// all that comes, or one that it heard.
type RecordLine struct {
	At        time.Time `json:"time"`
	Listening bool      `json:"listening,omitempty"`
	Run       uint32    `json:"run,omitempty"`
	Attempt   int       `json:"attempt,omitempty"`
}

// ReadRecord reads a witness's record, a line of JSON for each thing; false where data is none.
func ReadRecord(data []byte) (Record, bool) {
	r := Record{Heard: map[uint32][]int{}}
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 64<<10)
	for n := 0; lines.Scan(); n++ {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		var l RecordLine
		if err := json.Unmarshal(lines.Bytes(), &l); err != nil || l.At.IsZero() {
			return Record{}, false
		}
		if l.Listening && r.Listening.IsZero() {
			r.Listening = l.At
		}
		if l.Run != 0 && l.Attempt >= 0 {
			r.Heard[l.Run] = append(r.Heard[l.Run], l.Attempt)
		}
	}
	return r, len(bytes.TrimSpace(data)) > 0 && lines.Err() == nil
}

// Join takes what another record of the same witness holds into this one.
func (r *Record) Join(other Record) {
	if r.Listening.IsZero() || !other.Listening.IsZero() && other.Listening.Before(r.Listening) {
		r.Listening = other.Listening
	}
	if r.Heard == nil {
		r.Heard = map[uint32][]int{}
	}
	for run, attempts := range other.Heard {
		r.Heard[run] = append(r.Heard[run], attempts...)
	}
}

// Add puts what a record tells into the evidence of a guest, and returns what of it differs from the
// guest's own word: the record decides.
func (r Record) Add(p *plan.Plan, e *Evidence) (differences []string) {
	for i := range e.Runs {
		run := &e.Runs[i]
		for j := range e.Answers {
			a := &e.Answers[j]
			if a.ID != run.Question {
				continue
			}
			listening := !r.Listening.IsZero() && !r.Listening.After(e.Made)
			heard := r.Heard[run.Number]
			if run.Told {
				got, _ := a.Got.(claims.GotAttack)
				if len(heard) <= len(got.Ways) {
					continue
				}
				differences = append(
					differences,
					fmt.Sprintf("for %s it reports %d forged packets at the test server; the record has %d",
						run.Question, len(got.Ways), len(heard)),
				)
				got.Ways = nil
				a.Got, listening = got, false
			}
			run.Heard(p, a, heard, listening, e.Made)
			run.Told = true
		}
	}
	return differences
}
