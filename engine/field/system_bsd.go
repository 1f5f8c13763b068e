//go:build darwin || freebsd || netbsd || openbsd || dragonfly

package field

import (
	"fmt"
	"net/netip"
	"syscall"

	"golang.org/x/net/route"

	"openbastion/core/mac"
	"openbastion/engine/host"
)

// Look asks this system for its network (route(4)).
func Look() (System, error) {
	list, err := adapters()
	if err != nil {
		return System{}, fmt.Errorf("this system's adapters: %w", err)
	}
	s := System{Adapters: list, Resolvers: host.Resolvers(), Unseen: []string{unseenLease, unseenNeighbors}}
	data, err := route.FetchRIB(syscall.AF_UNSPEC, route.RIBTypeRoute, 0)
	if err != nil {
		return s, fmt.Errorf("this system's routes: %w", err)
	}
	return s, s.routes(data)
}

// routes takes the next hops out of a table of routes.
func (s *System) routes(data []byte) error {
	messages, err := route.ParseRIB(route.RIBTypeRoute, data)
	if err != nil {
		return fmt.Errorf("this system's routes: %w", err)
	}
	for _, m := range messages {
		r, ok := m.(*route.RouteMessage)
		if !ok || len(r.Addrs) <= syscall.RTAX_GATEWAY || r.Flags&syscall.RTF_GATEWAY == 0 {
			continue
		}
		to, hop := addressOf(r.Addrs[syscall.RTAX_DST]), addressOf(r.Addrs[syscall.RTAX_GATEWAY])
		if !to.IsUnspecified() || !hop.IsValid() {
			continue
		}
		for i := range s.Adapters {
			switch a := &s.Adapters[i]; {
			case a.index != r.Index:
			case hop.Is4():
				a.Gateway = hop
			default:
				a.Gateway6 = hop
			}
		}
	}
	return nil
}

func addressOf(a route.Addr) netip.Addr {
	switch v := a.(type) {
	case *route.Inet4Addr:
		return netip.AddrFrom4(v.IP)
	case *route.Inet6Addr:
		return netip.AddrFrom16(v.IP)
	}
	return netip.Addr{}
}

// Neighbor is not asked for here.
func (Adapter) Neighbor(netip.Addr) (mac.Address, bool) { return mac.Address{}, false }
