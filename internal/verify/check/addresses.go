package check

import (
	"fmt"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// addresses are the findings about networks and addresses.
func addresses() []Entry {
	return []Entry{
		{
			Code: "overlap", Severity: Error, Title: "Two networks overlap",
			See:    "Some addresses answer from the wrong side, or nothing passes between the two networks.",
			Why:    "The appliance chooses the outgoing port by the destination network; with two that overlap it cannot.",
			Remedy: "Renumber one of them.",
			Old:    "pool: {reach: isolated, subnet: 10.83.48.0/24}",
			Bad:    "pool: {reach: isolated, subnet: 10.83.16.128/25}",
			find:   (*checker).overlap,
		},
		{
			Code: "site-overlap", Severity: Error, Title: "An inside network equals one of the host's",
			See:    "The lab cannot reach the machines of the local network, or the host loses its own network.",
			Why:    "An inside segment with the same addresses as one of the host's networks hides that network.",
			Remedy: "Renumber the segment; without subnet the plan chooses a free one.",
			Old:    "networks: [203.0.113.0/24]",
			Bad:    "networks: [203.0.113.0/24, 10.83.48.0/23]",
			find:   (*checker).siteOverlap,
		},
		{
			Code: "off-subnet", Severity: Error, Title: "An address outside its subnet",
			See:    "The machine reaches nothing, not even its default gateway.",
			Why:    "Machines of a segment reach each other directly only within one subnet.",
			Remedy: "Use an address of the segment's subnet.",
			Old:    "static: 10.83.16.10/24",
			Bad:    "static: 10.83.17.10/24",
			find:   (*checker).offSubnet,
		},
		{
			Code: "reserved-address", Severity: Error, Title: "The network or broadcast address is assigned",
			See:    "The system refuses the address, or nothing answers it.",
			Why:    "The first address of a subnet names it and the last is its broadcast address; no machine may have them.",
			Remedy: "Use an address between them.",
			Old:    "static: 10.83.16.10/24",
			Bad:    "static: 10.83.16.255/24",
			find:   (*checker).reservedAddress,
		},
		{
			Code: "narrow-mask", Severity: Error, Title: "A prefix length that does not fit",
			See:    "The machine reaches some neighbors but not others, or only itself.",
			Why:    "All machines of a segment need the same prefix length, and it has to leave room for them.",
			Remedy: "Use the segment's prefix length.",
			Old:    "static: 10.83.16.10/24",
			Bad:    "static: 10.83.16.10/28",
			find:   (*checker).narrowMask,
		},
		{
			Code: "duplicate-address", Severity: Error, Title: "One IP address on two machines",
			See:    "Both lose connections alternately; the system warns of an address conflict.",
			Why:    "Neighbors keep one MAC address for each IP address, and it keeps changing.",
			Remedy: "Give one of them another address.",
			Old:    "  heron: desks",
			Bad:    "  heron: {segment: desks, reserve: 10.83.16.10}",
			find:   (*checker).twinAddress,
		},
		{
			Code: "wrong-gateway", Severity: Error, Title: "The default gateway is not an appliance",
			See:    "Neighbors answer, but nothing beyond the segment does.",
			Why:    "A machine sends what is not for its segment to its default gateway; if that is not the appliance, traffic is lost or bypasses it.",
			Remedy: "Set the default gateway to the appliance's port.",
			Old:    "gateway: 10.83.16.1, dns",
			Bad:    "gateway: 10.83.16.254, dns",
			find:   (*checker).wrongGateway,
		},
		{
			Code: "no-names", Severity: Warning, Title: "No reachable DNS server",
			See:    "Addresses answer but names do not: a ping by address works, a page by name does not open.",
			Why:    "Without a DNS server that it can reach, a machine resolves no names.",
			Remedy: "Set the appliance's address as the DNS server.",
			Old:    "dns: [10.83.16.1]",
			Bad:    "dns: [10.83.16.77]",
			find:   (*checker).noNames,
		},
		{
			Code: "inside-gateway", Severity: Warning, Title: "An upstream gateway on an inside port",
			See:    "The appliance sends outbound traffic back inside.",
			Why:    "A port with a gateway counts as a path outside. Inside ports have none.",
			Remedy: "Remove the gateway.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, address: 10.83.16.1/24, gateway: 10.83.16.9,",
			find:   (*checker).insideGateway,
		},
		{
			Code: "wan-no-gateway", Severity: Error, Title: "A static WAN without a gateway",
			See:    "The appliance reaches its neighbors on the WAN but nothing beyond.",
			Why:    "With a static address the default gateway has to be set as well.",
			Remedy: "Set the upstream router's address as the gateway.",
			Old:    ", gateway: 203.0.113.1, mac",
			Bad:    ", mac",
			find:   (*checker).wanNoGateway,
		},
		{
			Code: "wan-in-pool", Severity: Warning, Title: "A static WAN address inside the site's DHCP pool",
			See:    "It works for days, until another machine gets the same address and both lose connections alternately.",
			Why:    "The site's DHCP server does not know that the address is in use.",
			Remedy: "Let the site reserve the address for the WAN's MAC address, or use one outside the pool.",
			Old:    "address: 203.0.113.7/24",
			Bad:    "address: 203.0.113.60/24",
			find:   (*checker).wanInPool,
		},
		{
			Code: "default-clash", Severity: Warning, Title: "The factory network is already in use",
			See:    "At the first start the appliance answers at the site router's address, or the console shows one network twice.",
			Why:    "Before setup, the appliance has its factory address on its inside port; where the WAN or the site has the same network, it cannot route.",
			Remedy: "Keep the WAN disconnected until the inside address is set.",
			Old:    "networks: [203.0.113.0/24]",
			Bad:    "networks: [203.0.113.0/24, 192.168.77.0/24]",
			find:   (*checker).defaultClash,
		},
		{
			Code: "adjacent-subnets", Severity: Note, Title: "Two networks that a wider mask would join",
			See:    "After a mask one bit too wide, half of one network is looked for on the other.",
			Why:    "A mask one or two bits wider makes one network of the two.",
			Remedy: "Choose networks farther apart.",
			Old:    "pool: {reach: isolated, subnet: 10.83.48.0/24}",
			Bad:    "pool: {reach: isolated, subnet: 10.83.17.0/24}",
			find:   (*checker).nearSubnet,
		},
		{
			Code: "public-addresses-inside", Severity: Warning, Title: "Public addresses inside",
			See:    "Some destinations outside can never be reached from the lab.",
			Why:    "Addresses that are not private belong to others; used inside, they hide their owners.",
			Remedy: "Use private addresses (RFC 1918).",
			Old:    "pool: {reach: isolated, subnet: 10.83.48.0/24}",
			Bad:    "pool: {reach: isolated, subnet: 198.51.100.0/24}",
			find:   (*checker).borrowedSpace,
		},
		{
			Code: "tight-subnet", Severity: Warning, Title: "Few addresses left",
			See:    "The next guest gets no address.",
			Why:    "Less than a fifth of the addresses are free.",
			Remedy: "Use a larger subnet.",
			Old:    "pool: {reach: isolated, subnet: 10.83.48.0/24}",
			Bad:    "pool: {reach: isolated, subnet: 10.83.48.0/29}",
			find:   (*checker).tightSubnet,
		},
	}
}

func (c *checker) overlap() {
	var table bart.Table[*plan.Segment]
	for _, s := range c.p.Segments {
		// Both sides of a transparent appliance are one network on purpose.
		var old *plan.Segment
		for _, list := range []func(func(netip.Prefix, *plan.Segment) bool){table.Supernets(s.Subnet), table.Subnets(s.Subnet)} {
			for _, other := range list {
				if old == nil && c.related(s, other) && s.Bridged != other && other.Bridged != s &&
					(s.Bridged == nil || s.Bridged != other.Bridged) {
					old = other
				}
			}
		}
		if old != nil {
			c.find(
				s.Name,
				s.Lab.At("subnet"),
				"choose another subnet for one of them",
				"%s (%s) overlaps %s (%s)",
				s.Name,
				s.Subnet,
				old.Name,
				old.Subnet,
			)
			continue
		}
		table.Insert(s.Subnet, s)
	}
}

// related reports whether one machine could have to tell the two segments apart:
// something stands on both, or one lies on the way out of the other. Benches that
// are clones of each other, each behind a translation of its own, are not.
func (c *checker) related(s, t *plan.Segment) bool {
	if s == t || s.HostLeg.IsValid() && t.HostLeg.IsValid() {
		return true
	}
	onWay := func(from, to *plan.Segment) bool {
		seen := map[*plan.Segment]bool{}
		next := []*plan.Segment{from}
		for len(next) > 0 {
			at := next[0]
			next = next[1:]
			if seen[at] {
				continue
			}
			seen[at] = true
			for _, a := range at.Adapters {
				out := a.Guest != nil || a.Role != lab.WAN || !slices.Contains(a.Machine.Masq, to)
				for _, b := range a.Machine.Adapters {
					if b.Segment == to && out {
						return true
					}
					if b.Role == lab.WAN && a.Role != lab.WAN {
						next = append(next, b.Segment)
					}
				}
			}
		}
		return false
	}
	return onWay(s, t) || onWay(t, s)
}

func (c *checker) siteOverlap() {
	var table bart.Lite
	for _, n := range c.p.Lab.Site.Networks {
		table.Insert(n)
	}
	for _, s := range c.p.Segments {
		if s.Reach == lab.Upstream || s.Bridged != nil || !table.OverlapsPrefix(s.Subnet) {
			continue
		}
		n, _ := subnet.Overlap(s.Subnet, c.p.Lab.Site.Networks)
		c.find(
			s.Name,
			s.Lab.At("subnet"),
			"choose another subnet, or leave it out",
			"%s (%s) overlaps %s, which the host is on",
			s.Name,
			s.Subnet,
			n,
		)
	}
}

// at returns the place of a key of the adapter in the file.
func at(a *plan.Adapter, key string) lab.Pos {
	if a.Port != nil {
		return a.Port.At(key)
	}
	return a.Guest.At(key)
}

// keyOf returns the key that holds the adapter's address.
func keyOf(a *plan.Adapter) string {
	switch {
	case a.Port != nil:
		return "address"
	case a.How == plan.Reservation:
		return "reserve"
	}
	return "static"
}

func who(a *plan.Adapter) string {
	if a.Port != nil {
		return portName(a)
	}
	return a.Machine.Name
}

func (c *checker) offSubnet() {
	for _, a := range c.adapters() {
		// A reservation outside is one of DHCP's; here it is what is static.
		if a.How == plan.Static && a.Address.IsValid() && !a.Segment.Subnet.Contains(a.Address.Addr()) {
			c.find(
				who(a),
				at(a, keyOf(a)),
				useOf(a.Segment),
				"%s has %s, but %s",
				who(a),
				a.Address,
				whySubnet(a.Segment),
			)
		}
	}
	for _, s := range c.p.Segments {
		if gw := s.Lab.Gateway; gw.IsValid() && !s.Subnet.Contains(gw) {
			c.find(s.Name, s.Lab.At("gateway"), useOf(s), "the gateway of %s is %s, but %s", s.Name, gw, whySubnet(s))
		}
		if leg := s.HostLeg; leg.IsValid() && !s.Subnet.Contains(leg.Addr()) {
			c.find(
				s.Name,
				s.Lab.At("host-address"),
				useOf(s),
				"the host has %s on %s, but %s",
				leg.Addr(),
				s.Name,
				whySubnet(s),
			)
		}
	}
}

func (c *checker) reservedAddress() {
	for _, a := range c.adapters() {
		if a.Address.IsValid() && subnet.Reserved(a.Segment.Subnet, a.Address.Addr()) {
			c.find(
				who(a),
				at(a, keyOf(a)),
				fmt.Sprintf("take one from %s to %s", subnet.First(a.Segment.Subnet), subnet.Last(a.Segment.Subnet)),
				"%s has %s, the network or broadcast address of %s",
				who(a),
				a.Address.Addr(),
				a.Segment.Name,
			)
		}
	}
	for _, s := range c.p.Segments {
		if s.HostLeg.IsValid() && subnet.Reserved(s.Subnet, s.HostLeg.Addr()) {
			c.find(
				s.Name,
				s.Lab.At("host-address"),
				"take another address",
				"the host has %s, the network or broadcast address of %s",
				s.HostLeg.Addr(),
				s.Name,
			)
		}
	}
}

func (c *checker) narrowMask() {
	for _, s := range c.p.Segments {
		if n := len(s.Adapters); s.Subnet.Bits() >= 31 && n > subnet.Usable(s.Subnet) {
			c.find(
				s.Name,
				s.Lab.At("subnet"),
				"take a shorter prefix",
				"%s is %s, and %d machines are on it",
				s.Name,
				s.Subnet,
				n,
			)
		}
	}
	for _, a := range c.adapters() {
		if a.How != plan.Static || !a.Address.IsValid() || a.Address.Bits() == a.Segment.Subnet.Bits() {
			continue
		}
		right := netip.PrefixFrom(a.Address.Addr(), a.Segment.Subnet.Bits()).String()
		c.find(who(a), at(a, keyOf(a)), "write "+right, "%s has the mask /%d (%s), and %s has /%d (%s)", who(a), a.Address.Bits(),
			subnet.Mask(a.Address.Bits()),
			a.Segment.Name, a.Segment.Subnet.Bits(), subnet.Mask(a.Segment.Subnet.Bits())).
			set(a.Object(), keyOf(a),
				right)
	}
}

func (c *checker) twinAddress() {
	type holder struct {
		name string
		on   *plan.Segment
	}
	holders := map[netip.Addr][]holder{}
	take := func(a netip.Addr, name string, on *plan.Segment, pos lab.Pos) {
		for _, old := range holders[a] {
			if old.name != name && c.related(old.on, on) {
				c.find(name, pos, "give one of them another address", "%s has %s, and so has %s", name, a, old.name)
				return
			}
		}
		holders[a] = append(holders[a], holder{name, on})
	}
	for _, s := range c.p.Segments {
		if s.Reach == lab.Upstream && s.Lab.Gateway.IsValid() {
			take(s.Gateway, "the gateway of "+s.Name, s, s.Lab.At("gateway"))
		}
		if s.HostLeg.IsValid() {
			take(s.HostLeg.Addr(), "the host", s, s.Lab.At("host-address"))
		}
	}
	for _, a := range c.adapters() {
		if a.Address.IsValid() {
			take(a.Address.Addr(), who(a), a.Segment, at(a, keyOf(a)))
		}
	}
}
