package status

import (
	"cmp"
	"slices"
	"time"
)

// Check is a claim as it was judged last.
type Check struct {
	Claim   string    `json:"claim"`
	Verdict string    `json:"verdict"`        // holds, broken or unknown
	Text    string    `json:"text,omitempty"` // what was observed, where it does not hold
	At      time.Time `json:"time,omitzero"`  // when it was asked last
	Since   time.Time `json:"since,omitzero"` // since when it was judged so
}

// Checked is what is known of a lab's claims, by how old it is.
type Checked struct {
	Oldest  time.Time `json:"oldest"` // when the claim that was asked longest ago was
	Latest  time.Time `json:"latest"`
	Holds   int       `json:"holds"`
	Broken  int       `json:"broken"`
	Unknown int       `json:"unknown"`
	Open    []Check   `json:"open"` // those that do not hold, broken ones first; at most MostOpen
}

// MostOpen bounds how many claims that do not hold are listed.
const MostOpen = 50

// Checks are the claims of a lab that runs, each as it was judged last. The zero Checks are none.
type Checks struct{ known map[string]Check }

// Take notes a verdict. partly: only what disturbs no guest was asked, and what that
// could not decide stays as it was known before.
func (c *Checks) Take(at time.Time, list []Check, partly bool) {
	if c.known == nil {
		c.known = make(map[string]Check, len(list))
	}
	for _, x := range list {
		was, known := c.known[x.Claim]
		if partly && x.Verdict == "unknown" && known {
			continue
		}
		x.At, x.Since = at, at
		if known && was.Verdict == x.Verdict {
			x.Since = was.Since
		}
		c.known[x.Claim] = x
	}
}

// Forget drops what is known: the lab is another.
func (c *Checks) Forget() { c.known = nil }

// Known returns what is known; nil where nothing is.
func (c *Checks) Known() *Checked {
	if len(c.known) == 0 {
		return nil
	}
	out := &Checked{Open: []Check{}}
	for _, x := range c.known {
		if out.Oldest.IsZero() || x.At.Before(out.Oldest) {
			out.Oldest = x.At
		}
		if x.At.After(out.Latest) {
			out.Latest = x.At
		}
		switch x.Verdict {
		case "holds":
			out.Holds++
			continue
		case "broken":
			out.Broken++
		default:
			out.Unknown++
		}
		out.Open = append(out.Open, x)
	}
	slices.SortFunc(out.Open, func(a, b Check) int { // "broken" stands before "unknown"
		return cmp.Or(cmp.Compare(a.Verdict, b.Verdict), a.Since.Compare(b.Since), cmp.Compare(a.Claim, b.Claim))
	})
	out.Open = out.Open[:min(len(out.Open), MostOpen)]
	return out
}
