//go:build !linux

package hostinfo

import (
	"net"
	"net/netip"
)

// Look surveys the machine with what Go's standard library tells on every
// system, and says what that leaves unseen.
func Look(path string) *Report {
	r := base()
	r.Unseen = append(
		r.Unseen,
		"routes and the default path outside",
		"resolvers",
		"memory",
		"disk space",
		"which adapters are wireless",
	)
	list, err := net.Interfaces()
	if err != nil {
		r.Unseen = append(r.Unseen, "network adapters: "+err.Error())
		return r
	}
	for _, i := range list {
		if i.Flags&net.FlagLoopback != 0 {
			continue
		}
		a := Adapter{
			Name:      i.Name,
			Kind:      Wired,
			Up:        i.Flags&net.FlagUp != 0,
			MAC:       i.HardwareAddr.String(),
			Addresses: []netip.Prefix{},
		}
		if len(i.HardwareAddr) == 0 {
			a.Kind = Virtual
		}
		addrs, err := i.Addrs()
		if err != nil {
			continue
		}
		for _, x := range addrs {
			if p, err := netip.ParsePrefix(x.String()); err == nil {
				a.Addresses = append(a.Addresses, p)
			}
		}
		r.Adapters = append(r.Adapters, a)
	}
	return r
}

// TryAccelerator cannot tell on this system.
func TryAccelerator() error { return errUntested }
