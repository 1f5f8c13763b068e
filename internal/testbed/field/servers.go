package field

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// here is the name of this machine in a plan that is made of nothing but its adapters.
const here = "here"

// ownPlan makes a plan of the adapters that are up: each on a segment of its own, with
// nobody else.
func (s System) ownPlan() (*plan.Plan, error) {
	var segments, adapters strings.Builder
	n := 0
	for _, a := range s.Adapters {
		if a.Up && !a.MAC.IsZero() && !a.Internal && a.Within == "" {
			n++
			fmt.Fprintf(&segments, "  net%d: {reach: isolated, subnet: 198.18.%d.0/24}\n", n, n%256)
			fmt.Fprintf(&adapters, "{segment: net%d, mac: '%s'}, ", n, a.MAC)
		}
	}
	text := fmt.Sprintf(
		"bastion: 1\nlab: %s\nsegments:\n%sguests:\n  %s-is: {adapters: [%s]}\n",
		here,
		segments.String(),
		here,
		strings.TrimSuffix(adapters.String(), ", "),
	)
	l, err := lab.Read(here, []byte(text))
	if err != nil {
		return nil, fmt.Errorf("no plan of this machine's own adapters: %w", err)
	}
	return plan.Build(l)
}

// glanceServers asks on each adapter who hands out leases; where packets of one's own may
// not be sent, that is said.
func (s System) glanceServers(ctx context.Context, say func(good bool, format string, args ...any)) {
	p, err := s.ownPlan()
	if err != nil {
		say(false, "DHCP servers are not listed: %v.", err)
		return
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	tied, _ := s.tie(p.Guests()[0])
	own, err := openPackets(ctx, p, p.Guests()[0], tied)
	if err != nil {
		say(false, "DHCP servers are not listed: %v.", err)
		return
	}
	var questions []claims.Question
	for i, a := range p.Guests()[0].Adapters {
		questions = append(
			questions,
			claims.Question{ID: fmt.Sprint(i), When: claims.Running, Ask: claims.AskServers{At: claims.RefTo(a)}},
		)
	}
	offers := map[string][]string{}
	own.ask(ctx, questions, func(a claims.Answer) {
		got, ok := a.Got.(claims.GotServers)
		if !ok {
			return
		}
		offers[a.ID] = []string{}
		for _, o := range got.Offers {
			if text := fmt.Sprintf("%s at %s", o.Server, o.ServerMAC); !slices.Contains(offers[a.ID], text) {
				offers[a.ID] = append(offers[a.ID], text)
			}
		}
	})
	for i, a := range p.Guests()[0].Adapters {
		list, asked := offers[fmt.Sprint(i)]
		on := tied[a]
		switch {
		case !asked || on == nil:
		case len(list) > 1:
			say(
				false,
				"On %s, %d DHCP servers answer: %s. This machine takes whichever offer arrives first.",
				on.Name,
				len(list),
				strings.Join(list, ", "),
			)
		case len(list) == 1:
			say(true, "On %s the DHCP server is %s.", on.Name, list[0])
		default:
			say(true, "On %s nothing serves DHCP.", on.Name)
		}
	}
}
