package report

import (
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Bounds of a brief page.
const (
	manyClaims = 400 // from how many on a page is brief
	mostFailed = 40  // claims of one kind that do not hold
	mostHeld   = 1   // claims of one kind that hold, as an example
	mostRows   = 40  // rows of a table of the plan
	mostDrawn  = 400 // adapters in a diagram
)

// Brief returns a verdict of many claims with those that a page shows: of each kind the first that do
// not hold, with the causes' own, and one that holds. A verdict of few claims is returned as it is.
func Brief(doc verdict.Document) verdict.Document {
	if len(doc.Claims) < manyClaims {
		return doc
	}
	cause := map[string]bool{}
	for _, c := range doc.Causes {
		cause[c.Claim] = true
	}
	type kept struct {
		kind  claims.Kind
		holds bool
	}
	shown := map[kept]int{}
	list := make([]claims.Result, 0, manyClaims)
	for _, r := range doc.Claims {
		as, most := kept{r.Kind, r.Verdict == claims.Holds}, mostFailed
		if as.holds {
			most = mostHeld
		}
		if shown[as]++; shown[as] <= most || cause[r.ID] {
			list = append(list, r)
		}
	}
	doc.Claims = list
	return doc
}
