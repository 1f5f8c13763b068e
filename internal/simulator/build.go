package simulator

import (
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/bridge"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/firewall"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// witnessName is what the witness is called outside.
const witnessName = "buoy.example"

// witnessHost and routerName are the machines that stand for the outside.
const (
	witnessHost = "buoy"
	routerName  = "lighthouse"
)

// unused returns a name for a stand-in that nothing in the plan has: a guest that is
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

// outsides returns the networks that the outside can have behind its routers, in
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
	appliances map[*plan.Machine]*firewall.Appliance
	buoy       *station
	far        *cable                     // behind the routers upstream
	routers    map[*plan.Segment]*station // upstream, by segment
	announcers map[*plan.Segment]*station // who announces IPv6 there and is not the appliance
	host       *station                   // nil when no segment has a host leg
	strays     map[*plan.Segment]*station // who may be on a tag that leaves the host, by segment
	cables     map[*plan.Wire]*cable
	learned    attack.Known // what those who are hostile know
	named      []netip.Addr // outside, at which somebody must answer
	model      *reachability.Model
	beyond     netip.Prefix // behind the routers upstream
	witness    netip.Addr   // on it
	outside    map[*station]bool
	outer      []bool // by segment of the world: it is outside

	Progress func(done, total int) // told how many hostile guests have had their turn, or nil

	seen      map[string]netip.Addr // by ping payload: the source that the witness saw
	pinged    netip.Addr            // the source of the last ping that it saw
	pings     int
	timing    timing
	round     *round
	condition claims.Condition
	started   bool
	trouble   Trouble
	led       map[*station]time.Duration // when each was switched on
}

// New builds the world of a plan.
func New(p *plan.Plan) *Lab { return newLab(p, Trouble{}) }

func newLab(p *plan.Plan, t Trouble) *Lab {
	l := &Lab{
		trouble: t, led: map[*station]time.Duration{},
		world: newWorld(), plan: p, timing: virtual, members: map[*plan.Machine]*station{}, condition: claims.Running,
		appliances: map[*plan.Machine]*firewall.Appliance{},
		routers:    map[*plan.Segment]*station{}, outside: map[*station]bool{}, seen: map[string]netip.Addr{},
		strays: map[*plan.Segment]*station{}, cables: map[*plan.Wire]*cable{},
	}
	l.placeOutside()
	l.model = reachability.New(p, l.witness)
	l.named = claims.AddressesOutside(l.model, l.witness)
	cables := l.cables
	l.lay()
	l.addOutside(cables)
	for _, name := range l.world.Segments {
		s := p.Segment(name)
		l.outer = append(l.outer, s == nil || s.Reach == lab.Upstream)
	}
	l.addHost(cables)
	l.addStrangers()
	l.addForeigners(true)
	l.addStrays(cables)
	l.addAnnouncers(cables)
	for _, m := range p.Appliances() {
		l.appliances[m] = firewall.New(m, firewall.Options{Guests: p.Guests(), SessionSecret: sessionSecret})
		s := l.world.addStation(l.appliances[m].Node)
		l.members[m] = s
		l.attach(s, m, cables)
	}
	for _, m := range p.Guests() {
		s := l.world.addStation(guest(m))
		l.members[m] = s
		l.attach(s, m, cables)
	}
	l.addForeigners(false)
	return l
}

// lay makes a cable of each wire; those that leave the host by one uplink are one.
func (l *Lab) lay() {
	uplinks := map[string]*cable{}
	for _, w := range l.plan.Wires {
		uplink := w.Uplink()
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

// cableOf returns the cable that carries a segment.
func (l *Lab) cableOf(s *plan.Segment) *cable { return l.cables[s.Wire] }

// World returns the event loop, to set its Recorder and read its Segments.
func (l *Lab) World() *World { return l.world }

// attach connects a machine's adapters: untagged on its segment, and with the
// tags of the ports that ride on it.
func (l *Lab) attach(s *station, m *plan.Machine, cables map[*plan.Wire]*cable) {
	for _, a := range m.Adapters {
		if a.Over != nil {
			continue
		}
		if a.Segment.Nowhere() {
			s.node.SetLink(l.world.now, a.Number, false)
			continue
		}
		how := bridge.Port{Native: a.Segment.Tag, Own: a.MAC.Uint64()}
		for _, b := range a.Riders {
			if !b.Segment.Nowhere() {
				how.Tagged = append(how.Tagged, b.Segment.Tag)
			}
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
func guest(m *plan.Machine) *host.Node {
	n := host.New(m.Name)
	n.Forwards = m.Guest.Forwards
	for _, a := range m.Adapters {
		p := n.AddPort(
			host.Port{Name: a.Name, Adapter: a.Number, MAC: a.MAC, Address: a.Address, Gateway: a.Gateway, DNS: a.DNS},
		)
		if a.How != plan.Static {
			p.Address = netip.Prefix{}
			p.Client = &dhcp.Client{MAC: a.MAC, Hostname: m.Name}
		}
		if a.Leases != nil {
			p.Server = dhcp.NewServer(firewall.LeaseConfig(a))
		}
	}
	for i, a := range m.Adapters {
		if a.Segment.Subnet6.IsValid() || a.Segment.Lab.RouterAdvertisements {
			n.Ports()[i].IPv6 = &host.IPv6{Accepts: true}
		}
	}
	introduce(n)
	return n
}

// introduce makes a node answer every question and page with its name and the
// source it saw, and nothing else.
func introduce(n *host.Node) {
	n.AnyUDP = func(d host.Datagram) {
		if d.Outcome.Code != outcome.OK {
			return
		}
		if reply, ok := probemsg.Reply(d.Data, n.Name, d.Remote); ok {
			n.Reply(n.Now(), d.Local, d.Remote, reply)
		}
	}
	n.AnyTCP = host.Pages(func(client netip.AddrPort) string { return probemsg.Page(n.Name, client) })
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
	n := host.New(l.unused("host"))
	n.Forwards = forwards
	var where []*plan.Segment
	for i, s := range legs {
		p := n.AddPort(host.Port{Adapter: i + 1, MAC: standIn(kindHost, i+1), Address: s.HostLeg})
		where = append(where, s)
		if s.HostPool != nil {
			c := dhcp.Config{Address: s.HostLeg, From: s.HostPool.From, To: s.HostPool.To, Time: time.Hour}
			if s.Lab.HostForwards {
				c.Router, c.DNS = s.HostLeg.Addr(), []netip.Addr{s.HostLeg.Addr()}
			}
			p.Server = dhcp.NewServer(c)
		}
	}
	if forwards {
		for _, s := range l.plan.Segments {
			if s.Reach == lab.Upstream {
				i := len(where) + 1
				m := standIn(kindHost, i)
				port := host.Port{Adapter: i, MAC: m, Client: &dhcp.Client{MAC: m, Hostname: "host"}}
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
		l.world.attach(l.host, i+1, cables[s.Wire], bridge.Port{Native: s.Tag})
	}
}

// start switches everything on: the outside and the appliances first, then the
// guests, one after another.
func (l *Lab) start() {
	if l.started {
		return
	}
	l.startBeyond()
	for _, m := range l.plan.Guests() {
		l.lead(l.members[m])
		l.world.run(l.world.now + time.Millisecond)
	}
	if len(l.trouble.Late) > 0 {
		l.world.run(l.world.now + lateBy)
		l.wake()
	}
	l.world.run(l.world.now + 40*time.Second)
}

// lead has a station ask for what it is to be given; a real one does so by itself.
func (l *Lab) lead(s *station) {
	if s.real || s.resumed {
		return
	}
	l.led[s] = l.world.now
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

// startBeyond switches on all but the guests.
func (l *Lab) startBeyond() {
	l.started = true
	if l.host != nil {
		l.lead(l.host)
	}
	for _, s := range l.plan.Segments {
		if a := l.announcers[s]; a != nil {
			l.lead(a)
		}
	}
	if len(l.announcers) > 0 {
		l.lead(l.buoy)
	}
	l.sleep()
	for _, m := range l.plan.Appliances() {
		if !slices.Contains(l.trouble.Late, m) {
			l.lead(l.members[m])
		}
	}
	l.world.run(10 * time.Second)
}

// portOf returns the node's port of a plan's adapter.
func (l *Lab) portOf(a *plan.Adapter) (*station, *host.Port) {
	s := l.members[a.Machine]
	return s, s.node.Ports()[slices.Index(a.Machine.Adapters, a)]
}
