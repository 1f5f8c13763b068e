package identify

import (
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// CompareNetworks holds definitions of virtual networks against the plan's segments: who is let out by them, where the host
// has an address, and who serves DHCP there.
func CompareNetworks(p *plan.Plan, list []listing.Network) []Fact {
	c := &comparison{p: p, m: &plan.Machine{Name: Host}}
	shown := map[*plan.Segment]bool{}
	for _, n := range list {
		i := slices.IndexFunc(p.Segments, func(s *plan.Segment) bool {
			return !s.Nowhere() && (s.Called() == n.Name || s.Name == n.Name || p.Name+"-"+s.Name == n.Name)
		})
		if i < 0 {
			c.unseen("which segment it is: write "+"known-as: "+n.Name+" at that segment in the lab file",
				"the network %s is none that the lab file names", n.Name)
			continue
		}
		shown[p.Segments[i]] = true
		c.network(p.Segments[i], n)
	}
	var open []string
	for _, s := range p.Segments {
		if shown[s] && s.Reach == lab.Isolated && s.Lab.Uplink == "" {
			open = append(open, s.Name)
		}
		if !shown[s] && s.Tag == 0 && !s.Nowhere() {
			c.unseen("the definition of the network "+s.Called(), "the network of %s is not shown", s.Name)
		}
	}
	if open != nil {
		c.remark("bastion export LAB --kind libvirt writes closed.nft, which closes them to the host",
			"a network without an address is not closed to its own host, which answers there for each of its addresses: %s",
			strings.Join(open, ", "))
	}
	return c.sorted()
}

// network holds one definition against its segment.
func (c *comparison) network(s *plan.Segment, n listing.Network) {
	c.forwarding(s, n)
	serves := s.HostPool != nil || s.Reach == lab.Upstream && s.Lab.Join == "nat"
	switch {
	case n.DHCP && !serves:
		c.wrong(
			"two-dhcp-servers",
			"remove the <dhcp> of "+n.Name,
			"%s: the host serves DHCP on %s; it is not planned there",
			n.Name,
			s.Name,
		)
	case n.DHCP:
		c.planned("%s: the host serves DHCP, as planned", n.Name)
	case s.HostPool != nil:
		c.wrong(
			"no-dhcp-server",
			"add a <dhcp> with the range "+s.HostPool.String(),
			"%s: the host serves no DHCP on %s; it is planned to",
			n.Name,
			s.Name,
		)
	default:
		c.planned("%s: the host serves no DHCP", n.Name)
	}
	c.hostAddress(s, n)
}

// forwarding judges whom the network lets out.
func (c *comparison) forwarding(s *plan.Segment, n listing.Network) {
	bridged := slices.Contains([]string{"bridge", "private", "vepa", "passthrough", "hostdev"}, n.Forward)
	switch planned := s.Reach; {
	case planned != lab.Upstream && n.Forward != "":
		c.wrong("guest-on-wan", "remove the <forward> of "+n.Name+": as it is, guests on it bypass the appliance",
			"%s: mode %s lets its guests out; %s is planned %s", n.Name, n.Forward, s.Name, planned)
	case planned != lab.Upstream:
		c.planned("%s: isolated, no forwarding", n.Name)
	case n.Forward == "":
		c.wrong(
			"no-path-outside",
			"give it a <forward>",
			"%s: it leads nowhere; %s is planned upstream",
			n.Name,
			s.Name,
		)
	case s.Lab.Join == "nat" && bridged:
		c.wrong("", "set the mode nat", "%s: bridged (mode %s); %s is planned behind NAT", n.Name, n.Forward, s.Name)
	case s.Lab.Join == "bridged" && !bridged:
		c.wrong("", "set the mode bridge", "%s: mode %s; %s is planned bridged", n.Name, n.Forward, s.Name)
	case s.Lab.Uplink != "" && bridged && len(n.Uplinks) > 0 && !slices.Contains(n.Uplinks, s.Lab.Uplink):
		c.wrong(
			"",
			"bridge it to "+s.Lab.Uplink,
			"%s: bridged to %s (planned: %s)",
			n.Name,
			strings.Join(n.Uplinks, ", "),
			s.Lab.Uplink,
		)
	default:
		c.planned("%s: mode %s, upstream", n.Name, n.Forward)
	}
}

// hostAddress judges where the host has an address on the network.
func (c *comparison) hostAddress(s *plan.Segment, n listing.Network) {
	planned := s.HostLeg
	if s.Reach == lab.Upstream && s.Lab.Join == "nat" && s.Gateway.IsValid() && !s.Unknown() {
		planned = netip.PrefixFrom(s.Gateway, s.Subnet.Bits())
	}
	for _, at := range n.Address {
		switch {
		case !at.Addr().Is4():
		case at == planned:
			c.planned("%s: the host has %s", n.Name, at)
		case planned.IsValid():
			c.wrong("", "set "+planned.String(), "%s: the host has %s (planned: %s)", n.Name, at, planned)
		case s.Reach != lab.Upstream:
			c.wrong(
				"dual-homed-guest",
				"remove the <ip> of "+n.Name,
				"%s: the host has %s on %s; it is planned to have no address there",
				n.Name,
				at,
				s.Name,
			)
		}
	}
	if planned.IsValid() && len(n.Address) == 0 && s.Reach != lab.Upstream {
		c.wrong(
			"",
			"give it the address "+planned.String(),
			"%s: the host has no address on %s (planned: %s)",
			n.Name,
			s.Name,
			planned,
		)
	}
}
