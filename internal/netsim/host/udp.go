package host

import (
	"net/netip"
	"time"

	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/outcome"

	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/packet"
)

// Datagram is a UDP datagram that arrived, or, with Outcome, what became of one
// that was sent.
type Datagram struct {
	Local, Remote netip.AddrPort
	Data          []byte
	Packet        *packet.Packet
	Port          *Port // where it came in; nil with Outcome
	Outcome       outcome.Outcome
}

// HandleUDP hands datagrams for a local port to fn.
func (n *Node) HandleUDP(port uint16, fn func(Datagram)) { n.udp[port] = fn }

// LoseUDP loses datagrams for a local port that somebody takes, where lose says so.
func (n *Node) LoseUDP(port uint16, lose func(Datagram) bool) {
	if fn := n.udp[port]; fn != nil {
		n.udp[port] = func(d Datagram) {
			if d.Outcome.Code != outcome.OK || !lose(d) {
				fn(d)
			}
		}
	}
}

func (n *Node) deliverUDP(port *Port, p *packet.Packet, toAll bool) {
	if !p.TransportValid() {
		return
	}
	u := header.UDP(p.Data)
	fn := n.udp[u.DestinationPort()]
	if fn == nil {
		fn = n.AnyUDP
	}
	if fn == nil || toAll && n.udp[u.DestinationPort()] == nil {
		if !toAll {
			n.icmpError(port, p, packet.Unreachable, packet.PortUnreachable)
		}
		return
	}
	fn(Datagram{
		Local: netip.AddrPortFrom(
			p.Destination,
			u.DestinationPort(),
		), Remote: netip.AddrPortFrom(p.Source, u.SourcePort()),
		Data: u[header.UDPSize:u.Length()], Packet: p, Port: port,
	})
}

// freePort returns a local port that nothing uses.
func (n *Node) freePort(used func(uint16) bool) uint16 {
	for {
		if n.nextPort++; n.nextPort < firstPort {
			n.nextPort = firstPort
		}
		if !used(n.nextPort) {
			return n.nextPort
		}
	}
}

// Exchange is one datagram sent and the answer waited for.
type Exchange struct {
	Done     bool
	Answered bool
	From     netip.AddrPort
	Data     []byte
	Frame    int             // of the answer or the error
	Tries    int             // how often it was sent
	Outcome  outcome.Outcome // why there is no answer
}

// Ask sends a datagram from a fresh port and waits for an answer; it is sent
// again, twice, when none comes within wait.
func (n *Node) Ask(now time.Duration, to netip.AddrPort, data []byte, wait time.Duration) *Exchange {
	return n.ask3(now, to, data, wait, func([]byte) bool { return true })
}

func (n *Node) ask3(
	now time.Duration,
	to netip.AddrPort,
	data []byte,
	wait time.Duration,
	fits func([]byte) bool,
) *Exchange {
	n.now = now
	x := &Exchange{}
	local := n.freePort(func(p uint16) bool { return n.udp[p] != nil })
	end := func(why outcome.Outcome) {
		x.Done, x.Outcome = true, why
		delete(n.udp, local)
	}
	n.udp[local] = func(d Datagram) {
		if d.Outcome.Code != outcome.OK {
			x.Frame = d.Packet.Number
			end(d.Outcome)
			return
		}
		if d.Remote != to || !fits(d.Data) {
			return
		}
		x.Answered, x.From, x.Data, x.Frame = true, d.Remote, d.Data, d.Packet.Number
		end(outcome.Outcome{})
	}
	as := n.As
	var try func(left int)
	try = func(left int) {
		if x.Done {
			return
		}
		if left == 0 {
			end(outcome.Of(outcome.NoAnswer))
			return
		}
		defer func(was netip.Addr) { n.As = was }(n.As)
		if n.As = as; !n.SendUDP(n.now, local, to, data) {
			end(outcome.Of(outcome.NoRoute))
			return
		}
		x.Tries++
		n.after(wait, func() { try(left - 1) })
	}
	try(3)
	return x
}

// Lookup is a question for a name's address.
type Lookup struct {
	*Exchange
	Resolver netip.Addr
	Name     string
	Addrs    []netip.Addr
	Code     string // of the answer, such as RCodeSuccess
	id       uint16
}

// LookUp asks a resolver for a name's IPv4 addresses.
func (n *Node) LookUp(now time.Duration, resolver netip.Addr, name string) *Lookup {
	l := &Lookup{Resolver: resolver, Name: name, id: uint16(n.rand())}
	q, err := dns.Question(l.id, name)
	if err != nil {
		l.Exchange = &Exchange{Done: true, Outcome: outcome.Fail(err.Error())}
		return l
	}
	l.Exchange = n.ask3(now, netip.AddrPortFrom(resolver, dns.Port), q, 3*time.Second, func(data []byte) bool {
		addrs, code, ok := dns.ReadAnswer(data, l.id)
		if ok {
			l.Addrs, l.Code = addrs, code.String()
		}
		return ok
	})
	return l
}

// Ping is an echo request and what came back.
type Ping struct {
	Done     bool
	Answered bool
	Expired  bool       // a router on the way says that the time to live ran out
	From     netip.Addr // who answered, or sent the error
	TTL      uint8      // of the answer as it arrived
	Frame    int
	Outcome  outcome.Outcome
}

func (p *Ping) end(why outcome.Outcome) { p.Done, p.Outcome = true, why }

// Ping sends an echo request with the given time to live (0: 64) and waits for
// an answer; it is sent again, once.
func (n *Node) Ping(now time.Duration, to netip.Addr, ttl uint8, wait time.Duration, data []byte) *Ping {
	n.now = now
	q := &Ping{}
	from, ok := n.source(to)
	if !ok {
		q.end(outcome.Of(outcome.NoRoute))
		return q
	}
	if n.pings == nil {
		n.pings = map[uint16]*Ping{}
	}
	for n.nextIdent++; n.pings[n.nextIdent] != nil; n.nextIdent++ {
	}
	ident := n.nextIdent
	n.pings[ident] = q
	var try func(sequence uint16)
	try = func(sequence uint16) {
		if q.Done || sequence > 2 {
			if !q.Done {
				q.end(outcome.Of(outcome.NoAnswer))
			}
			delete(n.pings, ident)
			return
		}
		h := n.header(from, to)
		h.TTL = ttl
		n.originate(packet.Echo(h, false, ident, sequence, data))
		n.after(wait, func() { try(sequence + 1) })
	}
	try(1)
	return q
}
