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
		Why:    "leases name the address that it has; who has {address} set by hand finds nobody there",
		Look:   "on the console of {machine}, read the address of {adapter}: it must be {planned}",
		Remedy: "give {adapter} the address {planned}",
		places: ports(faces), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			readdress(a, netip.PrefixFrom(free(at.Adapter.Segment, at.Adapter.Segment.Subnet), a.Address.Bits()))
		}},
	{Name: "port-off-subnet", Family: Addressing, Weight: 4, Finding: "off-subnet",
		Says:   "{adapter} has an address of another network than {subnet}",
		Why:    "it and the guests of {home} are not in one network: leases do not fit its address",
		Look:   "on the console of {machine}, read the address of {adapter}: it must be {planned}",
		Remedy: "give {adapter} the address {planned}",
		places: ports(faces), settings: func(b *Built, at Place) { readdress(b.here(at.Adapter), shifted(at.Adapter.Address)) }},
	{Name: "port-mask-narrow", Family: Addressing, Weight: 3, Finding: "narrow-mask",
		Says:   "the mask of {adapter} is too long",
		Why:    "the appliance takes part of {subnet} for outside, and leases carry the wrong mask on",
		Look:   "on the console of {machine}, read the mask of {adapter}: it must be that of {planned}",
		Remedy: "give {adapter} the mask of {planned}",
		places: ports(func(a *plan.Adapter) bool { return faces(a) && a.Address.Bits() < 29 }), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = narrow(a.Address, guestOn(at.Adapter))
		}},
	{Name: "port-mask-wide", Family: Addressing, Weight: 2, Finding: "overlap",
		Says:   "the mask of {adapter} is too short",
		Why:    "the appliance takes other networks for its own segment {home}, and leases carry the wrong mask on",
		Look:   "on the console of {machine}, read the mask of {adapter}: it must be that of {planned}",
		Remedy: "give {adapter} the mask of {planned}",
		places: ports(func(a *plan.Adapter) bool { return faces(a) && a.Address.Bits() > 16 }), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = netip.PrefixFrom(a.Address.Addr(), max(a.Address.Bits()-8, 8))
		}},
	{Name: "port-without-address", Family: Addressing, Weight: 4, Finding: "",
		Says:   "{adapter} has no address: its setup was not finished",
		Why:    "on {home} the appliance neither answers nor serves DHCP",
		Look:   "on the console of {machine}, read the address of {adapter}: it must be {planned}",
		Remedy: "give {adapter} the address {planned}, and switch its DHCP server on where the plan has one",
		places: ports(faces), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address, a.Leases = plan.NoAddress, netip.Prefix{}, nil
		}},
	{Name: "inside-as-outside", Family: Addressing, Weight: 5, Finding: "overlap",
		Says:   "{adapter} has an address of the network that the WAN is on",
		Why:    "the appliance has the same network on both sides, and does not know where outside is",
		Look:   "on the console of {machine}, compare the networks of {adapter} and the WAN: they must differ",
		Remedy: "give {adapter} the address {planned}, and its leases the pool of the plan",
		places: ports(func(a *plan.Adapter) bool { return faces(a) && wanNetwork(a.Machine).IsValid() }), settings: func(b *Built, at Place) {
			a, network := b.here(at.Adapter), wanNetwork(at.Adapter.Machine)
			at3 := func(n int) netip.Addr { return subnet.Add(network.Addr(), subnet.Size(network)*n/8) }
			readdress(a, netip.PrefixFrom(at3(3), network.Bits()))
			if a.Leases != nil {
				a.Leases.Pool, a.Leases.Reservations = plan.Pool{From: at3(4), To: at3(5)}, nil
			}
		}},
	{Name: "wan-typed", Family: Addressing, Weight: 4, Finding: "off-subnet",
		Says:   "{adapter} has a typed-in address of another network, instead of a lease",
		Why:    "nobody upstream answers for its gateway",
		Look:   "on the console of {machine}, read how {adapter} gets its address: it must be by a lease",
		Remedy: "set {adapter} to ask for a lease",
		places: ports(leasedWAN), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address = plan.Static, netip.PrefixFrom(subnet.Add(elsewhere.Addr(), 7), elsewhere.Bits())
			a.Gateway, a.DNS = subnet.First(elsewhere), []netip.Addr{subnet.First(elsewhere)}
		}},
	{Name: "wan-not-asking", Family: Addressing, Weight: 3, Finding: "",
		Says:   "{adapter} does not ask for an address",
		Why:    "without an address on the WAN nothing goes out, from the appliance as from guests",
		Look:   "on the console of {machine}, read how {adapter} gets its address: it must be {planned}",
		Remedy: "set {adapter} to get its address as planned: {planned}",
		places: ports(func(a *plan.Adapter) bool { return wan(a) && a.How == plan.FromAbove }), settings: func(b *Built, at Place) {
			b.here(at.Adapter).How = plan.NoAddress
		}},
	{Name: "wan-asking", Family: Addressing, Weight: 3, Finding: "",
		Says:   "{adapter} asks for a lease instead of having {planned}",
		Why:    "it gets another address, or none: what outside knows it by does not lead to it",
		Look:   "on the console of {machine}, read the address of {adapter}: it must be {planned}",
		Remedy: "type in {planned} at {adapter}, with its gateway",
		places: ports(typedWAN), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address, a.Gateway, a.DNS = plan.FromAbove, netip.Prefix{}, netip.Addr{}, nil
		}},
	{Name: "wan-without-gateway", Family: Addressing, Weight: 4, Finding: "wan-no-gateway",
		Says:   "{adapter} has no gateway",
		Why:    "the appliance reaches the site's network and nothing beyond it",
		Look:   "on the console of {machine}, list its routes: the way to everywhere must go by {gateway}",
		Remedy: "type in the gateway {gateway} at {adapter}",
		places: ports(gatewayWAN), settings: func(b *Built, at Place) { b.here(at.Adapter).Gateway = netip.Addr{} }},
	{Name: "wan-gateway-wrong", Family: Addressing, Weight: 4, Finding: "off-subnet",
		Says:   "{adapter} has a gateway that is not there",
		Why:    "nothing answers for its next hop",
		Look:   "on the console of {machine}, list its routes: the way to everywhere must go by {gateway}",
		Remedy: "type in the gateway {gateway} at {adapter}",
		places: ports(gatewayWAN), settings: func(b *Built, at Place) {
			b.here(at.Adapter).Gateway = free(at.Adapter.Segment, at.Adapter.Segment.Subnet)
		}},
	{Name: "wan-off-subnet", Family: Addressing, Weight: 3, Finding: "off-subnet",
		Says:   "{adapter} has an address of another network than {subnet}",
		Why:    "its gateway is not in its network",
		Look:   "on the console of {machine}, read the address of {adapter}: it must be {planned}",
		Remedy: "type in {planned} at {adapter}",
		places: ports(typedWAN), settings: func(b *Built, at Place) { b.here(at.Adapter).Address = shifted(at.Adapter.Address) }},
	{Name: "wan-mask-narrow", Family: Addressing, Weight: 2, Finding: "narrow-mask",
		Says:   "the mask of {adapter} is too long",
		Why:    "its gateway falls outside of what it takes for its network",
		Look:   "on the console of {machine}, read the mask of {adapter}: it must be that of {planned}",
		Remedy: "type in {planned} at {adapter}",
		places: ports(func(a *plan.Adapter) bool { return typedWAN(a) && a.Gateway.IsValid() && a.Address.Bits() < 29 }),
		settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = narrow(a.Address, a.Gateway)
		}},
	{Name: "wan-address-taken", Family: Addressing, Weight: 3, Finding: "duplicate-address",
		Says:   "another machine on {home} has the address of {adapter}",
		Why:    "answers from outside go to whoever spoke last",
		Look:   "with {adapter} unplugged, ping {address} from {home}: nobody may answer",
		Remedy: "give {adapter} an address that is free, outside the site's pool",
		places: ports(typedWAN), wiring: stranger},
	{Name: "wan-drops-private", Family: Filtering, Weight: 3, Finding: "private-wan-blocked",
		Says:   "{adapter} drops packets from private sources, and stands on a private network itself",
		Why:    "answers of its own router and DNS server come from private addresses",
		Look:   "on the admin page of {machine}, check whether the WAN drops private sources",
		Remedy: "let {adapter} take packets from private sources, as long as {home} is private",
		places: ports(func(a *plan.Adapter) bool {
			return wan(a) && !a.Port.DropPrivate && subnet.Private(a.Segment.Subnet.Addr())
		}),
		wiring: func(l *lab.Lab, at Place) { adapterIn(l, at.Adapter).port.DropPrivate = true }},
}

var guestKinds = []*Kind{
	{Name: "guest-mask-narrow", Family: Addressing, Weight: 5, Finding: "narrow-mask",
		Says: "{machine} has a mask that is too long",
		Why:  "it takes its next hop or its neighbors for someone far away",
		Look: "on {machine} read the mask: it must be that of {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && a.Address.Bits() < 29 }),
		settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = narrow(a.Address, a.Gateway)
		}},
	{Name: "guest-mask-wide", Family: Addressing, Weight: 3, Finding: "narrow-mask",
		Says: "{machine} has a mask that is too short",
		Why:  "it looks for other segments on its own, and does not ask the appliance",
		Look: "on {machine} read the mask: it must be that of {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && a.Address.Bits() > 16 }),
		settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = netip.PrefixFrom(a.Address.Addr(), max(a.Address.Bits()-8, 8))
		}},
	{Name: "guest-gateway-wrong", Family: Addressing, Weight: 6, Finding: "wrong-gateway",
		Says: "{machine} has a gateway that is not there",
		Why:  "it reaches its own segment and nothing beyond",
		Look: "on {machine} list the routes: the way to everywhere must go by {gateway}", Remedy: "type in the gateway {gateway} on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && a.Gateway.IsValid() }),
		settings: func(b *Built, at Place) {
			b.here(at.Adapter).Gateway = free(at.Adapter.Segment, at.Adapter.Segment.Subnet)
		}},
	{Name: "guest-without-gateway", Family: Addressing, Weight: 6, Finding: "wrong-gateway",
		Says: "{machine} has no gateway",
		Why:  "it knows no way beyond its own segment, and says so at once",
		Look: "on {machine} list the routes: the way to everywhere must go by {gateway}", Remedy: "type in the gateway {gateway} on {machine}",
		places:   homes(func(a *plan.Adapter) bool { return typed(a) && a.Gateway.IsValid() }),
		settings: func(b *Built, at Place) { b.here(at.Adapter).Gateway = netip.Addr{} }},
	{Name: "guest-address-wrong", Family: Addressing, Weight: 5, Finding: "",
		Says: "{machine} has another address of {home} than planned",
		Why:  "it gets out, and who looks for it at {address} finds nobody",
		Look: "on {machine} read the address: it must be {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(typed), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.Address = netip.PrefixFrom(free(at.Adapter.Segment, at.Adapter.Segment.Subnet), a.Address.Bits())
		}},
	{Name: "guest-off-subnet", Family: Addressing, Weight: 5, Finding: "off-subnet",
		Says: "{machine} has an address of another network than {subnet}",
		Why:  "its gateway is not in its network, and nobody sends answers to where it is",
		Look: "on {machine} read the address: it must be {planned}", Remedy: "type in {planned} on {machine}",
		places: homes(typed), settings: func(b *Built, at Place) { b.here(at.Adapter).Address = shifted(at.Adapter.Address) }},
	{Name: "guest-has-neighbors-address", Family: Addressing, Weight: 4, Finding: "duplicate-address",
		Says: "{machine} has the address of {other}",
		Why:  "answers to both go to whichever spoke last",
		Look: "on {machine} read the address: it must be {planned}", Remedy: "give {machine} its own address: {planned}",
		places: func(p *plan.Plan) []Place {
			var out []Place
			for _, at := range homes(nil)(p) {
				for _, x := range at.Adapter.Segment.Adapters {
					if x.Guest != nil && x.Machine != at.Adapter.Machine && x.Address.IsValid() && x.Plugged && at.Other == nil {
						at.Other = x
						out = append(out, at)
					}
				}
			}
			return out
		},
		settings: func(b *Built, at Place) { b.typeIn(at.Adapter, at.Other.Address) }},
	{Name: "guest-has-gateways-address", Family: Addressing, Weight: 3, Finding: "duplicate-address",
		Says: "{machine} has the address of {other-adapter}, its own gateway",
		Why:  "its neighbors take it for the appliance as soon as it speaks",
		Look: "on {machine} read the address: it must not be {other-address}", Remedy: "give {machine} its own address: {planned}",
		places: gates, settings: func(b *Built, at Place) { b.typeIn(at.Adapter, at.Other.Address) }},
	{Name: "guest-resolver-wrong", Family: Naming, Weight: 4, Finding: "no-names",
		Says: "{machine} asks a DNS server that is not there",
		Why:  "numbers answer and names do not",
		Look: "on {machine} read its DNS servers: they must be as planned", Remedy: "type in the planned DNS server on {machine}",
		places: homes(func(a *plan.Adapter) bool { return typed(a) && len(a.DNS) > 0 }),
		settings: func(b *Built, at Place) {
			b.here(at.Adapter).DNS = []netip.Addr{free(at.Adapter.Segment, at.Adapter.Segment.Subnet)}
		}},
	{Name: "guest-without-resolver", Family: Naming, Weight: 4, Finding: "no-names",
		Says: "{machine} has no DNS server",
		Why:  "numbers answer and names fail at once",
		Look: "on {machine} read its DNS servers: they must be as planned", Remedy: "type in the planned DNS server on {machine}",
		places:   homes(func(a *plan.Adapter) bool { return typed(a) && len(a.DNS) > 0 }),
		settings: func(b *Built, at Place) { b.here(at.Adapter).DNS = nil }},
	{Name: "guest-asks-for-lease", Family: Addressing, Weight: 5, Finding: "",
		Says: "{machine} asks for a lease instead of having {planned}",
		Why:  "it has an address of the pool, or none, and who looks for it at {address} finds nobody",
		Look: "on {machine} look how it gets its address: {planned} must be set by hand", Remedy: "type in {planned} on {machine}",
		places: homes(typed), settings: func(b *Built, at Place) {
			a := b.here(at.Adapter)
			a.How, a.Address, a.Gateway, a.DNS = plan.Lease, netip.Prefix{}, netip.Addr{}, nil
		}},
	{Name: "guest-typed", Family: Addressing, Weight: 6, Finding: "off-subnet",
		Says: "{machine} has typed-in settings of another network, and asks for no lease",
		Why:  "nobody on {home} is in its network",
		Look: "on {machine} look how it gets its address: it must ask for a lease", Remedy: "set {machine} to ask for a lease",
		places: homes(leasing), settings: func(b *Built, at Place) {
			b.typeIn(at.Adapter, netip.PrefixFrom(subnet.Add(elsewhere.Addr(), 23), elsewhere.Bits()))
			a := b.here(at.Adapter)
			a.Gateway, a.DNS = subnet.First(elsewhere), []netip.Addr{subnet.First(elsewhere)}
		}},
	{Name: "guest-not-asking", Family: Addressing, Weight: 4, Finding: "",
		Says: "{machine} does not ask for a lease",
		Why:  "nothing gives it an address",
		Look: "on {machine} look how it gets its address: it must ask for a lease", Remedy: "set {machine} to ask for a lease",
		places: homes(leasing), settings: func(b *Built, at Place) { b.typeIn(at.Adapter, netip.Prefix{}) }},
	{Name: "guest-gateway-typed", Family: Addressing, Weight: 3, Finding: "",
		Says: "{machine} has a gateway set by hand that is not there, beside its lease",
		Why:  "what is static goes before what the lease says",
		Look: "on {machine} list the routes: the way to everywhere must go by {gateway}", Remedy: "take the typed-in gateway off {machine}",
		places: homes(served), settings: func(b *Built, at Place) {
			b.typeIn(at.Adapter, leased(at.Adapter))
			a := b.here(at.Adapter)
			a.Gateway, a.DNS = subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1), at.Adapter.Segment.Port.Leases.DNS
		}},
	{Name: "guest-resolver-typed", Family: Naming, Weight: 5, Finding: "no-names",
		Says: "{machine} has a DNS server set by hand that does not answer, beside its lease",
		Why:  "what is static goes before what the lease says: numbers answer and names do not",
		Look: "on {machine} read its DNS servers: they must be those of the lease", Remedy: "take the typed-in DNS server off {machine}",
		places: homes(served), settings: func(b *Built, at Place) {
			b.typeIn(at.Adapter, leased(at.Adapter))
			a := b.here(at.Adapter)
			a.Gateway, a.DNS = at.Adapter.Segment.Port.Leases.Router, []netip.Addr{subnet.Add(subnet.Last(at.Adapter.Segment.Subnet), -1)}
		}},
	{Name: "guest-stale-lease", Family: Operating, Weight: 6, Finding: "",
		Says: "{machine} still has the lease of where it was before",
		Why:  "it keeps the address of another network until it asks again",
		Look: "have {machine} ask for its lease again: then all must be as planned", Remedy: "renew the lease on {machine}, or restart it",
		places: homes(served), settings: func(b *Built, at Place) {
			network := elsewhere
			if s := otherSegment(at.Adapter); s != nil {
				network = s.Subnet
			}
			b.hold(at.Adapter, simulator.Held{Address: netip.PrefixFrom(subnet.Add(network.Addr(), subnet.Size(network)/2), network.Bits()),
				Gateway: subnet.First(network), DNS: []netip.Addr{subnet.First(network)}})
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
