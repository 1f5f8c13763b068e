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
		Why:    "guests of {home} send requests that remain unanswered; static guests work",
		Look:   "on the admin page of {machine}, check whether the DHCP server of {adapter} is on",
		Remedy: "switch the DHCP server of {adapter} on, with the pool {pool}",
		places: ports(serves), settings: func(b *Built, at Place) { b.here(at.Adapter).Leases = nil }},
	{Name: "pool-elsewhere", Family: Leasing, Weight: 5, Finding: "pool-outside",
		Says:   "{adapter} serves DHCP of another network than {subnet}",
		Why:    "guests get an address that cannot reach their next hop",
		Look:   "on the admin page of {machine}, check the pool of {adapter}: it must be {pool}",
		Remedy: "set the pool of {adapter} to {pool}",
		places: ports(serves), settings: func(b *Built, at Place) {
			v, size := b.service(at.Adapter), subnet.Size(at.Adapter.Segment.Subnet)
			v.Pool = plan.Pool{From: subnet.Add(v.Pool.From, size), To: subnet.Add(v.Pool.To, size)}
			v.Reservations = nil
		}},
	{Name: "pools-swapped", Family: Leasing, Weight: 3, Finding: "pool-outside",
		Says:   "the DHCP settings of {adapter} and {other-adapter} are swapped",
		Why:    "guests of both get addresses of the other's network",
		Look:   "on the admin page of {machine}, check the pool of {adapter}: it must be {pool}",
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
		Why:    "the first guest of {home} gets an address, the others get none",
		Look:   "on the admin page of {machine}, count the leases of {adapter} and the addresses in its pool",
		Remedy: "set the pool of {adapter} to {pool}",
		places: ports(
			func(a *plan.Adapter) bool { return serves(a) && plain(a.Segment) > 1 },
		), settings: func(b *Built, at Place) {
			v := b.service(at.Adapter)
			v.Pool.To = v.Pool.From
		}},
	{Name: "lease-router-wrong", Family: Leasing, Weight: 4, Finding: "dhcp-without-gateway",
		Says:   "{adapter}'s DHCP server distributes a router that does not exist",
		Why:    "guests have an address and reach their segment, and nothing beyond",
		Look:   "on the admin page of {machine}, check the router that {adapter} distributes: it must be {address}",
		Remedy: "set the router that {adapter} distributes to {address}",
		places: ports(serves), settings: func(b *Built, at Place) {
			b.service(at.Adapter).Router = subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1)
		}},
	{Name: "lease-without-router", Family: Leasing, Weight: 3, Finding: "dhcp-without-gateway",
		Says:   "{adapter}'s DHCP server distributes no router",
		Why:    "guests have an address and no path outside of their segment",
		Look:   "on the admin page of {machine}, check the router that {adapter} distributes: it must be {address}",
		Remedy: "set the router that {adapter} distributes to {address}",
		places: ports(serves), settings: func(b *Built, at Place) { b.service(at.Adapter).Router = netip.Addr{} }},
	{Name: "lease-resolver-wrong", Family: Leasing, Weight: 4, Finding: "no-names",
		Says:   "{adapter}'s DHCP server distributes a DNS server that does not answer",
		Why:    "for all DHCP guests on {home}, addresses answer and names do not",
		Look:   "on the admin page of {machine}, check the DNS server that {adapter} distributes",
		Remedy: "set the DNS server that {adapter} distributes to the planned one",
		places: ports(serves), settings: func(b *Built, at Place) {
			b.service(at.Adapter).DNS = []netip.Addr{subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1)}
		}},
	{Name: "lease-without-resolver", Family: Leasing, Weight: 3, Finding: "no-names",
		Says:   "{adapter}'s DHCP server distributes no DNS server",
		Why:    "for all DHCP guests on {home}, addresses answer and names fail at once",
		Look:   "on the admin page of {machine}, check the DNS server that {adapter} distributes",
		Remedy: "set the DNS server that {adapter} distributes to the planned one",
		places: ports(serves), settings: func(b *Built, at Place) { b.service(at.Adapter).DNS = nil }},
	{Name: "reservation-missed", Family: Leasing, Weight: 4, Finding: "",
		Says:   "the reservation of {machine} has a wrong MAC address, or is missing",
		Why:    "it gets an address from the pool, and what rules and others call {machine} does not exist",
		Look:   "check the MAC address in the reservation: it must be {mac}",
		Remedy: "enter the reservation of {address} for {mac}",
		places: homes(
			func(a *plan.Adapter) bool { return a.How == plan.Reservation && served(a) },
		), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			for _, x := range b.Plan.Adapters {
				if x.Leases != nil {
					x.Leases.Reservations = slices.DeleteFunc(
						x.Leases.Reservations,
						func(r *plan.Adapter) bool { return r == a },
					)
				}
			}
		}},
	{Name: "second-server", Family: Leasing, Weight: 4, Finding: "two-dhcp-servers",
		Says:   "a rogue DHCP server on {segment} answers first",
		Why:    "guests get a plausible address with a router that forwards nothing",
		Look:   "on a guest of {segment}, check which server its lease is from",
		Remedy: "find the server by the MAC address of its offers, and disable its DHCP server",
		places: segments(
			leasesHere,
		), settings: func(b *Built, at Place) { b.serve(at.Segment, simulator.Foreign{First: true}) }},
	{Name: "foreign-server", Family: Leasing, Weight: 5, Finding: "two-dhcp-servers",
		Says:   "a router that was plugged in serves DHCP for its own network on {segment}, and answers first",
		Why:    "guests get an address of a network that is not in this lab",
		Look:   "on a guest of {segment}, check which server its lease is from",
		Remedy: "find it by the MAC address of its offers, and unplug it",
		places: segments(leasesHere), settings: func(b *Built, at Place) {
			b.serve(at.Segment, simulator.Foreign{First: true,
				Network: elsewhere})
		}},
	{Name: "slower-server", Family: Leasing, Weight: 3, Finding: "two-dhcp-servers",
		Says:   "a rogue DHCP server on {segment} answers second",
		Why:    "everything works until it answers first",
		Look:   "on a guest of {segment}, list all DHCP servers that make an offer",
		Remedy: "find the server by the MAC address of its offers, and disable its DHCP server",
		places: segments(leasesHere), settings: func(b *Built, at Place) { b.serve(at.Segment, simulator.Foreign{}) }},
}

var nameKinds = []*Kind{
	{Name: "resolver-off", Family: Naming, Weight: 5, Finding: "no-names",
		Says:   "the DNS server of {machine} does not run",
		Why:    "for everything behind it IP addresses answer and names do not",
		Look:   "on the admin page of {machine}, check whether its DNS server is on",
		Remedy: "switch the DNS server of {machine} on",
		places: machines(resolves), settings: func(b *Built, at Place) {
			b.Trouble.Nameless = append(b.Trouble.Nameless,
				b.machine(at.Machine))
		}},
	{Name: "resolver-not-here", Family: Naming, Weight: 3, Finding: "no-names",
		Says:   "the DNS server of the appliance does not answer on {segment}",
		Why:    "names fail only on {segment}",
		Look:   "on the admin page, check on which ports the DNS server listens: {segment} must be included",
		Remedy: "let the DNS server also listen on the port of {segment}",
		places: segments(func(s *plan.Segment) bool {
			return s.Inside() && s.Port != nil && guests(s) > 0 && resolves(s.Port.Machine)
		}),
		settings: func(b *Built, at Place) { b.Trouble.Unserved = append(b.Trouble.Unserved, b.segment(at.Segment)) }},
	{Name: "resolver-asks-nobody", Family: Naming, Weight: 4, Finding: "",
		Says:   "{machine}'s DNS server has no upstream server",
		Why:    "it returns SERVFAIL, also to the appliance's guests",
		Look:   "on the admin page of {machine}, check its upstream DNS servers",
		Remedy: "let the DNS server of {machine} use the servers that its WAN learns, or set them",
		places: machines(resolves), settings: func(b *Built, at Place) {
			b.Trouble.Unasking = append(b.Trouble.Unasking,
				b.machine(at.Machine))
		}},
	{Name: "resolver-asks-wrong", Family: Naming, Weight: 4, Finding: "",
		Says:   "{machine}'s DNS server uses an upstream server that does not answer",
		Why:    "names fail after a while, IP addresses answer",
		Look:   "from the console of {machine}, query the upstream DNS server that it uses",
		Remedy: "give the DNS server of {machine} an upstream server that answers",
		places: machines(
			resolves,
		), settings: func(b *Built, at Place) { b.Trouble.Deaf = append(b.Trouble.Deaf, b.machine(at.Machine)) }},
	{Name: "resolver-slow", Family: Naming, Weight: 4, Finding: "",
		Says:   "the first of {machine}'s upstream DNS servers is dead, the second answers",
		Why:    "each guest's first query times out: the first page fails, the second opens",
		Look:   "from the console of {machine}, query each of its upstream DNS servers",
		Remedy: "remove the dead DNS server from the list of {machine}",
		places: machines(
			resolves,
		), settings: func(b *Built, at Place) { b.Trouble.Slow = append(b.Trouble.Slow, b.machine(at.Machine)) }},
}

var operateKinds = []*Kind{
	{Name: "appliance-off", Family: Operating, Weight: 5, Finding: "switched-off",
		Says: "{machine} is switched off, or hangs at its start",
		Why:  "it does not answer on any segment",
		Look: "look at the console of {machine}", Remedy: "start {machine}, and have it start with the host",
		places: machines(nil), wiring: func(l *lab.Lab, at Place) { l.Appliance(at.Machine.Name).Running = false }},
	{Name: "appliance-late", Family: Operating, Weight: 5, Finding: "late-appliance",
		Says: "{machine} started after its guests",
		Why:  "they sent DHCP requests before the server ran, and got an address late or a link-local one",
		Look: "check the start order on the host", Remedy: "start {machine} with the host and before its guests; until then renew their leases",
		places:   machines(func(m *plan.Machine) bool { return slices.ContainsFunc(m.Adapters, serves) }),
		settings: func(b *Built, at Place) { b.Trouble.Late = append(b.Trouble.Late, b.machine(at.Machine)) }},
	{Name: "forwarding-off", Family: Operating, Weight: 3, Finding: "",
		Says: "{machine} does not forward between its ports: forwarding is off",
		Why:  "it answers, serves DHCP and DNS, but forwards nothing",
		Look: "on the console of {machine}, check whether forwarding is on", Remedy: "enable forwarding in {machine}, also after a restart",
		places:   machines(func(m *plan.Machine) bool { return routes(m) }),
		settings: func(b *Built, at Place) { b.Trouble.Idle = append(b.Trouble.Idle, b.machine(at.Machine)) }},
	{Name: "evaluation-over", Family: Operating, Weight: 3, Finding: "licence-expiring",
		Says: "the evaluation of {machine} has ended",
		Why:  "its console and its page answer, but it forwards nothing",
		Look: "on the admin page of {machine}, check the state of its licence", Remedy: "license {machine}, or install it again for another evaluation",
		places:   machines(func(m *plan.Machine) bool { return routes(m) && m.Appliance.Image.Evaluation.Days > 0 }),
		settings: func(b *Built, at Place) { b.Trouble.Idle = append(b.Trouble.Idle, b.machine(at.Machine)) }},
	{Name: "factory-settings", Family: Operating, Weight: 5, Finding: "default-clash",
		Says:   "the settings of {adapter} were not applied: it still has its factory ones",
		Why:    "it still has its factory address and pool, not those of {subnet}",
		Look:   "on the console of {machine}, check the address of {adapter}: it must be {planned}",
		Remedy: "apply and save the settings of {machine}, then renew the guests' leases",
		places: ports(func(a *plan.Adapter) bool {
			return faces(a) && own(a) && firstInside(a) && a.Machine.Profile.Factory.LAN.IsValid()
		}),
		settings: func(b *Built, at Place) {
			a, f := b.here(at.Adapter), at.Adapter.Machine.Profile.Factory
			readdress(a, f.LAN)
			if a.Leases != nil {
				a.Leases.Reservations = nil
				if a.Leases.Pool = (plan.Pool{From: f.From, To: f.To}); !f.From.IsValid() {
					a.Leases.Pool = plan.Pool{
						From: subnet.Add(f.LAN.Masked().Addr(), 100),
						To:   subnet.Add(f.LAN.Masked().Addr(), 150),
					}
				}
			}
		}},
	{Name: "upstream-dead", Family: Operating, Weight: 4, Finding: "",
		Says:   "nothing answers on {segment}: the uplink is the wrong one, or the site's connection is down",
		Why:    "inside everything works, but the appliance itself reaches nothing outside",
		Look:   "on the console of an appliance on {segment}, ping {segment}'s router",
		Remedy: "check which of the host's adapters the WAN is bridged to, and whether that has a link",
		places: segments(
			wanHere,
		), settings: func(b *Built, at Place) { b.Trouble.Dead = append(b.Trouble.Dead, b.segment(at.Segment)) }},
	{Name: "upstream-without-leases", Family: Operating, Weight: 3, Finding: "",
		Says:   "there is no DHCP server on {segment}",
		Why:    "the appliance requests a WAN address and gets none",
		Look:   "attach another machine to {segment} and check whether it gets an address",
		Remedy: "provide a DHCP server on {segment}, or set a static address on the WAN port",
		places: segments(func(s *plan.Segment) bool {
			return upstream(s) && s.Lab.Join != "nat" &&
				slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Port != nil && leasedWAN(a) })
		}),
		wiring: func(l *lab.Lab, at Place) { l.Segment(at.Segment.Name).Leases = "none" }},
	{Name: "mtu-small-outside", Family: Operating, Weight: 3, Finding: "",
		Says:   "{segment} drops packets larger than 1,400 bytes without an error",
		Why:    "ping and small pages work, large pages hang",
		Look:   "from the console of the appliance, ping with 1,472 bytes and without fragments",
		Remedy: "set the MTU of the WAN to that of {segment}, or let the appliance clamp the MSS",
		places: segments(wanHere), settings: func(b *Built, at Place) { b.narrow(at.Segment) }},
	{Name: "mtu-small-inside", Family: Operating, Weight: 2, Finding: "",
		Says:   "{segment} drops packets larger than 1,400 bytes without an error",
		Why:    "only on {segment}: ping and small pages work, large ones hang",
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
	return s.Inside() &&
		slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Guest != nil && leasing(a) && a.Plugged })
}

// wanHere reports whether it is an upstream segment that an appliance leads out by.
func wanHere(s *plan.Segment) bool {
	return upstream(s) &&
		slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Port != nil && a.Plugged })
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
