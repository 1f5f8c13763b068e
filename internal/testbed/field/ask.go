package field

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"syscall"
	"time"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/testbed/pathmtu"
	"openbastion/internal/testbed/stage"
)

// How long a question waits for its answer, and how often it is put.
const (
	tryTime = 600 * time.Millisecond
	tries   = 2
)

// Guest is who asks a witness.
type Guest struct {
	Token   witness.Token     // of its bench
	Bench   string            // empty: the lab's own token
	Witness ed25519.PublicKey // whose reports it takes; nil until the first has shown its key
	Run     uint32            // of forged packets, of which it asks what was heard; 0: none
	First   int               // from which place of those heard on
}

// leaving is how a question leaves this machine; its zero value leaves that to the system.
type leaving struct {
	from   netip.Addr
	device string                   // the adapter
	proxy  netip.AddrPort           // by which HTTP goes
	space  func(func() error) error // calls a function in the namespace that the adapter is in
	size   int                      // of the packets there and back, which may not be fragmented, in bytes; 0: small ones
}

// fill pads a message to what a way carries of packets of the size that was asked for.
func (l leaving) fill(way witness.Way, to netip.Addr, m []byte) []byte {
	switch {
	case l.size == 0:
		return m
	case way == witness.HTTP:
		return probemsg.Pad(m, probemsg.Stream)
	}
	return probemsg.Pad(m, probemsg.Room(to, l.size))
}

// within calls a function in the namespace that a question leaves from.
func (l leaving) within(f func() error) error {
	if l.space == nil {
		return f()
	}
	return l.space(f)
}

// Ask asks a witness what it sees, by a way and as it may leave this machine. It returns the report as it was
// signed too.
func (g *Guest) Ask(
	ctx context.Context,
	way witness.Way,
	to netip.AddrPort,
	leave leaving,
) (witness.Report, []byte, error) {
	var nonce witness.Nonce
	if _, err := rand.Read(nonce[:]); err != nil {
		return witness.Report{}, nil, err
	}
	c := witness.NewClient(g.Token, g.Bench, g.Witness, way, nonce)
	c.AskOf(g.Run, g.First)
	exchange, end, err := exchanger(ctx, way, to, leave)
	if err != nil {
		return witness.Report{}, nil, err
	}
	defer end()
	for range 3 { // a cookie may have run out on the way
		question := leave.fill(way, to.Addr(), c.Question())
		data, err := exchange(question)
		if err != nil {
			return witness.Report{}, nil, err
		}
		if leave.size > 0 && len(data) == len(question) {
			data = data[:witness.Size]
		}
		r, done, err := c.Take(data)
		if err != nil {
			return r, nil, err
		}
		if done {
			g.Witness = c.Witness
			return r, bytes.Clone(data), nil
		}
	}
	return witness.Report{}, nil, errors.New("the test server only keeps asking to repeat")
}

// exchanger returns what sends a message and gives what comes back.
func exchanger(
	ctx context.Context,
	way witness.Way,
	to netip.AddrPort,
	leave leaving,
) (func([]byte) ([]byte, error), func(), error) {
	dialer := net.Dialer{Timeout: tries * tryTime}
	if leave.device != "" {
		dialer.Control = onDevice(leave.device)
	} else if leave.size > 0 && way == witness.UDP {
		dialer.Control = pathmtu.Whole
	}
	dial := func(network string, to netip.AddrPort) (c net.Conn, err error) {
		dialer.LocalAddr = local(network, leave.from)
		err = leave.within(func() (err error) { c, err = dialer.DialContext(ctx, network, to.String()); return err })
		return c, err
	}
	if way == witness.HTTP || way == witness.TCP {
		at := to
		if leave.proxy.IsValid() {
			at = leave.proxy
		}
		c, err := dial("tcp", at)
		if err != nil {
			return nil, nil, err
		}
		end := func() { _ = c.Close() }
		if way == witness.TCP {
			return func(m []byte) ([]byte, error) { return overStream(c, m) }, end, nil
		}
		in := bufio.NewReader(c)
		return func(m []byte) ([]byte, error) { return post(c, in, to, m, leave.proxy.IsValid()) }, end, nil
	}
	c, err := dial("udp", to)
	if err != nil {
		return nil, nil, err
	}
	return func(m []byte) ([]byte, error) { return overDatagrams(ctx, c, way, m) }, func() { _ = c.Close() }, nil
}

func local(network string, from netip.Addr) net.Addr {
	switch {
	case !from.IsValid():
		return nil
	case network == "tcp":
		return net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
	}
	return net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
}

// post puts a message into a request of HTTP on a connection, to a proxy or to whom it is for (RFC 9112, section 3.2), and
// takes it out of the response.
func post(c net.Conn, in *bufio.Reader, to netip.AddrPort, m []byte, proxied bool) ([]byte, error) {
	if err := c.SetDeadline(time.Now().Add(tries * tryTime)); err != nil {
		return nil, err
	}
	r, err := http.NewRequest(http.MethodPost, "http://"+to.String()+"/", bytes.NewReader(m))
	if err != nil {
		return nil, err
	}
	write := r.Write
	if proxied {
		write = r.WriteProxy
	}
	if err := write(c); err != nil {
		return nil, err
	}
	answer, err := http.ReadResponse(in, r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	return io.ReadAll(io.LimitReader(answer.Body, int64(max(len(m), biggest))))
}

func overStream(c net.Conn, m []byte) ([]byte, error) {
	if err := c.SetDeadline(time.Now().Add(tries * tryTime)); err != nil {
		return nil, err
	}
	if _, err := c.Write(m); err != nil {
		return nil, err
	}
	b := make([]byte, witness.Size)
	_, err := io.ReadFull(c, b)
	return b, err
}

func overDatagrams(ctx context.Context, c net.Conn, way witness.Way, m []byte) ([]byte, error) {
	send := m
	if way == witness.DNS {
		var err error
		if send, err = asDNS(0x0b57, false, m); err != nil {
			return nil, err
		}
	}
	b := make([]byte, biggest)
	err := fmt.Errorf("nothing was sent")
	for range tries {
		if _, err = c.Write(send); err != nil {
			return nil, pathmtu.Reported(c, err)
		}
		_ = c.SetReadDeadline(time.Now().Add(tryTime))
		var n int
		if n, err = c.Read(b); err == nil {
			if way == witness.DNS {
				_, _, message, ok := fromDNS(b[:n])
				if !ok {
					return nil, errors.New("what answered is not the test server")
				}
				return message, nil
			}
			return b[:n], nil
		}
		if !errors.Is(err, os.ErrDeadlineExceeded) || ctx.Err() != nil {
			return nil, pathmtu.Reported(c, err)
		}
	}
	return nil, err
}

// outcomeOf returns why a request got no answer.
func outcomeOf(err error) outcome.Outcome {
	var op *net.OpError
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return outcome.Of(outcome.Closed)
	case errors.As(err, &op) && op.Timeout():
		return outcome.Of(outcome.NoAnswer)
	}
	return stage.Outcome(err)
}
