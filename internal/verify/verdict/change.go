package verdict

import (
	"openbastion/internal/verify/claims"
	"slices"
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
