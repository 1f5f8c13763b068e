package identify

import (
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// hopsOf returns the next hops that the plan has for a machine: typed ones, those that
// leases bring, and those of upstream.
func hopsOf(m *plan.Machine) []netip.Addr {
	var hops []netip.Addr
	add := func(a netip.Addr) {
		if a.IsValid() && !slices.Contains(hops, a) {
			hops = append(hops, a)
		}
	}
	for _, a := range m.Adapters {
		_, service := a.Segment.LeaseService()
		switch {
		case !a.Plugged || m.Appliance != nil && a.Role != lab.WAN:
		case a.Gateway.IsValid():
			add(a.Gateway)
		case a.How == plan.FromAbove, m.Appliance == nil && a.Segment.Port == nil:
			add(a.Segment.Gateway)
		case m.Appliance == nil && service != nil && service.Router.IsValid() && a.How != plan.Static:
			add(service.Router)
		case m.Appliance == nil && a.How != plan.Static:
			add(a.Segment.Gateway)
		}
	}
	return hops
}

// ways judges next hops.
func (c *comparison) ways(x *pairing) {
	hops := hopsOf(c.m)
	seen := map[netip.Addr]bool{}
	for _, r := range c.l.Routes {
		if seen[r.Gateway] {
			continue
		}
		seen[r.Gateway] = true
		at := c.portOf(x, r)
		switch {
		case slices.Contains(hops, r.Gateway):
			c.on(r.Line, "its next hop is %s", r.Gateway)
		case c.m.Appliance != nil && at != nil && at.Role != lab.WAN:
			c.wrong(
				"inside-gateway",
				"take the gateway of "+at.Name+" away: only the WAN has one",
				"%s, an inside port, has the gateway %s: the appliance would send everything back inside",
				at.Name,
				r.Gateway,
			)
		case len(hops) == 0 && c.m.Appliance != nil && (at != nil || c.p.Home(r.Gateway) == nil):
			c.planned("its next hop is %s, from upstream", r.Gateway)
		case len(hops) == 0:
			c.wrong("wrong-gateway", "remove it", "its next hop is %s (planned: none)", r.Gateway)
		case c.m.Appliance != nil && upstreamAssumed(c.m):
			c.planned("its next hop is %s, from upstream", r.Gateway)
		default:
			c.wrong("wrong-gateway", "the next hop should be "+strings.Join(subnet.Texts(hops), " or "),
				"its next hop is %s (planned: %s)%s", r.Gateway,
				strings.Join(subnet.Texts(hops), " or "), leadsPast(c.p, r.Gateway))
		}
	}
	if len(seen) > 1 && len(c.m.WAN()) < 2 {
		c.wrong("dual-homed-guest", "remove the second path outside", "it has %d paths outside at once", len(seen))
	}
	if len(seen) > 0 || len(hops) == 0 && c.m.Appliance == nil {
		return
	}
	want := "a next hop from upstream"
	if len(hops) > 0 {
		want = "the next hop " + strings.Join(subnet.Texts(hops), " or ")
	}
	none := slices.ContainsFunc(c.l.Interfaces, func(i listing.Interface) bool { return i.NoGateway })
	switch {
	case c.l.RoutesHere && (c.m.Guest != nil || !none):
		c.wrong("no-path-outside", "set "+want, "it has no path outside (planned: %s)", want)
	default:
		c.unseen(c.show.routes, "its next hop is not shown (planned: %s)", want)
	}
}

// upstreamAssumed reports whether it is an appliance whose upstream network nobody said.
func upstreamAssumed(m *plan.Machine) bool {
	return slices.ContainsFunc(m.WAN(), func(a *plan.Adapter) bool { return a.Segment.Assumed })
}

// leadsPast says when a next hop is no appliance's and stands upstream.
func leadsPast(p *plan.Plan, hop netip.Addr) string {
	for _, s := range p.Segments {
		if s.Reach == lab.Upstream && (s.Gateway == hop || s.Subnet.Contains(hop)) {
			return ": that bypasses the appliance"
		}
	}
	return ""
}

// portOf returns the adapter that a way goes out by.
func (c *comparison) portOf(x *pairing, r listing.Route) *plan.Adapter {
	for _, row := range x.rows {
		if row.adapter != nil && r.Device != "" &&
			(strings.EqualFold(row.listed.Device, r.Device) || strings.EqualFold(row.listed.Label, r.Device)) {
			return row.adapter
		}
	}
	for _, a := range c.m.Adapters {
		if a.Segment.Subnet.Contains(r.Gateway) {
			return a
		}
	}
	return nil
}

// resolvers judges whom a guest asks for names.
func (c *comparison) resolvers() {
	var planned []netip.Addr
	for _, a := range c.m.Adapters {
		if len(a.DNS) > 0 {
			planned = append(planned, a.DNS...)
		} else if _, service := a.Segment.LeaseService(); service != nil && a.How != plan.Static && c.m.Guest != nil {
			planned = append(planned, service.DNS...)
		}
	}
	if len(planned) == 0 {
		return
	}
	seen, stub := false, false
	for _, r := range c.l.Resolvers {
		switch {
		case r.Address.IsLoopback():
			stub = true
			continue
		case slices.Contains(planned, r.Address):
			c.on(r.Line, "its DNS server is %s", r.Address)
		default:
			c.wrong("no-names", "the DNS server should be "+strings.Join(subnet.Texts(planned), " or "),
				"its DNS server is %s (planned: %s)", r.Address,
				strings.Join(subnet.Texts(planned), " or "))
		}
		seen = true
	}
	switch {
	case seen || c.m.Appliance != nil:
	case stub:
		c.unseen(
			"on "+c.m.Name+" type resolvectl dns",
			"it is its own DNS server, and its upstream is not shown; planned: %s",
			strings.Join(subnet.Texts(planned), " or "),
		)
	case c.l.NamesHere:
		c.wrong("no-names", "set the DNS server "+strings.Join(subnet.Texts(planned), " or "), "it has no DNS server")
	default:
		c.unseen(
			c.show.resolvers,
			"its DNS server is not shown (planned: %s)",
			strings.Join(subnet.Texts(planned), " or "),
		)
	}
}

// neighbors judges who answers for the addresses of the machine's segments.
func (c *comparison) neighbors() {
	for _, n := range c.l.Neighbors {
		if len(n.Tail) != 12 {
			continue
		}
		for _, a := range c.p.Adapters {
			if !a.Address.IsValid() || a.Address.Addr() != n.Address || !a.MACGiven && a.Guest == nil &&
				!strings.EqualFold(hex(a), n.Tail) && !knownMAC(c.p, n.Tail) {
				continue
			}
			switch {
			case hex(a) == n.Tail:
				c.planned("%s answers for %s", a.Machine.Name, n.Address)
			case a.MACGiven:
				c.wrong(
					"duplicate-address",
					"find the machine with that MAC address",
					"%s is answered for by %s (planned: %s of %s): another machine has that address",
					n.Address,
					mac.Pairs(n.Tail),
					a.MAC,
					a.Machine.Name,
				)
			}
		}
	}
}

func knownMAC(p *plan.Plan, digits string) bool {
	return slices.ContainsFunc(p.Adapters, func(a *plan.Adapter) bool { return hex(a) == digits })
}

// commands are what shows a thing on the system of a listing.
type commands struct {
	addresses, routes, resolvers string
	renewal                      string
}

func (c commands) renew(device string) string {
	if strings.Contains(device, " ") { // no name that a command takes
		return strings.ReplaceAll(c.renewal, " DEVICE", "")
	}
	return strings.ReplaceAll(c.renewal, "DEVICE", device)
}

// commandsOf returns the commands of the system that a listing is from, and the machine
// to type them on.
func commandsOf(l listing.Listing, on string) commands {
	onIt := func(text string) string { return "on " + on + " type " + text }
	switch l.System {
	case listing.Desktop:
		all := onIt("ipconfig /all")
		return commands{all, all, all, onIt("ipconfig /renew")}
	case listing.BSD:
		return commands{onIt("ifconfig"), onIt("netstat -rn"), onIt("cat /etc/resolv.conf"), onIt("dhclient DEVICE")}
	case listing.Linux:
		return commands{onIt("ip address"), onIt("ip route"), onIt("resolvectl dns, or cat /etc/resolv.conf"),
			onIt("dhclient -v DEVICE, or reconnect it")}
	}
	return commands{
		"copy what " + on + " shows of its addresses (ip address, ifconfig, ipconfig /all, or its own page)",
		"copy what " + on + " shows of its routes (ip route, netstat -rn, ipconfig /all, or its own page)",
		"copy what " + on + " shows of its DNS servers (cat /etc/resolv.conf, ipconfig /all)",
		"wait a moment, then renew the lease on " + on + ", and copy it again",
	}
}
