package check

import (
	"net/netip"

	"github.com/gaissmai/bart"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// mayGoOutside reports whether some rule lets the adapter's machine out.
func (c *checker) mayGoOutside(a *plan.Adapter) bool {
	p := a.Segment.Port
	return p != nil && len(c.passing(p.Machine, c.source(a), c.outside(p.Machine))) > 0
}

func (c *checker) wrongGateway() {
	for _, g := range c.guests() {
		for _, a := range g.Adapters {
			if a.How != plan.Static || !a.Segment.Inside() || a.Segment.Port == nil ||
				!a.Segment.Port.Address.IsValid() {
				continue
			}
			right := false
			for _, other := range a.Segment.Adapters {
				right = right || other.Port != nil && other.Address.IsValid() && other.Address.Addr() == a.Gateway
			}
			port := a.Segment.Port
			switch {
			case right:
			case a.Gateway.IsValid():
				c.find(g.Name, at(a, "gateway"), "write gateway: "+port.Address.Addr().String(), "%s has the gateway %s, and on %s %s is at %s",
					g.Name, a.Gateway, a.Segment.Name, port.Machine.Name, port.Address.Addr()).
					set(a.Object(), "gateway", port.Address.Addr().String())
			case c.mayGoOutside(a):
				c.find(g.Name, a.Pos, "write gateway: "+port.Address.Addr().String(), "%s has no gateway, and may go outside", g.Name).
					set(a.Object(),
						"gateway", port.Address.Addr().String())
			}
		}
	}
}

func (c *checker) noNames() {
	for _, g := range c.guests() {
		for _, a := range g.Adapters {
			if a.How != plan.Static || !a.Segment.Inside() || !c.mayGoOutside(a) {
				continue
			}
			port := a.Segment.Port
			good := false
			for _, d := range a.DNS {
				if a.Segment.Subnet.Contains(d) {
					for _, other := range a.Segment.Adapters {
						good = good || other.Address.IsValid() && other.Address.Addr() == d
					}
				} else { // beyond: the rules must let names through
					_, action := port.Machine.Decide(plan.Flow{Source: a.Address.Addr(), Destination: d, Proto: lab.UDP, Port: 53})
					good = good || action == lab.Allow
				}
			}
			if !good && port.Address.IsValid() {
				right := port.Address.Addr().String()
				c.find(g.Name, at(a, "dns"), "write dns: ["+right+"]", "%s may go outside and has no DNS server that it can reach",
					g.Name).
					set(a.Object(), "dns", "["+right+"]")
			}
		}
	}
}

func (c *checker) insideGateway() {
	for _, m := range c.p.Running() {
		for _, a := range m.Adapters {
			if a.Role != lab.WAN && a.Port.Has("gateway") && m.Appliance.Kind != "one-armed" {
				c.find(
					portName(a),
					a.Port.At("gateway"),
					"leave gateway out",
					"port %s of %s is inside and has the upstream gateway %s",
					a.Name,
					m.Name,
					a.Port.Gateway,
				)
			}
		}
	}
}

func (c *checker) wanNoGateway() {
	for _, m := range c.p.Running() {
		for _, a := range m.WAN() {
			if a.How == plan.Static && !a.Port.Has("gateway") && !a.Segment.Lab.Gateway.IsValid() {
				c.find(
					portName(a),
					a.Port.At("address"),
					"write the upstream router's address as gateway",
					"port %s of %s has %s and no gateway",
					a.Name,
					m.Name,
					a.Address,
				)
			}
		}
	}
}

func (c *checker) wanInPool() {
	for _, m := range c.p.Running() {
		for _, a := range m.WAN() {
			from, to := a.Segment.Lab.PoolFrom, a.Segment.Lab.PoolTo
			if at := a.Address.Addr(); a.How == plan.Static && from.IsValid() && to.IsValid() && !at.Less(from) &&
				!to.Less(at) {
				c.find(
					portName(a),
					a.Port.At("address"),
					"have it reserved there, or choose one outside the pool",
					"port %s of %s has the static address %s, and the site's DHCP pool is %s-%s on %s",
					a.Name,
					m.Name,
					at,
					from,
					to,
					a.Segment.Name,
				)
			}
		}
	}
}

func (c *checker) defaultClash() {
	for _, m := range c.p.Running() {
		f := m.Facts.Factory.LAN
		if !f.IsValid() {
			continue
		}
		f = f.Masked()
		if n, ok := subnet.Overlap(f, c.p.Lab.Site.Networks); ok {
			c.find(m.Name, m.Appliance.Pos, "leave the WAN unplugged until the inside address is set",
				"from the factory %s has %s inside, and the host is on %s", m.Name, f, n)
			continue
		}
		for _, a := range m.WAN() {
			if a.Segment.Subnet.Overlaps(f) {
				c.find(m.Name, m.Appliance.Pos, "leave the WAN unplugged until the inside address is set",
					"from the factory %s has %s inside, and its WAN is on %s", m.Name, f, a.Segment.Subnet)
				break
			}
		}
	}
}

func (c *checker) nearSubnet() {
	for _, m := range c.p.Running() {
		var table bart.Table[*plan.Segment]
		done := map[*plan.Segment]bool{}
		for _, a := range m.Adapters {
			s := a.Segment
			if done[s] {
				continue
			}
			done[s] = true
			for _, bits := range []int{1, 2} {
				if s.Subnet.Bits() <= bits {
					continue
				}
				wide := netip.PrefixFrom(s.Subnet.Addr(), s.Subnet.Bits()-bits).Masked()
				found := false
				for n, other := range table.Subnets(wide) {
					if n.Bits() == s.Subnet.Bits() && other != s && !other.Subnet.Overlaps(s.Subnet) {
						c.find(
							s.Name,
							s.Lab.At("subnet"),
							"keep them farther apart",
							"%s (%s) and %s (%s) are one network with the mask /%d",
							s.Name,
							s.Subnet,
							other.Name,
							other.Subnet,
							wide.Bits(),
						)
						found = true
						break
					}
				}
				if found {
					break
				}
			}
			table.Insert(s.Subnet, s)
		}
	}
}

func (c *checker) borrowedSpace() {
	for _, s := range c.p.Segments {
		if s.Reach != lab.Upstream && s.Bridged == nil && !subnet.Private(s.Subnet.Addr()) {
			c.find(
				s.Name,
				s.Lab.At("subnet"),
				"use a part of 10.0.0.0/8, 172.16.0.0/12 or 192.168.0.0/16",
				"%s is %s, which is not private space",
				s.Name,
				s.Subnet,
			)
		}
	}
}

func (c *checker) tightSubnet() {
	for _, s := range c.p.Segments {
		if s.Reach == lab.Upstream || s.Bridged != nil {
			continue
		}
		taken := 0
		for _, a := range s.Adapters {
			if a.How != plan.NoAddress {
				taken++
			}
		}
		if s.HostLeg.IsValid() {
			taken++
		}
		if n := subnet.Usable(s.Subnet); (n-taken)*5 < n || s.Subnet.Bits() >= 29 && n-taken < 5 {
			c.find(
				s.Name,
				s.Lab.At("subnet"),
				"take a shorter prefix",
				"%s is %s: %d of %d addresses are free",
				s.Name,
				s.Subnet,
				max(n-taken, 0),
				n,
			)
		}
	}
}
