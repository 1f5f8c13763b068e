// Package agent is how the program speaks with itself inside a reference machine: lines of
// JSON over a channel of bytes that belongs to nobody's network. The machine is told what
// to become, is asked what a kernel's own stack answers, and says by itself which addresses
// it has come by.
package agent

import (
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// Channel is the name of the channel inside a machine.
const Channel = "openbastion.agent"

// Role is what a machine is to become.
type Role struct {
	Machine  string                  `json:"machine"`
	File     string                  `json:"file"`
	Lab      []byte                  `json:"lab"`      // the lab file's text
	Profiles map[string]*lab.Profile `json:"profiles"` // of its appliances, by the names that it uses
}

// Address is what an adapter has.
type Address struct {
	Four netip.Prefix   `json:"four"`
	Six  []netip.Prefix `json:"six"`
}

// request is a line to a machine. Each has a number, which its replies bear.
type request struct {
	Number   int             `json:"number"`
	Do       string          `json:"do"` // become, ask, introduce, forget, status
	Role     *Role           `json:"role,omitempty"`
	Witness  *claims.Witness `json:"witness,omitempty"`
	Requests []stage.Request `json:"requests,omitempty"`
	On       bool            `json:"on,omitempty"`
}

// reply is a line from a machine: parts of an answer and a last one that is done; or,
// with the number 0, what it says by itself.
type reply struct {
	Number    int            `json:"number"`
	Answer    *claims.Answer `json:"answer,omitempty"`
	Early     bool           `json:"early,omitempty"` // what is left to answer takes long
	Status    *status.Lab    `json:"status,omitempty"`
	Addresses []Address      `json:"addresses,omitempty"` // of the machine's adapters, in order
	Settled   bool           `json:"settled,omitempty"`   // it has come by its leases
	Hello     bool           `json:"hello,omitempty"`     // it is there and may be told what to become
	Error     string         `json:"error,omitempty"`
	Done      bool           `json:"done,omitempty"`
}

// maxLine bounds a line either way: a status, or the lab file of thousands of guests.
const maxLine = 64 << 20
