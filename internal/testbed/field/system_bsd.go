//go:build darwin || freebsd || netbsd || openbsd || dragonfly

package field

import (
	"context"
	"fmt"
	"net/netip"
	"syscall"

	"golang.org/x/net/route"

	"openbastion/internal/model/mac"
	"openbastion/internal/testbed/hostnet"
)

// Look asks this system for its network (route(4)).
func Look() (System, error) {
	list, err := adapters()
	if err != nil {
		return System{}, fmt.Errorf("this system's adapters: %w", err)
	}
	s := System{Adapters: list, Resolvers: hostnet.Resolvers(), Proxies: proxies(), Unseen: []string{unseenLease}}
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
			if a := &s.Adapters[i]; a.index == r.Index {
				s.lead(a, hop)
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

// linkInfo marks entries of a table of routes that are neighbors (RTF_LLINFO, which newer headers
// call RTF_LLDATA).
const linkInfo = 0x400

// neighbors returns who is known on an adapter's segment, by address.
func (a Adapter) neighbors() (map[netip.Addr]mac.Address, error) {
	data, err := route.FetchRIB(syscall.AF_INET, route.RIBType(syscall.NET_RT_FLAGS), linkInfo)
	if err != nil {
		return nil, err
	}
	messages, err := route.ParseRIB(route.RIBTypeRoute, data)
	out := map[netip.Addr]mac.Address{}
	for _, m := range messages {
		r, ok := m.(*route.RouteMessage)
		if !ok || len(r.Addrs) <= syscall.RTAX_GATEWAY {
			continue
		}
		link, ok := r.Addrs[syscall.RTAX_GATEWAY].(*route.LinkAddr)
		at := addressOf(r.Addrs[syscall.RTAX_DST])
		if ok && at.IsValid() && link.Index == a.index && len(link.Addr) == len(mac.Address{}) {
			out[at] = mac.Address(link.Addr)
		}
	}
	return out, err
}

// firstHop returns who says that the time of a datagram with one hop to live was over.
func firstHop(ctx context.Context, to netip.AddrPort) (netip.Addr, error) { return hopByICMP(ctx, to) }
