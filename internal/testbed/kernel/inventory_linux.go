package kernel

import (
	"fmt"
	"net/netip"
	"slices"

	"github.com/google/nftables"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/plan"
)

// Inventory returns what the machines have in their namespaces, a line for each thing: devices, addresses,
// routes, rules of routing, and rules of the packet filter with their number. What is leased is told by its
// network, as the address is the server's choice.
func (l *Lab) Inventory() []string {
	var out []string
	for _, m := range l.plan.Machines {
		x := l.stacks.machines[m]
		if x == nil {
			continue
		}
		out = append(out, x.inventory()...)
	}
	return out
}

// leadsToLeased reports whether something is translated inward to a guest whose address a lease tells: then who
// holds which lease decides on the rules.
func (x *machine) leadsToLeased() bool {
	leased := func(to *plan.Adapter) bool { return to != nil && !to.Address.IsValid() }
	return slices.ContainsFunc(x.plan.Publishes, func(v plan.Publish) bool { return leased(v.To) }) ||
		slices.ContainsFunc(x.plan.OneToOne, func(v plan.OneToOne) bool { return leased(v.To) })
}

func (x *machine) inventory() (out []string) {
	add := func(format string, args ...any) { out = append(out, x.plan.Name+": "+fmt.Sprintf(format, args...)) }
	names := map[int]string{}
	links, _ := x.space.links.LinkList()
	for _, link := range links {
		at := link.Attrs()
		names[at.Index] = at.Name
		add("device %s %s, up %v", at.Name, at.HardwareAddr, at.OperState == netlink.OperUp)
		for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
			list, _ := x.space.links.AddrList(link, family)
			for _, a := range list {
				if at, _ := netip.AddrFromSlice(a.IP); at.IsLinkLocalUnicast() || at.IsLoopback() {
					continue
				}
				if a.ValidLft > 0 { // leased, or of an announced network
					a.IP = a.IP.Mask(a.Mask)
				}
				add("address %s on %s", a.IPNet, link.Attrs().Name)
			}
		}
	}
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		routes, _ := x.space.links.RouteListFiltered(family, &netlink.Route{}, 0)
		for _, r := range routes {
			if r.Table != unix.RT_TABLE_LOCAL && r.Dst != nil && !r.Dst.IP.IsLinkLocalUnicast() && !r.Dst.IP.IsMulticast() {
				add("route %s by %s on %s, table %d, metric %d", r.Dst, r.Gw, names[r.LinkIndex], r.Table, r.Priority)
			}
		}
	}
	rules, _ := x.space.links.RuleList(netlink.FAMILY_V4)
	for _, r := range rules {
		add("routing rule %d, table %d", r.Priority, r.Table)
	}
	if c, err := nftables.New(nftables.WithNetNSFd(x.space.fd)); err == nil {
		chains, _ := c.ListChains()
		for _, chain := range chains {
			if x.leadsToLeased() && (chain.Name == "incoming" || chain.Name == "outgoing") {
				continue
			}
			list, _ := c.GetRules(chain.Table, chain)
			add("chain %s of %s: %d rules", chain.Name, chain.Table.Name, len(list))
		}
	}
	slices.Sort(out)
	return out
}
