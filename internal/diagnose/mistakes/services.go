package mistakes

import (
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/simulator"
)

var leaseKinds = []*Kind{
	{Name: "leases-off", Family: Leasing, Weight: 7, Finding: "no-dhcp-server",
		Says:   "{adapter} does not serve DHCP: its DHCP server is off",
		Why:    "guests of {home} ask and nothing answers; who has an address set by hand works",
		Look:   "on the admin page of {machine}, check whether the DHCP server of {adapter} is on",
		Remedy: "switch the DHCP server of {adapter} on, with the pool {pool}",
		places: ports(serves), settings: func(b *Built, at Place) { b.here(at.Adapter).Leases = nil }},
	{Name: "pool-elsewhere", Family: Leasing, Weight: 5, Finding: "pool-outside",
		Says:   "{adapter} serves DHCP of another network than {subnet}",
		Why:    "guests get an address from which their next hop is out of reach",
		Look:   "on the admin page of {machine}, read the pool of {adapter}: it must be {pool}",
		Remedy: "set the pool of {adapter} to {pool}",
		places: ports(serves), settings: func(b *Built, at Place) {
			v, size := b.service(at.Adapter), subnet.Size(at.Adapter.Segment.Subnet)
			v.Pool = plan.Pool{From: subnet.Add(v.Pool.From, size), To: subnet.Add(v.Pool.To, size)}
			v.Reservations = nil
		}},
	{Name: "pools-swapped", Family: Leasing, Weight: 3, Finding: "pool-outside",
		Says:   "{adapter} and {other-adapter} give out each other's leases",
		Why:    "guests of both get addresses of the other's network",
		Look:   "on the admin page of {machine}, read the pool of {adapter}: it must be {pool}",
		Remedy: "set the pool of {adapter} to {pool}, and that of {other-adapter} as planned",
		places: func(p *plan.Plan) []Place {
			var out []Place
			list := ports(serves)(p)
			for i, a := range list {
				for _, b := range list[i+1:] {
					if a.Adapter.Machine == b.Adapter.Machine {
						out = append(out, Place{Adapter: a.Adapter, Other: b.Adapter})
					}
				}
			}
			return out
		},
		settings: func(b *Built, at Place) {
			x, y := b.service(at.Adapter), b.service(at.Other)
			x.Pool, y.Pool, x.Reservations, y.Reservations = y.Pool, x.Pool, nil, nil
		}},
	{Name: "pool-used-up", Family: Leasing, Weight: 3, Finding: "small-pool",
		Says:   "the pool of {adapter} has one address and is used up",
		Why:    "the first guest of {home} has a lease, and the others get none",
		Look:   "on the admin page of {machine}, count the leases of {adapter} and the addresses of its pool",
		Remedy: "set the pool of {adapter} to {pool}",
		places: ports(func(a *plan.Adapter) bool { return serves(a) && plain(a.Segment) > 1 }), settings: func(b *Built, at Place) {
			v := b.service(at.Adapter)
			v.Pool.To = v.Pool.From
		}},
	{Name: "lease-router-wrong", Family: Leasing, Weight: 4, Finding: "dhcp-without-gateway",
		Says:   "the leases of {adapter} name a router that is not there",
		Why:    "guests have an address and reach their segment, and nothing beyond",
		Look:   "on the admin page of {machine}, read the router that {adapter} gives out: it must be {address}",
		Remedy: "have the leases of {adapter} name the router {address}",
		places: ports(serves), settings: func(b *Built, at Place) {
			b.service(at.Adapter).Router = subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1)
		}},
	{Name: "lease-without-router", Family: Leasing, Weight: 3, Finding: "dhcp-without-gateway",
		Says:   "the leases of {adapter} name no router",
		Why:    "guests have an address and no path outside of their segment",
		Look:   "on the admin page of {machine}, read the router that {adapter} gives out: it must be {address}",
		Remedy: "have the leases of {adapter} name the router {address}",
		places: ports(serves), settings: func(b *Built, at Place) { b.service(at.Adapter).Router = netip.Addr{} }},
	{Name: "lease-resolver-wrong", Family: Leasing, Weight: 4, Finding: "no-names",
		Says:   "the leases of {adapter} name a DNS server that does not answer",
		Why:    "for all who lease on {home} numbers answer and names do not",
		Look:   "on the admin page of {machine}, read the DNS server that {adapter} gives out",
		Remedy: "have the leases of {adapter} name the planned DNS server",
		places: ports(serves), settings: func(b *Built, at Place) {
			b.service(at.Adapter).DNS = []netip.Addr{subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1)}
		}},
	{Name: "lease-without-resolver", Family: Leasing, Weight: 3, Finding: "no-names",
		Says:   "the leases of {adapter} name no DNS server",
		Why:    "for all who lease on {home} numbers answer and names fail at once",
		Look:   "on the admin page of {machine}, read the DNS server that {adapter} gives out",
		Remedy: "have the leases of {adapter} name the planned DNS server",
		places: ports(serves), settings: func(b *Built, at Place) { b.service(at.Adapter).DNS = nil }},
	{Name: "reservation-missed", Family: Leasing, Weight: 4, Finding: "",
		Says:   "the reservation of {machine} has a wrong MAC address, or is missing",
		Why:    "it gets an address of the pool, and what rules and others call {machine} leads to nobody",
		Look:   "read the MAC address in the reservation: it must be {mac}",
		Remedy: "write the reservation of {address} for {mac}",
		places: homes(func(a *plan.Adapter) bool { return a.How == plan.Reservation && served(a) }), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			for _, x := range b.Plan.Adapters {
				if x.Leases != nil {
					x.Leases.Reservations = slices.DeleteFunc(x.Leases.Reservations, func(r *plan.Adapter) bool { return r == a })
				}
			}
		}},
	{Name: "second-server", Family: Leasing, Weight: 4, Finding: "two-dhcp-servers",
		Says:   "someone on {segment} serves DHCP beside who should, and answers first",
		Why:    "guests get a fitting address with a router that leads nowhere",
		Look:   "on a guest of {segment}, read who gave its lease",
		Remedy: "find who it is by the MAC address that offers come from, and switch its DHCP server off",
		places: segments(leasesHere), settings: func(b *Built, at Place) { b.serve(at.Segment, simulator.Foreign{First: true}) }},
	{Name: "foreign-server", Family: Leasing, Weight: 5, Finding: "two-dhcp-servers",
		Says:   "a router that someone plugged in serves DHCP of its own network on {segment}, and answers first",
		Why:    "guests get an address of no network of this lab",
		Look:   "on a guest of {segment}, read who gave its lease",
		Remedy: "find who it is by the MAC address that offers come from, and unplug it",
		places: segments(leasesHere), settings: func(b *Built, at Place) {
			b.serve(at.Segment, simulator.Foreign{First: true,
				Network: elsewhere})
		}},
	{Name: "slower-server", Family: Leasing, Weight: 3, Finding: "two-dhcp-servers",
		Says:   "someone on {segment} serves DHCP beside who should, and answers second",
		Why:    "all works until it once answers first",
		Look:   "on a guest of {segment}, ask who serves DHCP, and wait for all answers",
		Remedy: "find who it is by the MAC address that offers come from, and switch its DHCP server off",
		places: segments(leasesHere), settings: func(b *Built, at Place) { b.serve(at.Segment, simulator.Foreign{}) }},
}

var nameKinds = []*Kind{
	{Name: "resolver-off", Family: Naming, Weight: 5, Finding: "no-names",
		Says:   "the DNS server of {machine} does not run",
		Why:    "for everybody behind it numbers answer and names do not",
		Look:   "on the admin page of {machine}, check whether its DNS server is on",
		Remedy: "switch the DNS server of {machine} on",
		places: machines(resolves), settings: func(b *Built, at Place) {
			b.Trouble.Nameless = append(b.Trouble.Nameless,
				b.machine(at.Machine))
		}},
	{Name: "resolver-not-here", Family: Naming, Weight: 3, Finding: "no-names",
		Says:   "the DNS server of the appliance does not answer on {segment}",
		Why:    "on {segment} alone names fail, and elsewhere they do not",
		Look:   "on the admin page, read on which ports the DNS server listens: the one on {segment} must be among them",
		Remedy: "have the DNS server listen on the port of {segment} too",
		places: segments(func(s *plan.Segment) bool {
			return s.Inside() && s.Port != nil && guests(s) > 0 && resolves(s.Port.Machine)
		}),
		settings: func(b *Built, at Place) { b.Trouble.Unserved = append(b.Trouble.Unserved, b.segment(at.Segment)) }},
	{Name: "resolver-asks-nobody", Family: Naming, Weight: 4, Finding: "",
		Says:   "the DNS server of {machine} knows nobody to ask",
		Why:    "it answers that it cannot, also to the appliance's guests",
		Look:   "on the admin page of {machine}, read which DNS servers it asks",
		Remedy: "have the DNS server of {machine} ask those that its WAN learns, or type them in",
		places: machines(resolves), settings: func(b *Built, at Place) {
			b.Trouble.Unasking = append(b.Trouble.Unasking,
				b.machine(at.Machine))
		}},
	{Name: "resolver-asks-wrong", Family: Naming, Weight: 4, Finding: "",
		Says:   "the DNS server of {machine} asks someone who does not answer",
		Why:    "names fail after a while, and numbers answer",
		Look:   "from the console of {machine}, ask the DNS server that it has set for a name",
		Remedy: "have the DNS server of {machine} ask one that answers",
		places: machines(resolves), settings: func(b *Built, at Place) { b.Trouble.Deaf = append(b.Trouble.Deaf, b.machine(at.Machine)) }},
	{Name: "resolver-slow", Family: Naming, Weight: 4, Finding: "",
		Says:   "the first of the DNS servers that {machine} asks is dead, and the second answers",
		Why:    "the first question of each guest runs out of time: the first page fails and the second opens",
		Look:   "from the console of {machine}, ask each DNS server that it has set for a name",
		Remedy: "take the dead DNS server off the list of {machine}",
		places: machines(resolves), settings: func(b *Built, at Place) { b.Trouble.Slow = append(b.Trouble.Slow, b.machine(at.Machine)) }},
}

var operateKinds = []*Kind{
	{Name: "appliance-off", Family: Operating, Weight: 5, Finding: "switched-off",
		Says: "{machine} is switched off, or hangs at its start",
		Why:  "nothing answers for it on any segment",
		Look: "look at the console of {machine}", Remedy: "start {machine}, and have it start with the host",
		places: machines(nil), wiring: func(l *lab.Lab, at Place) { l.Appliance(at.Machine.Name).Running = false }},
	{Name: "appliance-late", Family: Operating, Weight: 5, Finding: "late-appliance",
		Says: "{machine} came up after its guests",
		Why:  "they asked for leases when nobody answered, and got them late or gave themselves an address",
		Look: "read the order of start on the host", Remedy: "start {machine} with the host, before its guests; until then renew their leases",
		places:   machines(func(m *plan.Machine) bool { return slices.ContainsFunc(m.Adapters, serves) }),
		settings: func(b *Built, at Place) { b.Trouble.Late = append(b.Trouble.Late, b.machine(at.Machine)) }},
	{Name: "forwarding-off", Family: Operating, Weight: 3, Finding: "",
		Says: "{machine} passes nothing on between its ports: forwarding is off",
		Why:  "it answers for itself, serves DHCP and names, and nothing goes through",
		Look: "on the console of {machine}, check whether forwarding is on", Remedy: "switch forwarding on in {machine}, also after a restart",
		places:   machines(func(m *plan.Machine) bool { return routes(m) }),
		settings: func(b *Built, at Place) { b.Trouble.Idle = append(b.Trouble.Idle, b.machine(at.Machine)) }},
	{Name: "evaluation-over", Family: Operating, Weight: 3, Finding: "licence-expiring",
		Says: "the evaluation of {machine} has ended",
		Why:  "its console and its page answer, and it passes nothing on any more",
		Look: "on the admin page of {machine}, read the state of its licence", Remedy: "license {machine}, or build it again for another evaluation",
		places:   machines(func(m *plan.Machine) bool { return routes(m) && m.Appliance.Image.Evaluation.Days > 0 }),
		settings: func(b *Built, at Place) { b.Trouble.Idle = append(b.Trouble.Idle, b.machine(at.Machine)) }},
	{Name: "factory-settings", Family: Operating, Weight: 5, Finding: "default-clash",
		Says:   "the settings of {adapter} were not applied: it still has those that {machine} came with",
		Why:    "its address and leases are those of the factory, not of {subnet}",
		Look:   "on the console of {machine}, read the address of {adapter}: it must be {planned}",
		Remedy: "apply the settings of {machine} and save them, then renew the guests' leases",
		places: ports(func(a *plan.Adapter) bool {
			return faces(a) && own(a) && firstInside(a) && a.Machine.Profile.Factory.LAN.IsValid()
		}),
		settings: func(b *Built, at Place) {
			a, f := b.here(at.Adapter), at.Adapter.Machine.Profile.Factory
			readdress(a, f.LAN)
			if a.Leases != nil {
				a.Leases.Reservations = nil
				if a.Leases.Pool = (plan.Pool{From: f.From, To: f.To}); !f.From.IsValid() {
					a.Leases.Pool = plan.Pool{From: subnet.Add(f.LAN.Masked().Addr(), 100), To: subnet.Add(f.LAN.Masked().Addr(), 150)}
				}
			}
		}},
	{Name: "upstream-dead", Family: Operating, Weight: 4, Finding: "",
		Says:   "nothing answers on {segment}: the uplink is the wrong one, or the site's line is down",
		Why:    "inside all works, and the appliance itself reaches nothing outside",
		Look:   "on the console of an appliance on {segment}, ping {segment}'s router",
		Remedy: "look which of the host's adapters the WAN is bridged to, and whether that has a link",
		places: segments(wanHere), settings: func(b *Built, at Place) { b.Trouble.Dead = append(b.Trouble.Dead, b.segment(at.Segment)) }},
	{Name: "upstream-without-leases", Family: Operating, Weight: 3, Finding: "",
		Says:   "nobody on {segment} serves DHCP",
		Why:    "the appliance asks for a WAN address and gets none",
		Look:   "plug another machine into {segment} and check whether it gets an address",
		Remedy: "have someone serve DHCP on {segment}, or type an address in at the WAN port",
		places: segments(func(s *plan.Segment) bool {
			return upstream(s) && s.Lab.Join != "nat" && slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Port != nil && leasedWAN(a) })
		}),
		wiring: func(l *lab.Lab, at Place) { l.Segment(at.Segment.Name).Leases = "none" }},
	{Name: "mtu-small-outside", Family: Operating, Weight: 3, Finding: "",
		Says:   "{segment} loses packets of more than 1,400 bytes and says nothing",
		Why:    "pings and small pages pass, large pages hang",
		Look:   "from the console of the appliance, ping with 1,472 bytes and without fragments",
		Remedy: "set the MTU of the WAN to what {segment} passes, or have the appliance clamp segments to it",
		places: segments(wanHere), settings: func(b *Built, at Place) { b.narrow(at.Segment) }},
	{Name: "mtu-small-inside", Family: Operating, Weight: 2, Finding: "",
		Says:   "{segment} loses packets of more than 1,400 bytes and says nothing",
		Why:    "on {segment} alone pings and small pages pass, and large ones hang",
		Look:   "from a guest of {segment}, ping the appliance with 1,472 bytes and without fragments",
		Remedy: "set the same MTU on all adapters and the switch of {segment}",
		places: segments(func(s *plan.Segment) bool { return s.Inside() && guests(s) > 0 }), settings: func(b *Built,
			at Place) {
			b.narrow(at.Segment)
		}},
}

// plain counts the guests on a segment that get a lease of its pool.
func plain(s *plan.Segment) (n int) {
	for _, a := range s.Adapters {
		if a.Guest != nil && a.How == plan.Lease && a.Plugged {
			n++
		}
	}
	return n
}

// leasesHere reports whether it is a segment inside on which somebody asks for a lease.
func leasesHere(s *plan.Segment) bool {
	return s.Inside() && slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Guest != nil && leasing(a) && a.Plugged })
}

// wanHere reports whether it is an upstream segment that an appliance leads out by.
func wanHere(s *plan.Segment) bool {
	return upstream(s) && slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Port != nil && a.Plugged })
}

// firstInside reports whether it is the first port of its appliance that faces guests.
func firstInside(a *plan.Adapter) bool {
	i := slices.IndexFunc(a.Machine.Adapters, func(x *plan.Adapter) bool { return x.Role.Inside() })
	return i >= 0 && a.Machine.Adapters[i] == a
}

func (b *Built) serve(s *plan.Segment, f simulator.Foreign) {
	if b.Trouble.Servers == nil {
		b.Trouble.Servers = map[*plan.Segment]simulator.Foreign{}
	}
	b.Trouble.Servers[b.segment(s)] = f
}

func (b *Built) narrow(s *plan.Segment) {
	if b.Trouble.Narrow == nil {
		b.Trouble.Narrow = map[*plan.Segment]int{}
	}
	b.Trouble.Narrow[b.segment(s)] = 1400
}
