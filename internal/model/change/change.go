// Package change says how two plans of one lab differ: what is added, taken away or changed when a lab that
// runs becomes the other one, and what that interrupts.
package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"openbastion/internal/model/plan"
)

// Kind is what becomes of a thing.
type Kind string

// The kinds.
const (
	Add    Kind = "add"
	Remove Kind = "remove"
	Alter  Kind = "change"
)

// Change is one difference.
type Change struct {
	Kind       Kind   `json:"kind"`
	What       string `json:"what"`           // segment tidepool; sluice.lan; rules of sluice
	From       string `json:"from,omitempty"` // before; empty for what is added
	To         string `json:"to,omitempty"`
	Interrupts string `json:"interrupts,omitempty"` // empty: nothing
}

// String returns the change as a line.
func (c Change) String() string {
	text := c.What
	switch {
	case c.From != "" && c.To != "":
		text += ": " + c.From + " → " + c.To
	case c.From+c.To != "":
		text += ": " + c.From + c.To
	}
	return text
}

// Between returns what differs between a plan and the one that takes its place: segments first, then
// appliances, then guests.
func Between(was, now *plan.Plan) []Change {
	d := &difference{was: read(was), now: read(now)}
	d.pairs("segment", d.was.segments, d.now.segments, "what is on it")
	d.machines(was, now)
	d.pairs("DHCP server", d.was.leases, d.now.leases, "")
	d.list("rule of", d.was.rules, d.now.rules, "")
	d.list("NAT of", d.was.nat, d.now.nat, "connections by it")
	return d.out
}

// facts are a plan's document by what each thing is called.
type facts struct {
	segments, adapters, addresses, leases map[string][]fact
	rules, nat                            map[string][]string // by appliance
}

// fact is one property of a thing.
type fact struct{ name, value string }

func read(p *plan.Plan) facts {
	doc := p.Document()
	f := facts{
		segments:  map[string][]fact{},
		adapters:  map[string][]fact{},
		addresses: map[string][]fact{},
		leases:    map[string][]fact{},
		rules:     map[string][]string{},
		nat:       map[string][]string{},
	}
	for _, s := range doc.Segments {
		lab := p.Segment(s.Name).Lab
		f.segments[s.Name] = []fact{
			{"", string(s.Reach)},
			{"network", p.Segment(s.Name).SubnetText()},
			{"IPv6 network", s.Subnet6},
			{"gateway", s.Gateway},
			{"host address", s.HostLeg},
			{"tag", number(s.Tag)},
			{"carried by", carriedBy(s)},
			{"joined", strings.TrimSpace(lab.Join + " " + lab.Uplink)},
			{"DHCP by", lab.Leases},
			{"foreign MAC addresses", lab.ForeignMACs},
			{"forwarded by the host", yes(lab.HostForwards)},
			{"router advertisements", yes(lab.RouterAdvertisements)},
		}
	}
	for _, a := range p.Adapters {
		f.adapters[name(a)] = []fact{
			{"on", a.Segment.Name},
			{"MAC address", a.MAC.String()},
			{"", map[bool]string{false: "unplugged"}[a.Plugged]},
		}
		f.addresses[name(a)] = []fact{
			{"address", a.Shown()},
			{"gateway", text(a.KnownGateway().IsValid(), a.KnownGateway().String())},
			{"DNS servers", fmt.Sprint(addresses(a))},
			{"IPv6 address", text(a.Address6.IsValid() && a.Guest == nil, a.Address6.String())},
			{"admin", admin(a)},
		}
	}
	for _, l := range doc.Leases {
		var reserved []string
		for at, who := range l.Reservations {
			reserved = append(reserved, at+" for "+who)
		}
		slices.Sort(reserved)
		f.leases[l.Server+" on "+l.Segment] = []fact{
			{"pool", l.Pool}, {"router", l.Router}, {"DNS servers", strings.Join(l.DNS, ", ")}, {"domain", l.Domain},
			{"lease time", fmt.Sprint(l.Seconds, " s")}, {"reservations", strings.Join(reserved, ", ")},
		}
	}
	for _, r := range doc.Rules {
		f.rules[r.Appliance] = append(f.rules[r.Appliance], r.Rule)
	}
	for _, n := range doc.NAT {
		f.nat[n.Appliance] = append(f.nat[n.Appliance], fmt.Sprintf("%s, %s to %s", n.Kind, n.From, n.To))
	}
	return f
}

func name(a *plan.Adapter) string {
	if a.Guest != nil {
		return fmt.Sprintf("adapter %d of %s", a.Number, a.Machine.Name)
	}
	return a.Machine.Name + "." + a.Name
}

func carriedBy(s plan.SegmentDoc) string { return text(s.Wire != s.Name, s.Wire) }
func number(n int) string                { return text(n != 0, fmt.Sprint(n)) }
func yes(is bool) string                 { return text(is, "yes") }

func text(is bool, s string) string {
	if is {
		return s
	}
	return ""
}

func addresses(a *plan.Adapter) string {
	var out []string
	for _, d := range a.DNS {
		out = append(out, d.String())
	}
	return strings.Join(out, ", ")
}

func admin(a *plan.Adapter) string {
	var out []string
	for _, s := range a.Admin {
		out = append(out, s.String())
	}
	return strings.Join(out, ", ")
}

type difference struct {
	was, now facts
	out      []Change
}

func (d *difference) add(c Change) { d.out = append(d.out, c) }

// pairs compares things by name, fact by fact.
func (d *difference) pairs(what string, was, now map[string][]fact, interrupts string) {
	for _, n := range names(was, now) {
		called := strings.TrimSpace(what + " " + n)
		a, before := was[n]
		b, after := now[n]
		switch {
		case !before:
			d.add(Change{Kind: Add, What: called, To: summary(b)})
		case !after:
			d.add(Change{Kind: Remove, What: called, Interrupts: interrupts})
		default:
			d.facts(called, a, b, interrupts)
		}
	}
}

func (d *difference) facts(called string, was, now []fact, interrupts string) {
	for i, f := range now {
		if was[i].value == f.value {
			continue
		}
		kind, at := Alter, called
		if f.name != "" {
			at += ", " + f.name
		}
		if was[i].value == "" {
			kind = Add
		} else if f.value == "" {
			kind = Remove
		}
		d.add(Change{Kind: kind, What: at, From: was[i].value, To: f.value, Interrupts: interrupts})
	}
}

// machines compares machines, and the adapters of those that are in both.
func (d *difference) machines(was, now *plan.Plan) {
	for _, m := range was.Machines {
		if now.Machine(m.Name) == nil {
			d.add(Change{Kind: Remove, What: called(m), Interrupts: "its connections" + through(m)})
		}
	}
	for _, m := range now.Machines {
		old := was.Machine(m.Name)
		switch {
		case old == nil:
			d.add(Change{Kind: Add, What: called(m), To: where(m)})
			continue
		case (old.Appliance == nil) != (m.Appliance == nil):
			d.add(
				Change{
					Kind:       Alter,
					What:       m.Name,
					From:       called(old),
					To:         called(m),
					Interrupts: "its connections" + through(m),
				},
			)
			continue
		case old.Off != m.Off:
			d.add(Change{Kind: Alter, What: called(m), From: onOff(old), To: onOff(m),
				Interrupts: text(m.Off, "its connections"+through(m))})
		case m.Guest != nil && m.Guest.Forwards != old.Guest.Forwards:
			d.add(Change{Kind: Alter, What: called(m), From: forwards(old), To: forwards(m)})
		case m.Appliance != nil && m.Appliance.Kind != old.Appliance.Kind:
			d.add(Change{Kind: Alter, What: called(m) + ", kind", From: m.Appliance.Kind, To: old.Appliance.Kind,
				Interrupts: "all connections through it"})
		}
		d.adapters(old, m)
	}
}

func (d *difference) adapters(old, m *plan.Machine) {
	mine := func(of map[string][]fact, m *plan.Machine) map[string][]fact {
		out := map[string][]fact{}
		for _, a := range m.Adapters {
			out[name(a)] = of[name(a)]
		}
		return out
	}
	d.pairs("", mine(d.was.adapters, old), mine(d.now.adapters, m), "connections by it")
	was, now := mine(d.was.addresses, old), mine(d.now.addresses, m)
	for _, n := range names(was, now) {
		if was[n] != nil && now[n] != nil {
			d.facts(n, was[n], now[n], "connections from and to it")
		}
	}
}

// list compares texts in their order: those that are in both keep it.
func (d *difference) list(what string, was, now map[string][]string, interrupts string) {
	for _, m := range slices.Sorted(maps.Keys(union(was, now))) {
		stay := common(was[m], now[m])
		for _, gone := range without(was[m], stay) {
			d.add(Change{Kind: Remove, What: what + " " + m, From: gone, Interrupts: interrupts})
		}
		for _, come := range without(now[m], stay) {
			d.add(Change{Kind: Add, What: what + " " + m, To: come})
		}
	}
}

// common returns the longest run of texts that two lists have in one order.
func common(a, b []string) []string {
	best := make([][]int, len(a)+1) // of a from i and b from j: how many
	for i := range best {
		best[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if best[i][j] = max(best[i+1][j], best[i][j+1]); a[i] == b[j] {
				best[i][j] = best[i+1][j+1] + 1
			}
		}
	}
	var out []string
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			out = append(out, a[i])
			i, j = i+1, j+1
		case best[i+1][j] >= best[i][j+1]:
			i++
		default:
			j++
		}
	}
	return out
}

// without returns a list less a run of it.
func without(list, run []string) (out []string) {
	for _, s := range list {
		if len(run) > 0 && run[0] == s {
			run = run[1:]
			continue
		}
		out = append(out, s)
	}
	return out
}

func names(a, b map[string][]fact) []string { return slices.Sorted(maps.Keys(union(a, b))) }

func union[V any](a, b map[string]V) map[string]V {
	out := maps.Clone(a)
	if out == nil {
		out = map[string]V{}
	}
	maps.Copy(out, b)
	return out
}

func summary(list []fact) string {
	var out []string
	for _, f := range list {
		if f.value != "" {
			out = append(out, strings.TrimSpace(f.name+" "+f.value))
		}
	}
	return strings.Join(out, ", ")
}

func called(m *plan.Machine) string {
	if m.Appliance != nil {
		return "appliance " + m.Name
	}
	return "guest " + m.Name
}

func where(m *plan.Machine) string {
	var out []string
	for _, a := range m.Adapters {
		if !a.Segment.Nowhere() && !slices.Contains(out, a.Segment.Name) {
			out = append(out, a.Segment.Name)
		}
	}
	return text(len(out) > 0, "on "+strings.Join(out, " and "))
}

func through(m *plan.Machine) string { return text(m.Appliance != nil, ", and those through it") }

func onOff(m *plan.Machine) string { return map[bool]string{true: "off", false: "on"}[m.Off] }

func forwards(m *plan.Machine) string {
	return map[bool]string{true: "forwards packets", false: "forwards nothing"}[m.Guest.Forwards]
}
