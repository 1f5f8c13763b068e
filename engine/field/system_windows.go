package field

import (
	"errors"
	"fmt"
	"net/netip"
	"unsafe"

	"golang.org/x/sys/windows"

	"openbastion/core/mac"
)

// Look asks this system for its network (GetAdaptersAddresses).
func Look() (System, error) {
	list, err := adapters()
	if err != nil {
		return System{}, fmt.Errorf("this system's adapters: %w", err)
	}
	s := System{Adapters: list, Unseen: []string{unseenNeighbors}}
	size := uint32(16 << 10)
	var buffer []byte
	for {
		buffer = make([]byte, size)
		err = windows.GetAdaptersAddresses(windows.AF_UNSPEC, windows.GAA_FLAG_INCLUDE_GATEWAYS, 0,
			(*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])), &size)
		if !errors.Is(err, windows.ERROR_BUFFER_OVERFLOW) {
			break
		}
	}
	if err != nil {
		return s, fmt.Errorf("this system's adapters: %w", err)
	}
	for one := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])); one != nil; one = one.Next {
		for i := range s.Adapters {
			if s.Adapters[i].index == int(one.IfIndex) {
				s.take(&s.Adapters[i], one)
			}
		}
	}
	return s, nil
}

// leasedFlag says that an adapter asks for leases (IP_ADAPTER_DHCP_ENABLED).
const leasedFlag = 0x4

func (s *System) take(a *Adapter, one *windows.IpAdapterAddresses) {
	a.Leased = one.Flags&leasedFlag != 0
	a.Server, _ = netip.AddrFromSlice(one.Dhcpv4Server.IP())
	for g := one.FirstGatewayAddress; g != nil; g = g.Next {
		switch at, ok := netip.AddrFromSlice(g.Address.IP()); {
		case !ok:
		case at.Unmap().Is4():
			a.Gateway = at.Unmap()
		default:
			a.Gateway6 = at
		}
	}
	for d := one.FirstDnsServerAddress; d != nil; d = d.Next {
		if at, ok := netip.AddrFromSlice(d.Address.IP()); ok {
			s.Resolvers = append(s.Resolvers, at.Unmap())
		}
	}
}

// Neighbor is not asked for here.
func (Adapter) Neighbor(netip.Addr) (mac.Address, bool) { return mac.Address{}, false }
