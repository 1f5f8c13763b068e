package check

import (
	"fmt"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// leases are the findings about lease services.
func leases() []Entry {
	return []Entry{
		{
			Code: "two-dhcp-servers", Severity: Error, Title: "Two DHCP servers on a segment",
			See:    "Some guests get a wrong address or gateway now and then.",
			Why:    "A guest takes whichever offer arrives first.",
			Remedy: "Disable one of them.",
			Old:    "  desks: {reach: isolated,",
			Bad:    "  desks: {reach: host, dhcp: host,",
			find:   (*checker).twoLeaseServers,
		},
		{
			Code: "no-dhcp-server", Severity: Error, Title: "No DHCP server",
			See:    "Guests have a self-assigned address (169.254…).",
			Why:    "A guest that uses DHCP waits for a server.",
			Remedy: "Let the appliance serve DHCP, or use static addresses.",
			Old:    "{role: lan, name: sealed, segment: pool,",
			Bad:    "{role: lan, name: sealed, segment: pool, dhcp: none,",
			find:   (*checker).noLeaseServer,
		},
		{
			Code: "pool-outside", Severity: Error, Title: "A pool outside the subnet",
			See:    "The appliance refuses the pool, or guests get addresses that reach nothing.",
			Why:    "Leased addresses have to be in the segment's subnet, the first before the last.",
			Remedy: "Set first and last address within the subnet.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, dhcp: {pool: 10.83.17.50-10.83.17.99}, address: 10.83.16.1/24,",
			find:   (*checker).poolOutside,
		},
		{
			Code: "pool-overlap", Severity: Error, Title: "A pool with a fixed address in it",
			See:    "One day a guest gets the gateway's or a server's address, and both fail.",
			Why:    "The DHCP server assigns every address of its pool.",
			Remedy: "Start the pool after the fixed addresses.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, dhcp: {pool: 10.83.16.5-10.83.16.99}, address: 10.83.16.1/24,",
			find:   (*checker).poolOverlap,
		},
		{
			Code: "small-pool", Severity: Warning, Title: "A pool that is too small",
			See:    "The last guest to start gets no address.",
			Why:    "More guests use DHCP than the pool has addresses.",
			Remedy: "Enlarge the pool.",
			Old:    "  heron: desks",
			Bad:    "  heron: desks\n  egret: desks",
			find:   (*checker).smallPool,
		},
		{
			Code: "reservation-outside", Severity: Error, Title: "A reservation that cannot work",
			See:    "The guest gets another address than reserved, or none.",
			Why:    "A reserved address has to be in the subnet and free.",
			Remedy: "Reserve a free address of the subnet.",
			Old:    "  heron: desks",
			Bad:    "  heron: {segment: desks, reserve: 10.83.17.20}",
			find:   (*checker).reservationOutside,
		},
		{
			Code: "dhcp-without-gateway", Severity: Warning, Title: "DHCP names an unreachable server",
			See:    "Guests have an address, but names do not resolve.",
			Why:    "A DNS server that DHCP names has to be on the segment or beyond the gateway.",
			Remedy: "Let DHCP name the appliance: dns: [self].",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, dhcp: {dns: [10.83.16.250]}, address: 10.83.16.1/24,",
			find:   (*checker).leaseNoRouter,
		},
	}
}

func (c *checker) twoLeaseServers() {
	for _, s := range c.p.Segments {
		if s.Port == nil || s.Port.Leases == nil {
			continue
		}
		server := s.Port.Machine.Name
		switch by := s.Lab.Leases; {
		case by == "host":
			c.find(s.Name, s.Lab.At("dhcp"), "disable the host's DHCP server: dhcp: none", "%s and the host both serve DHCP on %s",
				server, s.Name).
				set(s.Lab, "dhcp", "none")
		case by == "upstream":
			c.find(
				s.Name,
				s.Lab.At("dhcp"),
				"write dhcp: none on port "+s.Port.Name+" of "+server+", as the site serves DHCP there",
				"%s and upstream both serve DHCP on %s",
				server,
				s.Name,
			)
		case c.p.Lab.Guest(by) != nil:
			c.find(s.Name, s.Lab.At("dhcp"), "write dhcp: none on the port", "%s and %s both serve DHCP on %s", server, by,
				s.Name).
				set(s.Port.Port, "dhcp", "none")
		}
	}
}

func (c *checker) noLeaseServer() {
	for _, s := range c.p.Segments {
		for _, a := range s.Adapters {
			if a.Role == lab.WAN && a.How == plan.FromAbove && a.Port.Address.How != "pppoe" && s.Lab.Leases == "none" &&
				s.Reach == lab.Upstream {
				c.find(portName(a), a.Pos, "type its address and gateway in, or remove dhcp: none from "+s.Name,
					"%s uses DHCP on %s, but there is no DHCP server", portName(a), s.Name).
					see("The WAN has no address, and nothing outside answers.")
			}
		}
		if s.Reach == lab.Upstream && s.Lab.Leases != "none" || s.Bridged != nil || c.p.Lab.Guest(s.Lab.Leases) != nil ||
			s.Lab.Leases == "host" ||
			s.Lab.Leases == "upstream" ||
			s.Port == nil ||
			s.Port.Leases != nil {
			continue
		}
		for _, a := range s.Adapters {
			if a.How == plan.Lease || a.How == plan.Reservation {
				f := c.find(
					s.Name,
					s.Lab.Pos,
					"let the appliance serve DHCP there",
					"%s uses DHCP on %s, but there is no DHCP server",
					a.Machine.Name,
					s.Name,
				)
				if s.Port.Port.Leases.Off {
					f.set(s.Port.Port, "dhcp", fmt.Sprintf("{pool: %s}", spare(s)))
				}
				break
			}
		}
	}
}

// spare returns a pool in the upper half of a segment.
func spare(s *plan.Segment) plan.Pool {
	size := subnet.Size(s.Subnet)
	return plan.Pool{From: subnet.Add(s.Subnet.Addr(), max(size/2, 1)), To: subnet.Last(s.Subnet)}
}

func (c *checker) poolOutside() {
	for _, a := range c.adapters() {
		v := a.Leases
		if v == nil || a.Port == nil || !v.Pool.From.IsValid() {
			continue // what a guest hands out is planned, and fits
		}
		pos := leasesAt(a, "pool")
		switch p := v.Pool; {
		case p.From.Compare(p.To) > 0:
			c.find(portName(a), pos, fmt.Sprintf("write %s-%s", p.To, p.From), "the pool %s of %s runs backwards", p,
				a.Segment.Name).set(&a.Port.Leases, "pool", p.To.String()+"-"+p.From.String())
		case !a.Segment.Subnet.Contains(p.From) || !a.Segment.Subnet.Contains(p.To):
			c.find(
				portName(a),
				pos,
				"write first and last address within "+a.Segment.Subnet.String(),
				"the pool %s leaves %s, which is %s",
				p,
				a.Segment.Name,
				a.Segment.Subnet,
			)
		}
	}
}

func (c *checker) poolOverlap() {
	for _, a := range c.adapters() {
		if a.Leases == nil || a.Port == nil {
			continue
		}
		pool, pos := a.Leases.Pool, leasesAt(a, "pool")
		tell := func(what string) {
			c.find(
				portName(a),
				pos,
				"let the pool begin behind it",
				"the pool %s of %s contains %s",
				pool,
				a.Segment.Name,
				what,
			)
		}
		if h := a.Segment.HostLeg; h.IsValid() && pool.Contains(h.Addr()) {
			tell("the host's " + h.Addr().String())
		}
		for _, other := range a.Segment.Adapters {
			if other.How == plan.Static && other.Address.IsValid() && pool.Contains(other.Address.Addr()) {
				tell(who(other) + "'s " + other.Address.Addr().String())
			}
		}
	}
}

func (c *checker) smallPool() {
	for _, a := range c.adapters() {
		if a.Leases == nil || !a.Leases.Pool.From.IsValid() {
			continue
		}
		size, want := 1+subnet.Distance(a.Leases.Pool.From, a.Leases.Pool.To), 0
		for _, other := range a.Segment.Adapters {
			switch {
			case other.How == plan.Lease:
				want++
			case other.How == plan.Reservation && a.Leases.Pool.Contains(other.Address.Addr()):
				size-- // it is kept for that guest
			}
		}
		if size > 0 && size < want {
			c.find(
				portName(a),
				leasesAt(a, "pool"),
				"make the pool larger",
				"the pool %s of %s has %d addresses for %d guests",
				a.Leases.Pool,
				a.Segment.Name,
				size,
				want,
			)
		}
	}
}

func (c *checker) reservationOutside() {
	for _, g := range c.guests() {
		for _, a := range g.Adapters {
			if a.How != plan.Reservation || a.Planned {
				continue
			}
			if !a.Segment.Subnet.Contains(a.Address.Addr()) {
				c.find(
					g.Name,
					at(a, "reserve"),
					"reserve an address of "+a.Segment.Subnet.String(),
					"%s is reserved for %s, and %s is %s",
					a.Address.Addr(),
					g.Name,
					a.Segment.Name,
					a.Segment.Subnet,
				)
			}
		}
	}
}

func (c *checker) leaseNoRouter() {
	for _, a := range c.adapters() {
		if a.Leases == nil {
			continue
		}
		for _, d := range a.Leases.DNS {
			found := !a.Segment.Subnet.Contains(d) // beyond: routed by the appliance
			for _, other := range a.Segment.Adapters {
				found = found || other.Address.IsValid() && other.Address.Addr() == d
			}
			if !found {
				f := c.find(
					portName(a),
					leasesAt(a, "dns"),
					"write dns: [self]",
					"DHCP on %s distributes the DNS server %s, and no machine there has that address",
					a.Segment.Name,
					d,
				)
				if a.Port != nil {
					f.set(&a.Port.Leases, "dns", "[self]")
				}
			}
		}
	}
}

// leasesAt returns the place of a key of the lease service; for what a guest
// hands out, where the guest stands.
func leasesAt(a *plan.Adapter, key string) lab.Pos {
	if a.Port == nil {
		return a.Pos
	}
	return a.Port.Leases.At(key)
}
