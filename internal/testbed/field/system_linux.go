package field

import (
	"bufio"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/mac"
	"openbastion/internal/testbed/hostnet"
	"openbastion/internal/testbed/kernel"
)

// Look asks this system for its network: every adapter, also those of the other namespaces that it names, and the
// routes of every table.
func Look() (System, error) {
	list, err := adapters()
	if err != nil {
		return System{}, fmt.Errorf("this system's adapters: %w", err)
	}
	s := System{Adapters: list, Resolvers: hostnet.Resolvers(), Proxies: proxies()}
	others := namedSpaces()
	if err := s.describe(containers(others)); err != nil {
		return s, err
	}
	for _, o := range others {
		s.Adapters = append(s.Adapters, o.adapters()...)
		o.Close()
	}
	return s, nil
}

// describe takes in what this system tells of its adapters.
func (s *System) describe(inside map[int]bool) error {
	byIndex := map[int]*Adapter{}
	for i := range s.Adapters {
		byIndex[s.Adapters[i].index] = &s.Adapters[i]
	}
	for i := range s.Adapters {
		a := &s.Adapters[i]
		link, err := netlink.LinkByIndex(a.index)
		if err != nil {
			continue // it is gone since
		}
		a.kind(link, byIndex, inside)
		addresses, err := netlink.AddrList(link, netlink.FAMILY_V4)
		if err != nil {
			return fmt.Errorf("addresses of %s: %w", a.Name, err)
		}
		for _, at := range addresses {
			if at.Flags&unix.IFA_F_PERMANENT == 0 { // it runs out
				a.Leased = true
			}
		}
	}
	routes, err := netlink.RouteListFiltered(netlink.FAMILY_ALL, &netlink.Route{Table: unix.RT_TABLE_UNSPEC}, netlink.RT_FILTER_TABLE)
	if err != nil {
		return fmt.Errorf("routes: %w", err)
	}
	slices.SortStableFunc(routes, func(a, b netlink.Route) int { return b.Priority - a.Priority }) // the best last: it stays
	for _, r := range routes {
		if r.Table == unix.RT_TABLE_LOCAL || r.Type != unix.RTN_UNICAST {
			continue
		}
		s.route(r, byIndex)
	}
	for i := range s.Adapters {
		if a := &s.Adapters[i]; a.Device != "" {
			over := s.Adapters[slices.IndexFunc(s.Adapters, func(x Adapter) bool { return x.Name == a.Device })]
			a.Gateway, a.Gateway6 = over.Gateway, over.Gateway6
		}
	}
	return nil
}

// route takes in a route with a next hop, or several, or one that leads everywhere.
func (s *System) route(r netlink.Route, byIndex map[int]*Adapter) {
	to := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	if r.Family == netlink.FAMILY_V6 {
		to = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	}
	if r.Dst != nil {
		at, _ := netip.AddrFromSlice(r.Dst.IP)
		bits, _ := r.Dst.Mask.Size()
		to = netip.PrefixFrom(at.Unmap(), bits)
	}
	hops := []*netlink.NexthopInfo{{LinkIndex: r.LinkIndex, Gw: r.Gw}}
	if len(r.MultiPath) > 0 {
		hops = r.MultiPath
	}
	for _, h := range hops {
		a := byIndex[h.LinkIndex]
		via, _ := netip.AddrFromSlice(h.Gw)
		via = via.Unmap()
		switch {
		case a == nil || !via.IsValid() && to.Bits() > 1: // to what is on its own network
		case to.Bits() == 0 && via.IsValid() && r.Table == unix.RT_TABLE_MAIN:
			s.lead(a, via)
		default:
			s.Routes = append(s.Routes, Route{to, via, a.Name})
		}
	}
}

// kind takes in what an adapter is. What is a port of a bridge or bond has that one's addresses.
func (a *Adapter) kind(link netlink.Link, byIndex map[int]*Adapter, inside map[int]bool) {
	a.Known = true
	at := link.Attrs()
	a.NoCarrier = a.Up && at.OperState == netlink.OperDown
	if over := byIndex[at.MasterIndex]; at.MasterIndex != 0 && over != nil {
		a.Addresses, a.Device = append(a.Addresses, over.Addresses...), over.Name
	}
	device, _ := filepath.EvalSymlinks(filepath.Join("/sys/class/net", a.Name, "device"))
	switch link.Type() {
	case "bridge", "bond", "team", "dummy", "ifb", "nlmon", "vrf":
		a.Internal = true
	case "macvlan", "ipvlan", "macvtap", "ipvtap": // on a wire that it has anyway
		a.Internal = true
	case "veth":
		a.Internal = at.NetNsID < 0 && byIndex[at.ParentIndex] != nil && at.ParentIndex != at.Index || inside[at.NetNsID] && at.NetNsID >= 0
	case "tun", "tuntap":
		a.Kind, a.Internal = tunnel, at.MasterIndex != 0 // of a virtual machine
	case "vlan":
		a.Kind = tagged
		if over := byIndex[at.ParentIndex]; over != nil {
			a.Over = over.Name
		}
	case "device":
		if _, err := os.Stat(filepath.Join("/sys/class/net", a.Name, "phy80211")); err == nil {
			a.Kind = wireless
		} else if strings.Contains(device, "/usb") {
			a.Kind = usb
		}
	default: // wireguard, gre, sit, ip6tnl, vxlan, ppp …
		a.Kind = tunnel
	}
}

// otherSpace is another network namespace of this system.
type otherSpace struct {
	*kernel.Space
	name string
	path string
}

// namedSpaces returns the network namespaces that something holds by a name. It takes the rights to enter them.
func namedSpaces() (out []otherSpace) {
	mounts, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	defer mounts.Close()
	own, _ := os.Readlink("/proc/self/ns/net")
	seen := []string{own}
	for lines := bufio.NewScanner(mounts); lines.Scan(); {
		f := strings.Fields(lines.Text())
		if len(f) < 5 || !strings.HasPrefix(f[3], "net:[") || slices.Contains(seen, f[3]) {
			continue
		}
		seen = append(seen, f[3])
		if s, err := kernel.OpenSpace(f[4]); err == nil {
			out = append(out, otherSpace{s, filepath.Base(f[4]), f[4]})
		}
	}
	return out
}

// containers returns the numbers by which this namespace knows others that it can look into.
func containers(others []otherSpace) map[int]bool {
	out := map[int]bool{}
	for _, o := range others {
		h, err := netns.GetFromPath(o.path)
		if err != nil {
			continue
		}
		if id, err := netlink.GetNetNsIdByFd(int(h)); err == nil && id >= 0 {
			out[id] = true
		}
		_ = h.Close()
	}
	return out
}

// adapters returns the adapters of another namespace that lead out of this machine: what leads into it back is
// none.
func (o otherSpace) adapters() (out []Adapter) {
	err := o.Do(func() error {
		list, err := adapters()
		if err != nil {
			return err
		}
		s := System{Adapters: list}
		if err := s.describe(nil); err != nil {
			return err
		}
		ids := map[int]bool{}
		if h, err := netns.GetFromPath("/proc/self/ns/net"); err == nil { // of the process: where we came from
			if id, err := netlink.GetNetNsIdByFd(int(h)); err == nil && id >= 0 {
				ids[id] = true
			}
			_ = h.Close()
		}
		for _, a := range s.Adapters {
			link, err := netlink.LinkByIndex(a.index)
			if err != nil || a.Internal || link.Type() == "veth" && ids[link.Attrs().NetNsID] {
				continue
			}
			out = append(out, a)
		}
		return nil
	})
	if err != nil {
		return nil
	}
	for i := range out {
		out[i].Within = o.name
		path := o.path
		out[i].space = func(f func() error) error {
			s, err := kernel.OpenSpace(path)
			if err != nil {
				return err
			}
			defer s.Close()
			return s.Do(f)
		}
	}
	return out
}

// onDevice has a socket leave by one adapter only (SO_BINDTODEVICE, socket(7)).
func onDevice(name string) func(network, address string, c syscall.RawConn) error {
	return func(_, _ string, c syscall.RawConn) error {
		var failed error
		err := c.Control(func(fd uintptr) { failed = unix.BindToDevice(int(fd), name) })
		return errors.Join(err, failed)
	}
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
