package simulator

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/verify/claims"
)

// In a lab of many segments each has one claim about all others: those that the rules treat alike
// speak for each other, others for themselves, and a guest that joins two segments breaks both.
func TestManySegments(t *testing.T) {
	const count = 70
	var b strings.Builder
	b.WriteString("bastion: 1\nlab: many\nspace: 10.0.0.0/8\nsegments:\n" +
		"  road: {reach: upstream, subnet: 172.20.0.0/16, gateway: 172.20.0.1}\n")
	for i := range count {
		fmt.Fprintf(&b, "  s%d: {reach: isolated}\n", i)
	}
	b.WriteString("appliances:\n  gate:\n    ports:\n      - {role: wan, segment: road}\n")
	for i := range count {
		fmt.Fprintf(&b, "      - {role: lan, name: p%d, segment: s%d}\n", i, i)
	}
	b.WriteString("    rules:\n      - allow tcp/80 from s3 to s7\n      - allow any from any to outside\nguests:\n")
	for i := range count {
		fmt.Fprintf(&b, "  g%d: s%d\n", i, i)
	}
	b.WriteString("  knot: {adapters: [{segment: s5}, {segment: s9}], forwards: true}\n")
	doc := run(t, []byte(b.String()))
	broken, seen := []string{}, map[string]string{}
	for _, r := range doc.Claims {
		if r.Kind == claims.Segments {
			seen[r.From] = r.Observed
			if r.Verdict != claims.Holds {
				broken = append(broken, r.From)
			}
		}
	}
	assert.Len(t, seen, count)
	assert.ElementsMatch(t, []string{"s5", "s9"}, broken)
	assert.Contains(t, seen["s3"], "tcp/80 to s7 allowed by the rules")
	assert.Contains(t, seen["s20"], "to s21 (and 66 more that the rules treat alike) blocked by the rules")
	assert.Contains(t, seen["s20"], "to s3 blocked by the rules", "which rules tell apart")
}
