package claims

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// hostClaim asks, of the first guest on a segment, whether the machine that carries the lab answers it: at each of its
// addresses by ping, and at a TCP port where it listens while the claim is tried.
func hostClaim(s *plan.Segment, services []netip.AddrPort) (claim, bool) {
	at := slices.IndexFunc(s.Adapters, func(a *plan.Adapter) bool {
		return a.Guest != nil && a.Plugged && !a.Machine.Off && InsideAdapter(a.Machine) == a
	})
	if len(services) == 0 || at < 0 {
		return claim{}, false
	}
	home := s.Adapters[at]
	c := claim{
		Result: Result{ID: s.Name + "." + string(Host), Segment: s.Name, Kind: Host},
		guests: []string{home.Machine.Name}, lone: s.Name,
	}
	for _, at := range services {
		for _, service := range []lab.Service{
			{Proto: lab.ICMP},
			{Proto: lab.TCP, From: at.Port(), To: at.Port()},
		} {
			ask := AskReach{From: RefTo(home), Service: service, Address: at.Addr()}
			c.parts = append(c.parts, part{asks: asking(ask), judge: func(r *Result, got []Got) {
				judgeHost(r, home, ask, got[0].(GotReach))
			}})
		}
	}
	return c, true
}

func judgeHost(r *Result, home *plan.Adapter, ask AskReach, got GotReach) {
	if got.Answered {
		r.fail(Reason{Code: "host-answers", Subject: home.Machine.Name, Observed: ask.Address.String(), Service: ask.Service.String()})
		return
	}
	if r.Verdict == Holds {
		r.Observed = fmt.Sprintf("the host does not answer %s", home.Machine.Name)
	}
}
