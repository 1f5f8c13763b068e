package rehearse

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"openbastion/core/appliance"
	"openbastion/core/ask"
	"openbastion/core/attack"
	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/lease"
	"openbastion/core/mac"
	"openbastion/core/names"
	"openbastion/core/node"
	"openbastion/core/packet"
	"openbastion/core/plan"
	"openbastion/core/ppp"
	"openbastion/core/prove"
	"openbastion/core/subnet"
	"openbastion/core/wire"
)

// witnessName is what the witness is called outside.
const witnessName = "buoy.example"

// witnessHost and routerName are the machines that stand for the outside.
const (
	witnessHost = "buoy"
	routerName  = "lighthouse"
)

// unused gives a name for a stand-in that nothing in the plan has: a guest that is
// called as one of them is an ordinary guest.
func (l *Lab) unused(name string) string {
	for l.plan.Machine(name) != nil || l.plan.Segment(name) != nil {
		name += "-outside"
	}
	return name
}

// sessionSecret is the password by which appliances get their PPPoE sessions in a
// rehearsal.
const sessionSecret = "high tide"

// outsides gives the networks that the outside can have behind its routers, in
// order of preference: documentation addresses (RFC 5737), then those for tests
// (RFC 2544) and for providers (RFC 6598).
func outsides(use func(netip.Prefix) bool) {
	try := func(a, b, c byte) bool { return use(netip.PrefixFrom(netip.AddrFrom4([4]byte{a, b, c}), 24)) }
	if try(203, 0, 113) || try(198, 51, 100) || try(192, 0, 2) {
		return
	}
	for c := range 256 {
		if try(198, 19, byte(c)) || try(100, 127, byte(c)) {
			return
		}
	}
}

// placeOutside picks a network for the outside that no segment of the lab has.
func (l *Lab) placeOutside() {
	outsides(func(p netip.Prefix) bool {
		l.beyond = p
		return !slices.ContainsFunc(l.plan.Segments, func(s *plan.Segment) bool { return s.Subnet.Overlaps(l.beyond) })
	})
	l.witness = subnet.Add(l.beyond.Addr(), 80)
}

// Lab is a plan brought to life. It is a stage of the claims.
type Lab struct {
	world      *World
	plan       *plan.Plan
	members    map[*plan.Machine]*station
	appliances map[*plan.Machine]*appliance.Appliance
	buoy       *station
	far        *cable                     // behind the routers upstream
	routers    map[*plan.Segment]*station // upstream, by segment
	announcers map[*plan.Segment]*station // who announces IPv6 there and is not the appliance
	host       *station                   // nil when no segment has a host leg
	strays     map[*plan.Segment]*station // who may be on a tag that leaves the host, by segment
	cables     map[*plan.Wire]*cable
	named      []netip.Addr // outside, at which somebody must answer
	model      *prove.Model
	beyond     netip.Prefix // behind the routers upstream
	witness    netip.Addr   // on it
	outside    map[*station]bool
	outer      []bool // by segment of the world: it is outside

	Progress func(done, total int) // told how many hostile guests have had their turn, or nil

	seen      map[string]netip.Addr // by ping payload: the source that the witness saw
	pinged    netip.Addr            // the source of the last ping that it saw
	pings     int
	round     *round
	condition claims.Condition
	started   bool
}

// New builds the world of a plan.
func New(p *plan.Plan) *Lab {
	l := &Lab{
		world: newWorld(), plan: p, members: map[*plan.Machine]*station{}, condition: claims.Running,
		appliances: map[*plan.Machine]*appliance.Appliance{},
		routers:    map[*plan.Segment]*station{}, outside: map[*station]bool{}, seen: map[string]netip.Addr{},
		strays: map[*plan.Segment]*station{}, cables: map[*plan.Wire]*cable{},
	}
	l.placeOutside()
	l.model = prove.New(p, l.witness)
	l.named = claims.AddressesOutside(l.model, l.witness)
	cables := l.cables
	l.lay()
	l.addOutside(cables)
	for _, name := range l.world.Segments {
		s := p.Segment(name)
		l.outer = append(l.outer, s == nil || s.Reach == lab.Upstream)
	}
	l.addHost(cables)
	l.addStrangers(cables)
	l.addStrays(cables)
	l.addAnnouncers(cables)
	for _, m := range p.Appliances() {
		l.appliances[m] = appliance.New(m, appliance.Options{Guests: p.Guests(), SessionSecret: sessionSecret})
		s := l.world.addStation(l.appliances[m].Node)
		l.members[m] = s
		l.attach(s, m, cables)
	}
	for _, m := range p.Guests() {
		s := l.world.addStation(guest(m))
		l.members[m] = s
		l.attach(s, m, cables)
	}
	return l
}

// lay makes a cable of each wire; those that leave the host by one uplink are one.
func (l *Lab) lay() {
	uplinks := map[string]*cable{}
	for _, w := range l.plan.Wires {
		root := l.plan.Segment(w.Name)
		uplink := ""
		if root.Reach == lab.Upstream && root.Lab.Join != "nat" {
			uplink = root.Lab.Uplink
		}
		c := uplinks[uplink]
		if uplink == "" || c == nil {
			c = l.world.addCable()
			uplinks[uplink] = c
		}
		l.cables[w] = c
		for _, s := range w.Segments {
			if _, there := c.segments[s.Tag]; !there {
				l.world.addSegment(c, s.Tag, s.Name)
			}
		}
	}
}

// cableOf gives the cable that carries a segment.
func (l *Lab) cableOf(s *plan.Segment) *cable { return l.cables[s.Wire] }

// World gives the event loop, to set its Recorder and read its Segments.
func (l *Lab) World() *World { return l.world }

// attach connects a machine's adapters: untagged on its segment, and with the
// tags of the ports that ride on it.
func (l *Lab) attach(s *station, m *plan.Machine, cables map[*plan.Wire]*cable) {
	for _, a := range m.Adapters {
		if a.Over != nil {
			continue
		}
		how := wire.Port{Native: a.Segment.Tag, Own: a.MAC.Uint64()}
		for _, b := range a.Riders {
			how.Tagged = append(how.Tagged, b.Segment.Tag)
		}
		for _, b := range append([]*plan.Adapter{a}, a.Riders...) {
			if b.Segment.Lab.ForeignMACs == "refuse" {
				how.Strict = append(how.Strict, b.Segment.Tag)
			}
		}
		l.world.attach(s, a.Number, cables[a.Segment.Wire], how)
		if !a.Plugged {
			l.world.setLink(s, a.Number, false)
		}
	}
}

// guest makes a guest's node. Guests answer on every port and say who they
// are, so that what passes can be told from what is refused on the way.
func guest(m *plan.Machine) *node.Node {
	n := node.New(m.Name)
	n.Forwards = m.Guest.Forwards
	for _, a := range m.Adapters {
		p := n.AddPort(node.Port{Name: a.Name, Adapter: a.Number, MAC: a.MAC, Address: a.Address, Gateway: a.Gateway, DNS: a.DNS})
		if a.How != plan.Static {
			p.Address = netip.Prefix{}
			p.Client = &lease.Client{MAC: a.MAC, Hostname: m.Name}
		}
		if a.Leases != nil {
			p.Server = lease.NewServer(appliance.LeaseConfig(a))
		}
	}
	for i, a := range m.Adapters {
		if a.Segment.Subnet6.IsValid() || a.Segment.Lab.RouterAdvertisements {
			n.Ports()[i].IPv6 = &node.IPv6{Accepts: true}
		}
	}
	introduce(n)
	return n
}

// introduce makes a node answer every question and page with its name and the
// source it saw, and nothing else.
func introduce(n *node.Node) {
	n.AnyUDP = func(d node.Datagram) {
		if d.Error != "" {
			return
		}
		if reply, ok := ask.Reply(d.Data, n.Name, d.Remote); ok {
			n.Reply(n.Now(), d.Local, d.Remote, reply)
		}
	}
	n.AnyTCP = node.Pages(func(client netip.AddrPort) string { return ask.Page(n.Name, client) })
}

// standIn gives a hardware address for a machine that no plan has: the n-th of
// its kind.
func standIn(kind, n int) mac.Address {
	return mac.Address{0x02, 0x0b, 0, byte(kind), byte(n >> 8), byte(n)}
}

// The kinds of stand-in, as the fourth byte of their hardware addresses.
const (
	kindRouter    = 0x11
	kindBuoy      = 0x12
	kindHost      = 0x13
	kindStranger  = 0x14
	kindAnnouncer = 0x15
	kindStray     = 0x16
	kindNamed     = 0x17
)

// addOutside makes a router with leases and names for each upstream segment,
// and the witness behind them.
func (l *Lab) addOutside(cables map[*plan.Wire]*cable) {
	l.far = l.world.addCable()
	far := l.far
	l.world.addSegment(far, 0, l.unused("beyond"))
	buoy := node.New(l.unused(witnessHost))
	buoy.AddPort(node.Port{Adapter: 1, MAC: standIn(kindBuoy, 1), Address: netip.PrefixFrom(l.witness, l.beyond.Bits()),
		Gateway: subnet.First(l.beyond)})
	introduce(buoy)
	l.buoy = l.world.addStation(buoy)
	l.world.attach(l.buoy, 1, far, wire.Port{})
	l.outside[l.buoy] = true
	buoy.Seen = func(p *packet.Packet) {
		if p.Ping(false) {
			l.seen[string(p.Data[8:])] = p.Source
			l.pinged = p.Source
		}
		l.round.saw(l.buoy, p)
	}
	count := 0
	for _, s := range l.plan.Segments {
		if s.Reach != lab.Upstream && !l.hostIsOutside(s) {
			continue
		}
		count++
		name := routerName
		if count > 1 {
			name = fmt.Sprintf("%s%d", routerName, count)
		}
		name = l.unused(name)
		farAddress := subnet.First(l.beyond)
		if count > 1 {
			farAddress = subnet.Add(l.beyond.Addr(), 200+count)
		}
		n := router(name, s, count, netip.PrefixFrom(farAddress, l.beyond.Bits()))
		n.Ports()[0].Access = access(s, n.Ports()[0])
		n.Resolver.Names[witnessName+"."] = l.witness
		n.Resolver.Names[name+".example."] = n.Ports()[0].Address.Addr()
		n.Resolver.Zones = []string{"."}
		if !translates(s) {
			buoy.Routes = append(buoy.Routes, node.Route{To: s.Subnet, Hop: farAddress})
		}
		l.answerFor(s, n, cables)
		st := l.world.addStation(n)
		l.world.attach(st, 1, cables[s.Wire], wire.Port{Native: s.Tag})
		l.world.attach(st, 2, far, wire.Port{})
		l.routers[s], l.outside[st] = st, true
		n.Seen = func(p *packet.Packet) { l.round.saw(st, p) }
	}
}

// hostIsOutside tells a segment that leads outside by the host alone: the lab has
// no upstream segment, and the host forwards for it, as on many a desktop.
func (l *Lab) hostIsOutside(s *plan.Segment) bool {
	return s.Reach == lab.Host && s.Lab.HostForwards && s.HostLeg.IsValid() &&
		!slices.ContainsFunc(l.plan.Segments, func(s *plan.Segment) bool { return s.Reach == lab.Upstream })
}

// translates tells a segment that the host joins to its own network by translation.
func translates(s *plan.Segment) bool { return s.Lab.Join == "nat" || s.Reach == lab.Host }

// answerFor lets somebody outside answer at the addresses that the lab file names
// there: the router of the segment for resolvers, the witness for all others, and
// where it is an address of the segment itself, a machine of its own.
func (l *Lab) answerFor(s *plan.Segment, router *node.Node, cables map[*plan.Wire]*cable) {
	living := func(a netip.Addr) *plan.Segment {
		for _, x := range l.plan.Segments {
			if x.Subnet.Contains(a) {
				return x
			}
		}
		return nil
	}
	for _, a := range l.plan.Adapters {
		for _, d := range a.DNS {
			if d.Is4() && d != l.witness && !router.Local(d) && living(d) == nil {
				router.Ports()[1].Also = append(router.Ports()[1].Also, d)
			}
		}
	}
	buoy := l.buoy.node.Ports()[0]
	for i, d := range l.named {
		switch at := living(d); {
		case !d.Is4() || router.Local(d):
		case at == nil:
			if !buoy.Owns(d) {
				buoy.Also = append(buoy.Also, d)
			}
			router.Routes = append(router.Routes, node.Route{To: netip.PrefixFrom(d, 32), Hop: l.witness})
		case at == s:
			n := node.New("stand-in at " + d.String())
			n.AddPort(node.Port{Adapter: 1, MAC: standIn(kindNamed, i+1), Address: netip.PrefixFrom(d, s.Subnet.Bits()),
				Gateway: router.Ports()[0].Address.Addr()})
			introduce(n)
			st := l.world.addStation(n)
			l.world.attach(st, 1, cables[s.Wire], wire.Port{Native: s.Tag})
			l.outside[st] = true
			n.Seen = func(p *packet.Packet) { l.round.saw(st, p) }
		}
	}
}

// addStrangers makes, for each segment that is not upstream and on which the
// file says that somebody upstream hands out leases, that somebody.
func (l *Lab) addStrangers(cables map[*plan.Wire]*cable) {
	for i, s := range l.plan.Segments {
		if s.Reach == lab.Upstream || s.Lab.Leases != "upstream" || s.Bridged != nil {
			continue
		}
		own := netip.PrefixFrom(attack.Free(s), s.Subnet.Bits())
		n := node.New("stranger on " + s.Name)
		n.AddPort(node.Port{Adapter: 1, MAC: standIn(kindStranger, i+1), Address: own, Server: lease.NewServer(lease.Config{
			Address: own, From: subnet.Add(s.Subnet.Addr(), subnet.Size(s.Subnet)*3/4), To: own.Addr().Prev(), Router: own.Addr(),
			DNS: []netip.Addr{own.Addr()}, Time: time.Hour,
		})})
		l.world.attach(l.world.addStation(n), 1, cables[s.Wire], wire.Port{Native: s.Tag})
	}
}

// addStrays makes, for each tag that leaves the host on an upstream wire, somebody
// out there who has it too.
func (l *Lab) addStrays(cables map[*plan.Wire]*cable) {
	for i, s := range l.plan.Segments {
		root := l.plan.Segment(s.Wire.Name)
		if s.Reach == lab.Upstream || root.Reach != lab.Upstream || root.Lab.Join == "nat" {
			continue
		}
		n := node.New("beyond " + root.Name + " with tag " + fmt.Sprint(s.Tag))
		n.AddPort(node.Port{Adapter: 1, MAC: standIn(kindStray, i+1), Address: netip.PrefixFrom(subnet.Add(attack.Free(s), -1), s.Subnet.Bits())})
		st := l.world.addStation(n)
		l.world.attach(st, 1, cables[s.Wire], wire.Port{Native: s.Tag})
		l.strays[s], l.outside[st] = st, true
		n.Seen = func(p *packet.Packet) { l.round.saw(st, p) }
	}
}

// router makes the router of an upstream segment, the count-th. Where the host
// joins the segment to its own network, that is the host, and it translates.
func router(name string, s *plan.Segment, count int, far netip.Prefix) *node.Node {
	own := netip.PrefixFrom(s.Gateway, s.Subnet.Bits())
	if s.Reach == lab.Host {
		own = s.HostLeg
	}
	serves := s.Reach != lab.Host && s.Lab.Leases == "" || s.Lab.Leases == "upstream" || s.Lab.Leases == "host" // the host that joins it, or stands on it
	leases := upstreamLeases(s, own)
	near := node.Port{Adapter: 1, MAC: standIn(kindRouter, 2*count-1), Address: own}
	away := node.Port{Adapter: 2, MAC: standIn(kindRouter, 2*count), Address: far}
	if translates(s) {
		inner := &plan.Adapter{Number: 1, MAC: near.MAC, Address: own, Segment: s, Role: lab.LAN}
		outer := &plan.Adapter{Number: 2, MAC: away.MAC, Address: far, Segment: s, Role: lab.WAN}
		if serves {
			inner.Leases = &plan.Service{Pool: plan.Pool{From: leases.From, To: leases.To}, Router: leases.Router, DNS: leases.DNS,
				Time: leases.Time}
		}
		m := plan.NewTranslator(name, inner, outer)
		// What the appliance publishes must be passed on here as well: a step that
		// the rehearsal takes as done.
		for _, a := range s.Adapters {
			if a.Role != lab.WAN {
				continue
			}
			at := *a
			if !at.Address.IsValid() && inner.Leases != nil {
				at.Address = netip.PrefixFrom(leases.From, own.Bits())
				inner.Leases.Reservations = append(inner.Leases.Reservations, &at)
				leases.From = leases.From.Next()
			}
			for _, v := range a.Machine.Publishes {
				m.Publishes = append(m.Publishes, plan.Publish{Proto: v.Proto, Port: v.Port, To: &at, Target: v.Port})
			}
		}
		return appliance.New(m, appliance.Options{}).Node
	}
	n := node.New(name)
	n.Forwards = true
	if serves {
		near.Server = lease.NewServer(leases)
	}
	n.AddPort(near)
	n.AddPort(away)
	n.ServeNames(&names.Resolver{Names: map[string]netip.Addr{}})
	return n
}

// access gives sessions on an upstream segment, where an appliance's WAN takes
// its address from one; else nil. A host that translates gives none.
func access(s *plan.Segment, near *node.Port) *ppp.Server {
	if s.Lab.Join == "nat" {
		return nil
	}
	var secrets map[string]string
	for _, a := range s.Adapters {
		if a.Port != nil && a.Role == lab.WAN && a.Port.Address.How == "pppoe" {
			if secrets == nil {
				secrets = map[string]string{}
			}
			secrets[a.Machine.Name] = sessionSecret
		}
	}
	if secrets == nil {
		return nil
	}
	own := upstreamLeases(s, near.Address)
	return &ppp.Server{MAC: near.MAC, Address: near.Address.Addr(), From: subnet.Add(s.Subnet.Addr(), subnet.Size(s.Subnet)/4),
		To: own.From.Prev(), DNS: own.DNS, CHAP: true, Secrets: secrets}
}

// upstreamLeases gives what an upstream router hands out: the upper half of
// its network, but for addresses that the plan gives to somebody.
func upstreamLeases(s *plan.Segment, own netip.Prefix) lease.Config {
	from := subnet.Add(s.Subnet.Addr(), subnet.Size(s.Subnet)/2)
	for _, a := range s.Adapters {
		if a.Address.IsValid() && a.Address.Addr().Compare(from) >= 0 {
			from = a.Address.Addr().Next()
		}
	}
	return lease.Config{
		Address: own, From: from, To: subnet.Last(s.Subnet), Router: own.Addr(), DNS: []netip.Addr{own.Addr()},
		Domain: "example", Time: 12 * time.Hour,
	}
}

// addHost makes the host, when it has a leg on some segment. Where it forwards
// it has a leg on the upstream segments as well.
func (l *Lab) addHost(cables map[*plan.Wire]*cable) {
	var legs []*plan.Segment
	forwards := false
	for _, s := range l.plan.Segments {
		if s.HostLeg.IsValid() && !l.hostIsOutside(s) {
			legs = append(legs, s)
			forwards = forwards || s.Lab.HostForwards
		}
	}
	if legs == nil {
		return
	}
	n := node.New(l.unused("host"))
	n.Forwards = forwards
	var where []*plan.Segment
	for i, s := range legs {
		p := n.AddPort(node.Port{Adapter: i + 1, MAC: standIn(kindHost, i+1), Address: s.HostLeg})
		where = append(where, s)
		if s.HostPool != nil {
			c := lease.Config{Address: s.HostLeg, From: s.HostPool.From, To: s.HostPool.To, Time: time.Hour}
			if s.Lab.HostForwards {
				c.Router, c.DNS = s.HostLeg.Addr(), []netip.Addr{s.HostLeg.Addr()}
			}
			p.Server = lease.NewServer(c)
		}
	}
	if forwards {
		for _, s := range l.plan.Segments {
			if s.Reach == lab.Upstream {
				i := len(where) + 1
				m := standIn(kindHost, i)
				port := node.Port{Adapter: i, MAC: m, Client: &lease.Client{MAC: m, Hostname: "host"}}
				if l.routers[s].node.Ports()[0].Server == nil { // then somebody typed its address in
					port.Client, port.Gateway = nil, s.Gateway
					port.Address = netip.PrefixFrom(subnet.Add(attack.Free(s), -2), s.Subnet.Bits())
				}
				n.AddPort(port)
				where = append(where, s)
			}
		}
	}
	l.host = l.world.addStation(n)
	for i, s := range where {
		l.world.attach(l.host, i+1, cables[s.Wire], wire.Port{Native: s.Tag})
	}
}

// start switches everything on: the outside and the appliances first, then the
// guests, one after another.
func (l *Lab) start() {
	if l.started {
		return
	}
	l.started = true
	lead := func(s *station) {
		for _, p := range s.node.Ports() {
			s.node.StartSix(l.world.now, p)
			if p.Client != nil && p.Up() {
				s.node.StartLease(l.world.now, p)
			}
			if p.Dial != nil && p.Up() {
				s.node.StartSession(l.world.now, p)
			}
		}
		l.world.pump(s)
	}
	if l.host != nil {
		lead(l.host)
	}
	for _, s := range l.plan.Segments {
		if a := l.announcers[s]; a != nil {
			lead(a)
		}
	}
	if len(l.announcers) > 0 {
		lead(l.buoy)
	}
	for _, m := range l.plan.Appliances() {
		lead(l.members[m])
	}
	l.world.run(10 * time.Second)
	for _, m := range l.plan.Guests() {
		lead(l.members[m])
		l.world.run(l.world.now + time.Millisecond)
	}
	l.world.run(l.world.now + 40*time.Second)
}

// portOf gives the node's port of a plan's adapter.
func (l *Lab) portOf(a *plan.Adapter) (*station, *node.Port) {
	s := l.members[a.Machine]
	return s, s.node.Ports()[slices.Index(a.Machine.Adapters, a)]
}
