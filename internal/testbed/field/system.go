package field

import (
	"net"
	"net/netip"
	"slices"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
)

// unseenLease is what a system may not tell.
const unseenLease = "whether an address is leased"

// System is what a machine's own system tells of its network.
type System struct {
	Adapters  []Adapter
	Resolvers []netip.Addr // whom it asks for names, in order
	Unseen    []string     // what it was not asked for here
}

// Adapter is one of a system's adapters.
type Adapter struct {
	Name      string
	MAC       mac.Address
	Up        bool
	Addresses []netip.Prefix
	Leased    bool       // its address is one that runs out
	Server    netip.Addr // who leased it, where the system tells
	Gateway   netip.Addr // the next hop to everywhere, of IPv4
	Gateway6  netip.Addr
	index     int
}

// Four returns the adapter's first IPv4 address.
func (a Adapter) Four() netip.Prefix {
	for _, p := range a.Addresses {
		if p.Addr().Is4() {
			return p
		}
	}
	return netip.Prefix{}
}

// adapters lists what every system tells alike; loopback is left out.
func adapters() ([]Adapter, error) {
	list, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var out []Adapter
	for _, i := range list {
		if i.Flags&net.FlagLoopback != 0 || len(i.HardwareAddr) != len(mac.Address{}) {
			continue
		}
		a := Adapter{Name: i.Name, MAC: mac.Address(i.HardwareAddr), Up: i.Flags&net.FlagUp != 0, index: i.Index}
		addresses, err := i.Addrs()
		if err != nil {
			return nil, err
		}
		for _, at := range addresses {
			n, ok := at.(*net.IPNet)
			if !ok {
				continue
			}
			ip, ok := netip.AddrFromSlice(n.IP)
			if bits, _ := n.Mask.Size(); ok {
				a.Addresses = append(a.Addresses, netip.PrefixFrom(ip.Unmap(), bits))
			}
		}
		out = append(out, a)
	}
	return out, nil
}

// Neighbor returns the hardware address by which this system reaches an address on an adapter's
// segment; false when it knows none, and an error where it does not tell.
func (a Adapter) Neighbor(at netip.Addr) (mac.Address, bool, error) {
	known, err := a.neighbors()
	m, ok := known[at]
	return m, ok, err
}

// beside returns the adapter that is on an address's network, and its own address there; invalid
// where none is.
func (s System) beside(at netip.Addr) (Adapter, netip.Addr) {
	for _, x := range s.Adapters {
		for _, p := range x.Addresses {
			if x.Up && p.Contains(at) {
				return x, p.Addr()
			}
		}
	}
	return Adapter{}, netip.Addr{}
}

// Of returns the system's adapter that is one of a plan, by its hardware address; nil when it
// is not there.
func (s System) Of(a *plan.Adapter) *Adapter {
	i := slices.IndexFunc(s.Adapters, func(x Adapter) bool { return x.MAC == a.MAC })
	if i < 0 {
		return nil
	}
	return &s.Adapters[i]
}
