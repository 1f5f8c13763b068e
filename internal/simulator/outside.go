package simulator

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/bridge"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/firewall"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/pppoe"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/attack"
)

// standIn returns a hardware address for a machine that no plan has: the n-th of
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
	kindForeign   = 0x18
)

// addOutside makes a router with leases and names for each upstream segment,
// and the witness behind them.
func (l *Lab) addOutside(cables map[*plan.Wire]*cable) {
	l.far = l.world.addCable()
	far := l.far
	l.world.addSegment(far, 0, l.unused("beyond"))
	buoy := host.New(l.unused(witnessHost))
	buoy.AddPort(host.Port{Adapter: 1, MAC: standIn(kindBuoy, 1), Address: netip.PrefixFrom(l.witness, l.beyond.Bits()),
		Gateway: subnet.First(l.beyond)})
	introduce(buoy)
	l.buoy = l.world.addStation(buoy)
	l.world.attach(l.buoy, 1, far, bridge.Port{})
	l.outside[l.buoy] = true
	buoy.Seen = func(p *packet.Packet) {
		if p.Ping(false) {
			l.note(string(p.Data[8:]), p.Source)
			l.pinged = p.Source
		}
		l.round.saw(l.buoy, p)
	}
	count := 0
	var back []host.Route // after what lives next to a router itself
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
			buoy.Routes = append(buoy.Routes, host.Route{To: s.Subnet, Hop: farAddress})
		}
		for _, r := range s.Lab.Routes {
			n.Routes = append(n.Routes, host.Route{To: r.To, Hop: r.Via})
			if !translates(s) {
				back = append(back, host.Route{To: r.To, Hop: farAddress})
			}
		}
		l.answerFor(s, n, cables)
		st := l.world.addStation(n)
		l.world.attach(st, 1, cables[s.Wire], bridge.Port{Native: s.Tag})
		l.world.attach(st, 2, far, bridge.Port{})
		l.routers[s], l.outside[st] = st, true
		n.Seen = func(p *packet.Packet) { l.round.saw(st, p) }
	}
	buoy.Routes = append(buoy.Routes, back...)
	l.joinLegs()
}

// joinLegs has the host pass packets from each of its legs to the others, where it is what leads outside.
func (l *Lab) joinLegs() {
	for s, st := range l.routers {
		for t, other := range l.routers {
			if s != t && s.Reach == lab.Host && t.Reach == lab.Host {
				st.node.Routes = append(st.node.Routes, host.Route{To: t.Subnet, Hop: other.node.Ports()[1].Address.Addr()})
			}
		}
	}
}

// hostIsOutside reports whether it is a segment that leads outside by the host alone: the lab has
// no upstream segment, and the host forwards for it, as on many a desktop.
func (l *Lab) hostIsOutside(s *plan.Segment) bool {
	return s.Reach == lab.Host && s.Lab.HostForwards && s.HostLeg.IsValid() &&
		!slices.ContainsFunc(l.plan.Segments, func(s *plan.Segment) bool { return s.Reach == lab.Upstream })
}

// translates reports whether it is a segment that the host joins to its own network by translation.
func translates(s *plan.Segment) bool { return s.Lab.Join == "nat" || s.Reach == lab.Host }

// answerFor lets somebody outside answer at the addresses that the lab file names
// there: the router of the segment for resolvers, the witness for all others, and
// where it is an address of the segment itself, a machine of its own.
func (l *Lab) answerFor(s *plan.Segment, router *host.Node, cables map[*plan.Wire]*cable) {
	for _, a := range l.plan.Adapters {
		for _, d := range a.DNS {
			if d.Is4() && d != l.witness && !router.Local(d) && l.plan.Home(d) == nil {
				router.Ports()[1].Also = append(router.Ports()[1].Also, d)
				router.Readdressed()
			}
		}
	}
	buoy := l.buoy.node.Ports()[0]
	for i, d := range l.named {
		switch at := l.plan.Home(d); {
		case !d.Is4():
		case router.Local(d):
			introduce(router) // a sentence names it: it answers as any other address outside does
		case at == nil:
			if !buoy.Owns(d) {
				buoy.Also = append(buoy.Also, d)
				l.buoy.node.Readdressed()
			}
			router.Routes = append(router.Routes, host.Route{To: netip.PrefixFrom(d, 32), Hop: l.witness})
		case at == s:
			n := host.New("simulated server at " + d.String())
			n.AddPort(host.Port{Adapter: 1, MAC: standIn(kindNamed, i+1), Address: netip.PrefixFrom(d, s.Subnet.Bits()),
				Gateway: router.Ports()[0].Address.Addr()})
			introduce(n)
			st := l.world.addStation(n)
			l.world.attach(st, 1, cables[s.Wire], bridge.Port{Native: s.Tag})
			l.outside[st] = true
			n.Seen = func(p *packet.Packet) { l.round.saw(st, p) }
		}
	}
}

// maxSeen bounds how many pings the witness remembers: a lab that runs for days is asked
// again and again.
const maxSeen = 1 << 14

// note keeps which source a ping of ours had when it came to the witness.
func (l *Lab) note(payload string, source netip.Addr) {
	payload = string(probemsg.Unpad([]byte(payload)))
	if !strings.HasPrefix(payload, probemsg.PingPrefix) {
		return
	}
	if len(l.seen) >= maxSeen {
		clear(l.seen)
	}
	l.seen[payload] = source
}

// addStrangers makes, for each segment that is not upstream and on which the
// file says that somebody upstream hands out leases, that somebody.
func (l *Lab) addStrangers() {
	for i, s := range l.plan.Segments {
		if s.Reach == lab.Upstream || s.Lab.Leases != "upstream" || s.Bridged != nil {
			continue
		}
		l.addStranger(s, i+1)
	}
}

// addStranger makes somebody who hands out leases on a segment, and names himself as
// the way out.
func (l *Lab) addStranger(s *plan.Segment, number int) {
	l.addServer(
		s,
		netip.PrefixFrom(attack.Free(s), s.Subnet.Bits()),
		"stranger on "+s.Name,
		standIn(kindStranger, number),
	)
}

// addServer makes a machine with an address of its own that hands out leases of the last
// quarter of its network on a segment, and names itself as router and resolver.
func (l *Lab) addServer(s *plan.Segment, own netip.Prefix, name string, card mac.Address) {
	network := own.Masked()
	n := host.New(name)
	n.AddPort(host.Port{Adapter: 1, MAC: card, Address: own, Server: dhcp.NewServer(dhcp.Config{
		Address: own, From: subnet.Add(network.Addr(), subnet.Size(network)*3/4), To: own.Addr().Prev(), Router: own.Addr(),
		DNS: []netip.Addr{own.Addr()}, Time: time.Hour,
	})})
	l.world.attach(l.world.addStation(n), 1, l.cables[s.Wire], bridge.Port{Native: s.Tag})
}

// addStrays makes, for each tag that leaves the host on an upstream wire, somebody
// out there who has it too.
func (l *Lab) addStrays(cables map[*plan.Wire]*cable) {
	for i, s := range l.plan.Segments {
		root := s.Wire.Root()
		if s.Reach == lab.Upstream || !s.Wire.LeavesHost() {
			continue
		}
		n := host.New("beyond " + root.Name + " with tag " + fmt.Sprint(s.Tag))
		n.AddPort(
			host.Port{
				Adapter: 1,
				MAC:     standIn(kindStray, i+1),
				Address: netip.PrefixFrom(subnet.Add(attack.Free(s), -1), s.Subnet.Bits()),
			},
		)
		st := l.world.addStation(n)
		l.world.attach(st, 1, cables[s.Wire], bridge.Port{Native: s.Tag})
		l.strays[s], l.outside[st] = st, true
		n.Seen = func(p *packet.Packet) { l.round.saw(st, p) }
	}
}

// router makes the router of an upstream segment, the count-th. Where the host
// joins the segment to its own network, that is the host, and it translates.
func router(name string, s *plan.Segment, count int, far netip.Prefix) *host.Node {
	own := netip.PrefixFrom(s.Gateway, s.Subnet.Bits())
	if s.Reach == lab.Host {
		own = s.HostLeg
	}
	// The host serves where it joins the segment, or stands on it.
	serves := s.Reach != lab.Host && s.Lab.Leases == "" || s.Lab.Leases == "upstream" || s.Lab.Leases == "host"
	leases := upstreamLeases(s, own)
	near := host.Port{Adapter: 1, MAC: standIn(kindRouter, 2*count-1), Address: own}
	away := host.Port{Adapter: 2, MAC: standIn(kindRouter, 2*count), Address: far}
	if translates(s) {
		inner := &plan.Adapter{Number: 1, MAC: near.MAC, Address: own, Segment: s, Role: lab.LAN}
		outer := &plan.Adapter{Number: 2, MAC: away.MAC, Address: far, Segment: s, Role: lab.WAN}
		if serves {
			inner.Leases = &plan.Service{
				Pool:   plan.Pool{From: leases.From, To: leases.To},
				Router: leases.Router,
				DNS:    leases.DNS,
				Time:   leases.Time,
			}
		}
		m := plan.NewTranslator(name, inner, outer)
		if s.Reach == lab.Host { // the host passes on from its other legs too
			m.Rules = append(m.Rules, plan.Rule{Action: lab.Allow, Services: []lab.Service{{Proto: lab.Any}},
				From: []plan.Match{{Any: true}}, To: []plan.Match{{Prefixes: []netip.Prefix{s.Subnet}}}})
		}
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
		return firewall.New(m, firewall.Options{}).Node
	}
	n := host.New(name)
	n.Forwards = true
	if serves {
		near.Server = dhcp.NewServer(leases)
	}
	n.AddPort(near)
	n.AddPort(away)
	n.ServeNames(&dns.Resolver{Names: map[string]netip.Addr{}})
	return n
}

// access returns sessions on an upstream segment, where an appliance's WAN takes
// its address from one; else nil. A host that translates gives none.
func access(s *plan.Segment, near *host.Port) *pppoe.Server {
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
	return &pppoe.Server{
		MAC:     near.MAC,
		Address: near.Address.Addr(),
		From:    subnet.Add(s.Subnet.Addr(), subnet.Size(s.Subnet)/4),
		To:      own.From.Prev(),
		DNS:     own.DNS,
		CHAP:    true,
		Secrets: secrets,
	}
}

// upstreamLeases returns what an upstream router hands out: the upper half of
// its network, but for addresses that the plan gives to somebody.
func upstreamLeases(s *plan.Segment, own netip.Prefix) dhcp.Config {
	from, to := subnet.Add(s.Subnet.Addr(), subnet.Size(s.Subnet)/2), subnet.Last(s.Subnet)
	if s.Lab.PoolFrom.IsValid() {
		from, to = s.Lab.PoolFrom, s.Lab.PoolTo
	}
	for _, a := range s.Adapters {
		if at := a.Address.Addr(); a.Address.IsValid() && at.Compare(from) >= 0 && at.Less(to) {
			from = at.Next()
		}
	}
	return dhcp.Config{
		Address: own, From: from, To: to, Router: own.Addr(), DNS: []netip.Addr{own.Addr()},
		Domain: "example", Time: 12 * time.Hour,
	}
}
