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
			Code: "native-vlan", Severity: Error, Title: "The native VLAN written as a tag",
			See:    "Guests of the tagged segment get no lease, or one of the untagged segment.",
			Why:    "The native VLAN travels untagged on its cable: a switch gives its frames back without a tag, and takes tagged ones wrong.",
			Remedy: "Put its machines on the untagged segment, or choose another native tag on the switch.",
			Old:    "native: 20", Bad: "native: 64",
			find: (*checker).nativeTag,
		},
		{
			Code: "shared-uplink", Severity: Error, Title: "Two lines over one cable",
			See:    "When the cable is out, both lines are.",
			Why:    "A second line helps where it is another line: another adapter, another cable, another router.",
			Remedy: "Give the second line an uplink of its own.",
			Old:    "spur: {reach: upstream, uplink: enp2,", Bad: "spur: {reach: upstream, uplink: enp1,",
			find: (*checker).oneLine,
		},
		{
			Code: "nested-bridge", Severity: Warning, Title: "Bridged from within a virtual machine",
			See:    "The WAN gets no lease, though the link is up.",
			Why:    "The site is a virtual machine itself, and the switch that it hangs on may pass frames from its own MAC address only.",
			Remedy: "Let that switch pass foreign addresses, and write foreign-macs: allow; or join: nat.",
			Old:    "  cpus: 8", Bad: "  virtual: true\n  cpus: 8",
			find: (*checker).nestedBridge,
		},
		{
			Code: "needless-relaxation", Severity: Note, Title: "A switch more open than it need be",
			See:    "Nothing; a guest may send in others' names unseen.",
			Why:    "A switch that passes foreign MAC addresses is for appliances that bridge, and for machines within machines.",
			Remedy: "Leave foreign-macs out.",
			Old:    "  desks: {reach: isolated,", Bad: "  desks: {reach: isolated, foreign-macs: allow,",
			find: (*checker).needlessRelaxation,
		},
		{
			Code: "host-on-bridge", Severity: Warning, Title: "The host stands behind its own filter",
			See:    "Guests reach the host, and it reaches them, whatever the rules say.",
			Why:    "A transparent appliance filters between its sides; who is on one of them with its guests it does not filter.",
			Remedy: "Take the host's address off both sides; manage the appliance by a port of its own.",
			Old:    "desks: {reach: isolated, foreign-macs: allow}", Bad: "desks: {reach: host, foreign-macs: allow}",
			find: (*checker).hostOnBridge,
		},
		{
			Code: "unmanaged", Severity: Warning, Title: "A bridge that nobody can manage",
			See:    "No address opens its page; only its console is left.",
			Why:    "A transparent appliance has no address on what it bridges.",
			Remedy: "Give it a port with role: manage.",
			Old:    "      - {role: manage, segment: service, mac: '02:00:00:00:01:03'}\n", Bad: "",
			find: (*checker).unmanaged,
		},
		{
			Code: "host-behind", Severity: Error, Title: "The host goes outside through the lab",
			See:    "With the appliance off, the host is offline; with a way of its own too, it goes now by one and now by the other.",
			Why:    "A gateway on the host's leg makes the lab its path outside.",
			Remedy: "Leave host-gateway out, unless the host shall hang on the lab.",
			Old:    "service: {reach: host}", Bad: "service: {reach: host, host-gateway: 10.83.99.9}",
			find: (*checker).hostBehind,
		},
		{
			Code: "local-network-reachable", Severity: Note, Title: "The house is outside, too",
			See:    "Guests reach the printers, disks and pages of the local network as they reach the world.",
			Why:    "The WAN is on the site's own network, and rules that let guests go outside let them go there as well. Its router gives the WAN its address; its machines reach the WAN and what is published.",
			Remedy: "Deny that network before the rule that lets guests out, where they must not reach it.",
			Old:    "      - deny any from desks to 172.29.64.0/24\n", Bad: "",
			find: (*checker).houseInReach,
		},
		{
			Code: "wrong-return-route", Severity: Error, Title: "A way back that leads nowhere",
			See:    "Packets leave and no answer comes back.",
			Why:    "The upstream router sends what is for the lab to the address that its route names; the appliance must have it.",
			Remedy: "Name the appliance's WAN address, and give the WAN that address for good.",
			Old:    "via 203.0.113.7]", Bad: "via 203.0.113.77]",
			find: (*checker).routeAstray,
		},
		{
			Code: "public-domain-inside", Severity: Warning, Title: "Another machine's name inside",
			See:    "Names of the real domain lead wrong inside, or names under .local are slow or found twice.",
			Why:    "A domain under a public suffix belongs to someone; .local is asked for on the link (RFC 6762).",
			Remedy: "Use .internal, home.arpa (RFC 8375), or a domain of your own.",
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
				c.find(s.Name, s.Lab.At("vlan"), "put its machines on "+w.Name+", or choose another native tag on the switch",
					"%s has tag %d, which travels untagged on %s: it is %s", s.Name, s.Tag, w.Uplink(), w.Name)
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
				f := c.find(portName(a), a.Segment.Lab.At("uplink"), "give the second line an uplink of its own",
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
		if c.p.Lab.Site.Virtual && root.Reach == lab.Upstream && root.Lab.Join != "nat" && root.Lab.ForeignMACs != "allow" &&
			len(root.Adapters) > 0 {
			c.find(root.Name, root.Lab.At("join"), "let the switch outside pass foreign addresses and write foreign-macs: allow, or write join: nat",
				"%s is bridged, and the site is a virtual machine itself", root.Name)
		}
	}
}

func (c *checker) needlessRelaxation() {
	for _, s := range c.p.Segments {
		needed := c.p.Lab.Site.Virtual && s.Reach == lab.Upstream || slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool {
			return a.Port != nil && a.Machine.Appliance.Kind == "transparent"
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
			if s := a.Segment; m.Appliance.Kind == "transparent" && a.Role != lab.Manage && s.HostLeg.IsValid() {
				c.find(s.Name, s.Lab.At("reach"), "write reach: isolated", "the host has %s on %s, which %s bridges", s.HostLeg.Addr(), s.Name,
					m.Name).set(s.Lab, "reach", "isolated")
			}
		}
	}
}

func (c *checker) unmanaged() {
	for _, m := range c.p.Running() {
		managed := slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool {
			return a.Role == lab.Manage && (!a.Segment.Nowhere() || a.Port.Later("segment"))
		})
		if m.Appliance.Kind == "transparent" && !managed {
			c.find(m.Name, m.Appliance.Pos, "add a port {role: manage, segment: …}", "%s bridges, and has no port to manage it by", m.Name)
		}
	}
}

func (c *checker) hostBehind() {
	for _, s := range c.p.Segments {
		g := s.Lab.HostGateway
		if !g.IsValid() {
			continue
		}
		i := slices.IndexFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Port != nil && a.Address.IsValid() && a.Address.Addr() == g })
		switch {
		case i < 0:
			c.find(s.Name, s.Lab.At("host-gateway"), "leave host-gateway out, or name an appliance's address there",
				"the host's gateway on %s is %s, and no appliance has that address", s.Name, g)
		case len(c.p.Lab.Site.Uplinks) > 0 || len(c.p.Lab.Site.Networks) > 0:
			c.find(s.Name, s.Lab.At("host-gateway"), "leave host-gateway out, or take the host's other gateway away",
				"the host has a gateway on %s, %s of %s, beside the one of its own network", s.Name, g, s.Adapters[i].Machine.Name).as(Warning)
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
			if told || wan.Segment.Lab.Join == "nat" || !slices.Contains(c.p.Lab.Site.Networks, house) || !subnet.Private(house.Addr()) {
				continue
			}
			for _, a := range m.Adapters {
				if !a.Role.Inside() || a.Segment.Nowhere() || len(c.passing(m, c.model().Lines(a.Segment), c.network(house))) == 0 {
					continue
				}
				told = true
				c.find(portName(wan), wan.Pos, "write `deny any from "+a.Segment.Name+" to "+house.String()+"` before the rule that lets it out",
					"the WAN of %s is on the site's own network: what may go outside from %s also reaches the machines of %s", m.Name,
					a.Segment.Name, house)
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
			if !slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool { return a.Segment != s && a.Segment.Subnet.Overlaps(r.To) }) {
				c.find(s.Name, s.Lab.At("routes"), "take the route out, or correct its network",
					"the route to %s goes by %s, which has no such network behind it",
					r.To, m.Name).as(Warning)
			}
		}
	}
}

// reservedDomains end names that belong to nobody (RFC 2606, RFC 6761, RFC 8375).
var reservedDomains = []string{"example", "example.com", "example.net", "example.org", "test", "invalid", "localhost", "home.arpa",
	"internal"}

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
				"leases on %s name the domain %s, and names under .local are asked for on the link",
				a.Segment.Name, d)
		} else if public && !under(reservedDomains...) {
			c.find(portName(a), at, "keep it where it is yours, else write a domain under .internal",
				"leases on %s name the domain %s, which is a public one",
				a.Segment.Name, d).as(Note).see("Names of the real domain cannot be reached from inside, where it is another machine's.")
		}
	}
}
