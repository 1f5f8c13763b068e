package kernel

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"openbastion/internal/model/lab"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/testbed/pathmtu"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// How long a probe waits for each of its tries, and how often it tries.
const (
	tryTime = 600 * time.Millisecond
	tries   = 2
)

// reach asks a service at an address from the namespace, by its kernel's own stack; with packets of a size, or 0: small ones.
func (s *Space) reach(
	ctx context.Context,
	service lab.Service,
	to netip.Addr,
	payload string,
	size int,
) (claims.GotReach, error) {
	if size > 0 {
		return s.reachWhole(ctx, service, to, payload, size), nil
	}
	switch service.Proto {
	case lab.ICMP:
		e, err := s.ping(ctx, to, 0, payload)
		if err == nil && e.expired {
			return claims.GotReach{Outcome: outcome.By(outcome.TimeExceeded, e.from)}, nil
		}
		return claims.GotReach{Answered: err == nil, Outcome: stage.Outcome(err)}, nil
	case lab.UDP:
		data, err := s.exchange(ctx, "udp", netip.AddrPortFrom(to, service.From), probemsg.Question(service.From))
		who, source := probemsg.Introduced(data)
		return claims.GotReach{Answered: err == nil, Outcome: stage.Outcome(err), Who: who, Source: source}, nil
	}
	body, connected, err := s.fetch(ctx, netip.AddrPortFrom(to, service.From), nil)
	who, source := probemsg.Introduced(body)
	return claims.GotReach{Answered: connected, Outcome: stage.Outcome(err), Who: who, Source: source}, nil
}

// reachWhole asks with packets of a size that may not be fragmented; where a router reports that less passes, with as much.
func (s *Space) reachWhole(ctx context.Context, service lab.Service, to netip.Addr, payload string, size int) claims.GotReach {
	var answer []byte
	carries, err := pathmtu.Try(size, func(size int) (err error) {
		room := probemsg.Room(to, size)
		switch service.Proto {
		case lab.ICMP:
			return pathmtu.Ping(ctx, s.Do, to, probemsg.Pad([]byte(payload), room))
		case lab.UDP:
			question := probemsg.Pad(probemsg.Question(service.From), room)
			answer, err = pathmtu.Datagram(ctx, s.Do, netip.AddrPortFrom(to, service.From), question)
			return err
		}
		body := make([]byte, probemsg.Stream)
		var connected bool
		answer, connected, err = s.fetch(ctx, netip.AddrPortFrom(to, service.From), body)
		if connected && err == nil && len(answer) < len(body) {
			err = io.ErrUnexpectedEOF
		}
		return err
	})
	who, source := probemsg.Introduced(answer)
	got := claims.GotReach{Answered: err == nil, Outcome: stage.Outcome(err), Who: who, Source: source}
	if err == nil && service.Proto != lab.TCP {
		got.Carries = carries
	}
	return got
}

// dial connects from within the namespace.
func (s *Space) dial(ctx context.Context, network string, to netip.AddrPort) (c net.Conn, err error) {
	err = s.Do(func() error {
		c, err = (&net.Dialer{Timeout: tries * tryTime}).DialContext(ctx, network, to.String())
		return err
	})
	return c, err
}

// exchange sends a datagram and gives the first that comes back.
func (s *Space) exchange(ctx context.Context, network string, to netip.AddrPort, data []byte) ([]byte, error) {
	c, err := s.dial(ctx, network, to)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	b := make([]byte, maxDatagram)
	for range tries {
		if _, err = c.Write(data); err != nil {
			return nil, err
		}
		_ = c.SetReadDeadline(time.Now().Add(tryTime))
		n, e := c.Read(b)
		if e == nil {
			return b[:n], nil
		}
		if err = e; !errors.Is(e, os.ErrDeadlineExceeded) || ctx.Err() != nil {
			return nil, e
		}
	}
	return nil, err
}

// maxBody bounds what is read of a page.
const maxBody = 64 << 10

// fetch gets a page by TCP, and sends a body where there is one. connected tells that somebody took the connection.
func (s *Space) fetch(ctx context.Context, to netip.AddrPort, send []byte) (body []byte, connected bool, err error) {
	c, err := s.dial(ctx, "tcp", to)
	if err != nil {
		return nil, false, err
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(tries * tryTime))
	request := []byte("GET / HTTP/1.0\r\n\r\n")
	if len(send) > 0 {
		request = append(fmt.Appendf(nil, "POST / HTTP/1.0\r\nContent-Length: %d\r\n\r\n", len(send)), send...)
	}
	if _, err := c.Write(request); err != nil {
		return nil, true, err
	}
	page, err := io.ReadAll(io.LimitReader(c, maxBody))
	if _, rest, ok := bytes.Cut(page, []byte("\r\n\r\n")); ok {
		return rest, true, nil
	}
	return page, true, err
}

// echo is what came back to a ping: its answer, or who said that its time was over.
type echo struct {
	from    netip.Addr
	expired bool
}

// ping sends an echo request with a payload, with so many hops to live; 0: as many as
// usual.
func (s *Space) ping(ctx context.Context, to netip.Addr, hops int, payload string) (echo, error) {
	network, proto := "ip4:icmp", 1
	var kind icmp.Type = ipv4.ICMPTypeEcho
	if to.Is6() {
		network, proto, kind = "ip6:ipv6-icmp", 58, ipv6.ICMPTypeEchoRequest
	}
	var c *icmp.PacketConn
	err := s.Do(func() (err error) { c, err = icmp.ListenPacket(network, ""); return err })
	if err != nil {
		return echo{}, err
	}
	defer c.Close()
	if hops > 0 && to.Is4() {
		err = c.IPv4PacketConn().SetTTL(hops)
	} else if hops > 0 {
		err = c.IPv6PacketConn().SetHopLimit(hops)
	}
	if err != nil {
		return echo{}, err
	}
	id := int(time.Now().UnixNano() & 0xffff)
	b := make([]byte, maxDatagram)
	for try := range tries {
		m := icmp.Message{Type: kind, Body: &icmp.Echo{ID: id, Seq: try + 1, Data: []byte(payload)}}
		data, err := m.Marshal(nil)
		if err != nil {
			return echo{}, err
		}
		if _, err := c.WriteTo(data, &net.IPAddr{IP: to.AsSlice()}); err != nil {
			return echo{}, err
		}
		_ = c.SetReadDeadline(time.Now().Add(tryTime))
		for ctx.Err() == nil {
			n, from, err := c.ReadFrom(b)
			if err != nil {
				break
			}
			if got, ok, err := pinged(proto, b[:n], from, to, id, payload); ok || err != nil {
				return got, err
			}
		}
	}
	return echo{}, os.ErrDeadlineExceeded
}

// pinged reads what came to a raw socket: every ping's, of which one's is ours.
func pinged(
	proto int,
	data []byte,
	from net.Addr,
	to netip.Addr,
	id int,
	payload string,
) (got echo, ours bool, err error) {
	m, err := icmp.ParseMessage(proto, data)
	if err != nil {
		return echo{}, false, nil
	}
	at, _ := netip.ParseAddr(from.String())
	quoted := func(b []byte) bool { return quotes(b, to, id) }
	switch body := m.Body.(type) {
	case *icmp.Echo:
		answer := m.Type == ipv4.ICMPTypeEchoReply || m.Type == ipv6.ICMPTypeEchoReply
		if answer && body.ID == id && strings.HasPrefix(string(body.Data), payload) {
			return echo{from: at}, true, nil
		}
	case *icmp.TimeExceeded:
		if quoted(body.Data) {
			return echo{from: at, expired: true}, true, nil
		}
	case *icmp.DstUnreach:
		if quoted(body.Data) {
			return echo{}, false, syscall.EHOSTUNREACH
		}
	}
	return echo{}, false, nil
}

// quotes reports whether what an error of ICMP quotes is the beginning of an echo request to an
// address with an identifier: other pings of the same machine are told of too.
func quotes(b []byte, to netip.Addr, id int) bool {
	at, size := 16, 0 // where the destination is, and how long the header
	switch {
	case len(b) < ipv4.HeaderLen:
		return false
	case b[0]>>4 == 4 && to.Is4():
		size = int(b[0]&0xf) * 4
	case b[0]>>4 == 6 && to.Is6():
		at, size = 24, ipv6.HeaderLen
	}
	if size < ipv4.HeaderLen {
		return false
	}
	if len(b) < size+8 {
		return false
	}
	destination, _ := netip.AddrFromSlice(b[at : at+to.BitLen()/8])
	return destination == to && int(binary.BigEndian.Uint16(b[size+4:])) == id
}

// lookUp asks a resolver for a name.
func (s *Space) lookUp(ctx context.Context, resolver netip.Addr, name string) claims.GotName {
	return stage.LookUp(
		resolver,
		name,
		func(to netip.AddrPort, q []byte) ([]byte, error) { return s.exchange(ctx, "udp", to, q) },
		stage.Outcome,
	)
}
