package reachability

import (
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// mostParts bounds the parts of a range of ports, or of a prefix, that a sentence is tried with.
const mostParts = 64

// Outsiders returns addresses of a prefix that stand for all of it outside: one of each part that the rules of some
// appliance tell apart from the others. Of a prefix that lies inside it is one address.
func (m *Model) Outsiders(p netip.Prefix) []netip.Addr {
	all := m.space.Prefixes(p)
	outside := all.Minus(m.insides())
	if len(outside) == 0 {
		outside = all
	}
	var kinds []func(netip.Addr) string
	for _, a := range m.plan.Running() {
		kinds = append(kinds, a.Kinds())
	}
	seen := map[string]bool{}
	var out []netip.Addr
	for _, a := range m.space.Each(outside) {
		var of strings.Builder
		for _, kind := range kinds {
			of.WriteString(kind(a) + " ")
		}
		if seen[of.String()] || len(out) == mostParts {
			continue
		}
		seen[of.String()] = true
		out = append(out, a)
	}
	return out
}

// Ports returns services of one port that stand for one with a range of ports: its first and its last, and one of
// each part that rules or port forwards tell apart. Any other service stands for itself.
func Ports(p *plan.Plan, s lab.Service) []lab.Service {
	if s.From == s.To {
		return []lab.Service{s}
	}
	ports := []uint16{s.From, s.To}
	edge := func(proto lab.Proto, from, to uint16) {
		if proto != s.Proto {
			return
		}
		for _, n := range []int{int(from), int(to) + 1} {
			if n > int(s.From) && n < int(s.To) {
				ports = append(ports, uint16(n))
			}
		}
	}
	for _, m := range p.Running() {
		for _, r := range m.Rules {
			for _, v := range r.Services {
				edge(v.Proto, v.From, v.To)
			}
		}
		for _, v := range m.Publishes {
			edge(v.Proto, v.Port, v.Port)
			edge(v.Proto, v.Target, v.Target)
		}
	}
	slices.Sort(ports)
	ports = slices.Compact(ports)
	out := make([]lab.Service, 0, min(len(ports), mostParts))
	for _, n := range ports {
		if len(out) < mostParts {
			out = append(out, lab.Service{Proto: s.Proto, From: n, To: n})
		}
	}
	return out
}
