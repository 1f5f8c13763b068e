package verdict

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// Cause is one thing to change: an error of the layout, with its place in the file, or a claim that
// does not hold and that neither an error nor another claim explains.
type Cause struct {
	Code     string   `json:"code"`    // a finding's, or that of a claim's reason
	Subject  string   `json:"subject"` // what it is about: a machine, port or segment, or a claim's identifier
	Message  string   `json:"message"`
	Remedy   string   `json:"remedy"`
	File     string   `json:"file,omitempty"`
	Line     int      `json:"line,omitempty"`
	Claim    string   `json:"claim,omitempty"`  // the claim that shows it best
	Bypass   []string `json:"bypass,omitempty"` // the path outside that it opens, machine and segment in turn
	Explains []string `json:"explains"`         // the claims that fail because of it, the nearest first
}

// causes returns what is to be changed, what opens a bypass first, then what explains most. A finding
// that is no error is a cause where it explains a check that failed. Findings are asked by what they name
// first, then by the segments that those are on.
func causes(p *plan.Plan, list []claims.Result, found []check.Finding) []Cause {
	follows := knockOn(list)
	list = failed(list)
	taken := map[string]bool{}
	made := make([]Cause, len(found))
	slices.SortStableFunc(
		found,
		func(a, b check.Finding) int { return shape(p, a.Code, a.Subject) - shape(p, b.Code, b.Subject) },
	)
	for i, f := range found {
		made[i] = Cause{
			Code:     f.Code,
			Subject:  f.Subject,
			Message:  f.Message,
			Remedy:   f.Remedy,
			File:     f.At.File,
			Line:     f.At.Line,
			Explains: []string{},
		}
	}
	for _, wide := range []bool{false, true} {
		for i, f := range found {
			for _, r := range list {
				if !taken[r.ID] && explained(p, f, r, wide) {
					taken[r.ID] = true
					made[i].take(r, follows(r.ID))
				}
			}
		}
	}
	var out []Cause
	for i, c := range made {
		if found[i].Severity == check.Error || len(c.Explains) > 0 {
			out = append(out, c)
		}
	}
	for _, r := range list {
		if taken[r.ID] {
			continue
		}
		c := Cause{Code: string(r.Verdict), Subject: r.ID, Message: r.Observed, Remedy: r.Remedy, Explains: []string{}}
		if r.Reason != nil {
			c.Code = string(r.Reason.Code)
		}
		c.take(r, follows(r.ID))
		c.Explains = c.Explains[1:]
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(a, b Cause) int {
		return cmp.Or(
			rank(a)-rank(b),
			shape(p, a.Code, a.Subject)-shape(p, b.Code, b.Subject),
			len(b.Explains)-len(a.Explains),
		)
	})
	return out
}

// failed returns the claims that do not hold, and follow from no other.
func failed(list []claims.Result) []claims.Result {
	var out []claims.Result
	for i := range list {
		if r := &list[i]; r.Verdict != claims.Holds && r.Follows == "" {
			out = append(out, *r)
		}
	}
	return out
}

// rank puts what opens a bypass before other breakages, and these before what is only unknown.
func rank(c Cause) int {
	switch {
	case len(c.Bypass) > 0:
		return 0
	case c.Code == string(claims.Unknown):
		return 2
	}
	return 1
}

// shape puts what is wrong with an appliance as a whole before what follows from it on a segment.
func shape(p *plan.Plan, code, subject string) int {
	switch code {
	case "no-lan", "no-wan", "sides-joined", "bridge-loop":
		return 0
	case "switched-off":
		if m := p.Machine(subject); m != nil && m.Appliance != nil {
			return 0
		}
	}
	return 1
}

// take counts a claim, and what follows from it, among those that the cause explains.
func (c *Cause) take(r claims.Result, follow []string) {
	c.Claim = cmp.Or(c.Claim, r.ID)
	if outward := r.Kind == claims.NoBypass || r.Kind == claims.Blocked; outward && len(r.Escapes) > 0 &&
		c.Bypass == nil {
		c.Bypass = r.Escapes[0].Path
	}
	c.Explains = append(append(c.Explains, r.ID), follow...)
}

// explained reports whether a finding is why a claim does not hold: it breaks claims of that kind, and
// the claim is about its subject, or its bypass passes that. With wide the two need only be on one
// network.
func explained(p *plan.Plan, f check.Finding, r claims.Result, wide bool) bool {
	if !slices.Contains(breaks()[f.Code], r.Kind) && !slices.Contains(breaksToo()[f.Code], r.Kind) {
		return false
	}
	if m := p.Machine(f.Subject); f.Code == "switched-off" && m != nil {
		if len(check.Conflicts(p, m)) > 0 || m.Guest != nil && r.Kind != claims.Published {
			return false // another runs in its place, or what it served has a finding of its own
		}
	}
	about := strings.FieldsFunc(f.Subject, func(c rune) bool { return c == '.' || c == ' ' }) // dyke.lan, otter
	names := append(r.Names(), strings.FieldsFunc(r.Sentence, func(c rune) bool { return c == ' ' || c == ',' })...)
	for _, w := range r.Escapes {
		names = append(names, w.Path...)
	}
	if wide {
		about, names = networksOf(p, about), networksOf(p, names)
	}
	return slices.ContainsFunc(names, func(n string) bool { return slices.Contains(about, n) })
}

// networksOf returns the names of the segments that names stand for: a segment's own and those that a
// transparent appliance joins with it, those of a guest, those of an appliance's port when one is named.
func networksOf(p *plan.Plan, names []string) []string {
	var out []string
	add := func(s *plan.Segment) {
		if s.Nowhere() {
			return
		}
		for _, x := range s.Network() {
			out = append(out, x.Name)
		}
	}
	for _, n := range names {
		if s := p.Segment(n); s != nil {
			add(s)
		}
		m := p.Machine(n)
		if m == nil {
			continue
		}
		onWAN := slices.ContainsFunc(m.WAN(), func(w *plan.Adapter) bool { return slices.Contains(names, w.Name) })
		for _, a := range m.Adapters {
			if m.Guest != nil || onWAN || // what is wrong with a WAN is felt on each segment behind it
				slices.Contains(names, a.Name) || !slices.ContainsFunc(m.Adapters, func(o *plan.Adapter) bool {
				return slices.Contains(names, o.Name)
			}) {
				add(a.Segment)
			}
		}
	}
	return out
}

// knockOn returns what tells the claims that follow from one, each before those that follow from it.
func knockOn(list []claims.Result) func(id string) []string {
	follows := map[string][]string{}
	for _, r := range list {
		if r.Follows != "" {
			follows[r.Follows] = append(follows[r.Follows], r.ID)
		}
	}
	var gather func(id string) []string
	gather = func(id string) []string {
		var out []string
		for _, f := range follows[id] {
			out = append(append(out, f), gather(f)...)
		}
		return out
	}
	return gather
}

// GuestRow is what a document says of one guest: the verdict of each of
// claims.GuestKinds that was asked of it.
type GuestRow struct {
	Guest    string
	Verdicts map[claims.Kind]claims.Verdict
	Sound    bool // all that was asked holds
}

// GuestGroup is guests, one after the other, whose checks went alike.
type GuestGroup struct {
	Row   GuestRow // of the first
	Last  string
	Count int
}

// Groups returns rows of guests by what became of them; of up to most alike each is a group of its own.
func Groups(rows []GuestRow, most int) []GuestGroup {
	var out []GuestGroup
	for i := 0; i < len(rows); {
		alike := 1
		for i+alike < len(rows) && maps.Equal(rows[i+alike].Verdicts, rows[i].Verdicts) {
			alike++
		}
		if alike <= most {
			alike = 1
		}
		out = append(out, GuestGroup{rows[i], rows[i+alike-1].Guest, alike})
		i += alike
	}
	return out
}

// Name returns what the group is called: first … last (how many).
func (g GuestGroup) Name() string {
	if g.Count == 1 {
		return g.Row.Guest
	}
	return fmt.Sprintf("%s … %s (%d)", g.Row.Guest, g.Last, g.Count)
}

// Guests returns a row for each guest, in the order of the document.
func (d Document) Guests() []GuestRow {
	at := map[string]int{}
	var rows []GuestRow
	for _, r := range d.Claims {
		if !slices.Contains(claims.GuestKinds, r.Kind) {
			continue
		}
		i, ok := at[r.Guest]
		if !ok {
			i = len(rows)
			at[r.Guest] = i
			rows = append(rows, GuestRow{r.Guest, map[claims.Kind]claims.Verdict{}, true})
		}
		rows[i].Verdicts[r.Kind] = r.Verdict
		rows[i].Sound = rows[i].Sound && r.Verdict == claims.Holds
	}
	return rows
}
