package mistakes

import (
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/simulator"
)

var addressKinds = []*Kind{
	{Name: "port-address-wrong", Family: Addressing, Weight: 4, Finding: "",
		Says:   "{adapter} has another address of {home} than planned",
		Why:    "DHCP names the address it has; guests that have {address} set as gateway reach nothing there",
		Look:   "on the console of {machine}, check the address of {adapter}: it must be {planned}",
		Remedy: "give {adapter} the address {planned}",
		places: ports(faces), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			readdress(a, netip.PrefixFrom(free(at.Adapter.Segment, at.Adapter.Segment.Subnet), a.Address.Bits()))
		}},
	{Name: "port-off-subnet", Family: Addressing, Weight: 4, Finding: "off-subnet",
		Says:   "{adapter} has an address of another network than {subnet}",
		Why:    "it is in another network than the guests of {home}: DHCP does not fit its address",
		Look:   "on the console of {machine}, check the address of {adapter}: it must be {planned}",
		Remedy: "give {adapter} the address {planned}",
		places: ports(
			faces,
		), settings: func(b *Built, at Place) { readdress(b.here(at.Adapter), shifted(at.Adapter.Address)) }},
	{Name: "port-mask-narrow", Family: Addressing, Weight: 3, Finding: "narrow-mask",
		Says:   "the mask of {adapter} is too long",
		Why:    "the appliance treats part of {subnet} as outside, and DHCP distributes the wrong mask on",
		Look:   "on the console of {machine}, check the mask of {adapter}: it must be that of {planned}",
		Remedy: "give {adapter} the mask of {planned}",
		places: ports(
			func(a *plan.Adapter) bool { return faces(a) && a.Address.Bits() < 29 },
		), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = narrow(a.Address, guestOn(at.Adapter))
		}},
	{Name: "port-mask-wide", Family: Addressing, Weight: 2, Finding: "overlap",
		Says:   "the mask of {adapter} is too short",
		Why:    "the appliance treats other networks as its own segment {home}, and DHCP distributes the wrong mask on",
		Look:   "on the console of {machine}, check the mask of {adapter}: it must be that of {planned}",
		Remedy: "give {adapter} the mask of {planned}",
		places: ports(
			func(a *plan.Adapter) bool { return faces(a) && a.Address.Bits() > 16 },
		), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = netip.PrefixFrom(a.Address.Addr(), max(a.Address.Bits()-8, 8))
		}},
	{Name: "port-without-address", Family: Addressing, Weight: 4, Finding: "",
		Says:   "{adapter} has no address: its setup was not finished",
		Why:    "on {home} the appliance neither answers nor serves DHCP",
		Look:   "on the console of {machine}, check the address of {adapter}: it must be {planned}",
		Remedy: "give {adapter} the address {planned}, and enable its DHCP server where the plan has one",
		places: ports(faces), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address, a.Leases = plan.NoAddress, netip.Prefix{}, nil
		}},
	{Name: "inside-as-outside", Family: Addressing, Weight: 5, Finding: "overlap",
		Says:   "{adapter} has an address of the network that the WAN is on",
		Why:    "the appliance has the same network on both sides and cannot route outside",
		Look:   "on the console of {machine}, compare the networks of {adapter} and the WAN: they must differ",
		Remedy: "give {adapter} the address {planned}, and its DHCP server the planned pool",
		places: ports(
			func(a *plan.Adapter) bool { return faces(a) && wanNetwork(a.Machine).IsValid() },
		), settings: func(b *Built, at Place) {
			a, network := b.here(at.Adapter), wanNetwork(at.Adapter.Machine)
			at3 := func(n int) netip.Addr { return subnet.Add(network.Addr(), subnet.Size(network)*n/8) }
			readdress(a, netip.PrefixFrom(at3(3), network.Bits()))
			if a.Leases != nil {
				a.Leases.Pool, a.Leases.Reservations = plan.Pool{From: at3(4), To: at3(5)}, nil
			}
		}},
	{Name: "wan-typed", Family: Addressing, Weight: 4, Finding: "off-subnet",
		Says:   "{adapter} has a static address of another network instead of using DHCP",
		Why:    "its gateway does not answer upstream",
		Look:   "on the console of {machine}, check how {adapter} gets its address: it must be DHCP",
		Remedy: "set {adapter} to DHCP",
		places: ports(leasedWAN), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address = plan.Static, netip.PrefixFrom(subnet.Add(elsewhere.Addr(), 7), elsewhere.Bits())
			a.Gateway, a.DNS = subnet.First(elsewhere), []netip.Addr{subnet.First(elsewhere)}
		}},
	{Name: "wan-not-asking", Family: Addressing, Weight: 3, Finding: "",
		Says:   "{adapter} does not request an address",
		Why:    "without a WAN address nothing gets out, neither from the appliance nor from guests",
		Look:   "on the console of {machine}, check how {adapter} gets its address: it must be {planned}",
		Remedy: "set {adapter} to get its address as planned: {planned}",
		places: ports(
			func(a *plan.Adapter) bool { return wan(a) && a.How == plan.FromAbove },
		), settings: func(b *Built, at Place) {
			b.here(at.Adapter).How = plan.NoAddress
		}},
	{Name: "wan-asking", Family: Addressing, Weight: 3, Finding: "",
		Says:   "{adapter} uses DHCP instead of the static address {planned}",
		Why:    "it gets another address or none: port forwards and routes to it fail",
		Look:   "on the console of {machine}, check the address of {adapter}: it must be {planned}",
		Remedy: "type in {planned} at {adapter}, with its gateway",
		places: ports(typedWAN), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address, a.Gateway, a.DNS = plan.FromAbove, netip.Prefix{}, netip.Addr{}, nil
		}},
	{Name: "wan-without-gateway", Family: Addressing, Weight: 4, Finding: "wan-no-gateway",
		Says:   "{adapter} has no gateway",
		Why:    "the appliance reaches the site's network and nothing beyond it",
		Look:   "on the console of {machine}, list its routes: the default route must be via {gateway}",
		Remedy: "type in the gateway {gateway} at {adapter}",
		places: ports(gatewayWAN), settings: func(b *Built, at Place) { b.here(at.Adapter).Gateway = netip.Addr{} }},
	{Name: "wan-gateway-wrong", Family: Addressing, Weight: 4, Finding: "off-subnet",
		Says:   "{adapter} has a gateway that does not exist",
		Why:    "nothing answers for its next hop",
		Look:   "on the console of {machine}, list its routes: the default route must be via {gateway}",
		Remedy: "type in the gateway {gateway} at {adapter}",
		places: ports(gatewayWAN), settings: func(b *Built, at Place) {
			b.here(at.Adapter).Gateway = free(at.Adapter.Segment, at.Adapter.Segment.Subnet)
		}},
	{Name: "wan-off-subnet", Family: Addressing, Weight: 3, Finding: "off-subnet",
		Says:   "{adapter} has an address of another network than {subnet}",
		Why:    "its gateway is not in its network",
		Look:   "on the console of {machine}, check the address of {adapter}: it must be {planned}",
		Remedy: "type in {planned} at {adapter}",
		places: ports(
			typedWAN,
		), settings: func(b *Built, at Place) { b.here(at.Adapter).Address = shifted(at.Adapter.Address) }},
	{Name: "wan-mask-narrow", Family: Addressing, Weight: 2, Finding: "narrow-mask",
		Says:   "the mask of {adapter} is too long",
		Why:    "its gateway is outside its network",
		Look:   "on the console of {machine}, check the mask of {adapter}: it must be that of {planned}",
		Remedy: "type in {planned} at {adapter}",
		places: ports(
			func(a *plan.Adapter) bool { return typedWAN(a) && a.Gateway.IsValid() && a.Address.Bits() < 29 },
		),
		settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = narrow(a.Address, a.Gateway)
		}},
	{Name: "wan-address-taken", Family: Addressing, Weight: 3, Finding: "duplicate-address",
		Says:   "another machine on {home} has the address of {adapter}",
		Why:    "replies from outside go to the machine that sent last",
		Look:   "with {adapter} unplugged, ping {address} from {home}: nothing may answer",
		Remedy: "give {adapter} a free address outside the site's DHCP pool",
		places: ports(typedWAN), wiring: stranger},
	{Name: "wan-drops-private", Family: Filtering, Weight: 3, Finding: "private-wan-blocked",
		Says:   "{adapter} drops packets from private sources, but is on a private network itself",
		Why:    "replies of its own router and DNS server come from private addresses",
		Look:   "on the admin page of {machine}, check whether the WAN drops private sources",
		Remedy: "let {adapter} accept packets from private sources while {home} is private",
		places: ports(func(a *plan.Adapter) bool {
			return wan(a) && !a.Port.DropPrivate && subnet.Private(a.Segment.Subnet.Addr())
		}),
		wiring: func(l *lab.Lab, at Place) { adapterIn(l, at.Adapter).port.DropPrivate = true }},
}

var guestKinds = []*Kind{
	{Name: "guest-mask-narrow", Family: Addressing, Weight: 5, Finding: "narrow-mask",
		Says: "{machine} has a mask that is too long",
		Why:  "it treats its next hop or its neighbors as remote",
		Look: "on {machine} check the mask: it must be that of {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && a.Address.Bits() < 29 }),
		settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = narrow(a.Address, a.Gateway)
		}},
	{Name: "guest-mask-wide", Family: Addressing, Weight: 3, Finding: "narrow-mask",
		Says: "{machine} has a mask that is too short",
		Why:  "it treats other segments as local, and does not use the appliance for them",
		Look: "on {machine} check the mask: it must be that of {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && a.Address.Bits() > 16 }),
		settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = netip.PrefixFrom(a.Address.Addr(), max(a.Address.Bits()-8, 8))
		}},
	{Name: "guest-gateway-wrong", Family: Addressing, Weight: 6, Finding: "wrong-gateway",
		Says: "{machine} has a gateway that does not exist",
		Why:  "it reaches its own segment and nothing beyond",
		Look: "on {machine} list the routes: the default route must be via {gateway}", Remedy: "type in the gateway {gateway} on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && a.Gateway.IsValid() }),
		settings: func(b *Built, at Place) {
			b.here(at.Adapter).Gateway = free(at.Adapter.Segment, at.Adapter.Segment.Subnet)
		}},
	{Name: "guest-without-gateway", Family: Addressing, Weight: 6, Finding: "wrong-gateway",
		Says: "{machine} has no gateway",
		Why:  "it has no route beyond its own segment, and fails at once",
		Look: "on {machine} list the routes: the default route must be via {gateway}", Remedy: "type in the gateway {gateway} on {machine}",
		places:   homes(func(a *plan.Adapter) bool { return typed(a) && a.Gateway.IsValid() }),
		settings: func(b *Built, at Place) { b.here(at.Adapter).Gateway = netip.Addr{} }},
	{Name: "guest-address-wrong", Family: Addressing, Weight: 5, Finding: "",
		Says: "{machine} has another address of {home} than planned",
		Why:  "it reaches outside, but connections to {address} fail",
		Look: "on {machine} check the address: it must be {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(typed), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = netip.PrefixFrom(free(at.Adapter.Segment, at.Adapter.Segment.Subnet), a.Address.Bits())
		}},
	{Name: "guest-off-subnet", Family: Addressing, Weight: 5, Finding: "off-subnet",
		Says: "{machine} has an address of another network than {subnet}",
		Why:  "its gateway is not in its network, and replies to it get lost",
		Look: "on {machine} check the address: it must be {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(
			typed,
		), settings: func(b *Built, at Place) { b.here(at.Adapter).Address = shifted(at.Adapter.Address) }},
	{Name: "guest-has-neighbors-address", Family: Addressing, Weight: 4, Finding: "duplicate-address",
		Says: "{machine} has the address of {other}",
		Why:  "answers to both go to whichever spoke last",
		Look: "on {machine} check the address: it must be {planned}", Remedy: "give {machine} its own address: {planned}",
		places: func(p *plan.Plan) []Place {
			var out []Place
			for _, at := range homes(nil)(p) {
				for _, x := range at.Adapter.Segment.Adapters {
					if x.Guest != nil && x.Machine != at.Adapter.Machine && x.Address.IsValid() && x.Plugged &&
						at.Other == nil {
						at.Other = x
						out = append(out, at)
					}
				}
			}
			return out
		},
		settings: func(b *Built, at Place) { b.typeIn(at.Adapter, at.Other.Address) }},
	{Name: "guest-address-taken", Family: Addressing, Weight: 4, Finding: "duplicate-address",
		Says:   "another machine on {home} has the address of {machine}",
		Why:    "the guest's system finds the duplicate and does not use the address, or replies go to whichever spoke last",
		Look:   "with {machine} unplugged, ping {address} from {home}: nothing may answer",
		Remedy: "find the other machine by its MAC address, and give it another address",
		places: homes(typed), wiring: stranger},
	{Name: "guest-has-gateways-address", Family: Addressing, Weight: 3, Finding: "duplicate-address",
		Says: "{machine} has the address of {other-adapter}, its own gateway",
		Why:  "its neighbors send it the appliance's packets as soon as it sends ARP",
		Look: "on {machine} check the address: it must not be {other-address}", Remedy: "give {machine} its own address: {planned}",
		places: gates, settings: func(b *Built, at Place) { b.typeIn(at.Adapter, at.Other.Address) }},
	{Name: "guest-resolver-wrong", Family: Naming, Weight: 4, Finding: "no-names",
		Says: "{machine} queries a DNS server that does not exist",
		Why:  "IP addresses answer, names do not",
		Look: "on {machine} check its DNS servers: they must be as planned", Remedy: "type in the planned DNS server on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && len(a.DNS) > 0 }),
		settings: func(b *Built, at Place) {
			b.here(at.Adapter).DNS = []netip.Addr{free(at.Adapter.Segment, at.Adapter.Segment.Subnet)}
		}},
	{Name: "guest-without-resolver", Family: Naming, Weight: 4, Finding: "no-names",
		Says: "{machine} has no DNS server",
		Why:  "IP addresses answer, names fail at once",
		Look: "on {machine} check its DNS servers: they must be as planned", Remedy: "type in the planned DNS server on {machine}",
		places:   homes(func(a *plan.Adapter) bool { return typed(a) && len(a.DNS) > 0 }),
		settings: func(b *Built, at Place) { b.here(at.Adapter).DNS = nil }},
	{Name: "guest-asks-for-lease", Family: Addressing, Weight: 5, Finding: "",
		Says: "{machine} uses DHCP instead of the static address {planned}",
		Why:  "it has an address from the pool or none, and connections to {address} fail",
		Look: "on {machine} check how it gets its address: {planned} must be static", Remedy: "type in {planned} on {machine}",
		places: homes(typed), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address, a.Gateway, a.DNS = plan.Lease, netip.Prefix{}, netip.Addr{}, nil
		}},
	{Name: "guest-typed", Family: Addressing, Weight: 6, Finding: "off-subnet",
		Says: "{machine} has static settings of another network and does not use DHCP",
		Why:  "no other machine on {home} is in its network",
		Look: "on {machine} check how it gets its address: it must be DHCP", Remedy: "set {machine} to DHCP",
		places: homes(leasing), settings: func(b *Built, at Place) {
			b.typeIn(at.Adapter, netip.PrefixFrom(subnet.Add(elsewhere.Addr(), 23), elsewhere.Bits()))
			a := b.here(at.Adapter)
			a.Gateway, a.DNS = subnet.First(elsewhere), []netip.Addr{subnet.First(elsewhere)}
		}},
	{Name: "guest-not-asking", Family: Addressing, Weight: 4, Finding: "",
		Says: "{machine} does not request an address",
		Why:  "it has no source of an address",
		Look: "on {machine} check how it gets its address: it must be DHCP", Remedy: "set {machine} to DHCP",
		places: homes(leasing), settings: func(b *Built, at Place) { b.typeIn(at.Adapter, netip.Prefix{}) }},
	{Name: "guest-gateway-typed", Family: Addressing, Weight: 3, Finding: "",
		Says: "{machine} has a static gateway that does not exist, in addition to DHCP",
		Why:  "a static value takes precedence over DHCP",
		Look: "on {machine} list the routes: the default route must be via {gateway}", Remedy: "remove the static gateway on {machine}",
		places: homes(served), settings: func(b *Built, at Place) {
			b.typeIn(at.Adapter, leased(at.Adapter))
			a := b.here(at.Adapter)
			a.Gateway, a.DNS = subnet.Add(
				subnet.Last(at.Adapter.Segment.Subnet),
				-1,
			), at.Adapter.Segment.Port.Leases.DNS
		}},
	{Name: "guest-resolver-typed", Family: Naming, Weight: 5, Finding: "no-names",
		Says: "{machine} has a static DNS server that does not answer, in addition to DHCP",
		Why:  "a static value takes precedence over DHCP: addresses answer, names do not",
		Look: "on {machine} check its DNS servers: they must be those from DHCP", Remedy: "remove the static DNS server on {machine}",
		places: homes(served), settings: func(b *Built, at Place) {
			b.typeIn(at.Adapter, leased(at.Adapter))
			a := b.here(at.Adapter)
			a.Gateway, a.DNS = at.Adapter.Segment.Port.Leases.Router, []netip.Addr{
				subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1),
			}
		}},
	{Name: "guest-stale-lease", Family: Operating, Weight: 6, Finding: "",
		Says: "{machine} still has the lease of its former network",
		Why:  "it keeps the address of another network until it renews its lease",
		Look: "renew the lease on {machine}: then everything must be as planned", Remedy: "renew the lease on {machine}, or restart it",
		places: homes(served), settings: func(b *Built, at Place) {
			network := elsewhere
			if s := otherSegment(at.Adapter); s != nil {
				network = s.Subnet
			}
			b.hold(
				at.Adapter,
				simulator.Held{
					Address: netip.PrefixFrom(subnet.Add(network.Addr(), subnet.Size(network)/2), network.Bits()),
					Gateway: subnet.First(network),
					DNS:     []netip.Addr{subnet.First(network)},
				},
			)
		}},
	{Name: "guest-old-view", Family: Operating, Weight: 2, Finding: "",
		Says: "what {machine} shows is older than its lease: the view was not refreshed",
		Why:  "the page still shows no address while all works",
		Look: "close the view of the settings on {machine} and open it again", Remedy: "nothing is wrong but the view: refresh it",
		places: homes(served), settings: func(b *Built, at Place) {
			if b.Trouble.Shown == nil {
				b.Trouble.Shown = map[*plan.Adapter]simulator.Held{}
			}
			b.Trouble.Shown[b.here(at.Adapter)] = simulator.Held{}
		}},
}

// readdress gives a port another address, which its leases name where they named the
// old one.
func readdress(a *plan.Adapter, to netip.Prefix) {
	was := a.Address.Addr()
	if a.Address = to; a.Leases == nil {
		return
	}
	if a.Leases.Router == was {
		a.Leases.Router = to.Addr()
	}
	for i, d := range a.Leases.DNS {
		if d == was {
			a.Leases.DNS[i] = to.Addr()
		}
	}
}

// typeIn gives an adapter an address of its own, without a lease.
func (b *Built) typeIn(a *plan.Adapter, address netip.Prefix) {
	at := b.here(a)
	if at.How != plan.Static {
		at.Gateway, at.DNS = netip.Addr{}, nil
		if port := a.Gate(); port != nil && port.Address.IsValid() {
			at.Gateway, at.DNS = port.Address.Addr(), []netip.Addr{port.Address.Addr()}
		}
	}
	at.How, at.Address = plan.Static, address
	if !address.IsValid() {
		at.Gateway, at.DNS = netip.Addr{}, nil
	}
}

// hold has an adapter keep settings from before until it asks for others.
func (b *Built) hold(a *plan.Adapter, h simulator.Held) {
	if b.Trouble.Stale == nil {
		b.Trouble.Stale = map[*plan.Adapter]simulator.Held{}
	}
	b.Trouble.Stale[b.here(a)] = h
}

// served reports whether it is an adapter that an appliance gives its lease.
func served(a *plan.Adapter) bool {
	return leasing(a) && a.Segment.Port != nil && a.Segment.Port.Leases != nil
}

// leased returns an address that the adapter may have by its lease.
func leased(a *plan.Adapter) netip.Prefix {
	if a.Address.IsValid() {
		return a.Address
	}
	return netip.PrefixFrom(a.Segment.Port.Leases.Pool.To, a.Segment.Subnet.Bits())
}

// guestOn returns the address of somebody with one behind a port, or nobody's.
func guestOn(port *plan.Adapter) netip.Addr {
	for _, x := range port.Segment.Adapters {
		if x.Guest != nil && x.Address.IsValid() {
			return x.Address.Addr()
		}
	}
	if port.Leases != nil {
		return port.Leases.Pool.From
	}
	return netip.Addr{}
}

// wanNetwork returns the network of an appliance's WAN.
func wanNetwork(m *plan.Machine) netip.Prefix {
	if list := m.WAN(); len(list) > 0 && list[0].Plugged {
		return list[0].Segment.Subnet
	}
	return netip.Prefix{}
}

// otherSegment returns another segment that the adapter's appliance serves, or nil.
func otherSegment(a *plan.Adapter) *plan.Segment {
	for _, x := range a.Segment.Port.Machine.Adapters {
		if x.Role.Inside() && x.Segment != a.Segment && !x.Segment.Nowhere() {
			return x.Segment
		}
	}
	return nil
}
