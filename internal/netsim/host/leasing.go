package host

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/packet"
)

// The address probe of RFC 5227, section 2.1.1.
const (
	probeCount    = 3
	probeWait     = time.Second
	announceWait  = 2 * time.Second
	announceCount = 2
)

// StartLease makes the port's client ask for a lease.
func (n *Node) StartLease(now time.Duration, port *Port) {
	n.now = now
	n.leaseActions(port, port.Client.Start(now))
}

// SurveyServers asks once who hands out leases on the port's segment; the
// answers gather in the result's Offers. No address is taken.
func (n *Node) SurveyServers(now time.Duration, port *Port) *dhcp.Client {
	n.now = now
	c := &dhcp.Client{MAC: port.MAC, Salt: uint32(len(port.surveys)) + 1}
	port.surveys = append(port.surveys, c)
	n.leaseActions(port, c.Start(now))
	c.State = dhcp.Idle // it takes no offer
	return c
}

// EndSurvey ends what SurveyServers began.
func (n *Node) EndSurvey(port *Port, c *dhcp.Client) {
	port.surveys = slices.DeleteFunc(port.surveys, func(o *dhcp.Client) bool { return o == c })
}

// ReleaseLease returns the port's lease back.
func (n *Node) ReleaseLease(now time.Duration, port *Port) {
	n.now = now
	n.leaseActions(port, port.Client.Release(now))
}

// leaseIn hands a lease message to the port's server or client.
func (n *Node) leaseIn(port *Port, to uint16, p *packet.Packet) {
	m, err := dhcpv4.FromBytes(p.Data[8:])
	if err != nil {
		return
	}
	if to == dhcp.ClientPort {
		for _, c := range port.surveys {
			c.Receive(n.now, m, p.From, p.Number)
		}
		if port.Client == nil {
			return
		}
		n.leaseActions(port, port.Client.Receive(n.now, m, p.From, p.Number))
		return
	}
	r := port.Server.Receive(n.now, m)
	if r == nil || !port.Address.IsValid() {
		return
	}
	frame := packet.Datagram(n.header(port.Address.Addr(), r.To), dhcp.ServerPort, dhcp.ClientPort, r.Message.ToBytes())
	packet.SetLink(frame, r.ToMAC, port.MAC)
	n.send(port, frame)
}

func (n *Node) leaseActions(port *Port, list []dhcp.Action) {
	n.stir = true // the client's deadline may have changed
	for _, a := range list {
		switch a.Kind {
		case dhcp.Send:
			frame := packet.Datagram(n.header(a.From, a.To), dhcp.ClientPort, dhcp.ServerPort, a.Message.ToBytes())
			if a.To == everyone {
				packet.SetLink(frame, mac.Broadcast, port.MAC)
				n.send(port, frame)
			} else if p, err := packet.Decode(frame); err == nil {
				hop := a.To
				if !port.Address.Contains(hop) && port.Gateway.IsValid() {
					hop = port.Gateway
				}
				n.sendVia(port, nil, hop, p)
			}
		case dhcp.Probe:
			n.probe(port, a.Address)
		case dhcp.Configure:
			b := a.Binding
			fresh := port.Address != b.Address
			port.Address, port.Gateway, port.DNS = b.Address, b.Router, b.DNS
			n.Readdressed()
			if fresh { // a renewal changes nothing that others must know
				n.announceSoon(port, 0)
			}
			port.changed()
		case dhcp.Drop:
			port.Address, port.Gateway, port.DNS = netip.Prefix{}, netip.Addr{}, nil
			n.Readdressed()
			port.neighbors = nil
			port.changed()
		}
	}
}

func (p *Port) changed() {
	if p.Changed != nil {
		p.Changed()
	}
}

// probe asks whether anybody has an address and tells the client.
func (n *Node) probe(port *Port, a netip.Addr) {
	wait := cmp.Or(port.ProbeWait, probeWait)
	var ask func(left int, q *Inquiry)
	ask = func(left int, q *Inquiry) {
		if len(q.Answers) > 0 || left == 0 {
			n.leaseActions(port, port.Client.Probed(n.now, len(q.Answers) > 0))
			return
		}
		n.send(port, packet.ARP(packet.ARPRequest, mac.Broadcast, port.MAC, zero, mac.Address{}, a))
		n.after(wait, func() { ask(left-1, q) })
	}
	q := &Inquiry{Address: a}
	port.inquiries = append(port.inquiries, q)
	n.after(probeCount*wait+time.Millisecond, func() { port.forget(q) })
	ask(probeCount, q)
}

func (n *Node) announceSoon(port *Port, done int) {
	if done >= announceCount || !port.Address.IsValid() {
		return
	}
	n.announce(port)
	n.after(announceWait, func() { n.announceSoon(port, done+1) })
}
