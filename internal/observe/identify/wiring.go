package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Wired is an adapter of a package and the port that it becomes.
type Wired struct {
	Adapter BuiltAdapter
	Port    *plan.Adapter // nil: of no port
	How     string        // name: its network says so; order: by its number; told: a person said so
	Doubt   string        // why it is not sure; empty when it is
}

// Wiring is what becomes of the adapters of a package, in its order.
type Wiring []Wired

// roleWords are the words by which packages name what an adapter is for.
var roleWords = map[lab.Role][]string{
	lab.WAN:    {"wan", "outside", "external", "public", "internet", "untrusted", "upstream", "uplink"},
	lab.LAN:    {"lan", "inside", "internal", "private", "trusted", "protected", "guest", "guests"},
	lab.DMZ:    {"dmz", "perimeter", "servers", "screened"},
	lab.Manage: {"management", "manage", "mgmt", "admin", "oob"},
}

// roleOf returns what a network's or adapter's name says it is for; empty when it
// says nothing, or two things.
func roleOf(name string) lab.Role {
	var found lab.Role
	for _, w := range strings.FieldsFunc(strings.ToLower(name), func(c rune) bool { return c < 'a' || c > 'z' }) {
		for role, words := range roleWords {
			if slices.Contains(words, w) {
				if found != "" && found != role {
					return ""
				}
				found = role
			}
		}
	}
	return found
}

// Wire returns which port each adapter of a package becomes: by the names of
// segments and ports, by what the name says it is for where that fits one port
// alone, else by order, which is a doubt.
func Wire(p *plan.Plan, m *plan.Machine, b Built) Wiring {
	ports := m.Own()
	out := make(Wiring, len(b.Adapters))
	taken := map[*plan.Adapter]bool{}
	sole := func(fits func(*plan.Adapter) bool) *plan.Adapter {
		var one *plan.Adapter
		for _, a := range ports {
			if !taken[a] && fits(a) {
				if one != nil {
					return nil
				}
				one = a
			}
		}
		return one
	}
	role := func(x BuiltAdapter) lab.Role {
		if r := roleOf(x.Network); r != "" {
			return r
		}
		return roleOf(x.Name)
	}
	for k, x := range b.Adapters {
		s, _ := network(p, x.Network)
		a := sole(func(a *plan.Adapter) bool { return s != nil && a.Segment == s || fold(a.Name) == fold(x.Network) })
		if out[k].Adapter = x; a != nil {
			out[k].Port, out[k].How, taken[a] = a, "name", true
		}
	}
	for k, x := range b.Adapters {
		r := role(x)
		many := 0
		for _, y := range b.Adapters {
			if role(y) == r {
				many++
			}
		}
		if out[k].Port != nil || r == "" || many > 1 {
			continue
		}
		if a := sole(func(a *plan.Adapter) bool { return a.Role == r }); a != nil {
			out[k].Port, out[k].How, taken[a] = a, "name", true
		}
	}
	for k, x := range b.Adapters {
		if out[k].Port != nil {
			continue
		}
		r := role(x)
		for _, a := range ports {
			if !taken[a] && (r == "" || r == a.Role) {
				out[k].Port, out[k].How, taken[a] = a, "order", true
				out[k].Doubt = fmt.Sprintf("%q does not match %s: identified by order only", x.Network, a.Name)
				break
			}
		}
		if out[k].Port == nil {
			out[k].Doubt = "the lab has no port for it: it remains unconnected"
		}
	}
	return out
}

// InOrder gives the adapters the ports of an appliance in order.
func (w Wiring) InOrder(m *plan.Machine) {
	ports := m.Own()
	for k := range w {
		w[k].Port, w[k].How, w[k].Doubt = nil, "order", ""
		if k < len(ports) {
			w[k].Port = ports[k]
		}
	}
}

// Tell returns the adapter in place k a port; who had it before has none.
func (w Wiring) Tell(k int, port *plan.Adapter) {
	for j := range w {
		if w[j].Port == port && j != k {
			w[j].Port, w[j].Doubt = nil, fmt.Sprintf("its port %s went to adapter %d", port.Name, k+1)
		}
	}
	w[k].Port, w[k].How, w[k].Doubt = port, "told", ""
}

// Doubts returns the places of the adapters whose port is not sure, when ports are
// left that they could be.
func (w Wiring) Doubts(m *plan.Machine) []int {
	left := slices.ContainsFunc(m.Own(), func(a *plan.Adapter) bool {
		return !slices.ContainsFunc(w, func(x Wired) bool { return x.Port == a })
	})
	var places []int
	for k, x := range w {
		if x.Doubt != "" && (x.Port != nil || left) {
			places = append(places, k)
		}
	}
	return places
}

// Unconnected says of each adapter of no port what it means for the lab.
func (w Wiring) Unconnected() []string {
	var said []string
	for k, x := range w {
		switch n := x.Adapter.Number; {
		case x.Port != nil:
		case slices.ContainsFunc(w[k:], func(x Wired) bool { return x.Port != nil }):
			said = append(
				said,
				fmt.Sprintf("adapter %d of the package (%q) is not a port, but comes before others that are: "+
					"the lab would count them wrong; add a port for it, such as one with role manage, as the port in place %d",
					n, x.Adapter.Network, n),
			)
		default:
			said = append(
				said,
				fmt.Sprintf(
					"adapter %d of the package (%q) is not a port: it is written as unused, and remains unconnected",
					n,
					x.Adapter.Network,
				),
			)
		}
	}
	return said
}

// order returns the places of the file's ports when those with adapters stand in
// the package's order; moved tells whether that changes anything.
func (w Wiring) order(m *plan.Machine) (order []int, moved bool) {
	place := map[*plan.Adapter]int{}
	for _, a := range m.Adapters {
		place[a] = slices.Index(m.Appliance.Ports, a.Port)
	}
	var wanted []int // places of the wired ports, in the package's order
	for _, x := range w {
		if x.Port != nil {
			wanted = append(wanted, place[x.Port])
		}
	}
	for _, a := range m.Own() { // then those that the package has no adapter for
		if !slices.Contains(wanted, place[a]) {
			wanted = append(wanted, place[a])
		}
	}
	own := slices.Sorted(slices.Values(wanted))
	for k := range m.Appliance.Ports {
		order = append(order, k)
	}
	for n, k := range own { // sub-interfaces stay where they are
		order[k] = wanted[n]
		moved = moved || wanted[n] != k
	}
	return order, moved
}
