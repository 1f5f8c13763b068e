//go:build !linux

package field

import (
	"context"
	"errors"
	"net/netip"
)

// firstHop is not known here: the system's sockets do not tell who ended a datagram.
func firstHop(context.Context, netip.AddrPort) (netip.Addr, error) {
	return netip.Addr{}, errors.ErrUnsupported
}
