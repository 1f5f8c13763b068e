package verdict

import (
	"fmt"
	"openbastion/internal/verify/claims"
	"slices"
	"strings"
)

// Stand-ins for the outside, as every output that names them introduces them.
const Introduction = "Outside stand two invented machines: the witness (buoy), which reports who reached it, and the site's router (lighthouse)."

// Introduction returns who stands outside, on the stage that the verdict is of.
func (d Document) Introduction() string {
	if d.Stage == claims.FieldStage {
		return "Guests told this themselves, and the witness outside, which reports who reached it."
	}
	return Introduction
}

// Summary returns a verdict in one sentence, the same in every output.
func (d Document) Summary() string {
	text := d.claimsSummary()
	switch n := len(d.Findings); {
	case n == 1:
		text += " Beside them check finds an error."
	case n > 1:
		text += fmt.Sprintf(" Beside them check finds %d errors.", n)
	}
	if len(d.Proof.Disagree) > 0 {
		text += " Proof and " + d.tried() + " say different things: " + d.Differs() + "."
	}
	return text
}

// Differs returns what it means that the proof, which is of the file, and the stage say
// different things.
func (d Document) Differs() string {
	if d.Stage == claims.Rehearsed {
		return "the program is wrong here"
	}
	return "what runs is not what the file says"
}

func (d Document) tried() string {
	if d.Stage == claims.Rehearsed {
		return claims.Rehearsed
	}
	return "what was tried"
}

func (d Document) claimsSummary() string {
	n, all := d.Count(), len(d.Claims)
	switch {
	case all == 0:
		return "Nothing to say: the lab has no guest and no appliance."
	case n[claims.Holds] == all && len(d.Findings) > 0:
		return counted(all, "claim holds", "claims hold") + "."
	case n[claims.Holds] == all && !slices.ContainsFunc(d.Claims, func(r claims.Result) bool { return r.Kind == claims.NoBypass }):
		return counted(all, "claim holds", "claims hold") +
			". Nothing keeps the guests from avoiding an appliance that stands beside their router."
	case n[claims.Holds] == all:
		return counted(all, "claim holds", "claims hold") + ": guests reach outside only through the appliance."
	}
	var parts []string
	for _, x := range []struct {
		v         claims.Verdict
		one, many string
	}{{claims.Broken, "is broken", "are broken"}, {claims.Unknown, "is unknown", "are unknown"}, {claims.Holds, "holds", "hold"}} {
		switch n[x.v] {
		case 0:
		case 1:
			parts = append(parts, "1 "+x.one)
		default:
			parts = append(parts, fmt.Sprintf("%d %s", n[x.v], x.many))
		}
	}
	last := len(parts) - 1
	list := parts[last]
	if last > 0 {
		list = strings.Join(parts[:last], ", ") + " and " + list
	}
	if all == 1 {
		return "The one claim " + strings.TrimPrefix(list, "1 ") + "."
	}
	return fmt.Sprintf("Of %d claims, %s.", all, list)
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "The one " + one
	}
	return fmt.Sprintf("All %d %s", n, many)
}
