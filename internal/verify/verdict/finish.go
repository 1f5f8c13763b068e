package verdict

import (
	"slices"
	"sync"

	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// breaks tells, for each code, which kinds of claims a finding of it breaks, those
// that follow from others left out: what its "you would see" speaks of. A code that
// is not here breaks none, as what it speaks of does not happen in a rehearsal:
// installers, restarts, sizes, days, or what a hostile neighbor would have to do.
var breaks = sync.OnceValue(func() map[string][]claims.Kind {
	return map[string][]claims.Kind{
		"no-lan":       {claims.Behind, claims.Published},
		"no-wan":       {claims.DNS, claims.Outside, claims.FirstHop},
		"sides-joined": {claims.Separated, claims.Behind}, "guest-on-wan": {claims.Behind, claims.Expect}, "dual-homed-guest": {claims.NoBypass}, "host-forwards": {claims.NoBypass},
		"no-gateway":      {claims.Behind},
		"unattached-port": {claims.OneDHCP, claims.Behind, claims.Gateway, claims.DNS}, "duplicate-mac": {claims.OneDHCP, claims.NoDuplicates}, "vlan-not-carried": {claims.Behind},
		"refusing-switch":      {claims.Gateway, claims.DNS, claims.Inbound},
		"rogue-advertisements": {claims.OneDHCP, claims.NoBypass}, "bridge-loop": {claims.Separated, claims.Behind, claims.Inbound}, "twin-appliance": {claims.OneDHCP},
		"off-subnet": {claims.Blocked}, "reserved-address": {claims.Outside, claims.FirstHop, claims.Published}, "duplicate-address": {claims.DHCP, claims.NoDuplicates},
		"pool-overlap": {claims.NoDuplicates}, "wrong-gateway": {claims.Gateway},
		"no-names":         {claims.DNS},
		"two-dhcp-servers": {claims.OneDHCP}, "no-dhcp-server": {claims.DHCP}, "pool-outside": {claims.Blocked}, "small-pool": {claims.DHCP}, "reservation-outside": {claims.Blocked},
		"dhcp-without-gateway": {claims.DNS}, "no-nat": {claims.Outside}, "no-path-outside": {claims.Expect}, "private-wan-blocked": {claims.DNS},
		"shared-uplink": {claims.Separated}, "no-dhcp-yet": {claims.Behind, claims.DHCP, claims.Published}, "open-question": {claims.Behind, claims.NoDuplicates},
		"forward-denied": {claims.Published}, "admin-outside": {claims.Inbound}, "unreachable-expectation": {claims.Expect},
	}
})

// shown reports whether a broken claim shows the finding.
func shown(f check.Finding, list []claims.Result) bool {
	return slices.ContainsFunc(list, func(r claims.Result) bool { return r.Verdict == claims.Broken && explained(f, r) })
}
