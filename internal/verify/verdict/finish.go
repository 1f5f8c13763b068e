package verdict

import (
	"slices"
	"strings"
	"sync"

	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
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

// shown reports whether a broken claim shows the finding: it is of a kind that such a
// finding breaks, and about the same machine or segment.
func shown(f check.Finding, list []claims.Result) bool {
	kinds := strings.Fields(breaks()[f.Code])
	about := strings.FieldsFunc(f.Subject, func(c rune) bool { return c == '.' || c == ' ' }) // dyke.lan, otter
	return slices.ContainsFunc(list, func(r claims.Result) bool {
		return r.Verdict == claims.Broken && slices.Contains(kinds, string(r.Kind)) &&
			slices.ContainsFunc(r.Names(), func(n string) bool { return slices.Contains(about, n) })
	})
}
