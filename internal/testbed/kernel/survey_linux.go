package kernel

import (
	"slices"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// How long shadows listen for who hands out leases. Some servers look for a second
// whether an address is free before they offer it, one is known to do so for three. So
// that nobody waits for that at each check, each segment has been asked before: when the
// lab came up, or at the last check.
const (
	listening = 3300 * time.Millisecond // since a segment was asked at all
	hurried   = 2300 * time.Millisecond // the same for who looks at a system for a moment
	afresh    = 1300 * time.Millisecond // since it was asked last
	stale     = 10 * time.Second        // what was heard before that is not held against a segment
)

// survey is one question to everybody on a segment who hands out leases.
type survey struct {
	at     *plan.Adapter
	client *dhcp.Client
	began  time.Time
}

// survey asks a segment, by an adapter on it. It is called from the shadows' loop.
func (l *Stacks) survey(now time.Duration, a *plan.Adapter) {
	x := l.machines[a.Machine]
	before := l.surveys[a.Segment]
	for len(before) > 1 || len(before) > 0 && time.Since(before[0].began) > stale {
		old := before[0]
		l.machines[old.at.Machine].shadow.EndSurvey(l.machines[old.at.Machine].ports[old.at], old.client)
		before = before[1:]
	}
	l.surveys[a.Segment] = append(slices.Clone(before), survey{a, x.shadow.SurveyServers(now, x.ports[a]), time.Now()})
}

// surveyAll asks every segment on which a guest is.
func (l *Stacks) surveyAll() {
	l.shadows.Do(l.ctx, func(now time.Duration) {
		for _, a := range l.adapters {
			if a.Guest != nil && a.Plugged && !a.Segment.Nowhere() && len(l.surveys[a.Segment]) == 0 {
				l.survey(now, a)
			}
		}
	})
}

// surveyed returns when every segment has been listened to for long enough.
func (l *Stacks) surveyed() (until time.Time) {
	l.shadows.Do(l.ctx, func(time.Duration) {
		for _, list := range l.surveys {
			first, last := list[0].began, list[len(list)-1].began
			for _, at := range []time.Time{first.Add(l.listening), last.Add(afresh)} {
				if at.After(until) {
					until = at
				}
			}
		}
	})
	return until
}

// servers returns who has offered leases on an adapter's segment. It is called from the
// shadows' loop.
func (l *Stacks) servers(a *plan.Adapter) claims.Answer {
	got, out := claims.GotServers{}, claims.Answer{}
	for _, s := range l.surveys[a.Segment] {
		for _, o := range s.client.Offers {
			if slices.ContainsFunc(
				got.Offers,
				func(x dhcp.Offer) bool { return x.ServerMAC == o.ServerMAC && x.Server == o.Server },
			) {
				continue
			}
			got.Offers = append(got.Offers, o)
			out.Evidence = append(
				out.Evidence,
				stage.Reading(s.at.Machine, "%s at %s offers %s to %s", o.Server, o.ServerMAC, o.Address,
					s.at.Machine.Name)...)
		}
	}
	if len(got.Offers) == 0 {
		out.Evidence = stage.Reading(a.Machine, "%s sent a DHCP request and got no answer", a.Machine.Name)
	}
	out.Got = got
	return out
}
