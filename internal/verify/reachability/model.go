package reachability

import (
	"cmp"
	"net/netip"
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// Model is a plan made ready for questions. It remembers what questions have in
// common, and is not for several goroutines at once.
type Model struct {
	Each      bool // no guest stands for those that are alike: each is asked; set before it is used
	plan      *plan.Plan
	space     *packetset.Space
	domains   []*domain
	of        map[*plan.Segment]*domain
	gates     map[*plan.Machine]*gate
	lines     map[*plan.Segment]packetset.Line // the addresses of a segment's networks
	witness   netip.Addr
	spreads   map[string]*spread
	itselfToo bool // what appliances answer themselves is followed too
	alike     map[*plan.Machine]*plan.Machine
	crossed   map[*plan.Adapter]crossing
	taken     packetset.Line // see busy
	beside    packetset.Line // see elsewhere
}

// domain is what is one broadcast domain in truth: a segment, or several that
// share an uplink and a tag.
type domain struct {
	segments []*plan.Segment
	outer    bool          // it leads outside by itself
	host     *plan.Segment // the segment on which the host forwards, or nil
	stranger bool          // somebody else announces itself as its router
	guests   []*plan.Adapter
	ports    []*plan.Adapter // of appliances
}

// name returns the segment by which the domain is told in a path.
func (d *domain) name() string { return d.segments[0].Name }

// leadsOut reports whether somebody on it is outside without any appliance.
func (d *domain) leadsOut() bool { return d.outer || d.host != nil || d.stranger }

// back reports whether it is a segment that nobody but guests is on.
func (d *domain) back() bool { return len(d.ports) == 0 && !d.leadsOut() }

// gate is an appliance with its rules as sets.
type gate struct {
	machine     *plan.Machine
	transparent bool
	rules       []packetset.Packets // sides told by addresses
	own         packetset.Line      // the addresses that it has or may get
	wan         packetset.Line      // those of its WAN ports, where publishing happens
	fixed       packetset.Line      // the addresses that it has for certain
	masked      packetset.Line      // sources that it translates on its way out
	nets        []packetset.Line    // what lives at each port, in order, its own addresses left out
	far         packetset.Line      // IPv4 addresses that live at none
	sources     []packetset.Line    // what it takes from each port
	speak       [][]int             // the rules that speak of these, see speaking
	toward      struct {            // of one port, the rules that speak of what goes from there to each other, see between
		from int
		to   [][]int
	}
	ways   packetset.Index        // what may leave by each port
	itself [2][]packetset.Packets // the rules as they mean itself: from inside, and from a WAN
	inside packetset.Line
}

// Where packets outside go when nothing asks for another address (RFC 5737, RFC
// 3849).
var (
	Witness  = netip.AddrFrom4([4]byte{203, 0, 113, 80})
	Witness6 = netip.MustParseAddr("2001:db8:ffff::80")
)

// New makes a model of a plan. Packets that go outside go to the witness where
// they can; an invalid address stands for [Witness]. Beside what the plan tells
// apart, the model tells apart the networks named.
func New(p *plan.Plan, witness netip.Addr, named ...netip.Prefix) *Model {
	if !witness.IsValid() {
		witness = Witness
	}
	m := &Model{
		plan:    p,
		witness: witness,
		space:   packetset.NewSpace(append(append(boundaries(p), single(witness)), named...)...),
		spreads: map[string]*spread{},
		crossed: map[*plan.Adapter]crossing{},
		of:      map[*plan.Segment]*domain{},
		gates:   map[*plan.Machine]*gate{},
		lines:   map[*plan.Segment]packetset.Line{},
	}
	for _, s := range p.Segments {
		m.lines[s] = m.space.Prefixes(s.Subnet, s.Subnet6)
	}
	m.join()
	for _, a := range p.Appliances() {
		m.gates[a] = m.gate(a)
	}
	for _, e := range p.Lab.Expect {
		m.itselfToo = m.itselfToo || e.To.Kind == lab.WhoAppliance
	}
	return m
}

// Witness returns the address outside that packets go to, and come from, where they can.
func (m *Model) Witness() netip.Addr { return m.witness }

// single returns the prefix of one address.
func single(a netip.Addr) netip.Prefix {
	if !a.IsValid() {
		return netip.Prefix{}
	}
	return netip.PrefixFrom(a, a.BitLen())
}

// boundaries returns every network and address that something in the plan tells
// from others.
func boundaries(p *plan.Plan) []netip.Prefix {
	var list []netip.Prefix
	for _, s := range p.Segments {
		list = append(list, s.Subnet, s.Subnet6, single(s.Gateway))
		for _, r := range s.Lab.Routes {
			list = append(list, r.To, single(r.Via))
		}
		if s.HostLeg.IsValid() {
			list = append(list, single(s.HostLeg.Addr()))
		}
	}
	for _, a := range p.Adapters {
		list = append(list, single(a.Gateway))
		for _, x := range []netip.Prefix{a.Address, a.Address6} {
			if x.IsValid() {
				list = append(list, single(x.Addr()))
			}
		}
		if a.Leases != nil {
			list = append(list, single(a.Leases.Pool.From), single(a.Leases.Pool.To))
		}
	}
	for _, m := range p.Appliances() {
		for i := range m.Rules {
			for _, side := range [][]plan.Match{m.Rules[i].From, m.Rules[i].To} {
				for _, x := range side {
					list = append(list, x.Prefixes...)
				}
			}
		}
		for _, o := range m.OneToOne {
			list = append(list, single(o.Outside))
		}
	}
	for _, e := range p.Lab.Expect {
		list = append(list, e.From.Prefix, e.To.Prefix)
	}
	return append(list, subnet.PrivateSpace...)
}

// join finds the broadcast domains: a segment of its own each, but for those that
// leave the host by one uplink with one tag.
func (m *Model) join() {
	type wire struct {
		uplink string
		tag    int
	}
	shared := map[wire]*domain{}
	forwards := slices.ContainsFunc(
		m.plan.Segments,
		func(s *plan.Segment) bool { return s.HostLeg.IsValid() && s.Lab.HostForwards },
	)
	for _, s := range m.plan.Segments {
		var d *domain
		if w := (wire{s.Wire.Uplink(), s.Tag}); w.uplink != "" {
			if d = shared[w]; d == nil {
				d = &domain{}
				shared[w] = d
			}
		}
		if d == nil {
			d = &domain{}
		}
		if len(d.segments) == 0 {
			m.domains = append(m.domains, d)
		}
		d.segments = append(d.segments, s)
		d.outer = d.outer || s.Reach == lab.Upstream || s.Wire.LeavesHost()
		if s.HostLeg.IsValid() && forwards { // then it does for whoever hands it a packet
			d.host = s
		}
		d.stranger = d.stranger || s.Lab.RouterAdvertisements
		m.of[s] = d
	}
	for _, a := range m.plan.Adapters {
		if a.Segment.Nowhere() {
			m.of[a.Segment] = &domain{segments: []*plan.Segment{a.Segment}}
		}
		if d := m.of[a.Segment]; a.Plugged && a.Guest != nil {
			d.guests = append(d.guests, a)
		} else if a.Plugged && (a.Over == nil || a.Over.Plugged) {
			d.ports = append(d.ports, a)
		}
	}
}

func (m *Model) gate(a *plan.Machine) *gate {
	g := &gate{machine: a, transparent: a.Transparent()}
	var own, fixed, wan, inside []packetset.Line
	for _, x := range a.Adapters {
		has, may := m.fixed(x), m.addresses(x)
		if x.Role == lab.WAN {
			for _, o := range a.OneToOne {
				if x.Segment.Subnet.Contains(o.Outside) {
					has, may = has.Union(m.space.Addresses(o.Outside)), may.Union(m.space.Addresses(o.Outside))
				}
			}
			wan = append(wan, may)
		} else {
			inside = append(inside, m.lines[x.Segment])
		}
		own, fixed = append(own, may), append(fixed, has)
	}
	g.own, g.fixed, g.wan, g.inside = packetset.Join(
		own...), packetset.Join(
		fixed...), packetset.Join(
		wan...), packetset.Join(
		inside...)
	m.ports(g)
	outside := m.space.All().Minus(g.inside)
	g.rules = m.ruleSets(a, outside, outside, nil, nil)
	return g
}

// ruleSets returns the rules of an appliance as sets of packets, for what counts as
// outside as a source and as a destination. Of the appliance itself they hold what
// it has for certain: what else it may have is delivered, see named.
func (m *Model) ruleSets(a *plan.Machine, from, to packetset.Line, in, out *plan.Adapter) []packetset.Packets {
	side := func(list []plan.Match, outside packetset.Line, port *plan.Adapter) packetset.Line {
		var l packetset.Line
		for _, x := range list {
			switch {
			case !x.Names(port):
			case x.Any:
				return m.space.All()
			case x.Outside && len(list) == 1: // most rules: nothing is copied
				return outside
			case x.Outside:
				l = l.Union(outside)
			default:
				l = l.Union(m.space.Prefixes(x.Prefixes...))
			}
		}
		return l
	}
	sets := make([]packetset.Packets, len(a.Rules))
	for i := range a.Rules {
		r := &a.Rules[i]
		sets[i] = packetset.Packets{
			Source:      side(r.From, from, in),
			Destination: side(r.To, to, out),
			Service:     packetset.Services(r.Services),
		}
	}
	return sets
}

// ports notes what lives at each port of a gate and which sources it takes there.
func (m *Model) ports(g *gate) {
	a := g.machine
	taken := []packetset.Line{g.fixed}
	lives := make([]packetset.Line, len(a.Adapters))
	for i, x := range a.Adapters {
		lives[i] = m.network(x)
	}
	everywhere, apart := packetset.Join(lives...), disjoint(lives)
	for i, x := range a.Adapters {
		net := lives[i].Minus(g.fixed)
		if !apart { // what two ports have lives at the first
			net = net.Minus(packetset.Join(lives[:i]...))
		}
		g.nets, taken = append(g.nets, net), append(taken, net)
		source := net
		if out := x.Role == lab.WAN || x.Gateway.IsValid(); out && len(lives[i]) > 0 {
			source = m.space.All().Minus(everywhere.Minus(lives[i])).Minus(g.fixed)
		}
		if x.Port != nil && x.Port.DropPrivate {
			source = source.Minus(m.space.Prefixes(subnet.PrivateSpace...))
		}
		g.sources = append(g.sources, source)
	}
	g.far = m.space.IPv4().Minus(packetset.Join(taken...)) // nothing routes IPv6 upstream
	var masked []packetset.Line
	for _, s := range a.Masq {
		masked = append(masked, m.space.Prefixes(s.Subnet))
	}
	g.masked = packetset.Join(masked...)
}

// disjoint reports whether no two of several sets meet.
func disjoint(lines []packetset.Line) bool {
	spans := slices.Concat(lines...)
	slices.SortFunc(spans, func(a, b packetset.Span) int { return cmp.Compare(a.From, b.From) })
	for i := 1; i < len(spans); i++ {
		if spans[i].From <= spans[i-1].To {
			return false
		}
	}
	return true
}

// speaking returns the rules that speak of what a gate takes from its i-th port.
func (g *gate) speaking(i int) []int {
	if g.speak == nil {
		g.speak = make([][]int, len(g.sources))
		sources := packetset.NewIndex(g.sources)
		for k := range g.rules {
			for _, at := range sources.Meeting(g.rules[k].Source) {
				g.speak[at] = append(g.speak[at], k)
			}
		}
	}
	return g.speak[i]
}

// between returns the rules that speak of what a gate takes from its i-th port and
// lets out by its j-th.
func (g *gate) between(i, j int) []int {
	if g.toward.to == nil {
		leaving := make([]packetset.Line, len(g.nets))
		for at, net := range g.nets {
			if leaving[at] = net; g.leadsFar(at) {
				leaving[at] = net.Union(g.far)
			}
		}
		g.ways = packetset.NewIndex(leaving)
	}
	if g.toward.to == nil || g.toward.from != i { // who asks goes from port to port
		g.toward.from, g.toward.to = i, make([][]int, len(g.nets))
		for _, k := range g.speaking(i) {
			for _, at := range g.ways.Meeting(g.rules[k].Destination) {
				g.toward.to[at] = append(g.toward.to[at], k)
			}
		}
	}
	return g.toward.to[j]
}

// leadsFar reports whether a gate has a way by its i-th port to what lives at none.
func (g *gate) leadsFar(i int) bool {
	port := g.machine.Adapters[i]
	return len(g.nets[i]) > 0 && (port.Role == lab.WAN || port.Gateway.IsValid())
}

// bridged returns the rules of a transparent appliance for what passes from one port to another: there
// the sides decide what is outside, and which segment a rule means.
func (m *Model) bridged(g *gate, in, out *plan.Adapter) []packetset.Packets {
	outside := func(port *plan.Adapter) packetset.Line {
		if port.Role == lab.WAN {
			return m.space.All()
		}
		return nil
	}
	return m.ruleSets(g.machine, outside(in), outside(out), in, out)
}

// fixed returns the addresses that an adapter has for certain.
func (m *Model) fixed(a *plan.Adapter) packetset.Line {
	var l packetset.Line
	if a.Address.IsValid() {
		l = m.space.Addresses(a.Address.Addr())
	}
	if a.Address6.IsValid() {
		l = l.Union(m.space.Addresses(a.Address6.Addr()))
	}
	return l
}

// addresses returns the addresses that an adapter has or may get: its own, the
// pool it leases from, or any of its segment.
func (m *Model) addresses(a *plan.Adapter) packetset.Line {
	l := m.fixed(a)
	switch _, v := a.Segment.LeaseService(); {
	case a.Address.IsValid(), a.How == plan.NoAddress:
		return l
	case v != nil && v.Pool.From.IsValid():
		return l.Union(m.space.Run(v.Pool.From, v.Pool.To))
	}
	return l.Union(m.space.Prefixes(a.Segment.Subnet))
}
