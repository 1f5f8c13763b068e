package lab

// Rubric is what a class's hand-in is worth.
type Rubric struct {
	Origin
	File    string
	Version int
	Title   string
	Pass    int // points that pass; 0: nobody said
	Items   []RubricItem
}

// RubricItem is what points are for: one of a claim, findings, the proof, a guest's evidence.
type RubricItem struct {
	Origin
	Points   int
	Claim    string // a claim by its name, or a kind: of that, a share for each that holds
	Check    string // "clean": no error of the layout stands; "quiet": no warning either
	Proof    string // "holds"
	Evidence string // a guest, or "all": there is evidence of it
	Record   string // a step of the runbook's record, by a part of its text, that is done
	Text     string // what is told of it, when nothing else fits
}

// ReadRubric reads a rubric file. The error is of type [Faults].
func ReadRubric(file string, data []byte) (*Rubric, error) {
	r := &reader{file: file, data: data}
	root := r.parse()
	if root == nil {
		return nil, r.faults
	}
	out := &Rubric{File: file}
	readObject(r, root, "the rubric", rubricFields(), out)
	if out.Version == 0 && !out.Has("bastion-rubric") {
		r.fail(Pos{Line: 1, Column: 1}, "the format version is missing; write `bastion-rubric: 1` as the first line")
	}
	for i := range out.Items {
		item := &out.Items[i]
		said := 0
		for _, key := range []string{"claim", "check", "proof", "evidence", "record"} {
			if item.Has(key) {
				said++
			}
		}
		if said != 1 {
			r.fail(item.Pos, "an entry of points is for one of claim, check, proof, evidence and record")
		}
	}
	if len(r.faults) == 0 && len(out.Items) == 0 {
		r.fail(
			Pos{Line: 1, Column: 1},
			"no entry gives points; write entries below `points:`, as `- {claim: outside, worth: 4}`",
		)
	}
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	return out, nil
}

func rubricFields() []field[Rubric] {
	return []field[Rubric]{
		intField("bastion-rubric", "Version of the rubric's format.", 1, 1, func(r *Rubric) *int { return &r.Version }),
		textField("title", "What the exercise is.", func(r *Rubric) *string { return &r.Title }),
		intField("pass", "How many points pass.", 0, 100000, func(r *Rubric) *int { return &r.Pass }),
		objectsField("points", "What points are for.", []field[RubricItem]{
			intField("worth", "How many points.", 1, 1000, func(i *RubricItem) *int { return &i.Points }),
			textField("claim", "A claim by its name, or a kind of claims; a kind gives a share for each that is ok.",
				func(i *RubricItem) *string { return &i.Claim }),
			wordField(
				"check",
				"clean: no errors from check; quiet: no warnings either.",
				func(i *RubricItem) *string { return &i.Check },
				"clean",
				"quiet",
			),
			wordField("proof", "The proof is ok.", func(i *RubricItem) *string { return &i.Proof }, "holds"),
			textField(
				"evidence",
				"There is evidence of this guest, or of all.",
				func(i *RubricItem) *string { return &i.Evidence },
			),
			textField(
				"record",
				"A step that the runbook's record marks as done, by part of its title.",
				func(i *RubricItem) *string { return &i.Record },
			),
			textField("text", "A description of it.", func(i *RubricItem) *string { return &i.Text }),
		}, []string{"worth"}, func(r *Rubric) *RubricItem {
			r.Items = append(r.Items, RubricItem{})
			return &r.Items[len(r.Items)-1]
		}),
	}
}

// RubricSchema returns the JSON Schema (2020-12) of rubric files.
func RubricSchema() map[string]any {
	s := form{
		Type:       "object",
		Properties: properties(rubricFields()),
		Required:   []string{"bastion-rubric", "points"},
	}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion rubric, format 1"
	return s
}
