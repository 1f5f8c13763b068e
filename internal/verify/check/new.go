package check

import (
	"slices"
	"time"

	"openbastion/internal/model/plan"
)

// New returns the codes of the errors and warnings that a changed plan has, and that
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
