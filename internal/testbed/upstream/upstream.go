// Package upstream lets a lab out through this machine's ordinary sockets, without any
// privilege: a network stack of its own at the far end of the lab's outside takes what is
// for elsewhere and speaks with it in the lab's place. It is the one place where anything
// leaves. This machine itself and its links are never reached by it, and what may be can be
// bounded.
package upstream

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
)

// Options say what is at the lab's side and what may be reached.
type Options struct {
	Address netip.Prefix                // of the stack, on the lab's outside
	Routes  map[netip.Prefix]netip.Addr // of the lab's networks, by the router that leads there
	Allow   []netip.Prefix              // what may be reached; empty: all but this machine

	// Resolvers are asked for names that come to Address: this machine's own, which may be on
	// it itself.
	Resolvers []netip.Addr

	// Dial reaches what is allowed; nil: by this machine's sockets.
	Dial func(ctx context.Context, network string, to netip.AddrPort) (net.Conn, error)
	// Own gives this machine's addresses, which are never reached; nil: they are looked up.
	Own func() []netip.Addr
}

// Sizes and times.
const (
	mtu         = 1500
	queued      = 4096             // packets that wait to be taken by the lab
	maxOpen     = 1024             // conversations at once
	dialTime    = 10 * time.Second // that a connection may take to come about
	idleTime    = 60 * time.Second // after which a conversation by datagrams is over
	maxDatagram = 64 << 10
)

// Counted is what went out for one address of the lab.
type Counted struct {
	Source        netip.Addr
	Conversations int
	Refused       int // what was not allowed, or could not be reached
	Bytes         int64
}

// Upstream is one such stack. Make one with [New].
type Upstream struct {
	options Options
	stack   *stack.Stack
	link    *channel.Endpoint
	ctx     context.Context
	cancel  context.CancelFunc

	writing sync.Mutex // of the lab

	mu    sync.Mutex
	lab   io.Writer
	by    map[netip.Addr]*Counted
	open  int
	pings *pings
}

// nic is the number of the stack's only adapter.
const nic = 1

// New makes a stack that exchanges whole Ethernet frames with a hardware address of its own.
func New(mac [6]byte, o Options) (*Upstream, error) {
	u := &Upstream{options: o, by: map[netip.Addr]*Counted{}}
	u.ctx, u.cancel = context.WithCancel(context.Background())
	u.stack = stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, arp.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol},
	})
	u.link = channel.New(queued, mtu, tcpip.LinkAddress(mac[:]))
	if err := u.stack.CreateNIC(nic, ethernet.New(u.link)); err != nil {
		return nil, fmt.Errorf("upstream: %s", err)
	}
	own := tcpip.ProtocolAddress{Protocol: ipv4.ProtocolNumber, AddressWithPrefix: tcpip.AddressWithPrefix{
		Address: tcpip.AddrFrom4(o.Address.Addr().As4()), PrefixLen: o.Address.Bits()}}
	if err := u.stack.AddProtocolAddress(nic, own, stack.AddressProperties{}); err != nil {
		return nil, fmt.Errorf("upstream: %s: %s", o.Address, err)
	}
	for _, set := range []func(tcpip.NICID, bool) tcpip.Error{u.stack.SetPromiscuousMode, u.stack.SetSpoofing} {
		if err := set(nic, true); err != nil {
			return nil, fmt.Errorf("upstream: %s", err)
		}
	}
	routes := []tcpip.Route{{Destination: subnet(o.Address.Masked()), NIC: nic}}
	for to, by := range o.Routes {
		routes = append(routes, tcpip.Route{Destination: subnet(to), Gateway: tcpip.AddrFrom4(by.As4()), NIC: nic})
	}
	u.stack.SetRouteTable(routes)
	u.stack.SetTransportProtocolHandler(
		tcp.ProtocolNumber,
		tcp.NewForwarder(u.stack, 0, maxOpen, u.connect).HandlePacket,
	)
	u.stack.SetTransportProtocolHandler(udp.ProtocolNumber, udp.NewForwarder(u.stack, u.datagrams).HandlePacket)
	u.pings = newPings(u)
	return u, nil
}

func subnet(p netip.Prefix) tcpip.Subnet {
	return tcpip.AddressWithPrefix{Address: tcpip.AddrFrom4(p.Masked().Addr().As4()), PrefixLen: p.Bits()}.Subnet()
}

// Serve exchanges frames with the lab, each with its length before it, until the stream or
// the stack ends.
func (u *Upstream) Serve(lab io.ReadWriteCloser) {
	u.mu.Lock()
	u.lab = lab
	u.mu.Unlock()
	stop := context.AfterFunc(u.ctx, func() { lab.Close() })
	defer stop()
	go func() {
		for {
			p := u.link.ReadContext(u.ctx)
			if p == nil {
				return
			}
			u.send(p.ToView().AsSlice())
			p.DecRef()
		}
	}()
	in := bufio.NewReaderSize(lab, maxFrame+lengthSize)
	for {
		var head [lengthSize]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			return
		}
		size := binary.BigEndian.Uint32(head[:])
		if size > maxFrame {
			return
		}
		frame := make([]byte, size)
		if _, err := io.ReadFull(in, frame); err != nil {
			return
		}
		u.receive(frame)
	}
}

// Framing of the stream, as drive.Stream has it.
const (
	lengthSize = 4
	maxFrame   = 69632
)

// send gives the lab a frame.
func (u *Upstream) send(frame []byte) {
	u.writing.Lock()
	defer u.writing.Unlock()
	u.mu.Lock()
	to := u.lab
	u.mu.Unlock()
	if to != nil {
		_, _ = to.Write(
			append(binary.BigEndian.AppendUint32(make([]byte, 0, lengthSize+len(frame)), uint32(len(frame))), frame...),
		)
	}
}

// forOthers reports whether it is a question in ARP who has an address that is not the stack's own: as it
// takes what is for any, it would answer for any.
func (u *Upstream) forOthers(p *packet.Packet) bool {
	if p.Type != packet.TypeARP || !header.ARP(p.Body).Valid() {
		return false
	}
	own := u.options.Address.Addr().As4()
	return !bytes.Equal(header.ARP(p.Body).TargetAddr(), own[:])
}

func (u *Upstream) receive(frame []byte) {
	if f, err := packet.Decode(frame); err == nil && (u.pings.take(f) || u.forOthers(f)) {
		return
	}
	p := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(frame)})
	defer p.DecRef()
	u.link.InjectInbound(0, p)
}

// Close ends the stack and all conversations.
func (u *Upstream) Close() {
	u.cancel()
	u.pings.close()
	u.stack.Close()
	u.link.Close()
}

// Counts returns what went out, by address of the lab, in order.
func (u *Upstream) Counts() []Counted {
	u.mu.Lock()
	defer u.mu.Unlock()
	var out []Counted
	for _, source := range slices.SortedFunc(maps.Keys(u.by), netip.Addr.Compare) {
		out = append(out, *u.by[source])
	}
	return out
}

// maxSources bounds the addresses that are counted: a lab may invent them.
const maxSources = 4096

func (u *Upstream) count(source netip.Addr, add func(*Counted)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	c := u.by[source]
	if c == nil {
		if len(u.by) >= maxSources {
			return
		}
		c = &Counted{Source: source}
		u.by[source] = c
	}
	add(c)
}

// allowed returns where something may be reached, and whether it may.
func (u *Upstream) allowed(to netip.AddrPort) (netip.AddrPort, bool) {
	a := to.Addr()
	if a == u.options.Address.Addr() { // a question for names, to where those are asked from here
		if to.Port() != dns.Port || len(u.options.Resolvers) == 0 {
			return to, false
		}
		return netip.AddrPortFrom(u.options.Resolvers[0], dns.Port), true
	}
	return to, u.reachable(a)
}

// reachable reports whether an address may be reached: of what is not this machine, and what
// no router passes on.
func (u *Upstream) reachable(a netip.Addr) bool {
	if !a.IsValid() || a.IsLoopback() || a.IsUnspecified() || a.IsMulticast() || a.IsLinkLocalUnicast() ||
		a == netip.AddrFrom4([4]byte{255,
			255, 255, 255}) {
		return false
	}
	own := ownAddresses
	if u.options.Own != nil {
		own = u.options.Own
	}
	if slices.Contains(own(), a) {
		return false
	}
	return len(u.options.Allow) == 0 ||
		slices.ContainsFunc(u.options.Allow, func(p netip.Prefix) bool { return p.Contains(a) })
}

// ownAddresses returns this machine's addresses.
func ownAddresses() (list []netip.Addr) {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, a := range all {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			list = append(list, p.Addr().Unmap())
		}
	}
	return list
}

func (u *Upstream) dial(network string, to netip.AddrPort) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(u.ctx, dialTime)
	defer cancel()
	if u.options.Dial != nil {
		return u.options.Dial(ctx, network, to)
	}
	return (&net.Dialer{}).DialContext(ctx, network, to.String())
}

// reach dials for the lab: nil when it may not be, or is not to be reached.
func (u *Upstream) reach(network string, id stack.TransportEndpointID) (source netip.Addr, far net.Conn) {
	source, _ = netip.AddrFromSlice(id.RemoteAddress.AsSlice())
	local, _ := netip.AddrFromSlice(id.LocalAddress.AsSlice())
	to, ok := u.allowed(netip.AddrPortFrom(local, id.LocalPort))
	if ok {
		far, _ = u.dial(network, to) // why not is not told to the lab: it sees a refusal
	}
	u.count(source, func(c *Counted) {
		if far == nil {
			c.Refused++
		} else {
			c.Conversations++
		}
	})
	return source, far
}

// enter takes a place among the conversations; false when there is none.
func (u *Upstream) enter() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.open >= maxOpen {
		return false
	}
	u.open++
	return true
}

func (u *Upstream) leave() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.open--
}

// connect takes up a connection of the lab: once the far end has taken it.
func (u *Upstream) connect(r *tcp.ForwarderRequest) {
	if !u.enter() {
		r.Complete(true)
		return
	}
	go func() {
		defer u.leave()
		source, far := u.reach("tcp", r.ID())
		if far == nil {
			r.Complete(true)
			return
		}
		defer far.Close()
		var queue waiter.Queue
		ep, err := r.CreateEndpoint(&queue)
		r.Complete(err != nil)
		if err != nil {
			return
		}
		u.join(source, gonet.NewTCPConn(&queue, ep), far)
	}()
}

// join passes what either end of a connection says on to the other, until both are done.
func (u *Upstream) join(source netip.Addr, near *gonet.TCPConn, far net.Conn) {
	defer near.Close()
	stop := context.AfterFunc(u.ctx, func() { near.Close(); far.Close() })
	defer stop()
	var both sync.WaitGroup
	pass := func(to, from net.Conn) {
		n, _ := io.Copy(to, from)
		u.count(source, func(c *Counted) { c.Bytes += n })
		if c, ok := to.(interface{ CloseWrite() error }); ok {
			_ = c.CloseWrite()
		}
	}
	both.Go(func() { pass(far, near) })
	both.Go(func() { pass(near, far) })
	both.Wait()
}

// datagrams takes up a conversation by datagrams.
func (u *Upstream) datagrams(r *udp.ForwarderRequest) bool {
	if !u.enter() {
		return true
	}
	var queue waiter.Queue
	ep, err := r.CreateEndpoint(&queue)
	if err != nil {
		u.leave()
		return true
	}
	near := gonet.NewUDPConn(&queue, ep)
	go func() {
		defer u.leave()
		defer near.Close()
		source, far := u.reach("udp", r.ID())
		if far == nil {
			return
		}
		defer far.Close()
		stop := context.AfterFunc(u.ctx, func() { near.Close(); far.Close() })
		defer stop()
		var both sync.WaitGroup
		pass := func(to, from net.Conn) {
			b := make([]byte, maxDatagram)
			for {
				_ = from.SetReadDeadline(time.Now().Add(idleTime))
				n, err := from.Read(b)
				if err != nil {
					to.Close()
					return
				}
				_, _ = to.Write(b[:n])
				u.count(source, func(c *Counted) { c.Bytes += int64(n) })
			}
		}
		both.Go(func() { pass(far, near) })
		both.Go(func() { pass(near, far) })
		both.Wait()
	}()
	return true
}
