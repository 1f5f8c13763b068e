// Package node is a simulated host: its ports with ARP (RFC 826), an IPv4
// layer that may forward (RFC 1122, RFC 1812), ICMP, UDP and TCP (RFC 9293),
// a lease client or server on a port, a resolver. A node takes frames and
// times and gives frames and its next deadline; it knows nothing of who drives
// it.
package host

import (
	"container/heap"
	"hash/fnv"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/pppoe"
)

// Emission is a frame that a node sends on one of its adapters.
type Emission struct {
	Adapter int
	Frame   []byte
}

// Verdict is what a Hook says of a packet.
type Verdict uint8

// The verdicts.
const (
	Pass    Verdict = iota
	Discard         // silently
	Refuse          // with a reset or an unreachable
)

// Hook sees the packets that pass through a node, as a packet filter does. The
// packets it is given may be changed in place.
type Hook interface {
	Arriving(now time.Duration, in *Port, p *packet.Packet) Verdict        // before the route is chosen
	Forwarding(now time.Duration, in, out *Port, p *packet.Packet) Verdict // between two ports
	Delivering(now time.Duration, in *Port, p *packet.Packet) Verdict      // to the node itself
	Leaving(now time.Duration, out *Port, p *packet.Packet, own bool) Verdict
	Bridging(now time.Duration, in, out *Port, p *packet.Packet) Verdict // between two bridged ports; p stays as it is
	Leading(
		p *packet.Packet,
	) *Port // the port that a packet passing through must leave by; nil: by its route
}

// Node is a host. Make one with [New].
type Node struct {
	// As is the address of its own that the node begins conversations with; the zero Addr leaves the
	// choice to its routes.
	As netip.Addr

	Name     string
	Forwards bool
	Spreads  bool    // passes on by every way out at once, as a hostile one tries them all
	Routes   []Route // beside the networks on its ports and their gateways
	Hook     Hook
	Resolver *dns.Resolver          // answers on every port, or nil
	AnyUDP   func(Datagram)         // takes what no handler of its own takes, or nil
	AnyTCP   func(*Conn)            // likewise
	Seen     func(p *packet.Packet) // told of every frame that the node takes in, or nil
	Noted    func(Note)             // told of what the node decides, or nil

	ports  []*Port
	near   map[netip.Addr]*Port // what onLink found, until an address or a link changes
	own    map[netip.Addr]bool  // IPv4 addresses of a node of many ports, until an address changes
	out    []Emission
	stir   bool // something was sent, or a deadline may have changed, since Drain
	now    time.Duration
	timers timers

	udp       map[uint16]func(Datagram)
	listeners map[uint16]func(*Conn)
	conns     map[connKey]*Conn
	pings     map[uint16]*Ping
	nextPort  uint16
	nextIdent uint16
	nextID    uint16
	random    *rand.Rand
}

// Port is one interface of a node. Tag makes it a tagged sub-interface of its
// adapter.
type Port struct {
	Name    string
	Adapter int
	Tag     int
	MAC     mac.Address
	MTU     int          // the largest packet that its wire takes; 0: 1500
	Address netip.Prefix // invalid: none; not changed from elsewhere once the node has sent
	Gateway netip.Addr   // invalid: no way out here
	DNS     []netip.Addr
	Also    []netip.Addr // more addresses that it answers for
	Dead    bool         // its gateway is known not to answer: another way out is taken while there is one
	Client  *dhcp.Client
	Server  *dhcp.Server
	Dial    *pppoe.Client // takes the address from a PPPoE session
	Access  *pppoe.Server // gives PPPoE sessions
	Changed func()        // told after a lease gave or took the address, or nil

	ProbeWait time.Duration // how long it waits for who has an address already, each of three times; 0: a second or so
	IPv6      *IPv6         // its IPv6 side, or nil

	up        bool
	bridge    *bridge
	neighbors map[netip.Addr]*neighbor
	surveys   []*dhcp.Client
	inquiries []*Inquiry
}

// Route is a way to a network that no port is on.
type Route struct {
	To  netip.Prefix
	Hop netip.Addr // on some port's network
}

// New makes a node without ports, whose sequence numbers, ports and identifiers
// come from its name: nodes of the same name behave the same in every run.
func New(name string) *Node {
	h := fnv.New64a()
	h.Write([]byte(name))
	return NewWith(name, rand.NewPCG(h.Sum64(), 0))
}

// NewWith makes a node whose sequence numbers, ports and identifiers come from
// a source: on a real wire it must be one that nobody outside can guess
// (RFC 6056, RFC 6528).
func NewWith(name string, source rand.Source) *Node {
	n := &Node{Name: name, udp: map[uint16]func(Datagram){}, random: rand.New(source)}
	n.nextPort = firstPort + uint16(n.random.UintN(8192))
	return n
}

// firstPort is the lowest port that a node opens conversations from.
const firstPort = 32768

// AddPort adds a port that is up.
func (n *Node) AddPort(p Port) *Port {
	p.up = true
	q := &p
	n.ports = append(n.ports, q)
	n.Readdressed()
	return q
}

// Ports returns the ports in the order they were added.
func (n *Node) Ports() []*Port { return n.ports }

// Up reports whether the port's link is there.
func (p *Port) Up() bool { return p.up }

// Drain returns the frames to send since the last call. They are valid until
// the node is next used.
func (n *Node) Drain() []Emission {
	out := n.out
	n.out, n.stir = n.out[:0], false
	return out
}

// Stirred reports whether, since the last Drain, the node has something to send
// or its deadline may have changed.
func (n *Node) Stirred() bool { return n.stir }

// Now returns the time of the last event.
func (n *Node) Now() time.Duration { return n.now }

// rand returns the next number of the node's source.
func (n *Node) rand() uint32 { return n.random.Uint32() }

// SetLink returns the node that an adapter was plugged or unplugged. A lease
// client asks again when its link comes back.
func (n *Node) SetLink(now time.Duration, adapter int, up bool) {
	n.now = now
	for _, p := range n.ports {
		if p.Adapter != adapter || p.up == up {
			continue
		}
		p.up, n.near = up, nil
		p.neighbors = nil
		if p.IPv6 != nil {
			n.linked6(p, up)
		}
		if up && p.Client != nil {
			n.leaseActions(p, p.Client.Restart(now))
		}
		if p.Dial != nil {
			if p.Dial.Stop(); up {
				n.StartSession(now, p)
			}
			n.dialled(p)
		}
	}
}

// Restart forgets what does not outlive a restart: neighbors, conversations,
// and what was asked. Leases that its server gave are on its disk.
func (n *Node) Restart() {
	for _, p := range n.ports {
		p.neighbors, p.Dead = nil, false
	}
	for _, c := range n.conns {
		c.armed++
		c.Done, c.state = true, closed
	}
	n.conns, n.pings = nil, nil
}

// Receive takes a frame that arrived on an adapter.
func (n *Node) Receive(now time.Duration, adapter int, p *packet.Packet) {
	n.now = now
	port := n.portOf(adapter, p.Tag)
	if port == nil || !port.up {
		return
	}
	if port.bridge != nil {
		n.pass(port, p)
	}
	if p.To != port.MAC && !p.To.IsGroup() {
		return
	}
	if port.Dial != nil && p.Type != pppoe.TypeDiscovery && p.Type != pppoe.TypeSession {
		return // beside the session the port has no address
	}
	switch p.Type {
	case pppoe.TypeDiscovery, pppoe.TypeSession:
		n.receiveSession(port, p)
	case packet.TypeARP:
		n.receiveARP(port, p)
	case packet.TypeIPv4, packet.TypeIPv6:
		if p.IPv4 || p.IPv6 && port.IPv6 != nil && port.IPv6.on {
			if n.Seen != nil {
				n.Seen(p)
			}
			n.receiveIP(port, p)
		}
	}
}

// PortFor returns the port that takes a frame in; nil when the frame is for somebody
// else.
func (n *Node) PortFor(adapter int, p *packet.Packet) *Port {
	port := n.portOf(adapter, p.Tag)
	if port == nil || p.To != port.MAC && !p.To.IsGroup() {
		return nil
	}
	return port
}

func (n *Node) portOf(adapter, tag int) *Port {
	has := func(p *Port) bool { return p.Adapter == adapter && p.Tag == tag }
	if at := adapter - 1; at >= 0 && at < len(n.ports) && has(n.ports[at]) { // as most are numbered
		return n.ports[at]
	}
	if i := slices.IndexFunc(n.ports, has); i >= 0 {
		return n.ports[i]
	}
	return nil
}

// Local reports whether a is one of the node's own addresses.
func (n *Node) Local(a netip.Addr) bool {
	if len(n.ports) >= manyPorts && a.Is4() {
		return n.owned()[a]
	}
	for _, p := range n.ports {
		if p.Owns(a) {
			return true
		}
	}
	return false
}

// manyPorts is the number of ports from which on a node's addresses are looked up and not searched.
const manyPorts = 16

func (n *Node) owned() map[netip.Addr]bool {
	if n.own == nil {
		n.own = make(map[netip.Addr]bool, len(n.ports))
		for _, p := range n.ports {
			if p.Address.IsValid() {
				n.own[p.Address.Addr()] = true
			}
			for _, a := range p.Also {
				n.own[a] = true
			}
		}
	}
	return n.own
}

// Readdressed tells a node that addresses of its ports were changed from elsewhere.
func (n *Node) Readdressed() { n.near, n.own = nil, nil }

// Owns reports whether the port answers for an address.
func (p *Port) Owns(a netip.Addr) bool {
	return p.Address.IsValid() && p.Address.Addr() == a || slices.Contains(p.Also, a) || p.IPv6 != nil && p.IPv6.owns(a)
}

// Deadline returns the time at which Advance must be called.
func (n *Node) Deadline() (at time.Duration, ok bool) {
	at, ok = n.timers.next()
	for _, p := range n.ports {
		if !p.up {
			continue // it can do nothing: what is due waits for the link
		}
		if p.Client != nil {
			if t, has := p.Client.Deadline(); has && (!ok || t < at) {
				at, ok = t, true
			}
		}
		if p.Dial != nil {
			if t, has := p.Dial.Deadline(); has && (!ok || t < at) {
				at, ok = t, true
			}
		}
	}
	if n.Resolver != nil {
		if t, has := n.Resolver.Deadline(); has && (!ok || t < at) {
			at, ok = t, true
		}
	}
	return at, ok
}

// Advance does what is due at now.
func (n *Node) Advance(now time.Duration) {
	n.now = now
	for fn := n.timers.due(now); fn != nil; fn = n.timers.due(now) {
		fn()
	}
	for _, p := range n.ports {
		if p.Dial != nil && p.up {
			if t, ok := p.Dial.Deadline(); ok && t <= now {
				n.sendSession(p, p.Dial.Advance(now))
				n.dialled(p)
			}
		}
		if p.Client == nil {
			continue
		}
		if t, ok := p.Client.Deadline(); ok && t <= now && p.up {
			n.leaseActions(p, p.Client.Advance(now))
		}
	}
	if n.Resolver != nil {
		n.resolverOut(n.Resolver.Advance(now))
	}
}

// after runs fn once d has passed.
func (n *Node) after(d time.Duration, fn func()) {
	n.stir = true
	n.timers.add(n.now+d, fn)
}

// timers is what is to be done when; equal times keep their order.
type timers struct {
	queue timerQueue
	seq   uint64
}

type timer struct {
	at  time.Duration
	seq uint64
	fn  func()
}

// timerQueue is a heap of timers, the next first.
type timerQueue []timer

func (q timerQueue) Len() int      { return len(q) }
func (q timerQueue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q timerQueue) Less(i, j int) bool {
	return q[i].at < q[j].at || q[i].at == q[j].at && q[i].seq < q[j].seq
}
func (q *timerQueue) Push(x any) { *q = append(*q, x.(timer)) }
func (q *timerQueue) Pop() any {
	last := len(*q) - 1
	t := (*q)[last]
	(*q)[last] = timer{}
	*q = (*q)[:last]
	return t
}

func (t *timers) next() (time.Duration, bool) {
	if len(t.queue) == 0 {
		return 0, false
	}
	return t.queue[0].at, true
}

func (t *timers) add(at time.Duration, fn func()) {
	t.seq++
	heap.Push(&t.queue, timer{at, t.seq, fn})
}

// due takes the first timer off that is not after now, or gives nil.
func (t *timers) due(now time.Duration) func() {
	if len(t.queue) == 0 || t.queue[0].at > now {
		return nil
	}
	return heap.Pop(&t.queue).(timer).fn
}
