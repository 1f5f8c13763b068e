package plan

import (
	"fmt"
	"net/netip"

	"openbastion/internal/model/lab"
)

// typed is an address that the lab file gives something on a segment.
type typed struct {
	prefix netip.Prefix // one address wide where the file gives no length
	who    string       // what has it: sluice.lan, heron, the host
	whole  bool         // the file gives the length as well
}

// given returns the subnet that the addresses on a segment say it has, where the file does not give
// it: the user's addresses decide. An address with a length settles it, an appliance's port before
// the host and guests; by says whose it is. Addresses without a length (gateways, pools,
// reservations, next hops) only say where it must be: then a /24 that holds them, or what is needed
// to hold them all, and by is empty. The zero Prefix means that nothing is said.
func (b *builder) given(src *lab.Segment, list []typed) (net netip.Prefix, by string) {
	if src.Subnet.IsValid() {
		return netip.Prefix{}, ""
	}
	for _, t := range list {
		if t.whole && t.prefix.Addr().Is4() && t.prefix.Bits() < 31 {
			return t.prefix.Masked(), fmt.Sprintf("%s has %s", t.who, t.prefix)
		}
	}
	for _, t := range list {
		a := t.prefix.Addr()
		if !a.Is4() || a.IsUnspecified() {
			continue
		}
		if !net.IsValid() {
			net = netip.PrefixFrom(a, 24).Masked()
		}
		for !net.Contains(a) && net.Bits() > 16 {
			net = netip.PrefixFrom(a, net.Bits()-1).Masked()
		}
	}
	return net, ""
}

// typedOn returns the addresses that the file gives on each segment; of those that a transparent
// appliance joins, on the outer one.
func (b *builder) typedOn(bridged map[string]string) map[string][]typed {
	out := map[string][]typed{}
	root := func(name string) string {
		for n := 0; bridged[name] != "" && n < len(bridged); n++ {
			name = bridged[name]
		}
		return name
	}
	add := func(segment, who string, p netip.Prefix) {
		if segment != "" && p.IsValid() {
			out[root(segment)] = append(out[root(segment)], typed{p, who, true})
		}
	}
	bare := func(segment, who string, list ...netip.Addr) {
		for _, a := range list {
			if segment != "" && a.IsValid() {
				out[root(segment)] = append(out[root(segment)], typed{netip.PrefixFrom(a, a.BitLen()), who, false})
			}
		}
	}
	for _, m := range b.lab.Appliances {
		for _, p := range m.Ports {
			who := m.Name + "." + p.Name
			if p.Name == "" {
				who = m.Name + "." + string(p.Role)
			}
			add(p.Segment, who, p.Address.Prefix)
			bare(p.Segment, who, p.Gateway, p.Leases.From, p.Leases.To)
		}
	}
	for _, s := range b.lab.Segments {
		add(s.Name, "the host", s.HostAddress)
		bare(s.Name, s.Name, s.Gateway, s.PoolFrom, s.PoolTo, s.HostGateway)
		for _, r := range s.Routes {
			bare(s.Name, s.Name, r.Via)
		}
	}
	for _, g := range b.lab.Guests {
		for i := range g.Adapters {
			a := &g.Adapters[i]
			add(a.Segment, g.Name, a.Static)
			bare(a.Segment, g.Name, a.Gateway, a.Reserve)
		}
	}
	return out
}
