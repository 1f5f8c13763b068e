package pathmtu

import (
	"net"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Whole sets a socket so that its packets are not fragmented, whatever is known of the path: the Control of a [net.Dialer].
func Whole(network, _ string, c syscall.RawConn) error {
	var err error
	e := c.Control(func(fd uintptr) {
		if strings.Contains(network, "6") {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_PROBE)
		} else {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_PROBE)
		}
	})
	if e != nil {
		return e
	}
	return err
}

// carries returns what a connected socket knows of its path, in bytes; 0: nothing.
func carries(c syscall.RawConn, to net.Addr) (mtu int) {
	level, option := unix.IPPROTO_IP, unix.IP_MTU
	if strings.Count(to.String(), ":") > 1 { // one is before a port
		level, option = unix.IPPROTO_IPV6, unix.IPV6_MTU
	}
	_ = c.Control(func(fd uintptr) {
		if n, err := unix.GetsockoptInt(int(fd), level, option); err == nil {
			mtu = n
		}
	})
	return mtu
}
