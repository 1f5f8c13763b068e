package claims

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Observed is what a machine's own system shows: that it was looked at, and what of it the plan does not have.
type Observed struct {
	Machine   string      `json:"machine"`
	Unplanned []Unplanned `json:"unplanned"`
}

// Unplanned is something of a machine that packets may leave by and that the plan does not have.
type Unplanned struct {
	Kind      string         `json:"kind"` // adapter, wireless adapter, tunnel, route, proxy …
	Name      string         `json:"name"` // as its system calls it
	Addresses []netip.Prefix `json:"addresses,omitempty"`
	Attempts  int            `json:"attempts"`         // to reach the test server by it
	Source    netip.Addr     `json:"source,omitzero"`  // as which the test server saw it; invalid: nothing got there
	Bypass    bool           `json:"bypass,omitempty"` // it got there other than by the planned path
	Why       string         `json:"why,omitempty"`    // why it could not be tried
}

// String returns what it is, with its addresses.
func (u Unplanned) String() string {
	text := u.Kind + " " + u.Name
	if len(u.Addresses) > 0 {
		var list []string
		for _, a := range u.Addresses {
			list = append(list, a.String())
		}
		text += " (" + strings.Join(list, ", ") + ")"
	}
	return text
}

// Outcome returns what came of the attempts by it.
func (u Unplanned) Outcome() string {
	switch {
	case u.Source.IsValid():
		return fmt.Sprintf("the test server was reached by it, from %s", u.Source)
	case u.Attempts > 0:
		return fmt.Sprintf("%d attempts by it did not reach the test server", u.Attempts)
	case u.Why != "":
		return "not tried: " + u.Why
	}
	return "not tried"
}

// of returns what was observed of a machine; false where nobody looked at it.
func (f Facts) of(machine string) (Observed, bool) {
	i := slices.IndexFunc(f.Observed, func(o Observed) bool { return o.Machine == machine })
	if i < 0 {
		return Observed{}, false
	}
	return f.Observed[i], true
}

// observe holds a guest's claims of what it is attached to against what its own system shows, where that is not ours: the
// plan alone does not say what a machine has.
func (c *claim) observe(f Facts, outside bool) {
	r := &c.Result
	if f.Name != FieldStage || r.Guest == "" || outside || r.Kind != Behind && r.Kind != NoBypass {
		return
	}
	o, looked := f.of(r.Guest)
	for _, u := range o.Unplanned {
		if !u.Bypass {
			continue
		}
		r.fail(Reason{Code: "unplanned-path", Subject: r.Guest, Observed: u.String(), Detail: u.Outcome()})
		if r.Kind == NoBypass {
			r.Escapes = append(r.Escapes, Way{From: r.Guest, To: "outside", Path: []string{r.Guest, u.Name, "outside"},
				Tried: u.Outcome(), Packet: Evidence{Reading: "the system of " + r.Guest, Text: u.String() + ": " + u.Outcome()}})
		}
	}
	switch {
	case r.Verdict != Holds:
	case len(o.Unplanned) > 0:
		u := o.Unplanned[0]
		r.Verdict = Unknown
		r.Observed = fmt.Sprintf("%s has the %s, not in the plan; %s", r.Guest, u, u.Outcome())
		if more := len(o.Unplanned) - 1; more > 0 {
			r.Observed += fmt.Sprintf(", and %d more", more)
		}
		r.Remedy = "remove what is not in the plan, or add it to the lab file"
	case !looked && r.Kind == Behind:
		r.Verdict, r.Observed = Unknown, "what "+r.Guest+" has was not tested: run bastion probe on it"
	case r.Kind == Behind:
		r.Observed = "it has no adapter, route, tunnel or proxy beyond the plan; " + r.Observed
	}
}
