package adopt

import (
	"cmp"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/observe/listing"
)

// segment is adapters that are on one network, so far as that was shown.
type segment struct {
	name     string
	network  string // as the hypervisor calls it
	subnet   netip.Prefix
	adapters []*adapter
	role     string // of the appliance's port there
	hostOn   bool
	hostAddr netip.Prefix
	upstream bool

	defined    bool // what it is was shown, by a definition of the host's machine manager
	hostServes bool // DHCP
}

// site is all that was deduced.
type site struct {
	machines []*machine
	host     *machine // nil: nothing of it was shown
	segments []*segment
	notes    []string
}

// deduce finds networks, sides and who serves whom.
func deduce(machines []*machine, networks []listing.Network) *site {
	s := &site{}
	define(machines, networks)
	for _, m := range machines {
		if m.name == Host {
			s.host = m
			continue
		}
		s.machines = append(s.machines, m)
	}
	s.join()
	s.know(networks)
	s.match()
	s.appliances()
	s.roles()
	s.reaches()
	s.call()
	return s
}

// networksOf returns the definitions among the sources.
func networksOf(sources []Source) (out []listing.Network) {
	for _, s := range sources {
		out = append(out, s.Networks...)
	}
	return out
}

// define says how adapters are attached that are on a network whose definition was shown.
func define(machines []*machine, networks []listing.Network) {
	for _, m := range machines {
		for _, a := range m.adapters {
			for _, n := range networks {
				if a.network == "" || a.network != n.Name {
					continue
				}
				switch {
				case n.Forward == "nat":
					a.how = listing.ByNAT
				case n.Forward != "":
					a.how = listing.Bridged
				case len(n.Address) > 0:
					a.how = listing.HostOnly
				default:
					a.how = listing.Internal
				}
			}
		}
	}
}

// know takes over what definitions say of the host on a segment.
func (s *site) know(networks []listing.Network) {
	for _, g := range s.segments {
		for _, n := range networks {
			if g.network == "" || g.network != n.Name {
				continue
			}
			g.defined, g.hostServes = true, n.DHCP && n.Forward == ""
			for _, at := range n.Address {
				if g.subnet = at.Masked(); n.Forward == "" {
					g.hostAddr = at
				}
			}
		}
	}
}

// join puts adapters on segments: those of one network's name together, and, where no
// name was shown, those of one subnet.
func (s *site) join() {
	byName := map[string]*segment{}
	var nameless []*adapter
	for _, m := range s.machines {
		for _, a := range m.adapters {
			if a.network == "" && a.how == listing.ByNAT { // each adapter has a translated network of its own
				g := &segment{}
				s.segments = append(s.segments, g)
				g.add(a)
				continue
			}
			if a.network == "" {
				nameless = append(nameless, a)
				continue
			}
			g := byName[a.network]
			if g == nil {
				g = &segment{network: a.network}
				byName[a.network] = g
				s.segments = append(s.segments, g)
			}
			g.add(a)
		}
	}
	for _, a := range nameless {
		if !a.address.IsValid() || !a.masked {
			continue
		}
		at := slices.IndexFunc(
			s.segments,
			func(g *segment) bool { return g.subnet.IsValid() && g.subnet == a.address.Masked() },
		)
		if at < 0 {
			s.segments = append(s.segments, &segment{})
			at = len(s.segments) - 1
		}
		s.segments[at].add(a)
	}
	if s.host != nil {
		for _, a := range s.host.adapters {
			for _, g := range s.segments {
				if g.subnet.IsValid() && a.address.IsValid() && g.subnet.Contains(a.address.Addr()) {
					g.hostOn, g.hostAddr = true, a.address
				}
			}
		}
	}
}

// add puts an adapter on the segment; the network that most say is the segment's.
func (g *segment) add(a *adapter) {
	g.adapters = append(g.adapters, a)
	a.segment = g
	count := map[netip.Prefix]int{}
	for _, x := range g.adapters {
		if x.address.IsValid() && x.masked && x.address.Bits() < 31 {
			count[x.address.Masked()]++
		}
	}
	best := netip.Prefix{}
	for _, x := range g.adapters { // in order, so that the same sources give the same file
		if n := x.address.Masked(); x.address.IsValid() && count[n] > count[best] {
			best = n
		}
	}
	g.subnet = best
}

// holder returns the adapter that has an address; nil when nobody shown has it.
func (s *site) holder(a netip.Addr) *adapter {
	for _, m := range s.machines {
		for _, x := range m.adapters {
			if x.address.IsValid() && x.address.Addr() == a {
				return x
			}
		}
	}
	return nil
}

// appliances finds who stands between others: whom others name as next hop or who gives
// them leases, else who says by words that it has two sides.
func (s *site) appliances() {
	for _, m := range s.machines {
		for _, g := range m.gateways {
			if x := s.holder(g); x != nil && x.of != m && len(x.of.adapters) > 1 {
				x.of.appliance = true
			}
		}
		for _, a := range m.adapters {
			if x := s.holder(a.server); a.server.IsValid() && x != nil && x.of != m && len(x.of.adapters) > 1 {
				x.of.appliance = true
			}
		}
	}
	for _, m := range s.machines {
		words := map[string]bool{}
		for _, a := range m.adapters {
			words[side(a.label)] = true
			if a.label == "" {
				words[side(a.network)] = true
			}
		}
		m.appliance = m.appliance || len(m.adapters) > 1 && words["wan"] && (words["lan"] || words["dmz"])
	}
	if slices.ContainsFunc(s.machines, func(m *machine) bool { return m.appliance }) {
		return
	}
	if len(s.machines) == 0 {
		return
	}
	most := slices.MaxFunc(s.machines, func(a, b *machine) int { return cmp.Compare(len(a.adapters), len(b.adapters)) })
	if len(most.adapters) > 1 {
		most.appliance = true
		s.notes = append(
			s.notes,
			most.name+" is taken for the appliance, as it has the most adapters; nothing shows that it passes packets on",
		)
	}
}

// roles returns the sides of appliances' adapters: which one leads on to its own next hop,
// which ones others are behind, else by words.
func (s *site) roles() {
	for _, m := range s.machines {
		if !m.appliance {
			continue
		}
		for _, a := range m.adapters {
			behind := false
			for _, other := range s.machines {
				behind = behind ||
					other != m && a.address.IsValid() && slices.Contains(other.gateways, a.address.Addr())
				for _, x := range other.adapters {
					behind = behind || other != m && a.address.IsValid() && x.server == a.address.Addr()
				}
			}
			leads := slices.ContainsFunc(m.gateways, func(g netip.Addr) bool {
				return a.address.IsValid() && a.masked && a.address.Masked().Contains(g)
			})
			switch word := cmp.Or(side(a.label), side(a.network)); {
			case leads:
				a.role = "wan"
			case behind && word != "dmz":
				a.role = "lan"
			case word != "":
				a.role = word
			case a.off && !a.address.IsValid():
				a.role = "unused"
			case a.lease == listing.IsLease:
				a.role = "wan"
			case a.address.IsValid() && m.leads():
				a.role = "lan"
			default:
				a.role = lab.Undecided
			}
			if a.segment != nil {
				a.segment.role = cmp.Or(a.segment.role, a.role)
			}
		}
	}
}

// leads reports whether it shows which side of it is the WAN: by a default route, a label or a lease. Where
// nothing does, any of its addresses may be the WAN's.
func (m *machine) leads() bool {
	return len(m.gateways) > 0 || slices.ContainsFunc(m.adapters, func(a *adapter) bool {
		return cmp.Or(side(a.label), side(a.network)) == "wan" || a.lease == listing.IsLease
	})
}

// reaches returns which segments lead upstream: where an appliance's WAN hangs on nobody
// else's inside.
func (s *site) reaches() {
	for _, g := range s.segments {
		for _, a := range g.adapters {
			inside := slices.ContainsFunc(
				g.adapters,
				func(x *adapter) bool { return x.of.appliance && (x.role == "lan" || x.role == "dmz") },
			)
			g.upstream = g.upstream || a.role == "wan" && !inside
		}
	}
}

// call returns segments names of the lab file.
func (s *site) call() {
	taken := map[string]bool{}
	for _, m := range s.machines {
		taken[m.name] = true
	}
	for _, g := range s.segments {
		name := letters(g.network)
		if name == "" {
			name = map[bool]string{true: "outer", false: cmp.Or(g.role, "net")}[g.upstream]
			if name == lab.Undecided {
				name = "net"
			}
		}
		g.name = unused(taken, name)
	}
}
