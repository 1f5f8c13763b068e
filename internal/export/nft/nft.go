// Package nft writes an appliance as rules for the packet filter of Linux: what
// turns a general-purpose machine into it. The rules say what the rehearsal's
// appliance does: the first match decides, answers to what was allowed pass,
// the rest is dropped, packets must come from where their source lives, and
// fragments are not passed.
package nft

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Files gives, for every appliance, its rules and the kernel settings that go
// with them, in a folder of its name. device names an appliance's port on the
// machine; nil takes the likely names.
func Files(p *plan.Plan, device func(*plan.Adapter) string) []fileset.File {
	if device == nil {
		device = (*plan.Adapter).Linux
	}
	var out []fileset.File
	for _, m := range p.Appliances() {
		out = append(out, fileset.File{Name: m.Name + "/nftables.conf", Data: Rules(m, device, Planned)},
			fileset.File{Name: m.Name + "/90-" + m.Name + ".conf", Data: Settings(m, device)})
	}
	return out
}

// writer gathers the text.
type writer struct {
	bytes.Buffer
	m      *plan.Machine
	device func(*plan.Adapter) string
	// address gives what a guest's adapter has that something leads to, or the zero Addr.
	address func(*plan.Adapter) netip.Addr
	bridge  bool // a transparent appliance
}

func (w *writer) line(depth int, format string, args ...any) {
	w.WriteString(strings.Repeat("\t", depth))
	fmt.Fprintf(w, format, args...)
	w.WriteByte('\n')
}

// Settings gives the kernel settings, for sysctl.
func Settings(m *plan.Machine, device func(*plan.Adapter) string) []byte {
	forward := 1
	if m.Appliance.Kind == "transparent" {
		forward = 0
	}
	six := 0
	for _, a := range m.Adapters {
		if a.Address6.IsValid() {
			six = forward
		}
	}
	strict := 1
	if len(m.WAN()) > 1 {
		strict = 2 // answers come back by the WAN that they left by, whichever leads out now
	}
	out := fmt.Appendf(nil, "# Kernel settings of %s: load with sysctl --system.\n"+
		"net.ipv4.ip_forward = %d\nnet.ipv6.conf.all.forwarding = %d\n"+
		"net.ipv4.conf.all.rp_filter = %d\nnet.ipv4.conf.default.rp_filter = %d\n"+
		"net.ipv4.conf.all.accept_redirects = 0\nnet.ipv4.conf.all.send_redirects = 0\nnet.ipv4.conf.default.send_redirects = 0\n"+
		"net.ipv4.conf.all.arp_ignore = 1\nnet.ipv4.conf.all.arp_announce = 2\n"+
		"net.ipv4.conf.all.accept_source_route = 0\nnet.ipv6.conf.all.accept_redirects = 0\n"+
		"net.ipv6.conf.all.accept_source_route = 0\n", m.Name, forward, six, strict, strict)
	for _, a := range m.Adapters { // the kernel sends redirects when either says so, all or the device
		out = fmt.Appendf(out, "-net/ipv4/conf/%s/send_redirects = 0\n", device(a))
	}
	return out
}

// Planned is the address that a plan gives an adapter for sure: a lease that may be any
// of a pool is none.
func Planned(a *plan.Adapter) netip.Addr { return a.Address.Addr() }

// Rules gives the rules, for nft -f, with the devices of the appliance's adapters and
// the addresses of guests that something leads to; what leads to a guest without one
// (the zero Addr) is left out, with a comment.
func Rules(m *plan.Machine, device func(*plan.Adapter) string, address func(*plan.Adapter) netip.Addr) []byte {
	w := &writer{m: m, device: device, address: address, bridge: m.Appliance.Kind == "transparent"}
	w.line(0, "#!/usr/sbin/nft -f")
	w.line(0, "# Packet filter and translation of %s. The device names below are the likely", m.Name)
	w.line(0, "# ones: compare the hardware addresses and put the right ones in.")
	for _, a := range m.Adapters {
		w.line(0, "define port_%s = %q # adapter %d, %s, on %s", name(a), device(a), a.Number, a.MAC, a.Segment.Name)
	}
	w.line(0, "")
	if w.bridge {
		w.transparent()
		return w.Bytes()
	}
	w.line(0, "table inet bastion")
	w.line(0, "delete table inet bastion")
	w.line(0, "table inet bastion {")
	w.rules()
	w.early()
	w.forward()
	w.input()
	w.translation()
	w.line(0, "}")
	return w.Bytes()
}

// name gives a port's name as the language takes it.
func name(a *plan.Adapter) string { return strings.ReplaceAll(a.Name, "-", "_") }

func (w *writer) inside() []*plan.Adapter {
	var out []*plan.Adapter
	for _, a := range w.m.Adapters {
		if a.Role != lab.WAN {
			out = append(out, a)
		}
	}
	return out
}

func ports(list []*plan.Adapter) string {
	var out []string
	for _, a := range list {
		out = append(out, "$port_"+name(a))
	}
	return "{ " + strings.Join(out, ", ") + " }"
}

// rules writes the lab file's rules, which decide on what starts a
// conversation.
func (w *writer) rules() {
	w.line(1, "# The rules in order; the first that matches decides.")
	w.line(1, "chain rules {")
	for i := range w.m.Rules {
		w.rule(i, &w.m.Rules[i], plan.ByAddress)
	}
	w.line(1, "}")
	if w.m.Appliance.Kind == "transparent" {
		return
	}
	for _, c := range []struct {
		name    string
		fromWAN bool
	}{{"own", false}, {"own_outside", true}} {
		w.line(1, "# What they say of the appliance itself, which nobody means by outside.")
		w.line(1, "chain %s {", c.name)
		for i := range w.m.Rules {
			r := w.m.Rules[i]
			if r.To = itself(r.To, c.fromWAN); len(r.To) > 0 {
				w.rule(i, &r, plan.ByAddress)
			}
		}
		w.line(1, "}")
	}
}

// itself gives the parties of a rule that can mean the appliance itself: any, its
// name, or its addresses; from a WAN no network in which it has one.
func itself(list []plan.Match, fromWAN bool) []plan.Match {
	var out []plan.Match
	for _, m := range list {
		switch {
		case m.Any, m.Own:
			return []plan.Match{{Any: true}}
		case m.Outside:
		case fromWAN:
			m.Prefixes = slices.DeleteFunc(slices.Clone(m.Prefixes), func(p netip.Prefix) bool { return !p.IsSingleIP() })
			if len(m.Prefixes) > 0 {
				out = append(out, m)
			}
		default:
			out = append(out, m)
		}
	}
	return out
}

func (w *writer) rule(i int, r *plan.Rule, side plan.Side) {
	w.line(2, "# %d: %s", i+1, r.Text)
	action := map[lab.Action]string{lab.Allow: "accept", lab.Deny: "drop", lab.Refuse: "goto refused"}[r.Action]
	if r.Log {
		action = fmt.Sprintf("log prefix \"bastion %s rule %d: \" %s", w.m.Name, i+1, action)
	}
	for _, from := range w.parties(r.From, "saddr", side == plan.Inward, side != plan.ByAddress) {
		for _, to := range w.parties(r.To, "daddr", side == plan.Outward, side != plan.ByAddress) {
			if from.family != 0 && to.family != 0 && from.family != to.family {
				continue
			}
			for _, s := range services(r.Services) {
				w.line(2, "%s", strings.Join(strings.Fields(strings.Join([]string{from.text, to.text, s, "counter", action}, " ")), " "))
			}
		}
	}
}

type party struct {
	text   string
	family int // 4, 6, or 0 for both
}

// parties gives the conditions of which any may hold. sided tells that outside
// is a side of a bridge, and outside whether this is that side.
func (w *writer) parties(list []plan.Match, field string, outside, sided bool) []party {
	var out []party
	for _, m := range list {
		switch {
		case m.Any:
			return []party{{}}
		case m.Outside && sided:
			if outside {
				return []party{{}}
			}
		case m.Outside:
			four, six := w.networks()
			out = append(out, party{fmt.Sprintf("ip %s != { %s }", field, strings.Join(four, ", ")), 4})
			if len(six) > 0 {
				out = append(out, party{fmt.Sprintf("ip6 %s != { %s }", field, strings.Join(six, ", ")), 6})
			} else {
				out = append(out, party{"meta nfproto ipv6", 6})
			}
		}
		for _, p := range m.Prefixes {
			out = append(out, prefix(field, p))
		}
	}
	return out
}

func prefix(field string, p netip.Prefix) party {
	family := "ip"
	n := 4
	if p.Addr().Is6() {
		family, n = "ip6", 6
	}
	what := p.Masked().String()
	if p.IsSingleIP() {
		what = p.Addr().String()
	}
	return party{fmt.Sprintf("%s %s %s", family, field, what), n}
}

// networks gives the networks on the appliance's inside.
func (w *writer) networks() (four, six []string) {
	seen := map[netip.Prefix]bool{}
	for _, a := range w.inside() {
		if s := a.Segment; s.Subnet.IsValid() && !seen[s.Subnet] { // an unused port is on none
			seen[s.Subnet] = true
			four = append(four, s.Subnet.String())
			if s.Subnet6.IsValid() {
				six = append(six, s.Subnet6.String())
			}
		}
	}
	return four, six
}

func services(list []lab.Service) []string {
	var out []string
	for _, s := range list {
		port := ""
		if !s.AllPorts() {
			port = fmt.Sprint(s.From)
			if s.To != s.From {
				port = fmt.Sprintf("%d-%d", s.From, s.To)
			}
		}
		switch {
		case s.Proto == lab.Any:
			out = append(out, "")
		case s.Proto == lab.ICMP:
			out = append(out, "meta l4proto { icmp, icmpv6 }")
		case port == "":
			out = append(out, "meta l4proto "+string(s.Proto))
		default:
			out = append(out, string(s.Proto)+" dport "+port)
		}
	}
	return out
}

// early writes what is looked at before anything else.
func (w *writer) early() {
	w.line(1, "# What a rule refuses is told so.")
	w.line(1, "chain refused {")
	w.line(2, "meta l4proto tcp reject with tcp reset")
	w.line(2, "reject with icmpx admin-prohibited")
	w.line(1, "}")
	w.line(1, "# Fragments hide their ports: they are dropped before they are put together.")
	w.line(1, "chain fragments {")
	w.line(2, "type filter hook prerouting priority -450; policy accept;")
	w.line(2, "ip frag-off & 0x3fff != 0 counter drop")
	w.line(2, "exthdr frag exists counter drop")
	w.line(1, "}")
	w.line(1, "# Packets must come from where their source lives.")
	w.line(1, "chain origin {")
	w.line(2, "type filter hook prerouting priority -250; policy accept;")
	w.line(2, "udp sport 68 udp dport 67 accept")
	w.line(2, "ip6 saddr { ::, fe80::/10 } accept")
	wans := w.m.WAN()
	if len(wans) > 1 {
		w.line(2, "iifname %s fib saddr oifname %s accept # by whichever WAN it left", ports(wans), ports(wans))
	}
	w.line(2, "fib saddr . iif oif missing counter drop")
	for _, a := range w.m.Adapters {
		if a.Port != nil && a.Port.DropPrivate {
			w.line(2,
				"iifname $port_%s ip saddr { 10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, 100.64.0.0/10, 169.254.0.0/16, 127.0.0.0/8 } counter drop",
				name(a))
		}
	}
	w.line(1, "}")
}

// opening writes what may start a conversation at all.
func (w *writer) opening(depth int) {
	w.line(depth, "ct state established,related accept")
	w.line(depth, "ct state invalid counter drop")
	w.line(depth, "tcp flags & (fin | syn | rst | ack) != syn counter drop")
	w.line(depth, "meta l4proto icmp icmp type != echo-request counter drop")
	w.line(depth, "meta l4proto icmpv6 icmpv6 type != echo-request counter drop")
}

func (w *writer) forward() {
	w.line(1, "chain forward {")
	w.line(2, "type filter hook forward priority 0; policy drop;")
	for _, a := range w.m.Adapters { // back out where it came in: its answers must come here too
		w.line(2, "iifname $port_%s oifname $port_%s meta mark set meta mark | 1", name(a), name(a))
	}
	if w.sessions() {
		w.line(2, "tcp flags syn tcp option maxseg size set rt mtu")
	}
	w.opening(2)
	w.line(2, "jump rules")
	w.line(2, "meta mark & 2 == 2 accept # it is published")
	w.line(2, "counter # what no rule matches is dropped")
	w.line(1, "}")
}

// sessions tells whether a WAN is a session, with its smaller packets.
func (w *writer) sessions() bool {
	for _, a := range w.m.WAN() {
		if a.Port != nil && a.Port.Address.How == "pppoe" {
			return true
		}
	}
	return false
}

// input writes what reaches the appliance itself.
func (w *writer) input() {
	w.line(1, "chain input {")
	w.line(2, "type filter hook input priority 0; policy drop;")
	w.line(2, "iif lo accept")
	for _, a := range w.m.Adapters {
		if a.Leases != nil {
			w.line(2, "iifname $port_%s udp sport 68 udp dport 67 accept", name(a))
		}
	}
	w.line(2, "icmpv6 type { nd-router-solicit, nd-router-advert, nd-neighbor-solicit, nd-neighbor-advert } ip6 hoplimit 255 accept")
	w.line(2, "ip6 saddr fe80::/10 udp dport 547 accept")
	w.opening(2)
	inside := w.inside()
	if len(inside) > 0 {
		w.line(2, "iifname %s jump own", ports(inside))
	}
	if wans := w.m.WAN(); len(wans) > 0 {
		w.line(2, "iifname %s jump own_outside", ports(wans))
	}
	for _, a := range w.m.Adapters {
		if a.Admin == nil {
			continue
		}
		from := append([]*plan.Adapter{}, inside...)
		if a.Role == lab.WAN {
			from = append(from, a)
		}
		for _, own := range []netip.Prefix{a.Address, a.Address6} {
			if own.IsValid() {
				for _, s := range a.Admin {
					w.line(2, "iifname %s %s tcp dport %d accept # admin page", ports(from),
						prefix("daddr", netip.PrefixFrom(own.Addr(), own.Addr().BitLen())).text, s.Port)
				}
			}
		}
	}
	if len(inside) > 0 {
		w.line(2, "iifname %s meta l4proto { icmp, icmpv6 } accept", ports(inside))
		w.line(2, "iifname %s meta l4proto { tcp, udp } th dport 53 accept", ports(inside))
	}
	w.line(2, "counter")
	w.line(1, "}")
}

func (w *writer) translation() {
	wans := w.m.WAN()
	var own []string // the appliance's inside addresses, which are not published at
	for _, a := range w.inside() {
		if a.Address.IsValid() {
			own = append(own, a.Address.Addr().String())
		}
	}
	w.line(1, "chain incoming {")
	w.line(2, "type nat hook prerouting priority -100; policy accept;")
	for _, v := range w.m.Publishes {
		to := w.address(v.To)
		if !to.IsValid() {
			w.line(2, "# %s/%d cannot be published: %s has no fixed address", v.Proto, v.Port, v.To.Machine.Name)
			continue
		}
		not := ""
		if len(own) > 0 {
			not = "ip daddr != { " + strings.Join(own, ", ") + " } "
		}
		w.line(2, "%sfib daddr type local %s dport %d meta mark set 2 dnat ip to %s:%d", not, v.Proto, v.Port, to, v.Target)
	}
	for _, v := range w.m.OneToOne {
		if to := w.address(v.To); to.IsValid() {
			w.line(2, "# the WAN port must have the address %s as well", v.Outside)
			if home := v.To.Segment.Port; home != nil && home.Machine == w.m { // neighbors need no rule
				w.line(2, "iifname $port_%s ip daddr %s meta mark set 2 dnat ip to %s", name(home), v.Outside, to)
			}
			w.line(2, "ip daddr %s dnat ip to %s", v.Outside, to)
		}
	}
	w.line(1, "}")
	w.line(1, "chain outgoing {")
	w.line(2, "type nat hook postrouting priority 100; policy accept;")
	w.line(2, "meta mark & 1 == 1 masquerade")
	if len(wans) > 0 {
		for _, v := range w.m.OneToOne {
			if to := w.address(v.To); to.IsValid() {
				w.line(2, "oifname %s ip saddr %s snat ip to %s", ports(wans), to, v.Outside)
			}
		}
		var nets []string
		for _, s := range w.m.Masq {
			nets = append(nets, s.Subnet.String())
		}
		if len(nets) > 0 {
			w.line(2, "oifname %s ip saddr { %s } masquerade", ports(wans), strings.Join(nets, ", "))
		}
	}
	w.line(1, "}")
}

// transparent writes the filter of an appliance that bridges.
func (w *writer) transparent() {
	wans, inside := w.m.WAN(), []*plan.Adapter{}
	for _, a := range w.inside() {
		if a.Role != lab.Manage {
			inside = append(inside, a)
		}
	}
	w.line(0, "# Join the two ports to one bridge, without addresses. The kernel must be able to")
	w.line(0, "# track connections on bridges (nf_conntrack_bridge): without that no answer passes.")
	w.line(0, "table bridge bastion")
	w.line(0, "delete table bridge bastion")
	w.line(0, "table bridge bastion {")
	for _, side := range []plan.Side{plan.Outward, plan.Inward} {
		w.line(1, "chain %s {", map[plan.Side]string{plan.Outward: "outward", plan.Inward: "inward"}[side])
		for i := range w.m.Rules {
			w.rule(i, &w.m.Rules[i], side)
		}
		w.line(1, "}")
	}
	w.line(1, "chain refused {") // a bridge has no address to answer with
	w.line(2, "counter drop")
	w.line(1, "}")
	w.line(1, "chain forward {")
	w.line(2, "type filter hook forward priority 0; policy drop;")
	w.line(2, "ether type arp accept")
	w.line(2, "ether type != ip counter drop")
	w.line(2, "ip frag-off & 0x3fff != 0 counter drop")
	w.line(2, "oifname %s udp sport 68 udp dport 67 ip daddr 255.255.255.255 accept", ports(wans))
	w.line(2, "iifname %s udp sport 67 udp dport 68 accept", ports(wans))
	w.opening(2)
	w.line(2, "iifname %s oifname %s jump outward", ports(inside), ports(wans))
	w.line(2, "iifname %s oifname %s jump inward", ports(wans), ports(inside))
	w.line(2, "counter")
	w.line(1, "}")
	w.line(0, "}")
}
