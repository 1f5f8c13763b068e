package runbook

import (
	"cmp"
	"fmt"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// secondLine tries the backup of an appliance with two WANs.
func (b *writer) secondLine(m *plan.Machine) Step {
	wans := m.WAN()
	if len(wans) < 2 || !connected(wans) {
		return Step{}
	}
	first, second := wans[0], wans[1]
	s := Step{ID: "try.line." + m.Name, Title: "Take the first line away, and watch the second",
		Why: fmt.Sprintf(
			"%s on %s is the primary, %s on %s the backup: the one counts only when the other is down.",
			first.Name,
			first.Segment.Name,
			second.Name,
			second.Segment.Name,
		),
		Do: []string{fmt.Sprintf("Unplug adapter %d of %s (%s).", first.Number, m.Name, first.Name),
			"Wait a minute: the appliance has to notice.", "In a guest load a web page, and one that shows the sender's address.",
			"Plug it in again, and do the same."},
		See: fmt.Sprintf(
			"Guests reach outside by %s while %s is out, and by %s again afterwards. Conversations that were open break once.",
			second.Name,
			first.Name,
			first.Name,
		),
		Mistakes: []Mistake{{"both lines depend on one router or cable", "when the first is out, so is the second"},
			{"the second has no translation", "guests get nowhere until the first is back"}}}
	return s
}

// bridged tries a transparent appliance.
func (b *writer) bridged(m *plan.Machine) Step {
	if !m.Transparent() {
		return Step{}
	}
	s := Step{ID: "try.bridge." + m.Name, Title: "Check whether " + m.Name + " bridges, and filters",
		Table: &Table{Head: []string{"try", "must come back", "when not, it means"}, Tick: true}}
	add := func(row ...string) { s.Table.Rows = append(s.Table.Rows, row) }
	add("in a guest behind it: the next hop's MAC address", "the router's own, not one of "+m.Name,
		"it routes, and does not bridge")
	add(
		"shut it down: anything beyond it from behind it",
		"nothing",
		"an answer: there is a bypass over another cable or switch",
	)
	for _, a := range m.Adapters {
		if a.Role == lab.Manage && a.Address.IsValid() {
			add(
				fmt.Sprintf("open the page at %s, from %s", a.Address.Addr(), a.Segment.Name),
				"it opens",
				"the manage port is on another network",
			)
			add(fmt.Sprintf("open the page at %s, from behind it", a.Address.Addr()), "nothing",
				"the manage network is reached from where guests are")
		}
	}
	s.Do = []string{
		"Its two sides must be two adapters of the host on two switches; with both on one switch frames go round for ever.",
	}
	s.See = "All rows match, and the switches' link lights are steady."
	s.Mistakes = []Mistake{{"the switch drops frames whose MAC address is not its machine's",
		"it shows packets coming in, and none arrive behind it"},
		{"the host has an address on one of its sides", "the host is reached past the filter"}}
	return s
}

// armed returns what must be pointed at a one-armed appliance, and what avoids it.
func (b *writer) armed(m *plan.Machine) Step {
	if m.Appliance.Kind != "one-armed" {
		return Step{}
	}
	s := Step{ID: "point." + m.Name, Title: "Direct the traffic it must see to " + m.Name,
		Why: "It is next to the router, not before it: a guest that uses the router as gateway bypasses it, and it cannot prevent that.",
		Do: []string{
			"DHCP: distribute its address as router, as in the part before, and disable the router's own DHCP server.",
			"Static guests: set its address as the gateway.",
			"Mail and web traffic to inspect: forward it here at the router, or set this machine's address as the proxy in each program.",
			"What must not be avoided belongs behind a routed or transparent appliance.",
		},
		See: "A guest's first hop is its address: the tests of the guest's segment show it.",
		Mistakes: []Mistake{
			{"a guest keeps the router as its gateway", "it works, but the appliance's logs are empty"},
		}}
	return s
}

// sockets returns which of the host's adapters goes where.
func (b *writer) sockets() Step {
	t := &Table{Head: []string{"the host's adapter", "carries", "untagged there", "tags", "into"}, Tick: true}
	for _, w := range b.p.Wires {
		if w.Uplink() == "" {
			continue
		}
		untagged, tags := w.Name, ""
		if n := w.Root().Lab.Native; n > 0 {
			untagged = fmt.Sprintf("%s, as VLAN %d", w.Name, n)
		}
		for i, s := range w.Segments[1:] {
			if i > 0 {
				tags += ", "
			}
			tags += fmt.Sprintf("%d (%s)", s.Tag, s.Name)
		}
		into := "a socket of the lab's own switch"
		if w.LeavesHost() {
			into = "the site's network"
		}
		if tags != "" {
			into += ", set as a trunk"
		}
		t.Rows = append(t.Rows, []string{w.Uplink(), w.Name, untagged, cmp.Or(tags, "none"), into})
	}
	if len(t.Rows) == 0 {
		return Step{}
	}
	return Step{ID: "sockets", Title: "Plug the host's adapters in, and label both ends", Table: t,
		Do: []string{
			"Bind each network to an adapter by name or MAC address; an automatic choice can change at the next start.",
			"Is the host's own management on one of them? Then the lab's switch settings affect it too: use a separate adapter, or have access to its screen.",
		},
		See: "The link is up on each, and unplugging one affects only what its row lists.",
		Mistakes: []Mistake{{"two cables into one switch without tags",
			"outside and inside are one network, and guests get addresses from upstream"},
			{"the socket passes no tags", "the untagged network works, but tagged guests get no DHCP lease"}}}
}
