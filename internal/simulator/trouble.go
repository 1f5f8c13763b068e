package simulator

import (
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/host"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/reachability"
)

// lateBy is how long after its guests an appliance comes up that is late.
const lateBy = 25 * time.Second

// Trouble is what is wrong with a lab beside what a plan can say. All of it is of the
// plan that is rehearsed. The zero Trouble is none.
type Trouble struct {
	Late     []*plan.Machine           // appliances that come up after the guests
	Idle     []*plan.Machine           // appliances that pass nothing on
	Nameless []*plan.Machine           // appliances whose resolver does not run
	Deaf     []*plan.Machine           // appliances whose resolver asks who does not answer
	Unasking []*plan.Machine           // appliances whose resolver knows nobody to ask
	Slow     []*plan.Machine           // appliances whose resolver loses the first of each guest's questions
	Stale    map[*plan.Adapter]Held    // settings that adapters have from before, and keep until they ask anew
	Silent   []*plan.Machine           // guests on which nothing listens
	Shut     map[*plan.Machine]uint16  // the port on which nothing listens on a guest
	Dead     []*plan.Segment           // upstream segments on which nobody routes
	Narrow   map[*plan.Segment]int     // the largest packet that a segment passes, in bytes
	Servers  map[*plan.Segment]Foreign // who else hands out leases
	Unserved []*plan.Segment           // segments on which the appliances' resolvers do not answer
	Shown    map[*plan.Adapter]Held    // what adapters' settings look like, where that is not what they are
}

// Held is what an adapter has of settings.
type Held struct {
	Address netip.Prefix // invalid: none
	Gateway netip.Addr
	DNS     []netip.Addr
	Since   time.Duration // from when it asked to when it got them; 0: they are typed in, or none
}

// Foreign is who hands out leases that nobody planned.
type Foreign struct {
	Network netip.Prefix // from which; invalid: the segment's own
	First   bool         // it answers before everybody else
}

// NewTroubled builds the world of a plan with something wrong in it.
func NewTroubled(p *plan.Plan, t Trouble) *Lab {
	l := newLab(p, t)
	for _, m := range t.Idle {
		l.members[m].node.Forwards = false
	}
	for _, m := range t.Nameless {
		l.members[m].node.HandleUDP(dns.Port, nil)
	}
	for _, m := range t.Deaf {
		l.setUpstreams(m, subnet.Add(l.beyond.Addr(), 66))
	}
	for _, m := range t.Unasking {
		l.setUpstreams(m)
	}
	for _, m := range t.Slow {
		heard := map[netip.Addr]bool{}
		l.members[m].node.LoseUDP(dns.Port, func(d host.Datagram) bool {
			first := !heard[d.Remote.Addr()]
			heard[d.Remote.Addr()] = true
			return first
		})
	}
	for _, s := range t.Unserved {
		for _, a := range s.Adapters {
			if a.Port != nil {
				l.members[a.Machine].node.LoseUDP(
					dns.Port,
					func(d host.Datagram) bool { return s.Subnet.Contains(d.Remote.Addr()) },
				)
			}
		}
	}
	for a, held := range t.Stale {
		s, port := l.portOf(a)
		port.Client, port.Address, port.Gateway, port.DNS = nil, held.Address, held.Gateway, held.DNS
		s.node.Readdressed()
	}
	for _, m := range t.Silent {
		n := l.members[m].node
		n.AnyUDP, n.AnyTCP = nil, nil
	}
	for m, port := range t.Shut {
		l.members[m].node.Listen(port, nil)
		l.members[m].node.HandleUDP(port, func(host.Datagram) {})
	}
	for _, s := range t.Dead {
		if r := l.routers[s]; r != nil {
			l.world.setLink(r, 1, false)
		}
	}
	for s, size := range t.Narrow {
		l.world.limit(l.cableOf(s).segments[s.Tag], size)
	}
	return l
}

// addForeigners makes those who hand out leases that nobody planned: who answers
// first stands nearer.
func (l *Lab) addForeigners(first bool) {
	for _, s := range l.plan.Segments {
		if f, ok := l.trouble.Servers[s]; ok && f.First == first {
			l.addForeign(s, f)
		}
	}
}

// setUpstreams has an appliance's resolver ask others than those it is told.
func (l *Lab) setUpstreams(m *plan.Machine, instead ...netip.Addr) {
	n := l.members[m].node
	learn := func() {
		n.Resolver.Upstreams = instead
		for i, a := range m.Adapters { // the appliance itself asks no others
			if p := n.Ports()[i]; a.Role == lab.WAN || p.Gateway.IsValid() {
				p.DNS = instead
			}
		}
	}
	for _, p := range n.Ports() {
		p.Changed = learn
	}
	learn()
}

// addForeign makes somebody who hands out leases that nobody planned, of the segment's
// network or of another, and leads nowhere.
func (l *Lab) addForeign(s *plan.Segment, f Foreign) {
	own := netip.PrefixFrom(attack.Free(s), s.Subnet.Bits())
	if n := f.Network; n.IsValid() && n != s.Subnet {
		own = netip.PrefixFrom(subnet.Add(subnet.Last(n), -1), n.Bits())
	}
	l.addServer(s, own, "server on "+s.Name, standIn(kindForeign, slices.Index(l.plan.Segments, s)+1))
}

// Model returns what is proved of the lab.
func (l *Lab) Model() *reachability.Model { return l.model }

// Shown returns the settings that an adapter of the lab shows now.
func (l *Lab) Shown(a *plan.Adapter) Held {
	if h, ok := l.trouble.Shown[a]; ok {
		return h
	}
	return l.Held(a)
}

// Held returns the settings that an adapter of the lab has now.
func (l *Lab) Held(a *plan.Adapter) Held {
	l.start()
	s, port := l.portOf(a)
	h := Held{Address: port.Address, Gateway: port.Gateway, DNS: port.DNS}
	if port.Client != nil && port.Client.Binding != nil {
		h.Since = max(port.Client.Binding.Since-l.led[s], 1)
	}
	return h
}

// Renew has an adapter ask for a lease from the beginning, as when it is told to or
// its machine is started again, and waits.
func (l *Lab) Renew(a *plan.Adapter) {
	l.start()
	s, port := l.portOf(a)
	if a.How == plan.Static || a.How == plan.NoAddress || !port.Up() {
		return
	}
	port.Address, port.Gateway, port.DNS = netip.Prefix{}, netip.Addr{}, nil
	s.node.Readdressed()
	port.Client = &dhcp.Client{MAC: a.MAC, Hostname: a.Machine.Name}
	s.node.StartLease(l.world.now, port)
	l.world.pump(s)
	l.world.run(l.world.now + 30*time.Second)
}

// largestPing is how much a ping carries in a packet of 1,500 bytes.
const largestPing = 1472

// Large tells, for each of several adapters, whether the witness answers a ping that
// fills a whole packet.
func (l *Lab) Large(from []*plan.Adapter) []bool {
	l.start()
	var pings []*host.Ping
	for _, a := range from {
		s, _ := l.portOf(a)
		payload := l.payload()
		payload = append(payload, strings.Repeat(" ", largestPing-len(payload))...)
		pings = append(pings, s.node.Ping(l.world.now, l.witness, 0, 2*time.Second, payload))
		l.world.pump(s)
		l.world.run(l.world.now + l.timing.step)
	}
	l.world.run(l.world.now + 5*time.Second)
	out := make([]bool, len(from))
	for i, p := range pings {
		out[i] = p.Answered
	}
	return out
}

// wake brings the appliances up that are late.
func (l *Lab) wake() {
	for _, m := range l.trouble.Late {
		for _, a := range m.Adapters {
			if a.Over == nil && a.Plugged {
				l.world.setLink(l.members[m], a.Number, true)
			}
		}
		l.lead(l.members[m])
	}
}

// sleep keeps them down until then.
func (l *Lab) sleep() {
	for _, m := range l.trouble.Late {
		for _, a := range m.Adapters {
			if a.Over == nil {
				l.world.setLink(l.members[m], a.Number, false)
			}
		}
	}
}

// None tells that nothing is wrong beside what a plan says.
func (t Trouble) None() bool { return reflect.ValueOf(t).IsZero() }
