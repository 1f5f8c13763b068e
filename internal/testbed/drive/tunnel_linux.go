package drive

import (
	"errors"
	"fmt"
	"net/netip"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"openbastion/internal/netsim/vxlan"
)

// Tunnel is an adapter whose far end is a segment on another machine: each frame in a
// datagram (VXLAN, RFC 7348). What comes from elsewhere than the far end, or is of another
// segment, is not taken.
type Tunnel struct {
	Number  int    // by which the machine knows it
	segment uint32 // the segment's number on the way
	fd      int
	far     netip.AddrPort
	to      unix.Sockaddr
	out     []byte
	lost    atomic.Int64
}

// OpenTunnel opens a tunnel from an address of this machine to one of another, for a
// segment's number; the far end may be there later.
func OpenTunnel(near, far netip.AddrPort, segment uint32, number int) (*Tunnel, error) {
	if segment > vxlan.MaxSegment {
		return nil, fmt.Errorf("tunnel: %d is not a segment number: it has 24 bits", segment)
	}
	if !near.Addr().Is4() || !far.Addr().Is4() {
		return nil, fmt.Errorf("tunnel: from %s to %s: addresses of IPv4 are needed", near, far)
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("tunnel: %w", err)
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer) // best effort
	if err := unix.Bind(fd, &unix.SockaddrInet4{Port: int(near.Port()), Addr: near.Addr().As4()}); err != nil {
		_ = unix.Close(fd)
		return nil, fmt.Errorf("tunnel: at %s: %w", near, err)
	}
	to := &unix.SockaddrInet4{Port: int(far.Port()), Addr: far.Addr().As4()}
	return &Tunnel{Number: number, segment: segment, fd: fd, far: far, to: to}, nil
}

// Close returns the socket back.
func (t *Tunnel) Close() error { return unix.Close(t.fd) }

// Lost returns how many frames were lost since the last call, because this machine took none.
func (t *Tunnel) Lost() int { return int(t.lost.Swap(0)) }

func (t *Tunnel) number() int         { return t.Number }
func (t *Tunnel) descriptor() int     { return t.fd }
func (t *Tunnel) push() (bool, error) { return false, nil }

func (t *Tunnel) take(b *buffers, each func([]byte) error) error {
	for range burst {
		n, from, err := unix.Recvfrom(t.fd, b.frame, 0)
		if err != nil { // nothing is there; or the far end was not, once
			return nil
		}
		who, ok := from.(*unix.SockaddrInet4)
		if !ok || netip.AddrFrom4(who.Addr) != t.far.Addr() {
			continue
		}
		segment, frame, err := vxlan.Split(b.frame[:n])
		if err != nil || segment != t.segment {
			continue
		}
		if err := each(frame); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tunnel) send(frame []byte) error {
	t.out = vxlan.Append(t.out[:0], t.segment, frame)
	switch err := unix.Sendto(t.fd, t.out, unix.MSG_DONTWAIT, t.to); {
	case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.ENOBUFS), errors.Is(err, unix.EMSGSIZE):
		t.lost.Add(1)
	}
	return nil // what does not get there is lost, as on any wire
}
