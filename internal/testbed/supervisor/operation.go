package supervisor

import (
	"context"
	"os"
)

// Operation is something that is done with a machine of a lab that has machines to do it
// with.
type Operation struct {
	Verb    string     `json:"verb"`
	Machine string     `json:"machine,omitempty"`
	Args    []string   `json:"args,omitempty"`
	Files   []*os.File `json:"-"` // of the client, that it is done by
}

// Operator is a lab with whose machines something can be done.
type Operator interface {
	Operate(ctx context.Context, o Operation) (said string, err error)
}
