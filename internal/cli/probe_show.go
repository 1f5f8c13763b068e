package cli

import (
	"fmt"
	"strings"
	"time"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/field"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

func (a *app) showProbe(p *plan.Plan, s *field.Probe, doc verdict.Document, took time.Duration) {
	out := a.screen()
	a.title(out, p, fmt.Sprintf("as %s, in %s", s.Self, took.Round(10*time.Millisecond)))
	out.para(0, 2, plain, summary(out, doc))
	if a.quiet {
		return
	}
	a.showUnplanned(out, s, doc)
	for _, r := range doc.Claims {
		if r.Verdict == claims.Broken && (r.Reason == nil || r.Reason.Code != "unplanned-path") {
			out.para(2, 2, plain, out.paint(broken, signBroken)+" "+out.paint(strong, r.ID)+": "+r.Observed)
			out.para(4, 2, strong, "remedy: "+r.Remedy)
		}
	}
	t := table{}
	for _, r := range doc.Claims {
		name := strings.TrimPrefix(r.ID, s.Self+".")
		text := r.Observed
		if r.Kind == claims.NoBypass && s.Cut == nil && r.Verdict == claims.Unknown {
			text = "not tried: with --cut it waits until you have unplugged the appliance's WAN"
		}
		t.add(verdictCell(r.Verdict), cell{name, strong}, text)
	}
	out.below(t)
	out.line()
	if k := s.Guest.Witness; k != nil {
		out.para(
			0,
			2,
			faint,
			"The test server's code is "+witness.Code(k)+": it must be the one that the test server shows.",
		)
	}
}

// showUnplanned says first what the machine has besides the plan, and what adapters were told by.
func (a *app) showUnplanned(out *screen, s *field.Probe, doc verdict.Document) {
	for _, o := range doc.Observed {
		for _, u := range o.Unplanned {
			sign := signNote
			if u.Bypass {
				sign = out.paint(broken, signBroken)
			}
			out.para(2, 2, plain, sign+" "+o.Machine+" has the "+u.String()+", not in the plan; "+u.Outcome())
			out.para(4, 2, strong, "remedy: remove it from "+o.Machine+", or disconnect it; or add it to the lab file")
		}
	}
	for _, text := range s.Remarks() {
		out.para(2, 2, plain, signNote+" "+text)
	}
}
