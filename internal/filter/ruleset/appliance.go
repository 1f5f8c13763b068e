package ruleset

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Planned returns the address that a plan gives an adapter for sure: a lease that may be any of a
// pool is none.
func Planned(a *plan.Adapter) netip.Addr { return a.Address.Addr() }

// Of returns the table of an appliance. device names the device of an adapter, and address the
// address of a guest's adapter that something leads to; what leads to a guest without one (the zero
// Addr) is left out, with a remark.
func Of(m *plan.Machine, device func(*plan.Adapter) string, address func(*plan.Adapter) netip.Addr) *Table {
	b := &builder{machine: m, address: address, table: &Table{Family: Inet, Name: "bastion", About: []string{
		fmt.Sprintf("Packet filter and translation of %s. The device names below are the likely", m.Name),
		"ones: compare the MAC addresses and put the right ones in."}}}
	for _, a := range m.Adapters {
		b.table.Ports = append(b.table.Ports, Port{name(a), device(a),
			a.Description()})
		if a.Role == lab.WAN {
			b.wans = append(b.wans, name(a))
		} else {
			b.inner, b.inside = append(b.inner, a), append(b.inside, name(a))
		}
	}
	if m.Transparent() {
		b.bridge()
		return b.table
	}
	b.decisions()
	b.refused()
	b.early()
	b.forward()
	b.input()
	b.incoming()
	b.outgoing()
	return b.table
}

// builder makes the table of one appliance.
type builder struct {
	table   *Table
	machine *plan.Machine
	address func(*plan.Adapter) netip.Addr
	wans    []string // names of ports
	inside  []string
	inner   []*plan.Adapter // those of inside
}

// name returns a port's name as the filter's language takes it.
func name(a *plan.Adapter) string { return strings.ReplaceAll(a.Name, "-", "_") }

func (b *builder) chain(name, about string, hook *Hook) *Chain {
	c := &Chain{Name: name, About: about, Hook: hook}
	b.table.Chains = append(b.table.Chains, c)
	return c
}

func (c *Chain) add(actions []Action, matches ...Match) {
	c.Rules = append(c.Rules, Rule{Matches: matches, Actions: actions})
}

func (c *Chain) remark(text string) { c.Rules = append(c.Rules, Rule{Note: text}) }

func (c *Chain) note(text string) { c.Rules[len(c.Rules)-1].Note = text }

func do(list ...Action) []Action { return list }

var (
	accept  = do(Accept{})
	discard = do(Counter{}, Drop{})
)

// decisions writes the rules of the lab file, which decide on what starts a conversation: of what
// passes the appliance, and of what is for itself, which "outside" does not mean.
func (b *builder) decisions() {
	c := b.chain("rules", "The rules in order; the first that matches decides.", nil)
	for i := range b.machine.Rules {
		b.rule(c, i, &b.machine.Rules[i], nil, nil)
	}
	for _, own := range []struct {
		name    string
		fromWAN bool
	}{{"own", false}, {"own_outside", true}} {
		c := b.chain(own.name, "DNS traffic of the appliance itself, not to outside.", nil)
		for i := range b.machine.Rules {
			r := b.machine.Rules[i]
			if r.To = itself(r.To, own.fromWAN); len(r.To) > 0 {
				b.rule(c, i, &r, nil, nil)
			}
		}
	}
}

// itself returns the parties of a rule that can mean the appliance itself: any, its name, or its
// addresses; from a WAN no network in which it has one.
func itself(list []plan.Match, fromWAN bool) []plan.Match {
	var out []plan.Match
	for _, m := range list {
		switch {
		case m.Any, m.Own:
			return []plan.Match{{Any: true}}
		case m.Outside:
		case fromWAN:
			m.Prefixes = slices.DeleteFunc(
				slices.Clone(m.Prefixes),
				func(p netip.Prefix) bool { return !p.IsSingleIP() },
			)
			if len(m.Prefixes) > 0 {
				out = append(out, m)
			}
		default:
			out = append(out, m)
		}
	}
	return out
}

// rule adds what a rule of the lab file comes to: one rule for each pair of parties of one IP
// version and each service.
func (b *builder) rule(c *Chain, i int, r *plan.Rule, in, out *plan.Adapter) {
	actions := do(Counter{})
	if r.Log {
		actions = append(actions, Log(fmt.Sprintf("bastion %s rule %d: ", b.machine.Name, i+1)))
	}
	actions = append(
		actions,
		map[lab.Action]Action{lab.Allow: Accept{}, lab.Deny: Drop{}, lab.Refuse: Goto("refused")}[r.Action],
	)
	title := fmt.Sprintf("%d: %s", i+1, r.Text)
	before := len(c.Rules)
	for _, from := range b.parties(r.From, Source, in) {
		for _, to := range b.parties(r.To, Destination, out) {
			if from.family != 0 && to.family != 0 && from.family != to.family {
				continue
			}
			for _, s := range r.Services {
				c.Rules = append(
					c.Rules,
					Rule{Title: title, Matches: slices.Concat(from.matches, to.matches, service(s)), Actions: actions},
				)
			}
		}
	}
	if len(c.Rules) == before { // it can match nothing here
		c.Rules = append(c.Rules, Rule{Title: title})
	}
}

// party is one of several conditions of which any may hold.
type party struct {
	matches []Match
	family  int // 4, 6, or 0 for both
}

// parties returns whom a rule names, at one end of a packet. On a bridge outside and the segments at
// its ports are sides of it, told by the port; nil on a router.
func (b *builder) parties(list []plan.Match, of Direction, port *plan.Adapter) []party {
	var out []party
	for _, m := range list {
		switch {
		case m.Any:
			return []party{{}}
		case !m.Names(port):
			continue
		case m.Outside && port != nil:
			if port.Role == lab.WAN {
				return []party{{}}
			}
		case m.Outside:
			four, six := b.networks()
			out = append(out, party{[]Match{Address{of, true, four}}, 4})
			if len(six) > 0 {
				out = append(out, party{[]Match{Address{of, true, six}}, 6})
			} else {
				out = append(out, party{[]Match{IPv6{}}, 6})
			}
		}
		for _, p := range m.Prefixes {
			family := 4
			if p.Addr().Is6() {
				family = 6
			}
			out = append(out, party{[]Match{Address{of, false, []netip.Prefix{p.Masked()}}}, family})
		}
	}
	return out
}

// networks returns the networks on the appliance's inside, by IP version.
func (b *builder) networks() (four, six []netip.Prefix) {
	for _, a := range b.inner {
		if s := a.Segment; s.Subnet.IsValid() && !slices.Contains(four, s.Subnet) { // an unused port is on none
			four = append(four, s.Subnet)
			if s.Subnet6.IsValid() {
				six = append(six, s.Subnet6)
			}
		}
	}
	return four, six
}

func service(s lab.Service) []Match {
	switch {
	case s.Proto == lab.Any:
		return nil
	case s.Proto == lab.ICMP || s.AllPorts():
		return []Match{Proto{s.Proto}}
	}
	return []Match{Ports{s.Proto, Destination, s.From, s.To}}
}

func (b *builder) refused() {
	c := b.chain("refused", "The sender of rejected packets gets an ICMP error or a reset.", nil)
	c.add(do(Reset{}), Proto{lab.TCP})
	c.add(do(Prohibited{}))
}

func udp(of Direction, port uint16) Match { return Ports{lab.UDP, of, port, port} }

var linkLocal6 = netip.MustParsePrefix("fe80::/10")

// private is where addresses live that are not routed on the Internet (RFC 1918, RFC 6598, RFC 3927, RFC 1122).
var private = []netip.Prefix{
	netip.MustParsePrefix(
		"10.0.0.0/8",
	), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix(
		"100.64.0.0/10",
	), netip.MustParsePrefix("169.254.0.0/16"), netip.MustParsePrefix("127.0.0.0/8"),
}

// early writes what is looked at before anything else.
func (b *builder) early() {
	c := b.chain("fragments", "Fragments hide their ports: they are dropped before they are put together.",
		&Hook{"filter", "prerouting", -450, false})
	c.add(discard, Fragment{})
	c.add(discard, Fragment6{})
	c = b.chain(
		"origin",
		"Packets must come from where their source lives.",
		&Hook{"filter", "prerouting", -250, false},
	)
	c.add(accept, udp(Source, 68), udp(Destination, 67))
	c.add(accept, Address{Source, false, []netip.Prefix{netip.PrefixFrom(netip.IPv6Unspecified(), 128), linkLocal6}})
	if len(b.wans) > 1 {
		c.add(accept, In(b.wans), RouteBack(b.wans))
		c.note("replies come back by whichever WAN")
	}
	c.add(discard, Stray{})
	for _, a := range b.machine.Adapters {
		if a.Port != nil && a.Port.DropPrivate {
			c.add(discard, In{name(a)}, Address{Source, false, private})
		}
	}
}

// opening adds what must be so of every packet: of a known conversation, or one that may open one.
func (c *Chain) opening() {
	c.add(accept, State{"established", "related"})
	c.add(discard, State{"invalid"})
	c.add(discard, NotOpening{})
	c.add(discard, Message{Not: true, Types: []string{"echo-request"}})
	c.add(discard, Message{IPv6: true, Not: true, Types: []string{"echo-request"}})
}

// The marks of packets.
const (
	markBack      = 1 // it leaves where it came in, so that its replies must come here too
	markPublished = 2 // it is published, and passes where no rule decides
)

func (b *builder) forward() {
	c := b.chain("forward", "", &Hook{"filter", "forward", 0, true})
	for _, a := range b.machine.Adapters {
		c.add(do(AddMark(markBack)), In{name(a)}, Out{name(a)})
	}
	if b.sessions() {
		c.add(do(ClampMSS{}), TCPSYN{})
	}
	c.opening()
	c.add(do(Jump("rules")))
	c.add(accept, Mark(markPublished))
	c.note("it is published")
	c.add(do(Counter{}))
	c.note("default deny")
}

// sessions reports whether a WAN is a PPPoE session, with its smaller packets.
func (b *builder) sessions() bool {
	return slices.ContainsFunc(
		b.machine.WAN(),
		func(a *plan.Adapter) bool { return a.Port != nil && a.Port.Address.How == "pppoe" },
	)
}

// input writes what reaches the appliance itself.
func (b *builder) input() {
	c := b.chain("input", "", &Hook{"filter", "input", 0, true})
	c.add(accept, Loopback{})
	for _, a := range b.machine.Adapters {
		if a.Leases != nil {
			c.add(accept, In{name(a)}, udp(Source, 68), udp(Destination, 67))
		}
	}
	c.add(
		accept,
		Message{
			IPv6:  true,
			Types: []string{"nd-router-solicit", "nd-router-advert", "nd-neighbor-solicit", "nd-neighbor-advert"},
		},
		HopLimit(255),
	)
	c.add(accept, Address{Source, false, []netip.Prefix{linkLocal6}}, udp(Destination, 547))
	c.opening()
	if len(b.inside) > 0 {
		c.add(do(Jump("own")), In(b.inside))
	}
	if len(b.wans) > 0 {
		c.add(do(Jump("own_outside")), In(b.wans))
	}
	b.admin(c)
	if len(b.inside) > 0 {
		c.add(accept, In(b.inside), Proto{lab.ICMP})
		c.add(accept, In(b.inside), Proto{lab.TCP, lab.UDP}, Ports{lab.Any, Destination, 53, 53})
	}
	c.add(do(Counter{}))
}

// admin lets the admin page be reached from inside, and where the plan says so from its WAN.
func (b *builder) admin(c *Chain) {
	for _, a := range b.machine.Adapters {
		if a.Admin == nil {
			continue
		}
		from := b.inside
		if a.Role == lab.WAN {
			from = append(slices.Clone(from), name(a))
		}
		for _, own := range []netip.Prefix{a.Address, a.Address6} {
			if !own.IsValid() {
				continue
			}
			for _, s := range a.Admin {
				at := netip.PrefixFrom(own.Addr(), own.Addr().BitLen())
				c.add(
					accept,
					In(from),
					Address{Destination, false, []netip.Prefix{at}},
					Ports{lab.TCP, Destination, s.Port, s.Port},
				)
				c.note("admin page")
			}
		}
	}
}

// incoming writes what is translated as it comes in: port forwards and 1:1 NAT.
func (b *builder) incoming() {
	var own []netip.Prefix // the inside addresses, at which nothing is published
	for _, a := range b.inner {
		if a.Address.IsValid() {
			own = append(own, netip.PrefixFrom(a.Address.Addr(), a.Address.Addr().BitLen()))
		}
	}
	c := b.chain("incoming", "", &Hook{"nat", "prerouting", -100, false})
	for _, v := range b.machine.Publishes {
		to := b.address(v.To)
		if !to.IsValid() {
			c.remark(
				fmt.Sprintf("%s/%d cannot be published: %s has no fixed address", v.Proto, v.Port, v.To.Machine.Name),
			)
			continue
		}
		matches := []Match{ToSelf{}, Ports{v.Proto, Destination, v.Port, v.Port}}
		if len(own) > 0 {
			matches = append([]Match{Address{Destination, true, own}}, matches...)
		}
		c.add(do(SetMark(markPublished), DNAT(netip.AddrPortFrom(to, v.Target))), matches...)
	}
	for _, v := range b.machine.OneToOne {
		to := b.address(v.To)
		if !to.IsValid() {
			continue
		}
		c.remark(fmt.Sprintf("the WAN port must have the address %s as well", v.Outside))
		at := Address{Destination, false, []netip.Prefix{netip.PrefixFrom(v.Outside, v.Outside.BitLen())}}
		if home := v.To.Segment.Port; home != nil && home.Machine == b.machine { // neighbors need no rule
			c.add(do(SetMark(markPublished), DNAT(netip.AddrPortFrom(to, 0))), In{name(home)}, at)
		}
		c.add(do(DNAT(netip.AddrPortFrom(to, 0))), at)
	}
}

// outgoing writes what is translated as it leaves: 1:1 NAT and masquerading.
func (b *builder) outgoing() {
	c := b.chain("outgoing", "", &Hook{"nat", "postrouting", 100, false})
	c.add(do(Masquerade{}), Mark(markBack))
	if len(b.wans) == 0 {
		return
	}
	for _, v := range b.machine.OneToOne {
		if to := b.address(v.To); to.IsValid() {
			c.add(
				do(SNAT(v.Outside)),
				Out(b.wans),
				Address{Source, false, []netip.Prefix{netip.PrefixFrom(to, to.BitLen())}},
			)
		}
	}
	var nets []netip.Prefix
	for _, s := range b.machine.Masq {
		nets = append(nets, s.Subnet)
	}
	if len(nets) > 0 {
		c.add(do(Masquerade{}), Out(b.wans), Address{Source, false, nets})
	}
}

// bridge writes the filter of an appliance that bridges.
func (b *builder) bridge() {
	b.table.Family = Bridge
	b.table.About = append(b.table.About,
		"Join the two ports to one bridge, without addresses. The kernel must be able to",
		"track connections on bridges (nf_conntrack_bridge): without that no reply passes.")
	jumps := b.sides()
	b.chain("refused", "", nil).add(discard) // a bridge has no address to answer with
	c := b.chain("forward", "", &Hook{"filter", "forward", 0, true})
	c.add(accept, EtherType{Name: "arp"})
	c.add(discard, EtherType{Not: true, Name: "ip"})
	c.add(discard, Fragment{})
	everybody := netip.PrefixFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), 32)
	c.add(
		accept,
		Out(b.wans),
		udp(Source, 68),
		udp(Destination, 67),
		Address{Destination, false, []netip.Prefix{everybody}},
	)
	c.add(accept, In(b.wans), udp(Source, 67), udp(Destination, 68))
	c.opening()
	c.Rules = append(c.Rules, jumps...)
	c.add(do(Counter{}))
}

// sides makes a chain of rules for each way from a port of a bridge to another, and returns the jumps
// to them.
func (b *builder) sides() []Rule {
	var ports []*plan.Adapter
	for _, a := range b.machine.Adapters {
		if a.Role != lab.Manage && a.Role != lab.Unused {
			ports = append(ports, a)
		}
	}
	var jumps []Rule
	for _, in := range ports {
		for _, out := range ports {
			if in == out {
				continue
			}
			title := name(in) + "_to_" + name(out)
			c := b.chain(title, "", nil)
			for i := range b.machine.Rules {
				b.rule(c, i, &b.machine.Rules[i], in, out)
			}
			jumps = append(jumps, Rule{Matches: []Match{In{name(in)}, Out{name(out)}}, Actions: do(Jump(title))})
		}
	}
	return jumps
}
