package guard

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Metrics returns a verdict as metrics in the open exposition format (OpenMetrics 1.0): each claim, 1 where it holds and 0
// where it is broken (one that is not decided has no sample), how many there are of each verdict, and when it was asked.
func Metrics(lab string, doc verdict.Document, at time.Time) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# TYPE bastion_claim_holds gauge\n# HELP bastion_claim_holds Whether a claim on the lab holds.\n")
	count := map[claims.Verdict]int{}
	list := slices.Clone(doc.Claims)
	slices.SortStableFunc(list, func(x, y claims.Result) int { return strings.Compare(x.ID, y.ID) })
	for _, r := range list {
		count[r.Verdict]++
		value, decided := map[claims.Verdict]int{claims.Holds: 1, claims.Broken: 0}[r.Verdict]
		if decided {
			fmt.Fprintf(&b, "bastion_claim_holds{lab=%s,claim=%s} %d\n", quoted(lab), quoted(r.ID), value)
		}
	}
	fmt.Fprintf(&b, "# TYPE bastion_claims gauge\n# HELP bastion_claims How many claims have each verdict.\n")
	for _, v := range []claims.Verdict{claims.Holds, claims.Broken, claims.Unknown} {
		fmt.Fprintf(&b, "bastion_claims{lab=%s,verdict=%s} %d\n", quoted(lab), quoted(string(v)), count[v])
	}
	fmt.Fprintf(
		&b,
		"# TYPE bastion_checked_timestamp_seconds gauge\n# UNIT bastion_checked_timestamp_seconds seconds\n"+
			"# HELP bastion_checked_timestamp_seconds When the claims were asked last.\n"+
			"bastion_checked_timestamp_seconds{lab=%s} %.3f\n# EOF\n",
		quoted(lab),
		float64(at.UnixMilli())/1e3,
	)
	return b.Bytes()
}

// quoted returns the value of a label.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}
