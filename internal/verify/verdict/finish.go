package verdict

import (
	"slices"
	"sync"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// breaks tells, for each code, which kinds of claims a finding of it breaks, those
// that follow from others left out: what its "you would see" speaks of. A code that
// is not here breaks none, as what it speaks of does not happen in a rehearsal:
// installers, restarts, sizes, days, or what a hostile neighbor would have to do.
var breaks = sync.OnceValue(func() map[string][]claims.Kind {
	return map[string][]claims.Kind{
		"admin-outside":           {claims.Inbound},
		"bridge-loop":             {claims.Separated, claims.Behind, claims.Inbound},
		"dhcp-without-gateway":    {claims.DNS},
		"dual-homed-guest":        {claims.NoBypass},
		"duplicate-address":       {claims.DHCP, claims.NoDuplicates},
		"duplicate-mac":           {claims.OneDHCP, claims.NoDuplicates},
		"forward-denied":          {claims.Published},
		"guest-on-wan":            {claims.Behind, claims.Expect},
		"host-forwards":           {claims.NoBypass},
		"no-dhcp-server":          {claims.DHCP},
		"no-dhcp-yet":             {claims.Behind, claims.DHCP, claims.Published},
		"no-filter":               {claims.Inbound},
		"no-gateway":              {claims.Behind},
		"no-lan":                  {claims.Behind, claims.Published},
		"no-names":                {claims.DNS},
		"no-nat":                  {claims.Outside},
		"no-path-outside":         {claims.Expect},
		"no-wan":                  {claims.DNS, claims.Outside, claims.FirstHop},
		"off-subnet":              {claims.Blocked},
		"open-question":           {claims.Behind, claims.NoDuplicates},
		"pool-outside":            {claims.Blocked},
		"pool-overlap":            {claims.NoDuplicates},
		"private-wan-blocked":     {claims.DNS},
		"refusing-switch":         {claims.Gateway, claims.DNS, claims.Inbound},
		"reservation-outside":     {claims.Blocked},
		"reserved-address":        {claims.Outside, claims.FirstHop, claims.Published},
		"rogue-advertisements":    {claims.OneDHCP, claims.NoBypass},
		"shared-roles":            {claims.Separated},
		"shared-uplink":           {claims.Separated},
		"sides-joined":            {claims.Separated, claims.Behind},
		"small-pool":              {claims.DHCP},
		"twin-appliance":          {claims.OneDHCP},
		"two-dhcp-servers":        {claims.OneDHCP},
		"unattached-port":         {claims.OneDHCP, claims.Behind, claims.Gateway, claims.DNS},
		"unreachable-expectation": {claims.Expect},
		"vlan-not-carried":        {claims.Behind},
		"wrong-gateway":           {claims.Gateway},
	}
})

// breaksToo are claims that findings break in other places than their examples.
var breaksToo = sync.OnceValue(func() map[string][]claims.Kind {
	return map[string][]claims.Kind{
		"duplicate-address": {claims.Gateway},
		"no-dhcp-server":    {claims.DNS, claims.Outside},
		"switched-off": {
			claims.Behind,
			claims.DHCP,
			claims.DNS,
			claims.Outside,
			claims.Published,
			claims.OneDHCP,
		},
		"unattached-port":    {claims.Outside, claims.Published, claims.Expect, claims.Inbound},
		"host-on-bridge":     {claims.NoBypass, claims.Gateway},
		"no-gateway":         {claims.Expect},
		"no-wan":             {claims.Published, claims.Inbound},
		"small-pool":         {claims.Gateway, claims.DNS, claims.Outside},
		"wan-no-gateway":     {claims.DNS, claims.Outside, claims.FirstHop, claims.Published},
		"wrong-return-route": {claims.Outside, claims.DNS},
	}
})

// shown reports whether a broken claim shows the finding.
func shown(p *plan.Plan, f check.Finding, list []claims.Result) bool {
	return slices.ContainsFunc(
		list,
		func(r claims.Result) bool { return r.Verdict == claims.Broken && explained(p, f, r, true) },
	)
}
