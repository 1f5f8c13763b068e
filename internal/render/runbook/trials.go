package runbook

import (
	"cmp"
	"fmt"
	"net/netip"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
	"openbastion/internal/verify/claims"
	"strings"
)

// beyond is what is asked for outside: a name that is kept for examples, and
// resolves.
const beyond = "example.com"

// witness stands for what is outside (RFC 5737).
var witness = netip.AddrFrom4([4]byte{203, 0, 113, 80})

// test returns what to try in a guest of each family on a segment.
func (b *writer) test(seg *plan.Segment) []Step {
	var out []Step
	seen := map[string]bool{}
	for _, a := range seg.Adapters {
		if a.Guest == nil || claims.InsideAdapter(a.Machine) != a || seg.Port == nil {
			continue
		}
		if b.only != nil && b.only.Appliance == nil && b.only != a.Machine {
			continue
		}
		family := cmp.Or(a.Machine.Guest.System, "linux")
		if seen[family] {
			continue
		}
		seen[family] = true
		out = append(out, b.tryIn(a, family))
	}
	return out
}

func (b *writer) tryIn(a *plan.Adapter, family string) Step {
	c, m, seg := listing.CommandsOf(listing.System(family)), a.Segment.Port.Machine, a.Segment
	s := Step{
		ID:    "try." + seg.Name + "." + family,
		Title: fmt.Sprintf("In %s (%s), from the bottom up", a.Machine.Name, seg.Name),
		Table: &Table{
			Head: []string{"type", "must come back", "when not, it means"},
			Tick: true,
		},
		Machine: a.Machine.Name,
		Check:   Matches,
	}
	add := func(command, back, means string) { s.Table.Rows = append(s.Table.Rows, []string{command, back, means}) }
	address := shown(a)
	if a.How == plan.Lease {
		address += ": often its first address, of some servers its last"
	}
	add(
		c.Addresses,
		address,
		"an address of 169.254: no DHCP server answered, so the adapter is on the wrong network; of another network: another server answered",
	)
	hop := seg.KnownGateway()
	route := "one default route"
	if hop.IsValid() {
		route += ", by " + hop.String()
	}
	add(c.Routes, route, "none: DHCP named no router; two: a second adapter is attached")
	if hop.IsValid() {
		if answers(m, sourceAddress(a), hop, lab.ICMP, 0) {
			add(c.Ping(hop.String()), "answers", "the wrong segment, or the appliance's port is not the one you think")
		} else {
			add(c.Ping(hop.String()), "nothing: the rules keep "+seg.Name+" from the appliance too",
				"an answer: the rule that denies it is missing or too far down")
		}
	}
	allowed := claims.AllowedServices(m, seg, sourceAddress(a), witness)
	if !outward(m, len(b.p.Machines)) {
		b.tryClosed(add, m, a, c)
	} else if len(allowed) == 0 {
		add(c.Ping(beyond), "nothing: the rules keep "+seg.Name+" from outside",
			"an answer: there is a bypass, or a rule above lets it out")
		add(c.Fetch("http://"+beyond), "nothing", "an answer: as above")
	} else {
		if up := m.WAN(); len(up) > 0 && up[0].Segment.Gateway.IsValid() && has(allowed, lab.ICMP) {
			gateway := "GATEWAY" // which one shows on the console, once the WAN has its lease
			if known := up[0].Segment.KnownGateway(); known.IsValid() {
				gateway = known.String()
			}
			add(c.Ping(gateway), "answers", "the appliance's WAN has no address, or translation is missing for "+seg.Name)
		}
		if answers(m, sourceAddress(a), hop, lab.UDP, 53) {
			add(c.Name(beyond), "an address",
				"addresses answer but names do not: the DNS server does not answer, or has no upstream")
		}
		if hop.IsValid() {
			add(c.Hop(beyond), "the first hop is "+hop.String(), "another first hop: a bypass")
		}
		for _, s := range allowed {
			if page := map[uint16]string{80: "http://", 443: "https://"}[s.From]; s.Proto == lab.TCP && page != "" {
				add(c.Fetch(page+beyond), "a status line", "pings but no pages: a rule, or packets that are too big for the way")
			}
		}
	}
	s.See = "Every line matches its row. Begin at the top: a failure often has its cause above."
	s.Mistakes = []Mistake{{"tried before the guest was started again", "the old address, and yesterday's answers"},
		{"tried from the host instead of the guest", "it works, but proves nothing"}}
	return s
}

// own returns a text with addresses of a port, or what they are where its network is unknown.
func own(a *plan.Adapter, text string) string {
	if a.Unknown() {
		return "its own address"
	}
	return text
}

// outward reports whether an appliance leads outside, by itself or through others; depth
// bounds how many.
func outward(m *plan.Machine, depth int) bool {
	for _, w := range m.WAN() {
		if w.Segment.Reach == lab.Upstream ||
			depth > 0 && w.Segment.Port != nil && outward(w.Segment.Port.Machine, depth-1) {
			return true
		}
	}
	return m.Appliance.Kind != "routed"
}

// tryClosed adds what to try where nothing leads outside: who plays the world.
func (b *writer) tryClosed(
	add func(command, back, means string),
	m *plan.Machine,
	from *plan.Adapter,
	c listing.Commands,
) {
	add(c.Ping(beyond), "nothing: the range has no path outside", "an answer: the range is not closed")
	for _, w := range m.WAN() {
		for _, x := range w.Segment.Adapters {
			if x.Guest == nil || !x.Address.IsValid() {
				continue
			}
			_, action := m.Decide(
				plan.Flow{Source: sourceAddress(from), Destination: x.Address.Addr(), Proto: lab.ICMP},
			)
			if action == lab.Allow {
				add(
					c.Ping(x.Address.Addr().String()),
					x.Machine.Name+" answers",
					"it is off, or translation is missing for "+from.Segment.Name,
				)
			}
			return
		}
	}
}

// answers reports whether the appliance answers a guest at its next hop.
func answers(m *plan.Machine, from, hop netip.Addr, proto lab.Proto, port uint16) bool {
	rule, action := m.Decide(plan.Flow{Source: from, Destination: hop, Proto: proto, Port: port})
	return rule == nil || action == lab.Allow // without a rule it answers the inside
}

func sourceAddress(a *plan.Adapter) netip.Addr {
	if a.Address.IsValid() {
		return a.Address.Addr()
	}
	if s := a.Segment.Port; s.Leases != nil {
		return s.Leases.Pool.From
	}
	return a.Segment.Subnet.Addr().Next()
}

func has(list []lab.Service, p lab.Proto) bool {
	for _, s := range list {
		if s.Proto == p {
			return true
		}
	}
	return false
}

func (b *writer) inbound() Step {
	s := Step{ID: "try.outside", Title: "From outside, on the WAN segment",
		Table: &Table{Head: []string{"try", "must come back", "when not, it means"}, Tick: true}}
	add := func(row ...string) { s.Table.Rows = append(s.Table.Rows, row) }
	for _, m := range b.p.Running() {
		for _, v := range m.Publishes {
			add(
				fmt.Sprintf("connect to %s/%d at the WAN address of %s", v.Proto, v.Port, m.Name),
				v.To.Machine.Name+" answers",
				"the publish points at another address, or a rule denies it; from inside the same address must answer too",
			)
		}
		for _, a := range m.WAN() {
			add(
				fmt.Sprintf("open the admin page at %s.%s", m.Name, a.Name),
				"nothing",
				"an answer: the page is open to outside",
			)
		}
	}
	if len(s.Table.Rows) == 0 {
		return Step{}
	}
	s.See = "Only port forwards answer."
	s.Mistakes = []Mistake{{"tried from inside instead", "translation answers differently there"},
		{"the router upstream does not pass it on", "it answers on the WAN segment, but not from further away"}}
	return s
}

func (b *writer) unplug() Step {
	return Step{ID: "try.no-bypass", Title: "Unplug the WAN and try again",
		Why: "The purpose of the lab: with the appliance's path outside disconnected, nothing may reach outside.", Do: []string{
			"Unplug the WAN adapter of " + names(b.p.Running()) + " in the settings.",
			"In a guest of each inside segment try the address and the name from before.", "Plug it in again.",
		}, See: "Nothing outside answers any guest, and all answers again once it is plugged in.",
		Mistakes: []Mistake{{"the wrong adapter was unplugged", "guests lose their gateway instead"},
			{"an answer came from a cache", "a name resolves, and its address does not answer"}}}
}

func names(list []*plan.Machine) string {
	var out []string
	for _, m := range list {
		out = append(out, m.Name)
	}
	return strings.Join(out, " and ")
}

func (b *writer) keep() Step {
	return Step{ID: "keep", Title: "Keep what works", Do: []string{
		"Keep the lab file, this runbook and its record, and each appliance's saved configuration together.",
		"`bastion plan --write` writes the chosen values into the file, so that the plan stays as built.",
	}, See: "`bastion rehearse` still reports every check as ok.",
		Mistakes: []Mistake{{"the lab was changed but the file was not", "the next runbook undoes the change"},
			{"guests were saved while running", "a restored guest has another machine's lease"}},
		Keep: "Take a " + b.w.Snapshot + " of every machine, shut down, called \"works\"."}
}

func (b *writer) again() Step {
	return Step{
		ID:    "again",
		Title: "When something changes",
		Table: &Table{Head: []string{"what changes", "do again"}, Rows: [][]string{
			{"an address or pool", "console, DHCP, the guests of that segment, their tests"},
			{"a rule or a publish", "rules or translation, the tests of both segments, from outside"},
			{"an adapter or a network", "adapters, which interface is which, the guests there, unplugging the WAN"},
			{"the appliance's image or version", "images, its main part, every test"},
			{"the host or its uplink", "networks, adapters bridged to it, unplugging the WAN"},
		}},
		Do:  []string{"`bastion runbook LAB --since OLD.yaml` writes just the steps that differ."},
		See: "The tests of what was touched pass again.",
		Mistakes: []Mistake{{"only the step itself is done again", "a test that passed before fails a week later"},
			{"the old " + b.w.Snapshot + " is taken for the new", "the change is gone after a rollback"}},
	}
}
