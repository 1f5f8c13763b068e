package check

import (
	"slices"
	"strings"
	"sync"
	"time"

	"openbastion/core/claims"
	"openbastion/core/plan"
)

// breaks tells, for each code, which kinds of claims a finding of it breaks, those
// that follow from others left out: what its "you would see" speaks of. A code that
// is not here breaks none, as what it speaks of does not happen in a rehearsal:
// installers, restarts, sizes, days, or what a hostile neighbor would have to do.
var breaks = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"one-sided": "names outside path",
		"same-wire": "apart behind", "beside": "behind expect", "second-door": "cut", "host-door": "cut",
		"dead-segment": "behind",
		"loose-end":    "alone behind gateway names", "twin-mac": "alone sole", "tag-unheard": "behind",
		"refusing-switch": "gateway names inbound",
		"v6-door":         "alone cut", "bridge-loop": "apart behind inbound", "twin-appliance": "alone",
		"off-subnet": "held", "reserved-address": "outside path published", "twin-address": "lease sole",
		"pool-overlap": "sole", "wrong-gateway": "gateway",
		"no-names":          "names",
		"two-lease-servers": "alone", "no-lease-server": "lease", "pool-outside": "held", "small-pool": "lease", "reservation-outside": "held",
		"lease-no-router": "names", "untranslated": "outside", "no-way-out": "expect", "private-wan-dropped": "names",
		"one-line": "apart", "lease-gap": "behind lease published", "undecided": "behind sole",
		"publish-denied": "published", "admin-outside": "inbound", "unreachable-expectation": "expect",
	}
})

// Complete adds to a verdict the errors of the plan that stand and that no broken
// claim shows, as a lab that has one does not hold. on is the day for what depends
// on one, as for Run.
func Complete(doc *claims.Document, p *plan.Plan, on time.Time) {
	for _, f := range Run(p, on) {
		if f.Severity != Error || f.Accepted != "" {
			continue
		}
		doc.Verdict = claims.Broken
		if slices.ContainsFunc(doc.Claims, f.shownBy) {
			continue
		}
		doc.Findings = append(doc.Findings, claims.Finding{Code: f.Code, Subject: f.Subject, Message: f.Message, Remedy: f.Remedy,
			File: f.At.File, Line: f.At.Line})
	}
}

// shownBy tells whether a claim that is broken shows the finding: it is of a kind
// that such a finding breaks, and about the same machine or segment.
func (f Finding) shownBy(r claims.Result) bool {
	if r.Verdict != claims.Broken || !slices.Contains(strings.Fields(breaks()[f.Code]), string(r.Kind)) {
		return false
	}
	about := strings.FieldsFunc(f.Subject, func(c rune) bool { return c == '.' || c == ' ' }) // dyke.lan, otter
	return slices.ContainsFunc(r.Names(), func(n string) bool { return slices.Contains(about, n) })
}

// New gives the codes of the errors and warnings that a changed plan has, and that
// are not among the findings of the plan that it was changed from.
func New(was []Finding, changed *plan.Plan) []string {
	old := map[string]bool{}
	for _, f := range was {
		old[f.Code] = true
	}
	out := []string{}
	for _, f := range Run(changed, time.Time{}) {
		if !old[f.Code] && f.Severity != Note && !slices.Contains(out, f.Code) {
			out = append(out, f.Code)
		}
	}
	return out
}
