package field

import (
	"cmp"
	"net"
	"net/netip"

	"openbastion/internal/model/mac"
)

// unseenLease is what a system may not tell.
const unseenLease = "whether an address is leased"

// System is what a machine's own system tells of its network.
type System struct {
	Adapters  []Adapter
	Routes    []Route
	Resolvers []netip.Addr     // whom it asks for names, in order
	Proxies   []netip.AddrPort // that its environment names
	Unseen    []string         // what it was not asked for here
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

	Known     bool   // the system tells what follows
	Kind      string // empty: a plain one, or not known
	Over      string // the adapter that carries it, tagged
	Device    string // the bridge or bond whose port it is, which has its addresses and routes; empty: itself
	Internal  bool   // it leads into the same machine only: a bridge, a container's other end
	NoCarrier bool   // it is up, and has no link
	Within    string // the other namespace that it is in

	space func(func() error) error // calls a function in that namespace; nil: it is in ours
	index int
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

// adapters lists what every system tells alike; loopback is left out. What has no hardware address is a tunnel.
func adapters() ([]Adapter, error) {
	list, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var out []Adapter
	for _, i := range list {
		if i.Flags&net.FlagLoopback != 0 {
			continue
		}
		a := Adapter{Name: i.Name, Up: i.Flags&net.FlagUp != 0, index: i.Index}
		if len(i.HardwareAddr) == len(a.MAC) {
			a.MAC = mac.Address(i.HardwareAddr)
		} else {
			a.Kind = tunnel
		}
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

// device returns what sockets are bound to that leave by an adapter.
func (a Adapter) device() string { return cmp.Or(a.Device, a.Name) }

// lead takes in that an adapter leads everywhere by a next hop.
func (s *System) lead(a *Adapter, hop netip.Addr) {
	everywhere := netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	if hop.Is4() {
		a.Gateway, everywhere = hop, netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	} else {
		a.Gateway6 = hop
	}
	s.Routes = append(s.Routes, Route{everywhere, hop, a.Name})
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
