package kernel

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/probemsg"
)

// Bounds on what clients can make a machine hold.
const (
	maxClients  = 256              // connections that are served at once
	clientTime  = 10 * time.Second // that one may take
	maxRequest  = 8 << 10
	maxDatagram = 4 << 10
)

// listen returns a TCP listener in the namespace, at every address.
func (s *Space) listen(port uint16) (l net.Listener, err error) {
	err = s.Do(func() error {
		l, err = (&net.ListenConfig{Control: reuse}).Listen(context.Background(), "tcp", fmt.Sprintf(":%d", port))
		return err
	})
	return l, err
}

func reuse(_, _ string, c syscall.RawConn) error {
	var err error
	if e := c.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) }); e != nil {
		return e
	}
	return err
}

// serve hands each connection to a function, so many at a time and for so long.
func serve(l net.Listener, each func(net.Conn)) {
	places := make(chan struct{}, maxClients)
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		select {
		case places <- struct{}{}:
		default:
			c.Close()
			continue
		}
		go func() {
			defer func() { c.Close(); <-places }()
			_ = c.SetDeadline(time.Now().Add(clientTime))
			each(c)
		}()
	}
}

// pages answers any request with a page made for the client.
func pages(page func(client netip.AddrPort) string) func(net.Conn) {
	return func(c net.Conn) {
		r := bufio.NewReader(io.LimitReader(c, maxRequest+probemsg.Stream))
		size := 0 // of the request's body
		for {
			line, err := r.ReadString('\n')
			if err != nil {
				return
			}
			if strings.TrimSpace(line) == "" {
				break
			}
			if _, text, has := strings.Cut(line, "Content-Length: "); has {
				size, _ = strconv.Atoi(strings.TrimSpace(text)) // what is no number is no body
			}
		}
		size = min(max(size, 0), probemsg.Stream)
		if _, err := io.CopyN(io.Discard, r, int64(size)); err != nil {
			return
		}
		body := page(remote(c.RemoteAddr())) + strings.Repeat("\x00", size) // as much comes back
		_, _ = fmt.Fprintf(
			c,
			"HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n%s",
			len(body),
			body,
		)
	}
}

func remote(a net.Addr) netip.AddrPort {
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
}

// resolver runs a resolver of the core on sockets of a namespace.
type resolver struct {
	space *Space
	began time.Time

	mu      sync.Mutex
	core    *dns.Resolver
	udp     *net.UDPConn
	six     *net.UDPConn // nil where no IPv6 is spoken
	streams map[netip.AddrPort]net.Conn
	ups     map[uint16]*net.UDPConn
	timer   *time.Timer
	closed  bool
}

// serveNames answers for names at every address of the machine, by UDP and TCP.
func (x *machine) serveNames() error {
	r := &resolver{
		space:   x.space,
		began:   time.Now(),
		core:    x.resolver,
		streams: map[netip.AddrPort]net.Conn{},
		ups:     map[uint16]*net.UDPConn{},
	}
	tcp, err := x.space.listen(dns.Port)
	if err != nil {
		return fmt.Errorf("%s: names by TCP: %w", x.plan.Name, err)
	}
	err = x.space.Do(func() error {
		c, err := net.ListenUDP("udp4", &net.UDPAddr{Port: dns.Port})
		r.udp = c
		return err
	})
	if err != nil {
		tcp.Close()
		return fmt.Errorf("%s: names by UDP: %w", x.plan.Name, err)
	}
	p := ipv4.NewPacketConn(r.udp)
	if err := p.SetControlMessage(ipv4.FlagDst, true); err != nil {
		return fmt.Errorf("%s: names by UDP: %w", x.plan.Name, err)
	}
	go datagrams(by4(p), r.ask4(p))
	go serve(tcp, r.stream)
	if r.six, err = x.udp6(); err == nil {
		go datagrams(by6(ipv6.NewPacketConn(r.six)), func(data []byte, _ net.IP, from net.Addr) {
			r.query(
				netip.IPv6Unspecified(),
				remote(from),
				false,
				data,
				func(o dns.Out) { _, _ = r.six.WriteToUDPAddrPort(o.Data, o.To) },
			)
		})
	}
	x.stops = append(x.stops, func() { r.close(); tcp.Close() })
	x.names = r
	return nil
}

func (x *machine) udp6() (c *net.UDPConn, err error) {
	err = x.space.Do(func() error {
		c, err = net.ListenUDP("udp6", &net.UDPAddr{Port: dns.Port})
		return err
	})
	return c, err
}

func (r *resolver) now() time.Duration { return time.Since(r.began) }

// received is a datagram with the address that it was sent to, where that is known, and
// who sent it.
type received func(b []byte) (n int, at net.IP, from net.Addr, err error)

// datagrams hands each datagram on until the socket is closed.
func datagrams(read received, each func(data []byte, at net.IP, from net.Addr)) {
	b := make([]byte, maxDatagram)
	for {
		n, at, from, err := read(b)
		if err != nil {
			return
		}
		each(b[:n], at, from)
	}
}

func by4(p *ipv4.PacketConn) received {
	return func(b []byte) (n int, at net.IP, from net.Addr, err error) {
		n, cm, from, err := p.ReadFrom(b)
		if cm != nil {
			at = cm.Dst
		}
		return n, at, from, err
	}
}

func by6(p *ipv6.PacketConn) received {
	return func(b []byte) (n int, at net.IP, from net.Addr, err error) {
		n, cm, from, err := p.ReadFrom(b)
		if cm != nil {
			at = cm.Dst
		}
		return n, at, from, err
	}
}

// ask4 takes a question by UDP over IPv4, and answers from where it was asked.
func (r *resolver) ask4(p *ipv4.PacketConn) func(data []byte, at net.IP, from net.Addr) {
	return func(data []byte, at net.IP, from net.Addr) {
		own, ok := netip.AddrFromSlice(at.To4())
		if !ok {
			own = netip.IPv4Unspecified()
		}
		r.query(own, remote(from), false, data, func(o dns.Out) {
			_, _ = p.WriteTo(o.Data, &ipv4.ControlMessage{Src: o.From.AsSlice()}, net.UDPAddrFromAddrPort(o.To))
		})
	}
}

// stream takes questions from a connection, each with its length before it (RFC
// 1035, section 4.2.2).
func (r *resolver) stream(c net.Conn) {
	from, at := remote(c.RemoteAddr()), remote(c.LocalAddr())
	r.mu.Lock()
	r.streams[from] = c
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		delete(r.streams, from)
		r.mu.Unlock()
	}()
	for {
		var size [2]byte
		if _, err := io.ReadFull(c, size[:]); err != nil {
			return
		}
		b := make([]byte, binary.BigEndian.Uint16(size[:]))
		if _, err := io.ReadFull(c, b); err != nil {
			return
		}
		r.query(at.Addr(), from, true, b, nil)
	}
}

// query hands a question to the core; answers that come at once go back by reply.
func (r *resolver) query(at netip.Addr, from netip.AddrPort, stream bool, data []byte, reply func(dns.Out)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return
	}
	r.send(r.core.Query(r.now(), at, from, stream, data), reply)
}

// send sends what the core wants sent. Its lock is held.
func (r *resolver) send(list []dns.Out, reply func(dns.Out)) {
	for _, o := range list {
		switch {
		case o.Stream:
			if c := r.streams[o.To]; c != nil {
				_, _ = c.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(o.Data))), o.Data...))
			}
		case o.Local != dns.Port:
			r.ask(o)
		case reply != nil:
			reply(o)
		case o.To.Addr().Is4():
			p := ipv4.NewPacketConn(r.udp)
			_, _ = p.WriteTo(o.Data, &ipv4.ControlMessage{Src: o.From.AsSlice()}, net.UDPAddrFromAddrPort(o.To))
		case r.six != nil:
			_, _ = r.six.WriteToUDPAddrPort(o.Data, o.To)
		}
	}
	r.wait()
}

// ask sends a question on to a resolver upstream, from a port of its own.
func (r *resolver) ask(o dns.Out) {
	c := r.ups[o.Local]
	if c == nil {
		if len(r.ups) >= maxClients {
			return
		}
		if err := r.space.Do(func() (err error) {
			c, err = net.ListenUDP("udp4", &net.UDPAddr{Port: int(o.Local)})
			return err
		}); err != nil {
			return
		}
		r.ups[o.Local] = c
		go r.answers(o.Local, c)
	}
	_, _ = c.WriteToUDPAddrPort(o.Data, o.To)
}

// answers takes what comes from upstream to a port, until nothing is waited for there.
func (r *resolver) answers(local uint16, c *net.UDPConn) {
	b := make([]byte, maxDatagram)
	for {
		n, from, err := c.ReadFromUDPAddrPort(b)
		if err != nil {
			return
		}
		r.mu.Lock()
		r.send(r.core.Answer(r.now(), local, netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), b[:n]), nil)
		r.mu.Unlock()
	}
}

// wait returns up the ports at which nothing is waited for, and sees to the core's next
// deadline. Its lock is held.
func (r *resolver) wait() {
	for local, c := range r.ups {
		if !r.core.Waiting(local) {
			c.Close()
			delete(r.ups, local)
		}
	}
	if r.timer != nil {
		r.timer.Stop()
	}
	if at, ok := r.core.Deadline(); ok && !r.closed {
		r.timer = time.AfterFunc(max(at-r.now(), 0), func() {
			r.mu.Lock()
			defer r.mu.Unlock()
			if !r.closed {
				r.send(r.core.Advance(r.now()), nil)
			}
		})
	}
}

// upstreams returns the core which resolvers there are upstream.
func (r *resolver) upstreams(list []netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.core.Upstreams = list
}

// use puts another core in place of the one that answers, which knows what is asked upstream.
func (r *resolver) use(core *dns.Resolver) {
	r.mu.Lock()
	defer r.mu.Unlock()
	core.Upstreams = r.core.Upstreams
	r.core = core
}

func (r *resolver) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.closed = true
	r.udp.Close()
	if r.six != nil {
		r.six.Close()
	}
	for _, c := range r.ups {
		c.Close()
	}
	for _, c := range r.streams {
		c.Close()
	}
	if r.timer != nil {
		r.timer.Stop()
	}
}

// answerUDP answers datagrams to a port at every address of the namespace, from the
// address that was spoken to.
func (s *Space) answerUDP(port int, reply func(data []byte, from netip.AddrPort) []byte) (stop func(), err error) {
	var four, six *net.UDPConn
	err = s.Do(func() (err error) {
		four, err = net.ListenUDP("udp4", &net.UDPAddr{Port: port})
		if err == nil {
			six, _ = net.ListenUDP("udp6", &net.UDPAddr{Port: port}) // where the kernel speaks it
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	p := ipv4.NewPacketConn(four)
	if err := p.SetControlMessage(ipv4.FlagDst, true); err != nil {
		four.Close()
		return nil, err
	}
	go datagrams(by4(p), func(data []byte, at net.IP, from net.Addr) {
		if out := reply(data, remote(from)); out != nil && at != nil {
			_, _ = p.WriteTo(out, &ipv4.ControlMessage{Src: at}, from)
		}
	})
	if six != nil {
		p := ipv6.NewPacketConn(six)
		_ = p.SetControlMessage(ipv6.FlagDst, true)
		go datagrams(by6(p), func(data []byte, at net.IP, from net.Addr) {
			if out := reply(data, remote(from)); out != nil && at != nil {
				_, _ = p.WriteTo(out, &ipv6.ControlMessage{Src: at}, from)
			}
		})
	}
	return func() {
		four.Close()
		if six != nil {
			six.Close()
		}
	}, nil
}
