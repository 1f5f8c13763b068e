package runbook

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

func (b *writer) page(m *plan.Machine) Step {
	s := Step{ID: "page." + m.Name, Title: "Open the admin page of " + m.Name}
	if !m.Facts.Factory.LAN.IsValid() {
		s.Do = append(s.Do, "Factory address: see its label or console.")
	}
	for _, p := range b.p.Pages {
		if p.Appliance != m {
			continue
		}
		if p.Factory {
			s.Do = append(
				s.Do,
				fmt.Sprintf(
					"From the factory it answers at %s, to a guest on its first inside segment that has an address there.",
					p.URL,
				),
			)
		} else {
			s.Do = append(s.Do, fmt.Sprintf("With the planned address it answers at %s, from a guest on that segment.", p.URL))
		}
	}
	if len(b.replaced(m)) > 0 {
		s.Do = append(
			[]string{
				"Open it from the one machine on the network " + building + ", which has an address there from " + m.Name + ".",
			},
			s.Do...)
	} else if g := near(m); g != nil {
		s.Do = append([]string{"Open it in " + g.Machine.Name + ", on " + g.Segment.Name + "."}, s.Do...)
	}
	if len(m.Facts.Change) > 0 {
		s.Do = append(s.Do, "Change at once: "+strings.Join(m.Facts.Change,
			", ")+". The lab file has no password; keep it with your others.")
	}
	s.See = "The browser warns once about the certificate: the appliance made its own. Compare its fingerprint with the console's where it is shown, and continue."
	s.Mistakes = []Mistake{{"opened from the WAN side", "it does not answer there, and must not"},
		{"http typed for https", "nothing answers, or the page asks to reload"}}
	return s
}

// near returns a guest's adapter from which the admin page can be opened, or nil: behind a port that is connected from the
// beginning, where there is one.
func near(m *plan.Machine) (found *plan.Adapter) {
	for _, a := range m.Adapters {
		if a.Admin == nil {
			continue
		}
		for _, g := range a.Segment.Adapters {
			if g.Guest != nil && (found == nil || facing(m, found).Later() && !a.Later()) {
				found = g
			}
		}
	}
	return found
}

// facing returns an appliance's port with a page on the segment of a guest's adapter.
func facing(m *plan.Machine, g *plan.Adapter) *plan.Adapter {
	i := slices.IndexFunc(m.Adapters, func(a *plan.Adapter) bool { return a.Segment == g.Segment && a.Admin != nil })
	return m.Adapters[i]
}

// helper attaches the guest in which the admin page is opened, before it is.
func (b *writer) helper(m *plan.Machine) Step {
	g := near(m)
	if g == nil || len(b.replaced(m)) > 0 || b.moved[g] {
		return Step{}
	}
	b.moved[g] = true
	title := "Move " + g.Machine.Name + " to " + g.Segment.Name
	if g.Machine.Physical {
		s := b.cables(g)
		s.ID, s.Title = "helper."+m.Name, title
		return s
	}
	s := b.attachGuests("helper."+m.Name, title, []*plan.Adapter{g})
	s.Why = "The page of " + m.Name + " is opened in it."
	if g.How == plan.Lease || g.How == plan.Reservation {
		s.Do = append(
			s.Do,
			fmt.Sprintf("If it has no address then, DHCP is not on yet: set a free one of %s by hand, and remove it "+
				"once the DHCP server is set.", cmp.Or(networks(g.Segment), "the appliance's network")),
		)
		s.See = "It has an address, of the planned network or from the factory settings, and the appliance answers a ping."
		s.Mistakes = s.Mistakes[1:]
	}
	return s
}

func (b *writer) settings(m *plan.Machine) Step {
	t := b.answers(m, "pages")
	if t == nil {
		return Step{}
	}
	s := Step{ID: "pages." + m.Name, Title: "Make the settings on its pages", Table: t, Check: Matches, Machine: m.Name,
		See: "The overview shows the ports as planned."}
	for _, a := range m.WAN() {
		if net := a.Segment.KnownSubnet(); net.IsValid() && net.Addr().IsPrivate() {
			s.Why = fmt.Sprintf(
				"%s is a private network: a filter on private sources at the WAN would drop what comes from there.",
				a.Segment.Subnet,
			)
		}
	}
	s.Mistakes = []Mistake{
		{
			"private sources are dropped on a WAN that is itself private",
			"no DHCP lease on the WAN, or no port forward answers",
		},
		{"a time zone or time that is off", "certificates are refused, and records do not match"},
	}
	return s
}

// factory reports whether something is on from the factory, so far as the profile tells.
func factory(m *plan.Machine, key string, on bool, is, what string) []string {
	switch {
	case !m.Facts.Factory.Known(key):
		return []string{"Check its factory settings: appliances differ."}
	case on:
		return []string{"From the factory " + is + "."}
	}
	return []string{"Its factory settings have none of it: " + what + " must be added, or nothing passes."}
}

func (b *writer) translation(m *plan.Machine) Step {
	s := Step{ID: "translation." + m.Name, Title: "Set NAT and port forwards",
		Table: &Table{Head: []string{"what", "from", "to"}, Tick: true}}
	for _, seg := range m.Masq {
		s.Table.Rows = append(
			s.Table.Rows,
			[]string{"translate outward", seg.SubnetText() + " (" + seg.Name + ")", "the WAN address"},
		)
	}
	for _, v := range m.Publishes {
		s.Table.Rows = append(s.Table.Rows, []string{"publish", fmt.Sprintf("%s/%d at WAN", v.Proto, v.Port),
			fmt.Sprintf("%s %s/%d", target(v.To), v.Proto, v.Target)})
	}
	for _, v := range m.OneToOne {
		s.Table.Rows = append(s.Table.Rows, []string{"one to one", v.Outside.String(), target(v.To)})
	}
	if len(s.Table.Rows) == 0 {
		return Step{}
	}
	s.Do = append(
		s.Do,
		factory(
			m,
			"masquerade",
			m.Facts.Factory.Masquerade,
			"it translates what goes out at its WAN",
			"translation",
		)...)
	s.See = "Each line is in the appliance's list of translations, and no other."
	s.Mistakes = []Mistake{
		{"translation left out for a segment", "its guests reach the appliance and nothing outside answers them"},
		{"the published port is also the admin page's", "outside sees the appliance's page"},
	}
	return s
}

// target names a guest with its address.
func target(a *plan.Adapter) string {
	if a.Address.IsValid() {
		return fmt.Sprintf("%s (%s)", a.Machine.Name, a.Address.Addr())
	}
	return a.Machine.Name
}

func (b *writer) rules(m *plan.Machine) Step {
	s := Step{ID: "rules." + m.Name, Title: "Enter the rules, in this order",
		Why:   "First match decides; replies to allowed connections pass; everything else is denied.",
		Table: &Table{Head: []string{"no.", "rule"}, Tick: true}}
	for i, r := range m.Rules {
		s.Table.Rows = append(s.Table.Rows, []string{fmt.Sprint(i + 1), r.Text})
	}
	s.Do = append(factory(m, "outbound", m.Facts.Factory.Outbound, "it lets the inside go outside, and nothing in",
		"the rule that lets the inside out"),
		"Take away what rules it has from the factory that are not in this list.")
	s.See = "The list on its page reads as this one, from top to bottom."
	s.Mistakes = []Mistake{{"a rule for all is above one for a few", "what should be denied passes"},
		{"a rule entered on the wrong port", "it counts nothing, and what it should let pass does not"}}
	return s
}

func (b *writer) leases(m *plan.Machine) Step {
	s := Step{ID: "leases." + m.Name, Title: "Set the DHCP server",
		Table: &Table{Head: []string{"port", "pool", "router", "resolvers", "domain", "for"}, Tick: true}}
	for _, a := range m.Adapters {
		v := a.Leases
		if v == nil {
			continue
		}
		s.Table.Rows = append(
			s.Table.Rows,
			[]string{
				a.Name,
				a.PoolText(),
				own(a, text(v.Router)),
				own(a, texts(v.DNS)),
				v.Domain,
				plan.Lasting(v.Time),
			},
		)
		for _, r := range v.Reservations {
			s.Do = append(
				s.Do,
				fmt.Sprintf("On %s reserve %s for %s (%s).", a.Name, r.Address.Addr(), r.Machine.Name, r.MAC),
			)
		}
	}
	if len(s.Table.Rows) == 0 {
		return Step{}
	}
	s.Do = append(
		s.Do,
		factory(m, "dhcp", m.Facts.Factory.Leases, "it serves DHCP inside, from a pool of its own: change the pool",
			"the DHCP server")...)
	s.See = "Its page lists these pools, and the leases of guests that run."
	s.Mistakes = []Mistake{
		{"the pool contains the gateway or a static address", "now and then a guest gets an address that is taken"},
		{"the service is on for the wrong port", "no guest on the segment gets an address"},
	}
	return s
}

func text(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

func texts(list []netip.Addr) string {
	return cmp.Or(strings.Join(subnet.Texts(list), ", "), "none")
}

func (b *writer) backup(m *plan.Machine) Step {
	return Step{ID: "backup." + m.Name, Title: "Save the settings of " + m.Name,
		Do: []string{
			"Save its configuration from its page, in the folder of the lab file.",
		}, See: "A file that is not empty, with today's date.",
		Mistakes: []Mistake{
			{"it is saved inside the lab only", "it is gone with the machine that it was meant to restore"},
			{"it contains passwords and is readable by others", "anyone who reads it controls the appliance"},
		},
		Keep: "Take a " + b.w.Snapshot + " called \"set up\", and keep the saved configuration."}
}

// move puts a segment's guests where they belong.
func (b *writer) move(seg *plan.Segment) Step {
	var list []*plan.Adapter
	others := ""
	for _, a := range seg.Adapters {
		switch {
		case a.Guest == nil || a.Machine.Physical: // a cable is another step's
		case b.moved[a]:
			others = "other "
		default:
			list = append(list, a)
		}
	}
	return b.attachGuests("guests."+seg.Name, "Move the "+others+"guests of "+seg.Name+" there, one by one", list)
}

// attachGuests attaches adapters of guests.
func (b *writer) attachGuests(id, title string, list []*plan.Adapter) Step {
	s := Step{ID: id, Title: title,
		Table: &Table{Head: []string{"guest", "adapter", "attach it to", "MAC address", "address"}, Tick: true}}
	for _, a := range list {
		address := a.Shown()
		if a.How == plan.Static {
			address = fmt.Sprintf(
				"static: %s, gateway %s, DNS servers %s",
				shown(a),
				text(a.KnownGateway()),
				texts(a.DNS),
			)
		}
		if a.Address6.IsValid() {
			address += ", and by IPv6 " + a.Address6.String() + " of its own making"
		}
		s.Table.Rows = append(
			s.Table.Rows,
			[]string{a.Machine.Name, b.w.Say(b.w.Adapter, "number", fmt.Sprint(a.Number)), b.attach(a),
				a.MAC.String(), address},
		)
		if n := len(a.Machine.Own()); n == 1 && s.Do == nil {
			s.Do = []string{"Shut the guest down, attach its adapter as in its row, and remove every other adapter.",
				"Start it again: a guest that only resumes keeps its old lease."}
		} else if n > 1 {
			s.Do = append(s.Do, fmt.Sprintf("%s has %d adapters on purpose; remove only those that are in no table. Connected to it over the network, "+
				"leave the adapter that your session comes in by for last.", a.Machine.Name, n))
		}
		if s.Machine == "" {
			s.Machine, s.Check = a.Machine.Name, Matches
		}
	}
	if len(s.Table.Rows) == 0 {
		return Step{}
	}
	s.See = "`bastion compare LAB LISTING --as GUEST` finds no difference in what the guest shows of its addresses and routes."
	s.Mistakes = []Mistake{
		{"a second adapter remains", "the guest has two default routes, or reaches outside with the appliance off"},
		{"the adapter is on a network with a like name", "no address, or a link-local one"},
	}
	return s
}
