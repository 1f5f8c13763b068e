// Package host is what a lab changes on the machine that carries it, where its file asks
// for that: each change is written down before it is made, and can be taken back by what
// was written, also when the lab's process is gone.
package hostnet

import "fmt"

// Kind is what is changed.
type Kind string

// The kinds of changes.
const (
	Link    Kind = "link"    // a device was made
	Table   Kind = "table"   // a table of the packet filter was made
	Setting Kind = "setting" // a kernel setting was given another value
)

// TablePrefix begins the name of every table that a lab makes on the machine.
const TablePrefix = "bastion_"

// Change is one change, with what it takes to undo it.
type Change struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
	Was  string `json:"was,omitempty"` // of a setting
}

// String returns what was changed.
func (c Change) String() string {
	if c.Kind == Setting {
		return fmt.Sprintf("setting %s, which was %s", c.Name, c.Was)
	}
	return fmt.Sprintf("%s %s", c.Kind, c.Name)
}
