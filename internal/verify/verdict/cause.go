package verdict

import "openbastion/internal/verify/claims"

// Cause is a claim that does not hold and that no other explains, with the
// claims that follow from it.
type Cause struct {
	claims.Result
	Explains []string // their identifiers, each before those that follow from it
}

// Causes returns the claims that do not hold and that no other explains, in the
// order of the document.
func (d Document) Causes() []Cause {
	follows := map[string][]string{}
	for _, r := range d.Claims {
		if r.Follows != "" {
			follows[r.Follows] = append(follows[r.Follows], r.ID)
		}
	}
	// What explains others may itself be explained.
	var gather func(id string) []string
	gather = func(id string) []string {
		var list []string
		for _, f := range follows[id] {
			list = append(append(list, f), gather(f)...)
		}
		return list
	}
	var causes []Cause
	for _, r := range d.Claims {
		if r.Verdict != claims.Holds && r.Follows == "" {
			causes = append(causes, Cause{r, gather(r.ID)})
		}
	}
	return causes
}

// GuestRow is what a document says of one guest: the verdict of each of
// claims.GuestKinds that was asked of it.
type GuestRow struct {
	Guest    string
	Verdicts map[claims.Kind]claims.Verdict
	Sound    bool // all that was asked holds
}

// Guests returns a row for each guest, in the order of the document.
func (d Document) Guests() []GuestRow {
	at := map[string]int{}
	var rows []GuestRow
	for _, r := range d.Claims {
		if !perGuest[r.Kind] {
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

var perGuest = func() map[claims.Kind]bool {
	set := map[claims.Kind]bool{}
	for _, k := range claims.GuestKinds {
		set[k] = true
	}
	return set
}()
