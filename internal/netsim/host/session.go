package host

import (
	"encoding/binary"
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/pppoe"
)

// StartSession makes the port's PPPoE client look for a session.
func (n *Node) StartSession(now time.Duration, port *Port) {
	n.now = now
	n.sendSession(port, port.Dial.Start(now))
	n.dialled(port)
}

// receiveSession takes a frame of PPPoE.
func (n *Node) receiveSession(port *Port, p *packet.Packet) {
	var out []pppoe.Out
	var ip []byte
	switch {
	case port.Dial != nil:
		out, ip = port.Dial.Receive(n.now, p.From, p.Type, p.Payload)
		n.dialled(port)
	case port.Access != nil:
		out, ip = port.Access.Receive(n.now, p.From, p.Type, p.Payload)
	}
	n.sendSession(port, out)
	if ip == nil {
		return
	}
	q, err := packet.Decode(framed(port.MAC, p.From, packet.TypeIPv4, ip))
	if err != nil || !q.IPv4 {
		return
	}
	q.Number = p.Number
	if port.Dial != nil {
		q.Clamp(pppoe.MTU)
	}
	if n.Seen != nil {
		n.Seen(q)
	}
	n.receiveIP(port, q)
}

// framed puts an Ethernet header in front.
func framed(to, from mac.Address, kind uint16, data []byte) []byte {
	b := make([]byte, 14, 14+len(data))
	packet.SetLink(b, to, from)
	binary.BigEndian.PutUint16(b[12:], kind)
	return append(b, data...)
}

func (n *Node) sendSession(port *Port, list []pppoe.Out) {
	for _, o := range list {
		n.send(port, framed(o.To, port.MAC, o.Type, o.Data))
	}
	n.stir = true // the client's deadline may have changed
}

// dialled gives the port the session's addresses, or takes them.
func (n *Node) dialled(port *Port) {
	c := port.Dial
	now := netip.Prefix{}
	if c.Up() {
		now = netip.PrefixFrom(c.Address, 32)
	}
	if port.Address == now {
		return
	}
	port.Address, port.Gateway, port.DNS = now, c.Peer, c.DNS
	n.Readdressed()
	if !now.IsValid() {
		port.Gateway, port.DNS = netip.Addr{}, nil
	}
	if port.Changed != nil {
		port.Changed()
	}
}

// carries returns the size of the largest packet that goes to a next hop.
func (p *Port) carries(hop netip.Addr) int {
	if p.Dial != nil {
		return pppoe.MTU
	}
	if p.Access != nil {
		if _, _, ok := p.Access.Find(hop); ok {
			return pppoe.MTU
		}
	}
	return p.mtu()
}

// mtu is the size of the largest packet that the port's wire takes.
func (p *Port) mtu() int {
	if p.MTU == 0 {
		return ethernetMTU
	}
	return p.MTU
}

// ethernetMTU is what an Ethernet frame carries.
const ethernetMTU = 1500

// viaSession sends a packet by a session, where the port's next hop is in one;
// false: it is not.
func (n *Node) viaSession(port *Port, hop netip.Addr, p *packet.Packet) bool {
	switch {
	case port.Dial != nil:
		if port.Dial.Up() {
			p.Clamp(pppoe.MTU)
			n.send(port, framed(port.Dial.Server(), port.MAC, pppoe.TypeSession, pppoe.Wrap(port.Dial.Session, p.Body)))
		}
		return true
	case port.Access != nil:
		if id, client, ok := port.Access.Find(hop); ok {
			n.send(port, framed(client, port.MAC, pppoe.TypeSession, pppoe.Wrap(id, p.Body)))
			return true
		}
	}
	return false
}
