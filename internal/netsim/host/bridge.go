package host

import (
	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/packet"
)

// bridge joins ports of a node at the link layer (IEEE 802.1D, without a
// spanning tree): ARP passes, IPv4 passes as the hook says, nothing else does.
type bridge struct {
	ports   []*Port
	learned map[mac.Address]*Port
}

// Join bridges ports of the node.
func (n *Node) Join(ports ...*Port) {
	b := &bridge{ports: ports, learned: map[mac.Address]*Port{}}
	for _, p := range ports {
		p.bridge = b
	}
}

// pass hands a frame that arrived on a bridged port to the others.
func (n *Node) pass(in *Port, p *packet.Packet) {
	b := in.bridge
	if !p.From.IsGroup() && len(b.learned) < maxNeighbors {
		b.learned[p.From] = in
	}
	if p.Type != packet.TypeARP && !(p.Type == packet.TypeIPv4 && p.IPv4) || p.To == in.MAC {
		return
	}
	to := b.learned[p.To]
	for _, out := range b.ports {
		if out == in || !out.up || to != nil && to != out {
			continue
		}
		if p.Type == packet.TypeIPv4 && n.Hook != nil && n.Hook.Bridging(n.now, in, out, p) != Pass {
			continue
		}
		frame := p.Bytes
		if p.Tag != 0 {
			frame = packet.Untagged(frame)
		}
		n.send(out, frame)
	}
}
