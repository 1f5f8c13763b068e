package identify

import (
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// Host names the host where a machine of the lab is named.
const Host = "host"

// CompareHost holds what the host shows of itself against the plan: its legs, and
// whether it stands on a segment where it should not, or has two ways out.
func CompareHost(p *plan.Plan, l listing.Listing) []Fact {
	c := &comparison{p: p, m: &plan.Machine{Name: Host}, l: l, show: commandsOf(l, "the host")}
	c.slips()
	has := map[*plan.Segment]listing.Address{}
	for _, i := range l.Interfaces {
		for _, a := range i.Addresses {
			s := p.Home(a.Addr())
			switch {
			case s == nil || s.Reach == lab.Upstream:
			case !s.HostLeg.IsValid():
				c.wrong("dual-homed-guest", "remove the address, or write host-address into the lab file",
					"the host has %s: it is on %s, where the plan has no host interface", a.Addr(), s.Name)
			case a.Addr() != s.HostLeg.Addr():
				c.wrong(
					"",
					"set "+s.HostLeg.String(),
					"the host has %s on %s (planned: %s)",
					a.Addr(),
					s.Name,
					s.HostLeg.Addr(),
				)
			default:
				has[s] = a
				if a.Masked && a.Bits() != s.HostLeg.Bits() {
					c.wrong("narrow-mask", "set "+s.HostLeg.String(),
						"the host's leg on %s has the mask /%d (planned: /%d)", s.Name, a.Bits(), s.HostLeg.Bits())
					continue
				}
				c.on(a.Line, "the host's leg on %s has %s", s.Name, a.Addr())
			}
		}
	}
	for _, s := range p.Segments {
		if _, ok := has[s]; !ok && s.HostLeg.IsValid() {
			c.unseen(c.show.addresses, "the host's leg on %s is not shown (planned: %s)", s.Name, s.HostLeg)
		}
	}
	c.hostWays()
	return c.sorted()
}

// hostWays judges the host's ways out: one, and not through the lab.
func (c *comparison) hostWays() {
	var seen []netip.Addr
	for _, r := range c.l.Routes {
		if slices.Contains(seen, r.Gateway) {
			continue
		}
		seen = append(seen, r.Gateway)
		if s := c.p.Home(r.Gateway); s != nil && s.Reach != lab.Upstream {
			c.wrong("wrong-gateway", "take the gateway of the leg on "+s.Name+" away",
				"the host goes outside by %s on %s: through the lab", r.Gateway, s.Name)
		}
	}
	switch {
	case len(seen) > 1:
		c.wrong("dual-homed-guest", "keep one", "the host has %d paths outside at once", len(seen))
	case len(seen) == 1:
		c.planned("the host has one path outside, by %s", seen[0])
	case !c.l.RoutesHere:
		c.unseen(c.show.routes, "the host's path outside is not shown")
	}
}
