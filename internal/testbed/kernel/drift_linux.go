package kernel

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/nftables"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/export/nft"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/kernel/nfnetlink"
	"openbastion/internal/testbed/stage"
)

// Drift returns what differs from the plan in the lab's machines: changed by hand, or by a program in them.
// Machines that run a command of the user's, and simulated ones, are not looked at.
func (l *Lab) Drift() []status.Drift { return stage.Found(l.drift()) }

// Repair sets right what Drift tells, as far as that can be done while the lab runs. What it found is kept for
// UndoRepair: what it took away whole is not made again.
func (l *Lab) Repair() (done []status.Drift, err error) {
	done, err = l.repairs.Repair(l.drift())
	for _, x := range l.stacks.machines {
		x.forget()
	}
	return done, err
}

// UndoRepair puts back what the last Repair found, as far as that can be.
func (l *Lab) UndoRepair() (undone []status.Drift, err error) { return l.repairs.UndoRepair() }

func (l *Lab) drift() (out []stage.Drift) {
	for _, m := range l.plan.Machines {
		if x := l.stacks.machines[m]; x != nil && !x.foreign() {
			v := &view{machine: x, stacks: l.stacks}
			v.devices()
			v.routes()
			v.filters()
			v.settings()
			out = append(out, v.out...)
		}
	}
	return out
}

// view looks at a machine's namespace.
type view struct {
	*machine
	stacks *Stacks
	names  map[int]string // of devices, by number
	out    []stage.Drift
}

func (v *view) add(found, remedy string, repair, undo func() error) {
	v.out = append(v.out, stage.Drift{
		Drift: status.Drift{Machine: v.plan.Name, Found: found, Remedy: remedy, Undo: undo != nil}, Mend: repair, Undo: undo,
	})
}

// devices looks at the planned ones, with their addresses, and at others.
func (v *view) devices() {
	v.names = map[int]string{}
	planned := map[string]*plan.Adapter{}
	for _, a := range v.plan.Adapters {
		planned[device(a)] = a
	}
	links, _ := v.space.links.LinkList()
	seen := map[string]bool{}
	for _, link := range links {
		at := link.Attrs()
		v.names[at.Index], seen[at.Name] = at.Name, true
		a := planned[at.Name]
		switch {
		case at.Flags&net.FlagLoopback != 0 || at.Name == "ifb0" || at.Name == "ifb1" || unasked(link):
		case a == nil:
			v.add(fmt.Sprintf("has a device %s (%s) that is not planned", at.Name, link.Type()), "remove it",
				func() error { return v.space.links.LinkDel(link) }, nil)
		default:
			v.device(a, link)
		}
	}
	for name, a := range planned {
		if !seen[name] {
			v.add(fmt.Sprintf("has no device %s (%s) any more", name, a.MAC),
				"stop the lab and start it again: its link is gone too", nil, nil)
		}
	}
}

// unasked reports whether it is a device that a kernel makes in each namespace by itself.
func unasked(link netlink.Link) bool {
	return slices.Contains([]string{"sit", "ipip", "gre", "gretap", "erspan", "ip6tnl", "ip6gre", "vti", "vti6", "ifb"}, link.Type()) &&
		link.Attrs().Flags&net.FlagUp == 0
}

func (v *view) device(a *plan.Adapter, link netlink.Link) {
	at := link.Attrs()
	if at.Flags&net.FlagUp == 0 {
		v.add(at.Name+" is down", "set it up", func() error {
			return errors.Join(v.space.links.LinkSetUp(link), v.again(a))
		}, func() error { return v.space.links.LinkSetDown(link) })
		return // its routes went with it, and come back
	}
	if was := slices.Clone(at.HardwareAddr); was.String() != a.MAC.String() {
		v.add(fmt.Sprintf("%s has the MAC address %s; planned: %s", at.Name, was, a.MAC), "set the planned one",
			func() error { return v.space.links.LinkSetHardwareAddr(link, a.MAC[:]) },
			func() error { return v.space.links.LinkSetHardwareAddr(link, was) })
	}
	want := []netip.Addr{}
	if now := v.now(a); now.Address.IsValid() {
		want = append(append(want, now.Address.Addr()), v.also(a)...)
	}
	has := map[netip.Addr]bool{}
	list, _ := v.space.links.AddrList(link, netlink.FAMILY_V4)
	for _, o := range list {
		addr, _ := netip.AddrFromSlice(o.IP.To4())
		if has[addr] = true; !slices.Contains(want, addr) {
			again := netlink.Addr{IPNet: o.IPNet}
			v.add(fmt.Sprintf("%s has the address %s, which is not planned", at.Name, o.IPNet), "remove it",
				func() error { return v.space.links.AddrDel(link, &o) },
				func() error { return v.space.links.AddrReplace(link, &again) })
		}
	}
	for _, addr := range want {
		if !has[addr] {
			v.add(fmt.Sprintf("%s lacks the address %s", at.Name, addr), "set it", func() error { return v.again(a) },
				func() error { return v.drop(link, addr) })
		}
	}
}

// again sets an adapter's addresses and routes as they are to be.
func (v *view) again(a *plan.Adapter) error {
	now := v.now(a)
	return errors.Join(v.tune(a), v.address(a, now.Address, now.Gateway), v.address6(a))
}

func (v *view) drop(link netlink.Link, addr netip.Addr) error {
	list, err := v.space.links.AddrList(link, netlink.FAMILY_V4)
	for _, o := range list {
		if at, _ := netip.AddrFromSlice(o.IP.To4()); at == addr {
			return v.space.links.AddrDel(link, &o)
		}
	}
	return err
}

// routes looks at the routes that were set by hand: those of the kernel follow the addresses.
func (v *view) routes() {
	type path struct {
		gateway netip.Addr
		device  string
	}
	want := map[path]*plan.Adapter{}
	for _, a := range v.plan.Adapters {
		now := v.now(a)
		if up, err := v.link(a); err != nil || up.Attrs().Flags&net.FlagUp == 0 {
			continue
		}
		if g := now.Gateway; now.Address.IsValid() && g.IsValid() && g.Is4() && g != now.Address.Addr() && now.Address.Contains(g) {
			want[path{g, device(a)}] = a
		}
	}
	routes, _ := v.space.links.RouteListFiltered(netlink.FAMILY_V4, &netlink.Route{}, 0)
	for _, r := range routes {
		local := r.Table == unix.RT_TABLE_LOCAL || r.Protocol == unix.RTPROT_KERNEL
		ours := r.Table >= firstTable && r.Table < firstTable+len(v.plan.Adapters)
		gateway, _ := netip.AddrFromSlice(r.Gw.To4())
		p := path{gateway, v.names[r.LinkIndex]}
		if everything(r.Dst) && r.Table == unix.RT_TABLE_MAIN && want[p] != nil && r.Priority == v.metric(want[p]) {
			delete(want, p)
			continue
		}
		if local || ours {
			continue
		}
		v.add("has a route "+routeText(r, v.names)+" that is not planned", "remove it",
			func() error { return v.space.links.RouteDel(&r) }, func() error { return v.space.links.RouteReplace(&r) })
	}
	for p, a := range want {
		v.add(fmt.Sprintf("has no default route by %s on %s", p.gateway, p.device), "set it", func() error { return v.again(a) },
			func() error {
				link, err := v.link(a)
				if err != nil {
					return err
				}
				return v.space.links.RouteDel(&netlink.Route{LinkIndex: link.Attrs().Index, Priority: v.metric(a),
					Dst: ipnet(netip.PrefixFrom(netip.IPv4Unspecified(), 0))})
			})
	}
	rules, _ := v.space.links.RuleList(netlink.FAMILY_V4)
	for _, r := range rules {
		known := r.Priority == 0 || r.Priority >= 32766 || r.Priority >= firstRule-1 && r.Priority < firstRule+len(v.plan.Adapters)
		if !known {
			v.add(fmt.Sprintf("has a routing rule %d (table %d) that is not planned", r.Priority, r.Table), "remove it",
				func() error { return v.space.links.RuleDel(&r) }, func() error { return v.space.links.RuleAdd(&r) })
		}
	}
}

func everything(to *net.IPNet) bool {
	if to == nil {
		return true
	}
	ones, _ := to.Mask.Size()
	return ones == 0
}

func routeText(r netlink.Route, names map[int]string) string {
	text := "default"
	if !everything(r.Dst) {
		text = r.Dst.String()
	}
	if r.Gw != nil {
		text += " via " + r.Gw.String()
	}
	if name := names[r.LinkIndex]; name != "" {
		text += " dev " + name
	}
	if r.Table != unix.RT_TABLE_MAIN {
		text += fmt.Sprint(" table ", r.Table)
	}
	return text
}

// filters looks at the packet filter: an appliance's is as it was loaded, a guest has none.
func (v *view) filters() {
	if v.plan.Appliance != nil {
		if now, err := nfnetlink.Generation(v.space.fd); err == nil && now != v.loaded() {
			v.add("its packet filter rules were changed by hand", "load the planned ones again",
				v.reload, nil)
		}
		return
	}
	c, err := nftables.New(nftables.WithNetNSFd(v.space.fd))
	if err != nil {
		return
	}
	tables, _ := c.ListTables()
	if slices.ContainsFunc(tables, func(t *nftables.Table) bool { return t.Name != introduction }) {
		v.add("has packet filter rules of its own", "remove them", v.clearFilter, nil)
	}
}

// reload gives an appliance its planned rules again, with what leads to leased guests.
func (v *view) reload() error {
	err := errors.Join(v.clearFilter(), v.filter())
	v.stacks.shadows.Do(v.stacks.ctx, func(now time.Duration) {
		v.leads = nil
		err = errors.Join(err, v.lead(now))
	})
	return err
}

// clearFilter takes away every table but the one by which guests introduce themselves.
func (x *machine) clearFilter() error {
	c, err := nftables.New(nftables.WithNetNSFd(x.space.fd))
	if err != nil {
		return err
	}
	tables, err := c.ListTables()
	for _, t := range tables {
		if t.Name != introduction {
			c.DelTable(t)
		}
	}
	return errors.Join(err, c.Flush())
}

// settings looks at what the kernel does by itself.
func (v *view) settings() {
	want := map[string]string{"net.ipv4.ip_forward": "0"}
	if v.plan.Guest != nil && v.plan.Guest.Forwards {
		want["net.ipv4.ip_forward"] = "1"
	}
	if v.plan.Appliance != nil {
		for line := range strings.Lines(string(nft.Settings(v.plan, device))) {
			name, value, ok := strings.Cut(strings.TrimSpace(line), " = ")
			if ok && !strings.ContainsAny(line[:1], "#-") && !strings.Contains(name, ".default.") {
				want[name] = value
			}
		}
	}
	var names []string
	for name := range want {
		names = append(names, name)
	}
	slices.SortFunc(names, cmp.Compare)
	for _, name := range names {
		var was string
		err := v.space.Do(func() error {
			data, err := os.ReadFile("/proc/sys/" + strings.ReplaceAll(name, ".", "/"))
			was = strings.TrimSpace(string(data))
			return err
		})
		if value := want[name]; err == nil && was != value {
			v.add(fmt.Sprintf("has %s = %s; planned: %s", name, was, value), "set it",
				func() error { return v.space.Do(func() error { return set(name, value) }) },
				func() error { return v.space.Do(func() error { return set(name, was) }) })
		}
	}
}
