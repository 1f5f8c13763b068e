package upstream

import (
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"openbastion/internal/netsim/packet"
)

// pings passes the lab's echo requests on, by a socket that this system gives without
// rights, where it does. What it does not is not answered: nothing that was not reached
// seems to be.
type pings struct {
	up *Upstream

	mu      sync.Mutex
	socket  *icmp.PacketConn // nil: the system gives none
	tried   bool
	waiting map[uint16]*ping // by sequence number on the socket
	next    uint16
}

// ping is an echo request of the lab on its way.
type ping struct {
	asked  *packet.Packet
	id     int
	seq    int
	source netip.Addr
	until  time.Time
}

// pingTime is how long an answer is waited for.
const pingTime = 5 * time.Second

func newPings(u *Upstream) *pings { return &pings{up: u, waiting: map[uint16]*ping{}} }

// take takes what is an ICMP message for elsewhere: echo requests are passed on, and all
// others end here.
func (g *pings) take(p *packet.Packet) bool {
	if !p.IPv4 || p.Proto != packet.ICMP || p.Destination == g.up.options.Address.Addr() {
		return false
	}
	m, err := icmp.ParseMessage(packet.ICMP, p.Data)
	if err != nil || m.Type != ipv4.ICMPTypeEcho {
		return true
	}
	if echo, ok := m.Body.(*icmp.Echo); ok && g.up.reachable(p.Destination) {
		g.send(p, echo)
	}
	return true
}

func (g *pings) open() *icmp.PacketConn {
	if !g.tried {
		g.tried = true
		if c, err := icmp.ListenPacket("udp4", ""); err == nil {
			g.socket = c
			go g.read(c)
		}
	}
	return g.socket
}

func (g *pings) send(p *packet.Packet, e *icmp.Echo) {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.open()
	if c == nil {
		return
	}
	for seq, w := range g.waiting {
		if time.Now().After(w.until) {
			delete(g.waiting, seq)
		}
	}
	if len(g.waiting) >= maxOpen {
		return
	}
	g.next++
	g.waiting[g.next] = &ping{p, e.ID, e.Seq, p.Source, time.Now().Add(pingTime)}
	data, err := (&icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{Seq: int(g.next), Data: e.Data}}).Marshal(nil)
	if err == nil {
		_, err = c.WriteTo(data, &net.UDPAddr{IP: p.Destination.AsSlice()})
	}
	g.up.count(p.Source, func(n *Counted) {
		if err != nil {
			n.Refused++
		} else {
			n.Conversations, n.Bytes = n.Conversations+1, n.Bytes+int64(len(data))
		}
	})
}

// read hands answers back to the lab, in frames to who asked.
func (g *pings) read(c *icmp.PacketConn) {
	b := make([]byte, mtu)
	for {
		n, _, err := c.ReadFrom(b)
		if err != nil {
			return
		}
		m, err := icmp.ParseMessage(packet.ICMP, b[:n])
		if err != nil || m.Type != ipv4.ICMPTypeEchoReply {
			continue
		}
		e, ok := m.Body.(*icmp.Echo)
		if !ok {
			continue
		}
		g.mu.Lock()
		w := g.waiting[uint16(e.Seq)]
		delete(g.waiting, uint16(e.Seq))
		g.mu.Unlock()
		if w == nil {
			continue
		}
		frame := packet.Echo(
			packet.IP{Source: w.asked.Destination, Destination: w.asked.Source, TTL: 64},
			true,
			uint16(w.id),
			uint16(w.seq),
			e.Data,
		)
		packet.SetLink(frame, w.asked.From, w.asked.To)
		g.up.send(frame)
	}
}

func (g *pings) close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.tried = true
	if g.socket != nil {
		g.socket.Close()
	}
}
