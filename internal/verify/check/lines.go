package check

import (
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// lines are the findings about the host's own place, its cables, and what lies
// around the lab.
func lines() []Entry {
	return []Entry{
		{
			Code: "native-vlan", Severity: Error, Title: "The native VLAN is written as a tag",
			See:    "Guests of the tagged segment get no address, or one of the untagged segment.",
			Why:    "The native VLAN is untagged on its cable: the switch removes the tag from its frames and misplaces tagged ones.",
			Remedy: "Put its machines on the untagged segment, or choose another native VLAN on the switch.",
			Old:    "native: 20", Bad: "native: 64",
			find: (*checker).nativeTag,
		},
		{
			Code: "shared-uplink", Severity: Error, Title: "Two WANs over one cable",
			See:    "When the cable is out, both WANs are.",
			Why:    "A second WAN helps only with its own adapter, cable and router.",
			Remedy: "Give the second WAN its own uplink.",
			Old:    "spur: {reach: upstream, uplink: enp2,", Bad: "spur: {reach: upstream, uplink: enp1,",
			find: (*checker).oneLine,
		},
		{
			Code: "nested-bridge", Severity: Warning, Title: "Bridged from inside a virtual machine",
			See:    "The WAN gets no address, although the link is up.",
			Why:    "The site is a virtual machine itself, and its switch may pass frames only from the machine's own MAC address.",
			Remedy: "Let that switch pass foreign MAC addresses (foreign-macs: allow), or use join: nat.",
			Old:    "  cpus: 8", Bad: "  virtual: true\n  cpus: 8",
			find: (*checker).nestedBridge,
		},
		{
			Code: "needless-relaxation", Severity: Note, Title: "A switch more open than needed",
			See:    "Nothing visible; a guest can spoof other MAC addresses.",
			Why:    "Foreign MAC addresses are needed by bridging appliances and nested machines only.",
			Remedy: "Remove foreign-macs.",
			Old:    "  desks: {reach: isolated,", Bad: "  desks: {reach: isolated, foreign-macs: allow,",
			find: (*checker).needlessRelaxation,
		},
		{
			Code: "host-on-bridge", Severity: Warning, Title: "The host bypasses the filter",
			See:    "Guests reach the host, and the host reaches them, regardless of the rules.",
			Why:    "A transparent appliance filters between its sides, but not between a guest and the host on the same side.",
			Remedy: "Remove the host's address from both sides; manage the appliance through a port of its own.",
			Old:    "desks: {reach: isolated, foreign-macs: allow}", Bad: "desks: {reach: host, foreign-macs: allow}",
			find: (*checker).hostOnBridge,
		},
		{
			Code: "host-on-segment", Severity: Note, Title: "The host is on a segment without having an address there",
			See: "The host answers ARP on the segment for each of its own addresses, and guests may reach its services.",
			Why: "A bridge of a Linux host is one of the host's own interfaces. Without an address there the host still answers, and " +
				"takes in what is sent to any of its addresses where the reverse path is not checked.",
			Remedy: "Drop what enters the host by that bridge (a netdev table with an ingress hook; `bastion export --kind libvirt` " +
				"writes it), then accept this finding.",
			Old: "  cpus: 8", Bad: "  hypervisor: kernel\n  cpus: 8",
			find: (*checker).hostOnSegment,
		},
		{
			Code: "unmanaged", Severity: Warning, Title: "A bridge without management",
			See:    "No address opens its admin page; only the console is left.",
			Why:    "A transparent appliance has no address on what it bridges.",
			Remedy: "Give it a port with role: manage.",
			Old:    "      - {role: manage, segment: service, mac: '02:00:00:00:01:03'}\n", Bad: "",
			find: (*checker).unmanaged,
		},
		{
			Code: "host-behind", Severity: Error, Title: "The host uses the lab as its path outside",
			See:    "With the appliance off, the host is offline; with its own path too, it uses one or the other.",
			Why:    "A gateway on the host's address makes the lab its path outside.",
			Remedy: "Remove host-gateway, unless the host is meant to use the lab.",
			Old:    "service: {reach: host}", Bad: "service: {reach: host, host-gateway: 10.83.99.9}",
			find: (*checker).hostBehind,
		},
		{
			Code: "local-network-reachable", Severity: Note, Title: "Guests reach the local network",
			See:    "Guests reach printers, storage and pages of the local network.",
			Why:    "The WAN is on the local network, and rules that allow outside allow that as well.",
			Remedy: "Deny that network before the rule that allows outside.",
			Old:    "      - deny any from desks to 172.29.64.0/24\n", Bad: "",
			find: (*checker).houseInReach,
		},
		{
			Code: "wrong-return-route", Severity: Error, Title: "Wrong return route",
			See:    "Packets leave, but no reply comes back.",
			Why:    "The upstream router sends replies to the next hop of its route; the appliance has to have that address.",
			Remedy: "Set the route's next hop to the appliance's WAN address, and make that address static.",
			Old:    "via 203.0.113.7]", Bad: "via 203.0.113.77]",
			find: (*checker).routeAstray,
		},
		{
			Code: "public-domain-inside", Severity: Warning, Title: "A public domain used inside",
			See:    "Names of the real domain resolve wrongly inside, or names under .local are slow or ambiguous.",
			Why:    "A domain under a public suffix belongs to someone; .local is for multicast DNS (RFC 6762).",
			Remedy: "Use .internal, home.arpa (RFC 8375), or a domain that you own.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, dhcp: {domain: mudflat.local}, address: 10.83.16.1/24,",
			find:   (*checker).borrowedName,
		},
	}
}

func (c *checker) nativeTag() {
	for _, w := range c.p.Wires {
		for _, s := range w.Segments[1:] {
			if n := w.Root().Lab.Native; n > 0 && s.Tag == n {
				c.find(
					s.Name,
					s.Lab.At("vlan"),
					"put its machines on "+w.Name+", or choose another native tag on the switch",
					"%s has tag %d, which travels untagged on %s: it is %s",
					s.Name,
					s.Tag,
					w.Uplink(),
					w.Name,
				)
			}
		}
	}
}

func (c *checker) oneLine() {
	for _, m := range c.p.Running() {
		first := map[string]*plan.Adapter{}
		for _, a := range m.WAN() {
			u := a.Segment.Wire.Uplink()
			if u == "" {
				continue
			}
			if old := first[u]; old != nil {
				f := c.find(portName(a), a.Segment.Lab.At("uplink"), "give the second line its own uplink",
					"ports %s and %s of %s both go out by %s", old.Name, a.Name, m.Name, u)
				if old.Segment.Tag != a.Segment.Tag {
					f.as(Warning) // two lines, one cable
				}
				continue
			}
			first[u] = a
		}
	}
}

func (c *checker) nestedBridge() {
	for _, w := range c.p.Wires {
		root := w.Root()
		if c.p.Lab.Site.Virtual && root.Reach == lab.Upstream && root.Lab.Join != "nat" &&
			root.Lab.ForeignMACs != "allow" &&
			len(root.Adapters) > 0 {
			c.find(
				root.Name,
				root.Lab.At("join"),
				"let the switch outside pass foreign addresses and write foreign-macs: allow, or write join: nat",
				"%s is bridged, and the site is a virtual machine itself",
				root.Name,
			)
		}
	}
}

// hostOnSegment: where segments are bridges of a Linux host, that is on each of them.
func (c *checker) hostOnSegment() {
	if c.p.Lab.Site.Hypervisor != "kernel" {
		return
	}
	var names []string
	for _, s := range c.p.Segments {
		if s.Closed() && len(s.Adapters) > 0 {
			names = append(names, s.Name)
		}
	}
	if len(names) == 0 {
		return
	}
	c.find(names[0], c.p.Lab.Site.At("hypervisor"), "drop what enters the host by these bridges (netdev table, ingress hook)",
		"the host is on %s without an address: it answers ARP there for its own addresses, and takes in what is sent to them",
		strings.Join(names, ", "))
}

func (c *checker) needlessRelaxation() {
	for _, s := range c.p.Segments {
		needed := c.p.Lab.Site.Virtual && s.Reach == lab.Upstream ||
			slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool {
				return a.Port != nil && a.Machine.Transparent()
			})
		if s.Lab.ForeignMACs == "allow" && !needed {
			c.find(s.Name, s.Lab.At("foreign-macs"), "leave foreign-macs out",
				"the switch of %s passes foreign addresses, and nothing there needs it",
				s.Name)
		}
	}
}

func (c *checker) hostOnBridge() {
	for _, m := range c.p.Running() {
		for _, a := range m.Adapters {
			if s := a.Segment; m.Transparent() && a.Role != lab.Manage && s.HostLeg.IsValid() {
				c.find(s.Name, s.Lab.At("reach"), "write reach: isolated", "the host has %s on %s, which %s bridges", s.HostLeg.Addr(), s.Name,
					m.Name).
					set(s.Lab, "reach", "isolated")
			}
		}
	}
}

func (c *checker) unmanaged() {
	for _, m := range c.p.Running() {
		managed := slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool {
			return a.Role == lab.Manage && (!a.Segment.Nowhere() || a.Port.Later("segment"))
		})
		if m.Transparent() && !managed {
			c.find(
				m.Name,
				m.Appliance.Pos,
				"add a port {role: manage, segment: …}",
				"%s bridges and has no management port",
				m.Name,
			)
		}
	}
}

func (c *checker) hostBehind() {
	for _, s := range c.p.Segments {
		g := s.Lab.HostGateway
		if !g.IsValid() {
			continue
		}
		i := slices.IndexFunc(
			s.Adapters,
			func(a *plan.Adapter) bool { return a.Port != nil && a.Address.IsValid() && a.Address.Addr() == g },
		)
		switch {
		case i < 0:
			c.find(s.Name, s.Lab.At("host-gateway"), "leave host-gateway out, or name an appliance's address there",
				"the host's gateway on %s is %s, and no appliance has that address", s.Name, g)
		case len(c.p.Lab.Site.Uplinks) > 0 || len(c.p.Lab.Site.Networks) > 0:
			c.find(
				s.Name,
				s.Lab.At("host-gateway"),
				"leave host-gateway out, or take the host's other gateway away",
				"the host has a gateway on %s, %s of %s, in addition to its own network's",
				s.Name,
				g,
				s.Adapters[i].Machine.Name,
			).as(Warning)
		default:
			c.find(s.Name, s.Lab.At("host-gateway"), "keep a console that does not need the network",
				"the host goes outside through %s of %s alone", g, s.Adapters[i].Machine.Name).as(Note)
		}
	}
}

// houseInReach finds the site's own network outside, where rules let somebody go.
func (c *checker) houseInReach() {
	for _, m := range c.p.Running() {
		told := false
		for _, wan := range m.WAN() {
			house := wan.Segment.Subnet
			if told || wan.Segment.Lab.Join == "nat" || !slices.Contains(c.p.Lab.Site.Networks, house) ||
				!subnet.Private(house.Addr()) {
				continue
			}
			for _, a := range m.Adapters {
				if !a.Role.Inside() || a.Segment.Nowhere() ||
					len(c.passing(m, c.model().Lines(a.Segment), c.network(house))) == 0 {
					continue
				}
				told = true
				c.find(
					portName(wan),
					wan.Pos,
					"write `deny any from "+a.Segment.Name+" to "+house.String()+"` before the rule that lets it out",
					"the WAN of %s is on the site's own network: what may go outside from %s also reaches the machines of %s",
					m.Name,
					a.Segment.Name,
					house,
				)
				break
			}
		}
	}
}

// network returns the addresses of a network as a line of the proof's space.
func (c *checker) network(p netip.Prefix) packetset.Line { return c.model().Space().Prefixes(p) }

func (c *checker) routeAstray() {
	for _, s := range c.p.Segments {
		for _, r := range s.Lab.Routes {
			i := slices.IndexFunc(s.Adapters, func(a *plan.Adapter) bool {
				return a.Port != nil && a.Address.IsValid() &&
					a.Address.Addr() == r.Via
			})
			if i < 0 {
				c.find(s.Name, s.Lab.At("routes"), "name the WAN's address, and type it in there",
					"the route to %s goes by %s, and no appliance has that address on %s",
					r.To, r.Via, s.Name)
				continue
			}
			m := s.Adapters[i].Machine
			if !slices.ContainsFunc(
				m.Adapters,
				func(a *plan.Adapter) bool { return a.Segment != s && a.Segment.Subnet.Overlaps(r.To) },
			) {
				c.find(s.Name, s.Lab.At("routes"), "take the route out, or correct its network",
					"the route to %s goes by %s, which has no such network behind it",
					r.To, m.Name).as(Warning)
			}
		}
	}
}

// reservedDomains end names that belong to nobody (RFC 2606, RFC 6761, RFC 8375).
var reservedDomains = []string{
	"example",
	"example.com",
	"example.net",
	"example.org",
	"test",
	"invalid",
	"localhost",
	"home.arpa",
	"internal",
}

func (c *checker) borrowedName() {
	for _, a := range c.adapters() {
		if a.Leases == nil || a.Port == nil || a.Port.Leases.Domain == "" {
			continue
		}
		d := strings.ToLower(a.Port.Leases.Domain)
		at := a.Port.Leases.At("domain")
		under := func(list ...string) bool {
			return slices.ContainsFunc(list, func(x string) bool { return d == x || strings.HasSuffix(d, "."+x) })
		}
		if _, public := publicsuffix.PublicSuffix(d); under("local") {
			c.find(portName(a), at, "write a domain under .internal or home.arpa",
				"DHCP on %s distributes the domain %s, but names under .local are resolved by multicast DNS",
				a.Segment.Name, d)
		} else if public && !under(reservedDomains...) {
			c.find(portName(a), at, "keep it if the domain is yours; otherwise write a domain under .internal",
				"DHCP on %s distributes the domain %s, which is a public one",
				a.Segment.Name, d).as(Note).see("Names of the real domain cannot be reached from inside, where it is another machine's.")
		}
	}
}
