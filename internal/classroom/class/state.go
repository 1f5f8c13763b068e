package class

import "openbastion/internal/model/status"

// State is how one bench is.
type State struct {
	Bench
	Phase    status.Phase `json:"phase"` // empty: not known
	Machines int          `json:"machines"`
	Leases   int          `json:"leases"`
	Escapes  int          `json:"escapes"`
	Why      string       `json:"why"` // it does not run as it should; empty when it does
}

// Status is how all benches are.
type Status struct {
	Schema  string       `json:"schema"`
	Lab     string       `json:"lab"`
	File    string       `json:"file"`
	Stage   string       `json:"stage"`
	Hosts   []HostStatus `json:"hosts"`
	Benches []State      `json:"benches"`
}

// HostStatus is how a host is.
type HostStatus struct {
	Name    string `json:"host"`
	Answers bool   `json:"answers"`
	Why     string `json:"why"` // it does not answer; empty when it does
}

// StatusSchema names the format of a class's status.
const StatusSchema = "openbastion.class/1"

// See reads how a bench is from its status.
func See(b Bench, s status.Lab) State {
	out := State{Bench: b, Phase: s.Phase, Leases: len(s.Leases), Escapes: len(s.Escapes), Why: s.Failure}
	for _, m := range s.Machines {
		if m.How != "off" {
			out.Machines++
		}
	}
	if s.Phase == status.Ended && out.Why == "" {
		out.Why = "its process has ended"
	}
	return out
}
