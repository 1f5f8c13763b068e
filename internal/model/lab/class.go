package lab

import (
	"fmt"
	"time"
)

// Class is what a class file says: who learns with which lab, on which machines, and when.
type Class struct {
	Origin
	File     string
	Version  int
	Lab      string   // the lab file, from the class file's folder
	On       string   // the stage: kernel or machines
	Benches  int      // how many copies of the lab, where no students are named
	Students []string // a bench for each
	Groups   []*Group // or one for each group
	Hosts    string   // the hosts file; empty: this machine carries the benches
	Job      string   // the batch system that carries them: slurm
	Opens    time.Time
	Closes   time.Time
	Rubric   string // the rubric file
	Drills   bool   // each bench gets a drill of its own
}

// Group is several students at one bench.
type Group struct {
	Origin
	Name     string
	Students []string
}

// Member is who works at a bench.
type Member struct {
	Name     string   // of the student or of the group; empty: no students are named
	Students []string // of a group
}

// Members returns who works at bench 1, 2 and so on.
func (c *Class) Members() []Member {
	var out []Member
	for _, g := range c.Groups {
		out = append(out, Member{g.Name, g.Students})
	}
	for _, s := range c.Students {
		out = append(out, Member{Name: s})
	}
	for len(out) < c.Benches {
		out = append(out, Member{})
	}
	return out
}

// ReadClass reads a class file. The error is of type [Faults].
func ReadClass(file string, data []byte) (*Class, error) {
	r := &reader{file: file, data: data}
	root := r.parse()
	if root == nil {
		return nil, r.faults
	}
	c := &Class{File: file, On: "kernel"}
	readObject(r, root, "the class file", classFields(), c)
	start := Pos{Line: 1, Column: 1}
	if c.Version == 0 && !c.Has("bastion-class") {
		r.fail(start, "the format version is missing; write `bastion-class: 1` as the first line")
	}
	if c.Has("bastion-class") && c.Lab == "" && len(r.faults) == 0 {
		r.fail(start, "the lab is missing; write `lab: FILE`")
	}
	said := 0
	for _, key := range []string{"benches", "students", "groups"} {
		if c.Has(key) {
			said++
		}
	}
	switch {
	case len(r.faults) > 0:
	case said == 0:
		r.fail(start, "the class has no students; write `students: [NAME, …]`, `groups:` or `benches: N`")
	case said > 1:
		r.fail(start, "write one of students, groups and benches: each gives one bench to each")
	}
	if c.Has("hosts") && c.Has("job") {
		r.fail(c.At("job"), "benches run on hosts or as jobs; write one of hosts and job")
	}
	if !c.Opens.IsZero() && !c.Closes.IsZero() && !c.Closes.After(c.Opens) {
		r.fail(c.At("closes"), "the class closes before it opens")
	}
	c.namesOnce(r)
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	return c, nil
}

// namesOnce refuses a student who is named twice.
func (c *Class) namesOnce(r *reader) {
	seen := map[string]bool{}
	once := func(list []string, at Pos) {
		for _, s := range list {
			if seen[s] {
				r.fail(at, "%s is in the class twice", s)
			}
			seen[s] = true
		}
	}
	once(c.Students, c.At("students"))
	for _, g := range c.Groups {
		if len(g.Students) == 0 {
			r.fail(g.Pos, "group %s has no students; write `%s: {students: [NAME, …]}`", g.Name, g.Name)
		}
		once(g.Students, g.Pos)
	}
}

// student reads the name of a student: it becomes a file's name.
func student(text string) (string, error) {
	if err := CheckName(text); err != nil {
		return "", err
	}
	return text, nil
}

// moments are the forms in which a class opens and closes, in the teacher's own time zone.
var moments = []string{"2006-01-02 15:04", "2006-01-02T15:04", time.RFC3339}

func moment(text string) (time.Time, error) {
	for _, f := range moments {
		if t, err := time.ParseInLocation(f, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time; write it as 2026-12-07 09:00", text)
}

func classFields() []field[Class] {
	name, at := form{Type: "string"}, form{Type: "string"}
	return []field[Class]{
		intField("bastion-class", "Version of the class file's format.", 1, 1, func(c *Class) *int { return &c.Version }),
		textField("lab", "The lab file, from this file's folder.", func(c *Class) *string { return &c.Lab }),
		wordField("on", "The stage (default kernel).", func(c *Class) *string { return &c.On }, "kernel", "machines"),
		intField("benches", "How many benches, where no students are named.", 1, MaxBenches, func(c *Class) *int { return &c.Benches }),
		listField("students", "The students; each has a bench.", name, student, func(c *Class) *[]string { return &c.Students }),
		namedField("groups", "group", "Groups of students; each has a bench.", []field[Group]{
			listField("students", "Who is in it.", name, student, func(g *Group) *[]string { return &g.Students }),
		}, func(c *Class, name string) *Group {
			g := &Group{Name: name}
			c.Groups = append(c.Groups, g)
			return g
		}, nil),
		textField("hosts", "The hosts file that names who carries the benches (default: this machine).",
			func(c *Class) *string { return &c.Hosts }),
		wordField("job", "The batch system that carries them.", func(c *Class) *string { return &c.Job }, "slurm"),
		parsedField("opens", "From when benches may be started and work counts.", at, moment, func(c *Class) *time.Time { return &c.Opens }),
		parsedField("closes", "Until when.", at, moment, func(c *Class) *time.Time { return &c.Closes }),
		textField("rubric", "The rubric file, from this file's folder.", func(c *Class) *string { return &c.Rubric }),
		boolField("drills", "Each bench gets a drill of its own.", func(c *Class) *bool { return &c.Drills }),
	}
}

// ClassSchema returns the JSON Schema (2020-12) of class files.
func ClassSchema() map[string]any {
	s := form{Type: "object", Properties: properties(classFields()), Required: []string{"bastion-class", "lab"}}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion class, format 1"
	return s
}
