package mistakes

import (
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

var wiringKinds = []*Kind{
	{Name: "guest-on-other-segment", Family: Wiring, Weight: 6, Finding: "",
		Says:   "{adapter} is on {onto} instead of {home}",
		Why:    "on {onto} it meets another port, another DHCP server or none, and shows values of that network",
		Look:   "in the settings of {machine}, check which network its adapter is attached to: it must be {called}",
		Remedy: "attach {adapter} to {called}, and renew its address",
		places: onto(homes(nil), func(s, home *plan.Segment) bool { return s.Reach != lab.Upstream }), wiring: move},
	{Name: "guest-on-own-network", Family: Wiring, Weight: 4, Finding: "no-gateway",
		Says:   "{adapter} is on a network of its own instead of {home}: its name is misspelt, or another was chosen",
		Why:    "that network has no other machine: no DHCP server and no gateway answers",
		Look:   "in the settings of {machine}, read the name of its adapter's network letter by letter: it must be {called}",
		Remedy: "attach {adapter} to {called}, and renew its address",
		places: homes(nil), wiring: onOwn},
	{Name: "guest-on-wan", Family: Wiring, Weight: 4, Finding: "guest-on-wan",
		Says:   "{adapter} is on {onto}, outside, instead of {home}",
		Why:    "it is upstream, not behind the appliance: the site's router serves it, and its traffic is not filtered",
		Look:   "in the settings of {machine}, check which network its adapter is attached to: it must be {called}",
		Remedy: "attach {adapter} to {called} at once: until then the guest is outside",
		places: onto(homes(nil), func(s, home *plan.Segment) bool { return s.Reach == lab.Upstream }), wiring: move},
	{Name: "guest-second-door", Family: Wiring, Weight: 4, Finding: "dual-homed-guest",
		Says:   "{machine} has a second adapter, on {onto}",
		Why:    "everything works as planned, but the guest also reaches outside without the appliance, even with it off",
		Look:   "count the adapters in the settings of {machine}: there must be {number}",
		Remedy: "remove the second adapter of {machine}, or unplug it",
		places: onto(
			homes(
				func(a *plan.Adapter) bool { return a.Segment.Reach != lab.Upstream && len(a.Machine.Adapters) == 1 },
			),
			func(s, home *plan.Segment) bool { return s.Reach == lab.Upstream },
		), wiring: secondDoor},
	{Name: "guest-unplugged", Family: Wiring, Weight: 4, Finding: "unattached-port",
		Says:   "{adapter} is not plugged in",
		Why:    "without a link it has no address and sends nothing",
		Look:   "in {machine}, check whether the adapter has a link, and in its settings whether it is connected",
		Remedy: "connect {adapter}, also for the next start",
		places: homes(nil), wiring: func(l *lab.Lab, at Place) { adapterIn(l, at.Adapter).unplug() }},
	{Name: "guest-passes-on", Family: Wiring, Weight: 2, Finding: "dual-homed-guest",
		Says:   "{machine}, which has two adapters, forwards packets for others",
		Why:    "its neighbors can use it as gateway instead of the appliance",
		Look:   "in {machine}, check whether forwarding is on (sysctl net.ipv4.ip_forward)",
		Remedy: "disable forwarding in {machine}, also after a restart",
		places: homes(func(a *plan.Adapter) bool { return len(a.Machine.Adapters) > 1 && !a.Machine.Guest.Forwards }),
		wiring: func(l *lab.Lab, at Place) { l.Guest(at.Adapter.Machine.Name).Forwards = true }},
	{Name: "port-on-other-segment", Family: Wiring, Weight: 5, Finding: "no-gateway",
		Says:   "{adapter} is on {onto} instead of {home}",
		Why:    "{home} has no gateway, and {onto} has two",
		Look:   "in the settings of {machine}, check which network adapter {number} ({mac}) is attached to: it must be {called}",
		Remedy: "attach adapter {number} of {machine} to {called}",
		places: onto(ports(own), func(s, home *plan.Segment) bool { return s.Tag == 0 }), wiring: move},
	{Name: "ports-swapped", Family: Wiring, Weight: 8, Finding: "",
		Says:   "{adapter} and {other-adapter} are swapped",
		Why:    "each is attached where the other belongs: the console lists interfaces in another order than the adapters",
		Look:   "run `bastion map LAB` with the console's list of {machine}: it compares MAC addresses; {mac} is {adapter}",
		Remedy: "change the assignment on the console of {machine}, or the networks of its two adapters, not both",
		places: swaps, wiring: swap},
	{Name: "port-unplugged", Family: Wiring, Weight: 4, Finding: "unattached-port",
		Says:   "{adapter} is not plugged in",
		Why:    "the appliance does not answer on {home}",
		Look:   "on the console of {machine}, check whether adapter {number} ({mac}) has a link",
		Remedy: "connect adapter {number} of {machine}, also for the next start",
		places: ports(own), wiring: func(l *lab.Lab, at Place) { adapterIn(l, at.Adapter).unplug() }},
	{Name: "segments-joined", Family: Wiring, Weight: 2, Finding: "shared-roles",
		Says:   "{segment} and {onto} are one network: their machines are on the same switch",
		Why:    "guests of both receive both ports, and take whichever offer arrives first",
		Look:   "on the host, count the switches: {segment} and {onto} must be two, with no adapter in common",
		Remedy: "give {onto} a switch of its own and move its adapters there",
		places: pairs(func(a, b *plan.Segment) bool {
			return closed(a) && closed(b) && a.Tag == 0 && b.Tag == 0 && a.Bridged == nil
		}), wiring: join},
	{Name: "segment-on-uplink", Family: Wiring, Weight: 4, Finding: "sides-joined",
		Says:   "the switch of {segment} contains the uplink of {onto}",
		Why:    "guests of {segment} are upstream: the site's router serves them, without the appliance",
		Look:   "on the host, list the ports of the switch of {segment-called}: it must not contain a physical adapter",
		Remedy: "remove the uplink from the switch of {segment-called}",
		places: pairs(
			func(a, b *plan.Segment) bool { return closed(a) && a.Tag == 0 && upstream(b) && a.Bridged == nil },
		), wiring: join},
	{Name: "host-leg", Family: Wiring, Weight: 3, Finding: "host-forwards",
		Says:   "the host has an interface on {segment}",
		Why:    "guests of {segment} reach the host and its services, and the host reaches them",
		Look:   "on the host, list its addresses: none may be in {segment-subnet}",
		Remedy: "make {segment-called} a network without the host, or remove the host's address from it",
		places: segments(closed), wiring: hostLeg(false, "")},
	{Name: "host-forwards", Family: Wiring, Weight: 3, Finding: "host-forwards",
		Says:   "the host has an interface on {segment} and forwards packets for it",
		Why:    "guests of {segment} reach outside by the host, past the appliance",
		Look:   "on the host, check that it has no address in {segment-subnet} and that forwarding is off",
		Remedy: "remove the host from {segment-called}, and disable forwarding on it",
		places: segments(closed), wiring: hostLeg(true, "")},
	{Name: "host-hands-out-leases", Family: Leasing, Weight: 5, Finding: "two-dhcp-servers",
		Says:   "the host serves DHCP on {segment}",
		Why:    "whichever offer arrives first decides a guest's address and router on {segment}",
		Look:   "in the host's network settings for {segment-called}, check whether its DHCP server is on",
		Remedy: "disable the host's DHCP server for {segment-called}, and renew the guests' leases",
		places: segments(func(s *plan.Segment) bool {
			return s.Inside() && s.Reach != lab.Upstream && guests(s) > 0 && s.HostPool == nil
		}),
		wiring: hostLeg(false, "host")},
	{Name: "tag-wrong", Family: Wiring, Weight: 5, Finding: "vlan-not-carried",
		Says:   "{adapter} has another tag than {home}",
		Why:    "the appliance does not receive the frames of {home}, nor they its frames",
		Look:   "on {machine}, check the tag of {adapter}: it must be that of {home}",
		Remedy: "set the tag of {home} on {adapter}",
		places: ports(func(a *plan.Adapter) bool { return a.Over != nil }), wiring: wrongTag},
	{Name: "tag-dropped", Family: Wiring, Weight: 2, Finding: "vlan-not-carried",
		Says:   "the switch drops frames with tag {tag}",
		Why:    "tagged frames of {segment} do not reach the appliance",
		Look:   "on the host, check the tags that the switch of {segment-called} passes: {tag} must be among them",
		Remedy: "let the switch pass tag {tag} to the port of the appliance",
		places: segments(
			func(s *plan.Segment) bool { return s.Inside() && s.Tag != 0 && guests(s) > 0 },
		), wiring: dropTag},
	{Name: "switch-refuses-foreign", Family: Wiring, Weight: 3, Finding: "refusing-switch",
		Says:   "the switch of {segment} drops frames with MAC addresses that it did not assign",
		Why:    "a bridging appliance forwards its guests' frames with their own MAC addresses, and the switch drops them",
		Look:   "in the settings of the switch of {segment-called}, check whether it passes foreign MAC addresses",
		Remedy: "let the switch of {segment-called} pass foreign MAC addresses at the appliance's port",
		places: segments(func(s *plan.Segment) bool { return bridgedHere(s) && s.Lab.ForeignMACs != "refuse" }),
		wiring: func(l *lab.Lab, at Place) { l.Segment(at.Segment.Name).ForeignMACs = "refuse" }},
	{Name: "twin-mac-guests", Family: Wiring, Weight: 3, Finding: "duplicate-mac",
		Says:   "{machine} has the MAC address of {other}: one is a copy of the other",
		Why:    "the switch sends the frames of both to whichever sent last",
		Look:   "compare the MAC addresses of {machine} and {other}: {machine} must have {mac}",
		Remedy: "give {machine} the MAC address {mac}",
		places: beside, wiring: func(l *lab.Lab, at Place) { setMAC(l, at.Adapter, at.Other) }},
	{Name: "twin-mac-port", Family: Wiring, Weight: 1, Finding: "duplicate-mac",
		Says:   "{machine} has the MAC address of {other-adapter}",
		Why:    "frames for the appliance go to the guest as soon as it sends",
		Look:   "check the MAC address of {machine}: it must be {mac}",
		Remedy: "give {machine} the MAC address {mac}",
		places: gates, wiring: func(l *lab.Lab, at Place) { setMAC(l, at.Adapter, at.Other) }},
	{Name: "old-appliance-on", Family: Operating, Weight: 3, Finding: "duplicate-address",
		Says:   "another machine on {home} has the address of {adapter}: an old appliance is still running",
		Why:    "guests use either one as next hop, and the other forwards nothing",
		Look:   "from a guest of {home}, check which MAC address {address} has: it must be {mac}",
		Remedy: "switch the old appliance off, or disconnect it from {called}",
		places: ports(func(a *plan.Adapter) bool { return faces(a) && guests(a.Segment) > 0 }), wiring: stranger},
	{Name: "announces-ipv6", Family: Wiring, Weight: 2, Finding: "rogue-advertisements",
		Says:   "a rogue IPv6 router advertises itself on {segment}",
		Why:    "guests get IPv6 addresses and a path outside that bypasses the appliance",
		Look:   "on a guest of {segment}, list its IPv6 addresses and routes: no router may be among them",
		Remedy: "find the router by its MAC address, and remove it from {segment-called}",
		places: segments(
			func(s *plan.Segment) bool { return closed(s) && !s.Lab.RouterAdvertisements && !s.Subnet6.IsValid() },
		),
		wiring: func(l *lab.Lab, at Place) { l.Segment(at.Segment.Name).RouterAdvertisements = true }},
	{Name: "wan-behind-host", Family: Wiring, Weight: 3, Finding: "double-nat",
		Says:   "the host uses NAT for {segment} instead of bridging it",
		Why:    "the appliance is behind another NAT: its address is from the host's network, and port forwards get no traffic from outside",
		Look:   "in the settings of the appliance's WAN adapter, check how it is attached: it must be bridged to the host's uplink",
		Remedy: "bridge {segment-called} to the host's uplink",
		places: segments(
			func(s *plan.Segment) bool { return upstream(s) && s.Lab.Join != "nat" },
		), wiring: hostTranslates},
}

// move puts an adapter on another segment.
func move(l *lab.Lab, at Place) { adapterIn(l, at.Adapter).segment(at.Onto.Name) }

// onOwn puts an adapter on a network that nobody else is on.
func onOwn(l *lab.Lab, at Place) {
	name := unusedName(l, "own")
	l.AddSegment(&lab.Segment{Name: name, Reach: lab.Isolated, Subnet: netip.MustParsePrefix("192.0.2.0/24")})
	adapterIn(l, at.Adapter).segment(name)
}

// onto makes of each place one for each segment that fits and is not its own.
func onto(places func(p *plan.Plan) []Place, fits func(s, home *plan.Segment) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for _, at := range places(p) {
			for _, s := range p.Segments {
				if s != at.Adapter.Segment && fits(s, at.Adapter.Segment) {
					at.Onto = s
					out = append(out, at)
				}
			}
		}
		return out
	}
}

func pairs(fits func(a, b *plan.Segment) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for i, a := range p.Segments {
			for j, b := range p.Segments {
				if (i < j || upstream(b)) && a != b && fits(a, b) {
					out = append(out, Place{Segment: a, Onto: b})
				}
			}
		}
		return out
	}
}

func secondDoor(l *lab.Lab, at Place) {
	g := l.Guest(at.Adapter.Machine.Name)
	g.Adapters = append(g.Adapters, lab.Adapter{Segment: at.Onto.Name, Plugged: true})
}

// swaps returns each pair of ports of an appliance that have adapters of their own.
func swaps(p *plan.Plan) []Place {
	var out []Place
	for _, m := range p.Running() {
		own := m.Own()
		for i, a := range own {
			for _, b := range own[i+1:] {
				if a.Plugged && b.Plugged && a.Segment != b.Segment {
					out = append(out, Place{Adapter: a, Other: b})
				}
			}
		}
	}
	return out
}

func swap(l *lab.Lab, at Place) {
	adapterIn(l, at.Adapter).segment(at.Other.Segment.Name)
	adapterIn(l, at.Other).segment(at.Adapter.Segment.Name)
}

// join puts everything that is on a segment on another one.
func join(l *lab.Lab, at Place) {
	for _, m := range l.Appliances {
		for _, p := range m.Ports {
			if p.Segment == at.Segment.Name {
				p.Segment = at.Onto.Name
			}
		}
	}
	for _, g := range l.Guests {
		for i := range g.Adapters {
			if g.Adapters[i].Segment == at.Segment.Name {
				g.Adapters[i].Segment = at.Onto.Name
			}
		}
	}
}

func hostLeg(forwards bool, leases string) func(l *lab.Lab, at Place) {
	return func(l *lab.Lab, at Place) {
		s := l.Segment(at.Segment.Name)
		s.Reach = lab.Host
		s.HostForwards = s.HostForwards || forwards
		if leases != "" {
			s.Leases = leases
		}
	}
}

// wrongTag has a tagged port ride with a tag that nobody else has.
func wrongTag(l *lab.Lab, at Place) {
	a := at.Adapter
	adapterIn(l, a).segment(astray(l, a.Segment))
}

// dropTag has the guests of a tagged segment be alone with their tag.
func dropTag(l *lab.Lab, at Place) {
	name := astray(l, at.Segment)
	for _, a := range at.Segment.Adapters {
		if a.Port != nil {
			adapterIn(l, a).segment(name)
		}
	}
}

// astray makes a segment on the wire of another, with a tag that is not used.
func astray(l *lab.Lab, s *plan.Segment) string {
	used := map[int]bool{}
	for _, x := range s.Wire.Segments {
		used[x.Tag] = true
	}
	tag := s.Tag%4000 + 1
	for used[tag] {
		tag++
	}
	name := unusedName(l, "astray")
	l.AddSegment(
		&lab.Segment{
			Name:   name,
			Reach:  lab.Isolated,
			Within: s.Wire.Name,
			VLAN:   tag,
			Subnet: netip.MustParsePrefix("192.0.2.0/24"),
		},
	)
	return name
}

// bridgedHere reports whether it is a segment on which an appliance that bridges has a port.
func bridgedHere(s *plan.Segment) bool {
	for _, a := range s.Adapters {
		if a.Port != nil && a.Machine.Transparent() && a.Role != lab.Manage && a.Plugged {
			return true
		}
	}
	return false
}

// beside returns each guest with another one on its segment.
func beside(p *plan.Plan) []Place {
	var out []Place
	for _, at := range homes(nil)(p) {
		if at.Other = neighbor(at.Adapter); at.Other != nil {
			out = append(out, at)
		}
	}
	return out
}

// gates returns each guest with the port that it is sent elsewhere by.
func gates(p *plan.Plan) []Place {
	var out []Place
	for _, at := range homes(nil)(p) {
		if at.Other = at.Adapter.Gate(); at.Other != nil && at.Other.Address.IsValid() {
			out = append(out, at)
		}
	}
	return out
}

// setMAC returns a guest's adapter another one's hardware address.
func setMAC(l *lab.Lab, a, of *plan.Adapter) { adapterIn(l, a).guest.MAC = of.MAC }

// stranger puts a machine on a port's segment that has the port's address.
func stranger(l *lab.Lab, at Place) {
	l.AddGuest(&lab.Guest{Name: unusedName(l, "stranger"), Running: true,
		Adapters: []lab.Adapter{{Segment: at.Adapter.Segment.Name, Static: at.Adapter.Address, Plugged: true}}})
}

func hostTranslates(l *lab.Lab, at Place) { l.Segment(at.Segment.Name).Join = "nat" }
