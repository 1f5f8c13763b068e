package kernel

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"openbastion/internal/export/nft"
	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/firewall"
	"openbastion/internal/netsim/host"
	"openbastion/internal/testbed/kernel/nfnetlink"
)

// machine is a machine of the plan as a network namespace, with what stands
// beside its kernel's stack.
type machine struct {
	*lasting
	plan     *plan.Machine
	shadow   *host.Node
	ports    map[*plan.Adapter]*host.Port // of the shadow
	resolver *dns.Resolver                // of an appliance

	command string                   // what runs in it instead of its planned set-up
	devices map[*plan.Adapter]string // what its adapters are called, where that is not planned

	leads map[*plan.Adapter]netip.Addr // of an appliance: where what is published to leased guests leads; of the shadows' loop

	state map[*plan.Adapter]state // what the shadow came by
}

// lasting is what stays of a machine while it is changed to another plan.
type lasting struct {
	space   *Space
	tracker *netlink.Handle         // of an appliance: asks which conversations its kernel knows
	names   *resolver               // of an appliance, on its sockets
	pages   map[uint16]net.Listener // of an appliance, by port
	as      atomic.Pointer[machine] // the machine as it is planned now

	mu         sync.Mutex
	generation uint32 // of its packet filter's rules, as they were loaded last
	inner      *inner // where programs run in it, once one does
	stops      []func()
}

// state is what an adapter has now.
type state struct {
	Address netip.Prefix
	Gateway netip.Addr
	DNS     []netip.Addr
	Lease   *dhcp.Binding
}

// leasedTime is how long the kernel itself would keep a leased address, in seconds: not for
// ever, and longer than anybody waits.
const leasedTime = 1 << 30

// probeWait is how long a machine waits for who has an address that it was offered: on
// wires within one host everybody answers in a moment.
const probeWait = 20 * time.Millisecond

// device returns what an adapter is called in its namespace.
func device(a *plan.Adapter) string {
	if a.Guest != nil {
		return fmt.Sprintf("eth%d", a.Number-1)
	}
	return a.Linux()
}

// newMachine makes the shadow of a machine in a namespace, which becomes its own; its links
// come later.
func newMachine(m *plan.Machine, guests []*plan.Machine, command string, space *Space) (x *machine, err error) {
	keeps := &lasting{space: space, pages: map[uint16]net.Listener{}}
	if m.Appliance != nil {
		if keeps.tracker, err = netlink.NewHandleAt(netns.NsHandle(space.fd), unix.NETLINK_NETFILTER); err != nil {
			space.Close()
			return nil, fmt.Errorf("%s: conversations: %w", m.Name, err)
		}
	}
	x = keeps.planned(m, guests, command)
	if m.Guest != nil {
		x.forwards()
	}
	return x, nil
}

// planned makes the shadow of a machine as one of a plan, in the namespace that is there.
func (k *lasting) planned(m *plan.Machine, guests []*plan.Machine, command string) (x *machine) {
	seed := &source{}
	x = &machine{
		lasting: k,
		plan:    m,
		command: command,
		ports:   map[*plan.Adapter]*host.Port{},
		state:   map[*plan.Adapter]state{},
	}
	if m.Appliance != nil {
		a := firewall.New(m, firewall.Options{Guests: guests, Random: seed})
		x.shadow, x.resolver = a.Node, a.Node.Resolver
		x.shadow.Hook = nil
		for i, ad := range m.Adapters {
			x.ports[ad] = a.Ports[i]
		}
		x.separate()
	} else {
		x.shadow = host.NewWith(m.Name, seed)
		for _, a := range m.Adapters {
			x.ports[a] = x.guestPort(a)
		}
	}
	x.shadow.Forwards, x.shadow.Resolver = false, nil // the kernel does
	for a, p := range x.ports {
		if x.foreign() { // it does by itself what it does
			p.Client, p.Server, p.IPv6, p.Address, p.Gateway, p.DNS = nil, nil, nil, netip.Prefix{}, netip.Addr{}, nil
		}
		p.Changed = func() { x.changed(a) }
		p.ProbeWait = probeWait
	}
	k.as.Store(x)
	return x
}

// forwards sets whether a guest passes packets on: a namespace begins as this machine's own is.
func (x *machine) forwards() {
	value := "0"
	if x.plan.Guest.Forwards {
		value = "1"
	}
	if !x.space.here && !x.foreign() {
		_ = x.space.Do(func() error { return set("net.ipv4.ip_forward", value) }) // where it is refused, Drift tells
	}
}

// separate returns each port of an appliance's shadow an adapter of its own: tagged
// ports are devices of their own here.
func (x *machine) separate() {
	for i, a := range x.plan.Adapters {
		p := x.ports[a]
		p.Adapter, p.Tag = i+1, 0
	}
}

// guestPort makes the shadow's port of a guest.
func (x *machine) guestPort(a *plan.Adapter) *host.Port {
	p := host.Port{
		Name:    a.Name,
		Adapter: slices.Index(x.plan.Adapters, a) + 1,
		MAC:     a.MAC,
		Address: a.Address,
		Gateway: a.Gateway,
		DNS:     a.DNS,
	}
	if a.How != plan.Static {
		p.Address = netip.Prefix{}
		p.Client = &dhcp.Client{MAC: a.MAC, Hostname: x.plan.Name}
	}
	if a.Leases != nil {
		p.Server = dhcp.NewServer(firewall.LeaseConfig(a))
	}
	if speaks6(a) {
		p.IPv6 = &host.IPv6{Accepts: true}
	}
	return x.shadow.AddPort(p)
}

// speaks6 reports whether it is an adapter on whose segment IPv6 is spoken.
func speaks6(a *plan.Adapter) bool {
	return a.Segment.Subnet6.IsValid() || a.Segment.Lab.RouterAdvertisements
}

// up sets a device up: its settings, its address, and its routes.
func (x *machine) up(a *plan.Adapter) error {
	name := device(a)
	err := x.tune(a)
	if err == nil {
		err = x.space.up(name)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", x.plan.Name, err)
	}
	if p := x.ports[a]; p.Address.IsValid() {
		x.keep(a, state{Address: p.Address, Gateway: p.Gateway, DNS: p.DNS})
		if err := x.address(a, p.Address, p.Gateway); err != nil {
			return err
		}
	}
	return x.address6(a)
}

// tune sets what the kernel does on a device by itself.
func (x *machine) tune(a *plan.Adapter) error {
	name := device(a)
	return x.space.Do(func() error {
		six := "1"
		if speaks6(a) && (a.Guest != nil || a.Address6.IsValid()) {
			six = "0"
		}
		accept := "0"
		if a.Guest != nil {
			accept = "1"
		}
		return errors.Join(setFor("ipv6", name, "accept_ra", accept), setFor("ipv6", name, "dad_transmits", "0"),
			setFor("ipv6", name, "router_solicitation_delay", "0"), setFor("ipv6", name, "disable_ipv6", six),
			setFor("ipv4", name, "send_redirects", "0"), setFor("ipv4", name, "arp_announce", "2"),
			setFor("ipv4", name, "arp_ignore", "1"))
	})
}

// address6 gives an appliance's device its IPv6 address.
func (x *machine) address6(a *plan.Adapter) error {
	if a.Guest != nil || !a.Address6.IsValid() || x.foreign() {
		return nil
	}
	link, err := x.link(a)
	if err == nil {
		err = x.space.links.AddrReplace(link, &netlink.Addr{IPNet: ipnet(a.Address6), Flags: unix.IFA_F_NODAD})
	}
	if err != nil {
		return fmt.Errorf("%s: %s on %s: %w", x.plan.Name, a.Address6, device(a), err)
	}
	return nil
}

// link returns the device of an adapter, as it is now.
func (x *machine) link(a *plan.Adapter) (netlink.Link, error) {
	return x.space.links.LinkByName(x.device(a))
}

// device returns what an adapter is called in the machine's space.
func (x *machine) device(a *plan.Adapter) string {
	if name := x.devices[a]; name != "" {
		return name
	}
	return device(a)
}

func (x *machine) keep(a *plan.Adapter, s state) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.state[a] = s
}

// now returns what an adapter has.
func (x *machine) now(a *plan.Adapter) state {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.state[a]
}

func ipnet(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// metric orders the ways out of a machine: by the order of its adapters.
func (x *machine) metric(a *plan.Adapter) int { return 100 * (1 + slices.Index(x.plan.Adapters, a)) }

// address gives a device its address, and the way out by a gateway there. What the
// kernel refuses of a plan (a gateway that is not on the link) is left out, as a
// person's system would leave it.
func (x *machine) address(a *plan.Adapter, address netip.Prefix, gateway netip.Addr) error {
	link, err := x.link(a)
	if err != nil {
		return fmt.Errorf("%s: %s: %w", x.plan.Name, device(a), err)
	}
	old, err := x.space.links.AddrList(link, netlink.FAMILY_V4)
	if err != nil {
		return fmt.Errorf("%s: addresses of %s: %w", x.plan.Name, device(a), err)
	}
	also := x.also(a)
	for _, o := range old {
		if at, ok := netip.AddrFromSlice(o.IP.To4()); ok && at != address.Addr() && !slices.Contains(also, at) {
			_ = x.space.links.AddrDel(link, &o)
		}
	}
	route := &netlink.Route{
		LinkIndex: link.Attrs().Index,
		Dst:       ipnet(netip.PrefixFrom(netip.IPv4Unspecified(), 0)),
		Priority:  x.metric(a),
	}
	_ = x.space.links.RouteDel(route)
	if !address.IsValid() {
		return nil
	}
	own := &netlink.Addr{IPNet: ipnet(address)}
	if x.now(a).Lease != nil { // one that runs out, for programs that look; its shadow sees to when
		own.ValidLft, own.PreferedLft = leasedTime, leasedTime
	}
	if err := x.space.links.AddrReplace(link, own); err != nil {
		return fmt.Errorf("%s: %s on %s: %w", x.plan.Name, address, device(a), err)
	}
	for _, more := range also {
		if err := x.space.links.AddrReplace(link, &netlink.Addr{IPNet: ipnet(netip.PrefixFrom(more, 32))}); err != nil {
			return fmt.Errorf("%s: %s on %s: %w", x.plan.Name, more, device(a), err)
		}
	}
	if gateway.IsValid() && gateway.Is4() && gateway != address.Addr() {
		route.Gw = gateway.AsSlice()
		if err := x.space.links.RouteReplace(route); err != nil && !errors.Is(err, syscall.ENETUNREACH) &&
			!errors.Is(err, syscall.EINVAL) {
			return fmt.Errorf("%s: path outside by %s: %w", x.plan.Name, gateway, err)
		}
	}
	x.sourced(a, link, address.Addr(), gateway)
	return nil
}

// Tables and order of the rules by which what has the address of one way out does not
// leave by another.
const (
	firstTable = 100
	firstRule  = 1000
)

// sourced has packets from an adapter's address leave by its gateway, where a machine has
// several ways out. What the kernel refuses of it is left out, as in address.
func (x *machine) sourced(a *plan.Adapter, link netlink.Link, address, gateway netip.Addr) {
	if len(x.plan.Adapters) < 2 {
		return
	}
	at := slices.Index(x.plan.Adapters, a)
	rule := netlink.NewRule()
	rule.Family, rule.Table, rule.Priority = netlink.FAMILY_V4, firstTable+at, firstRule+at
	_ = x.space.links.RuleDel(rule)
	if !gateway.IsValid() || !gateway.Is4() || gateway == address {
		return
	}
	route := &netlink.Route{
		LinkIndex: link.Attrs().Index,
		Dst:       ipnet(netip.PrefixFrom(netip.IPv4Unspecified(), 0)),
		Table:     rule.Table,
		Gw:        gateway.AsSlice(),
	}
	if x.space.links.RouteReplace(route) == nil {
		near := netlink.NewRule() // what is on a network of its own goes there directly
		near.Family, near.Table, near.Priority, near.SuppressPrefixlen = netlink.FAMILY_V4, unix.RT_TABLE_MAIN, firstRule-1, 0
		_ = x.space.links.RuleDel(near)
		_ = x.space.links.RuleAdd(near)
		rule.Src = ipnet(netip.PrefixFrom(address, address.BitLen()))
		_ = x.space.links.RuleAdd(rule)
	}
}

// unsource takes away what sourced set for so many adapters, but for the routes of devices that are gone, which
// went with them.
func (x *machine) unsource(adapters int) {
	for at := -1; at < adapters; at++ {
		rule := netlink.NewRule()
		rule.Family, rule.Priority = netlink.FAMILY_V4, firstRule+at
		_ = x.space.links.RuleDel(rule)
		if at < 0 {
			continue
		}
		routes, _ := x.space.links.RouteListFiltered(netlink.FAMILY_V4, &netlink.Route{Table: firstTable + at},
			netlink.RT_FILTER_TABLE)
		for _, r := range routes {
			_ = x.space.links.RouteDel(&r)
		}
	}
}

// also returns the outside addresses that an appliance's WAN has for guests.
func (x *machine) also(a *plan.Adapter) []netip.Addr {
	if p := x.ports[a]; p != nil {
		return p.Also
	}
	return nil
}

// changed takes over what the shadow's lease client came by. It is called from the
// shadows' loop.
func (x *machine) changed(a *plan.Adapter) {
	p := x.ports[a]
	s := state{Address: p.Address, Gateway: p.Gateway, DNS: slices.Clone(p.DNS)}
	if p.Client != nil && p.Client.Binding != nil {
		b := *p.Client.Binding
		s.Lease = &b
	}
	x.keep(a, s)
	_ = x.address(a, p.Address, p.Gateway) // the lease stands; what the kernel refuses of it shows in what is asked
	if x.names != nil {
		x.names.upstreams(x.upstreams())
	}
	x.tellResolvers()
}

// upstreams returns the resolvers that an appliance's WAN ports know.
func (x *machine) upstreams() (list []netip.Addr) {
	for _, a := range x.plan.Adapters {
		if s := x.now(a); a.Role == "wan" || s.Gateway.IsValid() {
			list = append(list, s.DNS...)
		}
	}
	return list
}

// filter sets the kernel's settings and rules of an appliance.
func (x *machine) filter() error {
	err := x.space.Do(func() error {
		for line := range strings.Lines(string(nft.Settings(x.plan, device))) {
			name, value, ok := strings.Cut(strings.TrimSpace(line), " = ")
			if !ok || strings.ContainsAny(line[:1], "#-") {
				continue
			}
			if err := set(name, value); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		return set("net.netfilter.nf_conntrack_acct", "1")
	})
	if err != nil {
		return fmt.Errorf("%s: kernel settings: %w", x.plan.Name, err)
	}
	return x.rules(ruleset.Planned)
}

// rules gives the kernel an appliance's rules, in place of those it had, with the
// addresses of guests that something leads to.
func (x *machine) rules(address func(*plan.Adapter) netip.Addr) error {
	c, err := nfnetlink.Open(x.space.fd)
	if err == nil {
		err = nfnetlink.Load(c, ruleset.Of(x.plan, device, address))
	}
	if err != nil {
		return fmt.Errorf("%s: rules of the packet filter: %w", x.plan.Name, err)
	}
	generation, err := nfnetlink.Generation(x.space.fd)
	if err != nil {
		return fmt.Errorf("%s: rules of the packet filter: %w", x.plan.Name, err)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.generation = generation
	return nil
}

// loaded returns the generation of an appliance's rules as they were loaded last.
func (x *machine) loaded() uint32 {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.generation
}

// forget has the machine ask its neighbors afresh.
func (x *machine) forget() {
	for _, a := range x.plan.Adapters {
		link, err := x.link(a)
		if err != nil {
			continue
		}
		for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
			list, _ := x.space.links.NeighList(link.Attrs().Index, family)
			for _, n := range list {
				_ = x.space.links.NeighDel(&n)
			}
		}
	}
}

func (x *machine) close() {
	for _, stop := range x.stops {
		stop()
	}
	for _, l := range x.pages {
		l.Close()
	}
	if x.tracker != nil {
		x.tracker.Close()
	}
	x.space.Close()
}
