package field

import (
	"context"
	"encoding/binary"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// firstHop sends a datagram with one hop to live and gives who says that its time was over,
// by the error queue of its socket (ip(7), IP_RECVERR): that takes no rights.
func firstHop(ctx context.Context, to netip.AddrPort) (netip.Addr, error) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return netip.Addr{}, err
	}
	defer unix.Close(fd)
	for _, o := range [][2]int{{unix.IP_RECVERR, 1}, {unix.IP_TTL, 1}} {
		if err := unix.SetsockoptInt(fd, unix.IPPROTO_IP, o[0], o[1]); err != nil {
			return netip.Addr{}, err
		}
	}
	if err := unix.Connect(fd, &unix.SockaddrInet4{Port: int(to.Port()), Addr: to.Addr().As4()}); err != nil {
		return netip.Addr{}, err
	}
	b, control := make([]byte, biggest), make([]byte, biggest)
	for range tries {
		if _, err := unix.Write(fd, []byte("open bastion probe\n")); err != nil {
			return netip.Addr{}, err
		}
		for began := time.Now(); time.Since(began) < tryTime && ctx.Err() == nil; time.Sleep(2 * time.Millisecond) {
			_, n, _, _, err := unix.Recvmsg(fd, b, control, unix.MSG_ERRQUEUE)
			if err != nil {
				continue
			}
			if at, ok := offender(control[:n]); ok {
				return at, nil
			}
		}
	}
	return netip.Addr{}, os.ErrDeadlineExceeded
}

// offender returns who sent an ICMP error, out of a control message.
func offender(control []byte) (netip.Addr, bool) {
	list, err := unix.ParseSocketControlMessage(control)
	if err != nil {
		return netip.Addr{}, false
	}
	for _, m := range list {
		const size, origin, kind, address = 16, 4, 5, 20 // of struct sock_extended_err; the address behind it
		if m.Header.Level != unix.IPPROTO_IP || m.Header.Type != unix.IP_RECVERR || len(m.Data) < size+8 {
			continue
		}
		if m.Data[origin] != unix.SO_EE_ORIGIN_ICMP || m.Data[kind] != 11 { // time exceeded (RFC 792)
			continue
		}
		if binary.NativeEndian.Uint16(m.Data[size:]) == unix.AF_INET {
			return netip.AddrFrom4([4]byte(m.Data[address : address+4])), true
		}
	}
	return netip.Addr{}, false
}
