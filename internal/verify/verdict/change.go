package verdict

import (
	"slices"

	"openbastion/internal/verify/claims"
)

// Change is a claim whose verdict differs between two rehearsals.
type Change struct {
	ID       string         `json:"id"`
	Before   claims.Verdict `json:"before"`   // empty: there was no such claim
	After    claims.Verdict `json:"after"`    // empty: there is none any more
	Observed string         `json:"observed"` // after, or before when there is none any more

	Follows string `json:"follows,omitempty"` // the claim whose change explains it
}

// Changes returns the claims that differ, those that came to be worse first and
// of them the causes before what follows, and how many stayed as they were.
func Changes(before, after Document) (changes []Change, same int) {
	was := map[string]claims.Result{}
	for _, r := range before.Claims {
		was[r.ID] = r
	}
	var better, other, following []Change
	for _, r := range after.Claims {
		old, there := was[r.ID]
		delete(was, r.ID)
		c := Change{r.ID, old.Verdict, r.Verdict, r.Observed, r.Follows}
		switch {
		case there && old.Verdict == r.Verdict:
			same++
		case r.Verdict != claims.Holds && r.Follows != "":
			following = append(following, c)
		case r.Verdict != claims.Holds:
			changes = append(changes, c)
		case there:
			better = append(better, c)
		default:
			other = append(other, c)
		}
	}
	for _, r := range before.Claims {
		if _, gone := was[r.ID]; gone {
			other = append(other, Change{r.ID, r.Verdict, "", r.Observed, ""})
		}
	}
	return slices.Concat(changes, following, better, other), same
}

// Worse reports whether the second of two verdicts is worse: its verdict is, or a claim is broken
// that was not.
func Worse(before, after Document) bool {
	rank := map[claims.Verdict]int{claims.Holds: 0, claims.Unknown: 1, claims.Broken: 2}
	if rank[after.Verdict] > rank[before.Verdict] {
		return true
	}
	was := map[string]claims.Verdict{}
	for _, r := range before.Claims {
		was[r.ID] = r.Verdict
	}
	for _, r := range after.Claims {
		if r.Verdict == claims.Broken && was[r.ID] != claims.Broken {
			return true
		}
	}
	return false
}
