package check

import (
	"fmt"
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// exposure are the findings about what an appliance lets through, and what the lab does to its site,
// without any single rule or wire being wrong.
func exposure() []Entry {
	return []Entry{
		{
			Code: "no-filter", Severity: Warning, Title: "An appliance that does not filter",
			See:    "Guests of one segment reach those of every other, and upstream machines that route to them get in.",
			Why:    "A plain router forwards whatever it has a route for; NAT hides addresses but denies nothing.",
			Remedy: "Write rules, or accept the finding where a plain router is meant.",
			Old:    "    rules:\n      - deny any from pool to any\n      - allow any from desks to outside\n",
			Bad:    "    filter: none\n",
			find:   (*checker).unfiltered,
		},
		{
			Code: "any-includes-inside", Severity: Warning, Title: "A rule to any opens the inside to a DMZ",
			See:    "A compromised server of the DMZ reaches the LAN.",
			Why:    "any is every destination: outside, and also every other inside segment.",
			Remedy: "Write outside instead of any, or deny the inside segments in an earlier rule.",
			Old:    "allow any from pool to outside",
			Bad:    "allow any from pool to any",
			find:   (*checker).anyInside,
		},
		{
			Code: "dhcp-on-site", Severity: Error, Title: "The lab serves DHCP on the site's network",
			See:    "Computers of the site get addresses and a gateway from the lab, and lose their network.",
			Why:    "A bridged segment is the site's own broadcast domain: every DHCP server on it answers every computer.",
			Remedy: "Disable the lab's DHCP server there.",
			Old:    "road: {reach: upstream, uplink: enp1,",
			Bad:    "road: {reach: upstream, dhcp: host, uplink: enp1,",
			find:   (*checker).servesSite,
		},
		{
			Code: "factory-order", Severity: Warning, Title: "The appliance assigns its adapters in another order",
			See:    "After the first start its LAN, with its DHCP server, is on the WAN segment, and its WAN is inside.",
			Why:    "Until changed at the console, this kind of appliance assigns roles to its adapters in its own order.",
			Remedy: "List the ports in that order, or assign the interfaces on the console before connecting the WAN.",
			Old:    "      - {role: wan, segment: road, mac: '02:00:00:00:01:01'}\n      - {role: lan, segment: desks, address: 10.83.16.1/24, mac: '02:00:00:00:01:02'}",
			Bad:    "      - {role: lan, segment: desks, address: 10.83.16.1/24, mac: '02:00:00:00:01:01'}\n      - {role: wan, segment: road, mac: '02:00:00:00:01:02'}",
			find:   (*checker).factoryOrder,
		},
		{
			Code: "closed-lab-open", Severity: Error, Title: "A closed lab with a path outside",
			See:    "Guests reach outside, although the lab is meant to be closed.",
			Why:    "The file has closed: true, and an upstream segment with a machine on it.",
			Remedy: "Remove closed: true, or make the segment isolated.",
			Old:    "lab: mudflat\n",
			Bad:    "lab: mudflat\nclosed: true\n",
			find:   (*checker).notClosed,
		},
	}
}

func (c *checker) unfiltered() {
	for _, m := range c.p.Running() {
		if m.Appliance.Filter == "none" {
			c.find(m.Name, m.Appliance.At("filter"), "write rules instead of filter: none, or accept this finding",
				"%s forwards everything: it routes without a filter", m.Name)
		}
	}
}

// anyInside finds rules by which a DMZ reaches other inside segments although they only say any.
func (c *checker) anyInside() {
	for _, m := range c.p.Running() {
		dmz := slices.DeleteFunc(slices.Clone(m.Adapters), func(a *plan.Adapter) bool { return a.Role != lab.DMZ })
		if len(dmz) == 0 {
			continue
		}
		sets := c.sets(m)
		for i := range m.Rules {
			rule := &m.Rules[i]
			if rule.Lab == nil || rule.Action != lab.Allow ||
				!slices.ContainsFunc(rule.To, func(x plan.Match) bool { return x.Any }) {
				continue
			}
			if from, to := c.opened(m, dmz, sets, i); from != nil {
				c.find(
					fmt.Sprintf("%s rule %d", m.Name, i+1),
					rule.Lab.Pos,
					fmt.Sprintf(
						"write outside instead of any, or `deny any from %s to %s` before it",
						from.Name,
						to.Name,
					),
					"%q also lets %s reach %s",
					rule.Text,
					from.Name,
					to.Name,
				)
			}
		}
	}
}

// opened returns the first DMZ segment and the other inside segment between which rule i lets
// packets pass that no earlier rule decides.
func (c *checker) opened(
	m *plan.Machine,
	dmz []*plan.Adapter,
	sets []packetset.Packets,
	i int,
) (from, to *plan.Segment) {
	for _, a := range dmz {
		for _, b := range m.Adapters {
			if b.Segment == a.Segment || b.Segment.Nowhere() || !b.Role.Inside() && b.Role != lab.Manage {
				continue
			}
			left := []packetset.Packets{{
				Source: c.model().
					Lines(a.Segment),
				Destination: c.model().Lines(b.Segment), Service: packetset.AllServices,
			}}
			for _, r := range sets[:i] {
				left = packetset.Without(left, r)
			}
			if slices.ContainsFunc(left, sets[i].Meets) {
				return a.Segment, b.Segment
			}
		}
	}
	return nil, nil
}

// servesSite finds DHCP servers of the lab on a network of the site. Where the file says that the
// site has none, a one-armed appliance may be the one.
func (c *checker) servesSite() {
	for _, s := range c.p.Segments {
		if s.Reach != lab.Upstream || s.Lab.Join == "nat" || s.Inside() && s.Lab.Leases == "none" {
			continue
		}
		if s.Lab.Leases == "host" {
			c.find(
				s.Name,
				s.Lab.At("dhcp"),
				"remove dhcp: host",
				"the host serves DHCP on %s, which is the site's network",
				s.Name,
			)
			continue
		}
		server, _ := s.LeaseService()
		if server != nil && !slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a == server }) {
			continue // through a transparent appliance
		}
		if server != nil && server.Plugged && s.Bridged == nil {
			f := c.find(
				s.Name,
				server.Pos,
				"write dhcp: none there",
				"%s serves DHCP on %s, which is the site's network",
				who(server),
				s.Name,
			)
			if server.Port != nil && !server.Port.Has("dhcp") {
				f.set(server.Port, "dhcp", "none")
			}
		}
	}
}

// factoryOrder compares the order in which an appliance takes its adapters from the factory with
// the file's, where its profile says it.
func (c *checker) factoryOrder() {
	for _, m := range c.p.Running() {
		if m.Appliance.Profile == "" || len(m.WAN()) == 0 || len(m.WAN()) == len(m.Adapters) {
			continue
		}
		for _, a := range m.Adapters {
			role := a.Assumed()
			if role == "" || a.Role == "" || a.Role == lab.Unused || role == a.Role ||
				!(role == lab.WAN || a.Role == lab.WAN) {
				continue
			}
			c.find(m.Name, a.Pos, "list the ports in its order, or assign the interfaces on its console first",
				"%s assigns adapter %d to %s until changed at the console; the file has port %s (%s) there",
				m.Name, a.Number, role, a.Name, a.Role)
			break
		}
	}
}

// ring returns the first of the appliances that run where the WAN of each leads to the inside of
// another: none of them is the outermost.
func (c *checker) ring() *plan.Machine {
	var first *plan.Machine
	for _, m := range c.p.Running() {
		for _, a := range m.WAN() {
			if s := a.Segment; !s.Inside() || s.Port == nil || s.Port.Machine == m || s.Reach != lab.Isolated {
				return nil
			}
			if first == nil {
				first = m
			}
		}
	}
	return first
}

func (c *checker) notClosed() {
	if !c.p.Lab.Closed {
		return
	}
	for _, s := range c.p.Segments {
		if s.Reach != lab.Upstream || len(s.Adapters) == 0 {
			continue
		}
		c.find(s.Name, s.Lab.Pos, "remove closed: true, or write reach: isolated",
			"the lab is closed, and %s is on %s, which leads outside", s.Adapters[0].Machine.Name, s.Name)
	}
}
