package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// Owner is the machine that a listing is of, with the evidence.
type Owner struct {
	Machine *plan.Machine
	Why     string
}

// Whose returns which machine of a lab a listing is from: by its name, hardware
// addresses, its own addresses, or the segment that it is on. The error names those
// that it could be.
func Whose(p *plan.Plan, l listing.Listing) (Owner, error) {
	best := 0
	var owner Owner
	var ties []string
	for _, m := range p.Machines {
		score, why := likely(p, m, l)
		switch {
		case score > best:
			best = score
			owner, ties = Owner{m, why}, []string{m.Name}
		case score == best && score > 0:
			ties = append(ties, m.Name)
		}
	}
	switch {
	case best == 0 && len(p.Appliances()) == 1 && len(l.Interfaces) > 1:
		return Owner{p.Appliances()[0], "it lists several interfaces"}, nil
	case best == 0 && len(p.Machines) == 1:
		return Owner{p.Machines[0], "the lab has no other machine"}, nil
	case best == 0:
		return Owner{}, fmt.Errorf("it matches no machine: name it with --as")
	case len(ties) > 1:
		few := ties[:min(len(ties), 6)]
		return Owner{}, fmt.Errorf("it could be %s: name the machine with --as", strings.Join(few, " or "))
	}
	return owner, nil
}

// likely counts what speaks for a machine, and names the strongest.
func likely(p *plan.Plan, m *plan.Machine, l listing.Listing) (score int, why string) {
	add := func(n int, text string) {
		if score += n; why == "" {
			why = text
		}
	}
	if named(l, m) {
		add(40, "it has the host name "+m.Name)
	}
	for _, a := range m.Adapters {
		for _, i := range l.Interfaces {
			switch {
			case i.Tail != "" && len(i.Tail) >= 4 && strings.HasSuffix(hex(a), i.Tail):
				add(len(i.Tail)*2, "by the MAC address …"+a.MAC.Tail(2))
			case hasPlanned(i, a):
				add(12, "by the address "+a.Address.Addr().String())
			case on(i, a.Segment) && a.Over == nil:
				n := 2
				if m.Appliance == nil && a.How == plan.Lease {
					n = 3
				}
				add(n, "it is on "+a.Segment.Name)
			}
			if m.Appliance != nil && roleOf(i.Label) != "" && roleOf(i.Label) == a.Role && a.Over == nil {
				add(6, "it mentions "+i.Label)
			}
		}
	}
	for _, r := range l.Routes { // who sends to a port is behind it
		for _, a := range m.Adapters {
			if m.Guest != nil && a.Gate() != nil && a.Gate().Address.IsValid() && a.Gate().Address.Addr() == r.Gateway {
				add(2, "its next hop is the port on "+a.Segment.Name)
			}
		}
	}
	if m.Appliance != nil {
		for _, a := range l.Answers {
			if roleOf(a.Question) != "" {
				add(3, "it is a console that asks for roles")
				break
			}
		}
	}
	return score, why
}

// named reports whether a listing says a machine's name.
func named(l listing.Listing, m *plan.Machine) bool {
	return slices.ContainsFunc(l.Machines, func(n string) bool { return strings.EqualFold(first(n), m.Name) })
}

func first(name string) string {
	name, _, _ = strings.Cut(name, ".")
	return name
}

// Of keeps what a listing says of one machine, where it speaks of several: by the names
// that it says, else by hardware addresses that are another machine's. others are
// those of whom it speaks too.
func Of(p *plan.Plan, m *plan.Machine, l listing.Listing) (own listing.Listing, others []string) {
	says := named(l, m)
	foreign := func(name string) bool {
		if name == "" || strings.EqualFold(first(name), m.Name) {
			return false
		}
		return says || p.Machine(first(name)) != nil
	}
	note := func(name string) {
		if !slices.Contains(others, name) {
			others = append(others, name)
		}
	}
	own = l
	own.Interfaces = slices.DeleteFunc(slices.Clone(l.Interfaces), func(i listing.Interface) bool {
		if foreign(i.Machine) {
			note(first(i.Machine))
			return true
		}
		if len(i.Tail) != 12 ||
			slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool { return hex(a) == i.Tail }) {
			return false
		}
		for _, a := range p.Adapters {
			if a.Machine != m && hex(a) == i.Tail && len(l.Interfaces) > 1 {
				note(a.Machine.Name)
				return true
			}
		}
		return false
	})
	own.Routes = slices.DeleteFunc(slices.Clone(l.Routes), func(r listing.Route) bool { return foreign(r.Machine) })
	own.Resolvers = slices.DeleteFunc(
		slices.Clone(l.Resolvers),
		func(r listing.Resolver) bool { return foreign(r.Machine) },
	)
	return own, others
}

// ownOf leaves out the interfaces that a listing says are another machine's of the lab.
func ownOf(p *plan.Plan, m *plan.Machine, list []listing.Interface) []listing.Interface {
	return slices.DeleteFunc(slices.Clone(list), func(i listing.Interface) bool {
		other := p.Machine(first(i.Machine))
		return other != nil && other != m
	})
}

// portMeant returns the port that a role or name in a text means; nil when it means none or
// several.
func portMeant(m *plan.Machine, text string) *plan.Adapter {
	var found *plan.Adapter
	for _, w := range strings.FieldsFunc(text, func(c rune) bool {
		return !(c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-')
	}) {
		for _, a := range m.Adapters {
			if strings.EqualFold(w, a.Name) && a != found {
				if found != nil {
					return nil
				}
				found = a
			}
		}
	}
	if found != nil {
		return found
	}
	role := roleOf(text)
	for _, a := range m.Own() {
		if role != "" && a.Role == role {
			if found != nil {
				return nil
			}
			found = a
		}
	}
	return found
}
