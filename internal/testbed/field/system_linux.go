package field

import (
	"fmt"
	"net/netip"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/mac"
	"openbastion/internal/testbed/hostnet"
)

// Look asks this system for its network.
func Look() (System, error) {
	list, err := adapters()
	if err != nil {
		return System{}, fmt.Errorf("this system's adapters: %w", err)
	}
	s := System{Adapters: list, Resolvers: hostnet.Resolvers()}
	for i := range s.Adapters {
		a := &s.Adapters[i]
		link, err := netlink.LinkByIndex(a.index)
		if err != nil {
			continue // it is gone since
		}
		addresses, err := netlink.AddrList(link, netlink.FAMILY_V4)
		if err != nil {
			return s, fmt.Errorf("addresses of %s: %w", a.Name, err)
		}
		for _, at := range addresses {
			if at.Flags&unix.IFA_F_PERMANENT == 0 { // it runs out
				a.Leased = true
			}
		}
		routes, err := netlink.RouteList(link, netlink.FAMILY_ALL)
		if err != nil {
			return s, fmt.Errorf("routes by %s: %w", a.Name, err)
		}
		for _, r := range routes {
			hop, ok := netip.AddrFromSlice(r.Gw)
			if !ok || r.Dst != nil && !r.Dst.IP.IsUnspecified() {
				continue
			}
			if hop = hop.Unmap(); hop.Is4() {
				a.Gateway = hop
			} else {
				a.Gateway6 = hop
			}
		}
	}
	return s, nil
}

// neighbors returns who is known on an adapter's segment, by address.
func (a Adapter) neighbors() (map[netip.Addr]mac.Address, error) {
	list, err := netlink.NeighList(a.index, netlink.FAMILY_ALL)
	out := map[netip.Addr]mac.Address{}
	for _, n := range list {
		ip, ok := netip.AddrFromSlice(n.IP)
		if ok && len(n.HardwareAddr) == len(mac.Address{}) &&
			n.State&(unix.NUD_FAILED|unix.NUD_INCOMPLETE|unix.NUD_NOARP) == 0 {
			out[ip.Unmap()] = mac.Address(n.HardwareAddr)
		}
	}
	return out, err
}
