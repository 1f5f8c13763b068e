package kernel

import (
	"slices"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// Shadows are nodes of the core beside the kernel's stacks: they speak what the
// kernel does not (leases, announcements of routers, questions who is there), by
// packet sockets, and leave all else to it.
type Shadows struct {
	nodes  []*host.Node
	of     map[int]*host.Node // by adapter number of the drive
	own    map[int]int        // the node's number for it
	places map[*host.Node]map[int]int
	handed map[*host.Node]func(now time.Duration) // called when a node may have handed out leases
}

func newShadows() *Shadows {
	return &Shadows{of: map[int]*host.Node{}, own: map[int]int{}, places: map[*host.Node]map[int]int{},
		handed: map[*host.Node]func(time.Duration){}}
}

// add returns a node's adapter a number of the drive.
func (s *Shadows) add(n *host.Node, adapter, number int) {
	if s.places[n] == nil {
		s.places[n] = map[int]int{}
		s.nodes = append(s.nodes, n)
	}
	s.of[number], s.own[number], s.places[n][adapter] = n, adapter, number
}

// Receive hands a frame to the node beside the adapter, when it is of its business.
func (s *Shadows) Receive(now time.Duration, number int, frame []byte) {
	n := s.of[number]
	p, err := packet.Decode(frame)
	if n == nil || err != nil || !concerns(p, false) {
		return
	}
	if p, err = packet.Decode(slices.Clone(frame)); err != nil {
		return
	}
	n.Receive(now, s.own[number], p)
	if told := s.handed[n]; told != nil && p.IP() && p.Proto == packet.UDP {
		told(now)
	}
}

// Advance lets the nodes do what is due.
func (s *Shadows) Advance(now time.Duration) {
	for _, n := range s.nodes {
		if at, ok := n.Deadline(); ok && at <= now {
			n.Advance(now)
		}
	}
}

// Deadline returns when the first of them has something to do.
func (s *Shadows) Deadline() (first time.Duration, any bool) {
	for _, n := range s.nodes {
		if at, ok := n.Deadline(); ok && (!any || at < first) {
			first, any = at, true
		}
	}
	return first, any
}

// Drain returns what they want sent.
func (s *Shadows) Drain() []host.Emission {
	var out []host.Emission
	for _, n := range s.nodes {
		for _, e := range n.Drain() {
			if p, err := packet.Decode(e.Frame); err == nil && concerns(p, true) {
				out = append(out, host.Emission{Adapter: s.places[n][e.Adapter], Frame: e.Frame})
			}
		}
	}
	return out
}

// The ports of leases: of IPv4, and of DHCPv6.
var leasePorts = map[uint16]bool{67: true, 68: true, 546: true, 547: true}

// concerns tells what shadows send, or take in: leases, what routers announce and
// who asks for that, questions who has an address, and the answers to their own.
func concerns(p *packet.Packet, sent bool) bool {
	switch {
	case p.Type == packet.TypeARP:
		return len(p.Body) >= 8 && (p.Body[7] == packet.ARPRequest) == sent
	case p.IP() && p.Proto == packet.UDP && len(p.Data) >= header.UDPSize:
		_, to, ok := p.Ports()
		return ok && leasePorts[to]
	case p.IPv6 && p.Discovery() && len(p.Data) > 0:
		const routerSolicitation, routerAdvertisement, neighborSolicitation, neighborAdvertisement = 133, 134, 135, 136
		switch p.Data[0] {
		case routerSolicitation, routerAdvertisement:
			return true
		case neighborSolicitation:
			return sent
		case neighborAdvertisement:
			return !sent
		}
	}
	return false
}

// business is what a packet socket lets in for shadows: ARP, datagrams of leases,
// and ICMPv6. It keeps the rest of the traffic away from them.
func business() ([]unix.SockFilter, error) {
	const take, leave = 1 << 18, 0
	program := []bpf.Instruction{
		bpf.LoadAbsolute{Off: 12, Size: 2},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.ETH_P_ARP, SkipTrue: 14},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.ETH_P_IPV6, SkipTrue: 7},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.ETH_P_IP, SkipTrue: 11},
		bpf.LoadAbsolute{Off: 23, Size: 1}, // the protocol
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: 9},
		bpf.LoadMemShift{Off: 14},
		bpf.LoadIndirect{Off: 16, Size: 2}, // the port that it goes to
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: 67, SkipTrue: 7},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: 68, SkipTrue: 6, SkipFalse: 5},
		bpf.LoadAbsolute{Off: 20, Size: 1}, // the next header
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: 4},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: 2},
		bpf.LoadAbsolute{Off: 56, Size: 2},
		bpf.JumpIf{Cond: bpf.JumpGreaterOrEqual, Val: 546, SkipTrue: 1}, // 546 and 547; what is above is dropped later
		bpf.RetConstant{Val: leave},
		bpf.RetConstant{Val: take},
	}
	raw, err := bpf.Assemble(program)
	if err != nil {
		return nil, err
	}
	out := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		out[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	return out, nil
}
