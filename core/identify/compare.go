package identify

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/core/listing"
	"openbastion/core/plan"
	"openbastion/core/subnet"
)

// Difference is one thing in which a machine differs from the plan.
type Difference struct {
	Code    string `json:"code"`  // of the catalogue of findings, where one fits
	Wrong   bool   `json:"wrong"` // false: worth a look, perhaps only a wait
	Message string `json:"message"`
	Remedy  string `json:"remedy"`
}

// selfGiven is the range that systems take an address from when nobody gives
// them one (RFC 3927).
var selfGiven = netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254}), 16)

// Compare holds what a machine shows of itself against the plan, worst first.
func Compare(p *plan.Plan, m *plan.Machine, s listing.Shown) []Difference {
	c := &comparison{}
	var live []listing.Interface
	for _, i := range s.Interfaces {
		if len(i.Addresses) > 0 {
			live = append(live, i)
		}
	}
	planned := map[*plan.Adapter]bool{}
	for _, i := range live {
		for _, x := range i.Addresses {
			if a := c.address(p, m, i, x); a != nil {
				planned[a] = true
			}
		}
	}
	for _, a := range m.Adapters {
		if !planned[a] && a.Plugged && a.How != plan.NoAddress {
			if len(live) == 0 || m.Appliance != nil {
				c.look("wait a little and ask for a lease again; then look whether adapter "+fmt.Sprint(a.Number)+" is on "+a.Segment.Name,
					"adapter %d of %s should have %s and shows no address", a.Number, m.Name, a.Shown())
			}
		}
	}
	c.way(m, s)
	return c.sorted()
}

// comparison collects differences.
type comparison struct{ list []Difference }

func (c *comparison) wrong(code, fix, message string, args ...any) {
	c.list = append(c.list, Difference{code, true, fmt.Sprintf(message, args...), fix})
}

func (c *comparison) look(fix, message string, args ...any) {
	c.list = append(c.list, Difference{"", false, fmt.Sprintf(message, args...), fix})
}

// sorted gives what is wrong before what is worth a look.
func (c *comparison) sorted() []Difference {
	slices.SortStableFunc(c.list, func(a, b Difference) int {
		switch {
		case a.Wrong == b.Wrong:
			return 0
		case a.Wrong:
			return -1
		}
		return 1
	})
	return c.list
}

// address judges one address; it gives the adapter that it fits.
func (c *comparison) address(p *plan.Plan, m *plan.Machine, i listing.Interface, x netip.Prefix) *plan.Adapter {
	at := x.Addr()
	if selfGiven.Contains(at) {
		c.wrong("no-lease-server", "look whether the adapter is on the right segment, and the appliance hands out leases there",
			"%s has %s, which it gave itself because nobody answered", i.Device, at)
		return nil
	}
	var home *plan.Adapter
	for _, a := range m.Adapters {
		if a.Segment.Subnet.Contains(at) {
			home = a
			break
		}
	}
	if home == nil {
		for _, s := range p.Segments {
			if s.Subnet.Contains(at) {
				c.wrong("second-door", "move the adapter to where the plan has it", "%s has %s: it is really on %s", i.Device, at, s.Name)
				return nil
			}
		}
		c.wrong("off-subnet", "look which network the adapter is attached to", "%s has %s, which is on no segment of the lab", i.Device, at)
		return nil
	}
	s := home.Segment
	switch service := s.Port; {
	case home.Address.IsValid() && at != home.Address.Addr():
		c.wrong("", "set it, or renew the lease", "%s has %s, and %s is planned", i.Device, at, home.Address.Addr())
	case home.How == plan.Lease && service != nil && service.Leases != nil && !service.Leases.Pool.Contains(at):
		c.wrong("two-lease-servers", "find who gave it: another lease server answers on "+s.Name, "%s has %s, outside the pool %s", i.Device,
			at, service.Leases.Pool)
	}
	if x.Bits() != 32 && x.Bits() != s.Subnet.Bits() {
		c.wrong("narrow-mask", "write the mask "+subnet.Mask(s.Subnet.Bits()), "%s has the mask /%d (%s), and %s has /%d (%s)", i.Device,
			x.Bits(), subnet.Mask(x.Bits()), s.Name, s.Subnet.Bits(), subnet.Mask(s.Subnet.Bits()))
	}
	return home
}

// way judges next hops, resolvers and the lease's server.
func (c *comparison) way(m *plan.Machine, s listing.Shown) {
	var hops, servers []netip.Addr
	var resolvers []netip.Addr
	for _, a := range m.Adapters {
		if a.Gateway.IsValid() {
			hops = append(hops, a.Gateway)
		} else if a.Segment.Gateway.IsValid() && a.Guest != nil {
			hops = append(hops, a.Segment.Gateway)
		}
		resolvers = append(resolvers, a.DNS...)
		if port := a.Segment.Port; a.Guest != nil && port != nil && port.Leases != nil {
			servers = append(servers, port.Address.Addr())
			if a.How != plan.Static {
				resolvers = append(resolvers, port.Leases.DNS...)
			}
		}
	}
	if m.Appliance != nil {
		return // its way out is its WAN lease's
	}
	seen := map[netip.Addr]bool{}
	for _, g := range s.Gateways {
		if seen[g] {
			continue
		}
		seen[g] = true
		if !slices.Contains(hops, g) {
			c.wrong("wrong-gateway", "the next hop should be "+strings.Join(subnet.Texts(hops), " or "), "its next hop is %s", g)
		}
	}
	if len(seen) > 1 {
		c.wrong("second-door", "take the second way out away", "it has %d ways out at once", len(seen))
	}
	for _, r := range s.Resolvers {
		if !slices.Contains(resolvers, r) && !r.IsLoopback() && len(resolvers) > 0 {
			c.wrong("no-names", "the resolver should be "+strings.Join(subnet.Texts(resolvers), " or "), "its resolver is %s", r)
		}
	}
	if s.LeaseServer.IsValid() && len(servers) > 0 && !slices.Contains(servers, s.LeaseServer) {
		c.wrong("two-lease-servers", fmt.Sprintf("switch off the lease server at %s", s.LeaseServer),
			"its lease came from %s, and %v is planned", s.LeaseServer, servers[0])
	}
}
