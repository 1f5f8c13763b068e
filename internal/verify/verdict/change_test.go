package verdict

import (
	"fmt"
	"openbastion/internal/verify/claims"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestChanges(t *testing.T) {
	doc := func(list string) Document {
		var d Document
		for part := range strings.FieldsSeq(list) {
			id, state, _ := strings.Cut(part, "=")
			state, follows, _ := strings.Cut(state, "<")
			d.Claims = append(d.Claims, claims.Result{ID: id, Verdict: claims.Verdict(state), Follows: follows})
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

// What the proof says of a file and a rehearsal of it does not show is our mistake; what a lab
// that runs shows is not what was planned.
func TestWhoDiffers(t *testing.T) {
	for stage, want := range map[string]string{claims.Rehearsed: "this is a fault of the program", "kernel": "the running lab differs from the file",
		claims.FieldStage: "the running lab differs from the file"} {
		d := Document{
			Stage:  stage,
			Claims: []claims.Result{{Verdict: claims.Broken}},
			Proof:  claims.Proof{Disagree: []string{"newt.blocked: it got out"}},
		}
		assert.Contains(t, d.Summary(), want, stage)
	}
}
