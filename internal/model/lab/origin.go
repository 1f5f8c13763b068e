package lab

import (
	"fmt"
	"slices"
)

// Pos is a place in a lab file: line and column count from 1, the column in
// characters. The zero Pos is no place, as of a value that nobody wrote.
type Pos struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// IsZero reports whether it is a Pos that points nowhere.
func (p Pos) IsZero() bool { return p.Line == 0 }

func (p Pos) String() string { return fmt.Sprintf("%d:%d", p.Line, p.Column) }

// Origin remembers where an object of the file stands and which keys were
// written in it, so that a planned value can be told from a given one.
type Origin struct {
	Pos   Pos
	keys  []keySpot
	body  Pos    // where the object's own text starts: a brace, its first key, a plain value
	short string // for a plain value: the key that it stands for
	open  []question
}

// later is the value of what is not decided yet.
const later = "later"

// Undecided is what a lab file says of what is not decided yet.
const Undecided = later

// question is what a key leaves open.
type question struct{ key, text string }

// Written reports whether the file gives the key of an object.
func Written(o Object, key string) bool { return o.origin().Has(key) }

// Later reports whether the file says that the key's value is decided later.
func (s *Origin) Later(key string) bool {
	return slices.ContainsFunc(s.open, func(q question) bool { return q.key == key })
}

type keySpot struct {
	name string
	pos  Pos // of the value
	key  Pos
}

// Has reports whether the file gives the key a value.
func (s *Origin) Has(key string) bool { return s.written(key) && !s.Later(key) }

// written reports whether the key is there, also where it is decided later.
func (s *Origin) written(key string) bool {
	for i := range s.keys {
		if s.keys[i].name == key {
			return true
		}
	}
	return false
}

// At returns the place of the key's value, or of the whole object when the key
// was not written.
func (s *Origin) At(key string) Pos {
	for i := range s.keys {
		if s.keys[i].name == key {
			return s.keys[i].pos
		}
	}
	return s.Pos
}

// Later reports whether the file says that the value of an object's key is decided later.
func Later(o Object, key string) bool { return o.origin().Later(key) }

func (s *Origin) origin() *Origin { return s }

// Object is any object of a lab file: all embed a Origin.
type Object interface{ origin() *Origin }
