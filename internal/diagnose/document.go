package diagnose

import (
	"openbastion/internal/diagnose/mistakes"
	"slices"
)

// Schema names the JSON form of a diagnosis.
const Schema = "openbastion.diagnosis/1"

// Document is a diagnosis as it is written.
type Document struct {
	Schema      string  `json:"schema"`
	Fine        bool    `json:"fine"` // all that was seen is as planned
	Lab         string  `json:"lab"`
	Tried       int     `json:"mistakes_tried"`
	Seen        []Heard `json:"seen"`
	Causes      []Told  `json:"causes"`
	Unexplained []Heard `json:"unexplained"`
}

// Heard is what was seen.
type Heard struct {
	Text  string   `json:"text"`
	Looks []string `json:"looks"`
	Value string   `json:"value"`
}

// Told is a cause.
type Told struct {
	Likely   float64  `json:"likely"` // from 0 to 1, against the others
	Explains bool     `json:"explains"`
	Pair     bool     `json:"pair"`
	AsFile   bool     `json:"as_the_file_has_it"` // it is what the lab file itself says
	Mistakes []Named  `json:"mistakes"`           // of which one is made, or with pair both
	Check    string   `json:"check,omitempty"`    // the cheapest look that tells it from the others
	Misses   []Heard  `json:"misses"`
	Beside   []Heard  `json:"beside"`             // what one would see as well, look by look
	Also     []string `json:"you_would_also_see"` // the same in words, without what cannot but follow
}

// Named is a mistake.
type Named struct {
	ID      string `json:"id"`
	Kind    string `json:"kind"`
	Family  string `json:"family"`
	Says    string `json:"title"`
	Why     string `json:"why"`
	Look    string `json:"look"`
	Remedy  string `json:"remedy"`
	Finding string `json:"finding,omitempty"`
}

// Document writes causes down.
func (s *Study) Document(seen []Seen, causes []Cause, most int) Document {
	d := Document{Schema: Schema, Lab: s.Plan.Name, Tried: len(s.Mistakes), Seen: s.heard(seen), Causes: []Told{},
		Unexplained: s.heard(Unexplained(seen, causes))}
	d.Fine = len(seen) > 0 && !slices.ContainsFunc(seen, func(x Seen) bool { return x.Value != Holds })
	weights, sum := posterior(causes)
	looked := map[int]bool{}
	for _, x := range seen {
		for _, i := range x.Looks {
			looked[i] = true
		}
	}
	for i, c := range causes[:min(len(causes), most)] {
		t := Told{
			Explains: c.Explains(),
			Pair:     c.Pair,
			AsFile:   len(c.Mistakes) == 0,
			Mistakes: []Named{},
			Misses:   s.heard(c.Misses),
			Beside:   []Heard{},
		}
		t.Check = s.Tells(c, causes)
		if sum > 0 {
			t.Likely = float64(int(weights[i]/sum*1000+0.5)) / 1000
		}
		for _, m := range c.Mistakes {
			t.Mistakes = append(t.Mistakes, Describe(m))
		}
		for _, n := range c.Beside {
			l := s.Looks[n]
			t.Beside = append(
				t.Beside,
				Heard{l.ID + "=" + c.Vector[n].Word(s.Plan), []string{l.ID}, c.Vector[n].Word(s.Plan)},
			)
		}
		t.Also = append([]string{}, s.Symptoms(c.Vector, looked)...)
		d.Causes = append(d.Causes, t)
	}
	return d
}

// Describe writes a mistake down.
func Describe(m mistakes.Mistake) Named {
	return Named{m.ID(), m.Name, string(m.Family), m.String(), m.Fill(m.Why), Confirm(m), m.Fill(m.Remedy), m.Finding}
}

func (s *Study) heard(list []Seen) []Heard {
	out := []Heard{}
	for _, x := range list {
		h := Heard{Text: x.Text, Looks: []string{}, Value: x.Value.Word(s.Plan)}
		for _, i := range x.Looks {
			h.Looks = append(h.Looks, s.Looks[i].ID)
		}
		out = append(out, h)
	}
	return out
}
