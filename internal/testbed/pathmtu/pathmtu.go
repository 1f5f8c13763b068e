// Package pathmtu asks by real sockets with packets of a given size that no router may fragment, and learns from them what
// a path carries (RFC 1191, RFC 8201). What a router reports comes as a [TooBig] error.
package pathmtu

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// How long a packet waits for its answer, and how often it is sent.
const (
	tryTime = 600 * time.Millisecond
	tries   = 3
)

// TooBig is what a router on the path reported, or this machine knows.
type TooBig struct{ MTU int } // in bytes; 0: it was not told

func (e TooBig) Error() string { return fmt.Sprintf("too big: the path carries %d bytes", e.MTU) }

// Within calls a function where its sockets are to be: in a namespace. Nil is here.
type Within func(func() error) error

// Try calls try with a size and, where a router reports that the path carries less, again with that. It returns the size that
// passed, or why none did: a TooBig error where what was reported does not pass either.
func Try(size int, try func(size int) error) (carries int, err error) {
	err = try(size)
	var told TooBig
	if !errors.As(err, &told) || told.MTU <= 0 || told.MTU >= size {
		return size, err
	}
	if e := try(told.MTU); e != nil {
		return told.MTU, fmt.Errorf("%w; and that does not pass: %w", err, e)
	}
	return told.MTU, nil
}

// Ping sends an echo request with a payload, and returns nil when its answer came.
func Ping(ctx context.Context, in Within, to netip.Addr, payload []byte) error {
	network, proto := "ip4:icmp", 1
	var kind, answer icmp.Type = ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply
	if to.Is6() {
		network, proto, kind, answer = "ip6:ipv6-icmp", 58, ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply
	}
	id := int(time.Now().UnixNano() & 0xffff)
	m := icmp.Message{Type: kind, Body: &icmp.Echo{ID: id, Seq: 1, Data: payload}}
	data, err := m.Marshal(nil)
	if err != nil {
		return err
	}
	_, err = exchange(ctx, in, network, to.String(), data, func(b []byte) bool {
		got, err := icmp.ParseMessage(proto, b)
		if err != nil || got.Type != answer {
			return false
		}
		e, is := got.Body.(*icmp.Echo)
		return is && e.ID == id && bytes.Equal(e.Data, payload)
	})
	return err
}

// Datagram sends a UDP datagram and returns the first that comes back.
func Datagram(ctx context.Context, in Within, to netip.AddrPort, data []byte) ([]byte, error) {
	return exchange(ctx, in, "udp", to.String(), data, func([]byte) bool { return true })
}

// exchange sends by a connected socket whose packets are not fragmented, and returns the first that fits.
func exchange(
	ctx context.Context, in Within, network, to string, data []byte, fits func([]byte) bool,
) (answer []byte, err error) {
	var c net.Conn
	dial := func() (err error) {
		c, err = (&net.Dialer{Control: Whole}).DialContext(ctx, network, to)
		return err
	}
	if in == nil {
		in = func(f func() error) error { return f() }
	}
	if err := in(dial); err != nil {
		return nil, err
	}
	defer c.Close()
	b := make([]byte, len(data)+1024)
	for range tries {
		if _, err := c.Write(data); err != nil {
			return nil, Reported(c, err)
		}
		_ = c.SetReadDeadline(time.Now().Add(tryTime))
		for ctx.Err() == nil {
			n, err := read(c, b)
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break
			}
			if err != nil {
				return nil, Reported(c, err)
			}
			if fits(b[:n]) {
				return b[:n], nil
			}
		}
	}
	return nil, os.ErrDeadlineExceeded
}

// read reads what follows the IP header.
func read(c net.Conn, b []byte) (int, error) {
	if raw, is := c.(*net.IPConn); is {
		n, _, err := raw.ReadFrom(b)
		return n, err
	}
	return c.Read(b)
}

// Reported returns the error of a socket; as TooBig where it says that a packet was.
func Reported(c net.Conn, err error) error {
	if !errors.Is(err, syscall.EMSGSIZE) {
		return err
	}
	if s, is := c.(syscall.Conn); is {
		if raw, e := s.SyscallConn(); e == nil {
			return TooBig{carries(raw, c.RemoteAddr())}
		}
	}
	return TooBig{}
}
