package claims

import (
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// passes reports whether each appliance of a way lets a service pass to an address.
func passes(way []plan.Outward, to netip.Addr, s lab.Service) bool {
	return !slices.ContainsFunc(way, func(o plan.Outward) bool {
		return !allows(o.By, o.Source, to, s)
	})
}

// allows reports whether the rules of an appliance let a service pass from one address to another.
func allows(m *plan.Machine, from, to netip.Addr, s lab.Service) bool {
	return allowed(m, plan.Flow{Source: from, Destination: to, Proto: s.Proto, Port: s.From})
}

// allowed reports whether the rules of an appliance let the first packet of a flow pass.
func allowed(m *plan.Machine, f plan.Flow) bool {
	_, action := m.Decide(f)
	return action == lab.Allow
}

// distinct returns each of some services once, in order.
func distinct(list []lab.Service) []lab.Service {
	var out []lab.Service
	for _, s := range list {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// AllowedServices returns services, one of each protocol where there is one, that every
// appliance on the way from an address on a segment to the outside lets pass.
func AllowedServices(m *plan.Machine, from *plan.Segment, source, to netip.Addr) []lab.Service {
	way := m.WayOut(from, source)
	var out []lab.Service
	for _, o := range way {
		for _, s := range o.By.AllowedServices(o.Source, to, usual, nil, nil) {
			if !slices.ContainsFunc(out, func(x lab.Service) bool { return x.Proto == s.Proto }) && passes(way, to, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// maxStopped bounds, for all guests, the services that are tried because rules stop them; in
// a larger lab one guest of those who stand alike speaks for all.
const maxStopped = 1 << 12

// stoppedParts ask, of a guest that may go outside by some services, whether usual ones and
// those that rules name are stopped where the rules let them not pass.
func stoppedParts(m *reachability.Model, g *plan.Machine, home *plan.Adapter, w Witness) []part {
	way := home.Gate().Machine.WayOut(home.Segment, home.Likely())
	services := slices.Clone(usual)
	for _, o := range way {
		services = append(services, o.By.NamedServices(o.Source, w.Address, maxNamed)...)
	}
	var stopped []lab.Service
	for _, s := range distinct(services) {
		if !passes(way, w.Address, s) {
			stopped = append(stopped, s)
		}
	}
	if len(stopped)*len(m.Plan().Guests()) > maxStopped && m.Alike(g) != g {
		return nil
	}
	out := make([]part, 0, len(stopped))
	for _, s := range stopped {
		out = append(
			out,
			part{asks: asking(AskReach{From: RefTo(home), Service: s}), judge: func(r *Result, got []Got) {
				if got[0].(GotReach).Answered {
					r.fail(Reason{Code: "denied-service-passes", Subject: g.Name, Service: s.String()})
				}
			}},
		)
	}
	return out
}

// varies reports whether the rules of an appliance tell addresses of the pool apart from which a guest
// gets its own: what it may do depends on which it gets.
func varies(home *plan.Adapter) bool {
	server, v := home.Segment.LeaseService()
	if home.Address.IsValid() || v == nil || home.Gate() == nil || !server.Address.IsValid() {
		return false
	}
	apart := func(list []plan.Match) bool {
		return slices.ContainsFunc(list, func(x plan.Match) bool {
			return slices.ContainsFunc(x.Prefixes, func(p netip.Prefix) bool {
				within := p.Addr().Compare(v.Pool.From) >= 0 && p.Addr().Compare(v.Pool.To) <= 0
				return within || p.Contains(v.Pool.From) != p.Contains(v.Pool.To)
			})
		})
	}
	for _, r := range home.Gate().Machine.Rules {
		if apart(r.From) {
			return true
		}
	}
	return false
}

// byAddressParts ask of a guest what the rules let pass from the address that it really got.
func byAddressParts(home *plan.Adapter, w Witness) []part {
	gate := home.Gate().Machine
	services := slices.Clone(usual)
	for _, r := range gate.Rules {
		for _, s := range r.Services {
			if s.To = s.From; s.From != 0 && len(services) < maxNamed {
				services = append(services, s)
			}
		}
	}
	var out []part
	for _, s := range distinct(services) {
		out = append(out, part{asks: asking(AskAddress{RefTo(home)}, AskReach{From: RefTo(home), Service: s}),
			judge: func(r *Result, got []Got) {
				at, reached := got[0].(GotAddress).Address, got[1].(GotReach)
				may := at.IsValid() && passes(gate.WayOut(home.Segment, at.Addr()), w.Address, s)
				switch {
				case !at.IsValid():
					r.fail(Reason{Code: "outside-unreachable", Subject: home.Machine.Name, Segment: home.Segment.Name,
						Service: s.String(), Detail: "no address"})
				case may && !reached.Answered:
					r.fail(Reason{Code: "outside-unreachable", Subject: home.Machine.Name, Segment: home.Segment.Name,
						Service: s.String(), Detail: reached.Outcome.String()})
				case !may && reached.Answered:
					r.fail(Reason{Code: "denied-service-passes", Subject: home.Machine.Name, Service: s.String()})
				case r.Verdict == Holds:
					r.Observed = "as the rules say for " + at.Addr().String() + "; other addresses of the pool differ"
				}
			}})
	}
	return out
}
