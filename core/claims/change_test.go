package claims

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestChanges(t *testing.T) {
	doc := func(list string) Document {
		var d Document
		for part := range strings.FieldsSeq(list) {
			id, verdict, _ := strings.Cut(part, "=")
			verdict, follows, _ := strings.Cut(verdict, "<")
			d.Claims = append(d.Claims, Result{ID: id, Verdict: Verdict(verdict), Follows: follows})
		}
		return d
	}
	for _, c := range []struct{ before, after, want string }{
		{"a=holds b=holds", "a=holds b=holds", "same 2:"},
		{"a=holds b=holds c=broken", "a=broken<b b=broken c=holds", "same 0: b holds>broken, a holds>broken, c broken>holds"},
		{"a=holds", "b=holds", "same 0: b >holds, a holds>"},
		{"a=unknown", "a=broken c=unknown", "same 0: a unknown>broken, c >unknown"},
		{"", "", "same 0:"},
	} {
		changes, same := Changes(doc(c.before), doc(c.after))
		var parts []string
		for _, x := range changes {
			parts = append(parts, fmt.Sprintf("%s %s>%s", x.ID, x.Before, x.After))
		}
		assert.Equal(t, c.want, strings.TrimSpace(fmt.Sprintf("same %d: %s", same, strings.Join(parts, ", "))))
	}
}
