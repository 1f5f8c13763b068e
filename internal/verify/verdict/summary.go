package verdict

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/verify/claims"
)

// Introduction names the stand-ins for what is outside, wherever an output shows them.
const Introduction = "Simulated upstream: router lighthouse, test server buoy."

// Introduction returns what stands outside, on the stage that the verdict is of.
func (d Document) Introduction() string {
	if d.Stage == claims.FieldStage {
		return "As reported by the guests, and by the test server outside."
	}
	return Introduction
}

// Scope returns in one line what the proof covers and what it leaves out.
func (d Document) Scope() string {
	return "Exhaustive: " + d.Proof.Covers + ". Not covered: DNS tunnels, relays, leaking switches (bastion explain scope)."
}

// Summary returns the verdict in one sentence or two, the same in every output.
func (d Document) Summary() string {
	text := d.checks()
	if n := len(d.Findings); n > 0 {
		text += fmt.Sprintf(" The layout has %d more %s.", n, plural(n, "error", "errors"))
	}
	if len(d.Proof.Disagree) > 0 {
		text += " Proof and test disagree: " + d.Differs() + "."
	}
	return text
}

// Differs returns what it means that the proof, which is of the file, and the stage disagree.
func (d Document) Differs() string {
	if d.Stage == claims.Rehearsed {
		return "this is a fault of the program"
	}
	return "the running lab differs from the file"
}

// checks returns what became of the claims, and what a bypass among them means.
func (d Document) checks() string {
	n, all := d.Count(), len(d.Claims)
	failed, open := n[claims.Broken], n[claims.Unknown]
	switch {
	case all == 0:
		return "Nothing to check: the lab has no guest and no appliance."
	case failed == 0 && open == 0 && len(d.Findings) > 0:
		return passed(all) + "."
	case failed == 0 && open == 0 && !slices.ContainsFunc(d.Claims, func(r claims.Result) bool { return r.Guest != "" }):
		return passed(all) + ". No guest is in the lab yet."
	case failed == 0 && open == 0 && !slices.ContainsFunc(d.Claims, func(r claims.Result) bool { return r.Kind == claims.NoBypass }):
		return passed(all) + ". Guests can avoid an appliance that is next to their router."
	case failed == 0 && open == 0:
		return passed(all) + ": guests reach outside only through the appliance."
	}
	var parts []string
	if failed > 0 {
		parts = append(parts, fmt.Sprintf("%d of %d %s failed", failed, all, plural(all, "check", "checks")))
	}
	if open > 0 {
		text := fmt.Sprintf("%d could not be decided", open)
		if failed == 0 {
			text = fmt.Sprintf("%d of %d %s could not be decided", open, all, plural(all, "check", "checks"))
		}
		parts = append(parts, text)
	}
	text := strings.Join(parts, ", ")
	if around := d.bypassing(); around != "" {
		return text + ": " + around + " outside without passing the appliance."
	}
	return text + "."
}

// bypassing returns the guests that get outside past the appliance, as the subject of a sentence.
func (d Document) bypassing() string {
	var names []string
	for _, r := range d.Claims {
		if r.Kind == claims.NoBypass && r.Verdict == claims.Broken && len(r.Escapes) > 0 &&
			!slices.Contains(names, r.Guest) {
			names = append(names, r.Guest)
		}
	}
	switch len(names) {
	case 0:
		return ""
	case 1:
		return names[0] + " reaches"
	case 2, 3:
		return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1] + " reach"
	}
	return fmt.Sprintf("%s, %s and %d more reach", names[0], names[1], len(names)-2)
}

func passed(all int) string {
	if all == 1 {
		return "The one check passed"
	}
	return fmt.Sprintf("All %d checks passed", all)
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
