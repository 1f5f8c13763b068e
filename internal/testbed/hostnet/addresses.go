package hostnet

import (
	"net"
	"net/netip"
	"slices"
	"strings"
)

// LinkPrefix begins the names of the devices by which labs leave.
const LinkPrefix = "bastion"

// mostAddresses bounds the addresses of this machine that are tried from a lab.
const mostAddresses = 4

// Addresses returns this machine's IPv4 addresses that others can reach, those on links of labs left out: at most four.
func Addresses() []netip.Addr {
	links, err := net.Interfaces()
	if err != nil {
		return nil
	}
	var out []netip.Addr
	for _, l := range links {
		if l.Flags&net.FlagUp == 0 || l.Flags&net.FlagLoopback != 0 || strings.HasPrefix(l.Name, LinkPrefix) {
			continue
		}
		list, err := l.Addrs()
		if err != nil {
			continue // it is gone
		}
		for _, a := range list {
			p, err := netip.ParsePrefix(a.String())
			if at := p.Addr(); err == nil && at.Is4() && at.IsGlobalUnicast() && !slices.Contains(out, at) && len(out) < mostAddresses {
				out = append(out, at)
			}
		}
	}
	return out
}
