package ruleset

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"

	"openbastion/internal/model/lab"
)

// Text returns the table as a script for nft -f, which replaces the table of its name.
func (t *Table) Text() []byte {
	var b bytes.Buffer
	line := func(depth int, format string, args ...any) {
		b.WriteString(strings.Repeat("\t", depth))
		fmt.Fprintf(&b, format, args...)
		b.WriteByte('\n')
	}
	line(0, "#!/usr/sbin/nft -f")
	for _, text := range t.About {
		line(0, "# %s", text)
	}
	for _, p := range t.Ports {
		line(0, "define port_%s = %q # %s", p.Name, p.Device, p.About)
	}
	line(0, "")
	line(0, "table %s %s", t.Family, t.Name)
	line(0, "delete table %s %s", t.Family, t.Name)
	line(0, "table %s %s {", t.Family, t.Name)
	for _, c := range t.Chains {
		if c.About != "" {
			line(1, "# %s", c.About)
		}
		line(1, "chain %s {", c.Name)
		if h := c.Hook; h != nil {
			policy := "accept"
			if h.Drop {
				policy = "drop"
			}
			line(2, "type %s hook %s priority %d; policy %s;", h.Type, h.At, h.Priority, policy)
		}
		title := ""
		for _, r := range c.Rules {
			if r.Title != "" && r.Title != title {
				line(2, "# %s", r.Title)
			}
			if title = r.Title; len(r.Matches)+len(r.Actions) > 0 || r.Note != "" {
				line(2, "%s", r.text())
			}
		}
		line(1, "}")
	}
	line(0, "}")
	return b.Bytes()
}

func (r Rule) text() string {
	var parts []string
	for _, m := range r.Matches {
		parts = append(parts, matchText(m))
	}
	for _, a := range r.Actions {
		parts = append(parts, actionText(a))
	}
	if r.Note != "" {
		parts = append(parts, "# "+r.Note)
	}
	return strings.Join(parts, " ")
}

// several writes one value, or several as a set.
func several(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return "{ " + strings.Join(list, ", ") + " }"
}

func ports(names []string) string {
	var out []string
	for _, n := range names {
		out = append(out, "$port_"+n)
	}
	return several(out)
}

// either returns the second of two texts where a condition holds, else the first.
func either(second bool, texts ...string) string {
	if second {
		return texts[1]
	}
	return texts[0]
}

func matchText(m Match) string {
	switch m := m.(type) {
	case In:
		return "iifname " + ports(m)
	case Out:
		return "oifname " + ports(m)
	case Loopback:
		return "iif lo"
	case Address:
		return m.text()
	case IPv6:
		return "meta nfproto ipv6"
	case Proto:
		return "meta l4proto " + several(m.names())
	case Ports:
		return m.text()
	case Message:
		return either(m.IPv6, "meta l4proto icmp icmp type ", "meta l4proto icmpv6 icmpv6 type ") + either(m.Not, "", "!= ") + several(m.Types)
	case HopLimit:
		return fmt.Sprintf("ip6 hoplimit %d", m)
	case State:
		return "ct state " + strings.Join(m, ",")
	case NotOpening:
		return "tcp flags & (fin | syn | rst | ack) != syn"
	case Fragment:
		return "ip frag-off & 0x3fff != 0"
	case Fragment6:
		return "exthdr frag exists"
	case Stray:
		return "fib saddr . iif oif missing"
	case RouteBack:
		return "fib saddr oifname " + ports(m)
	case ToSelf:
		return "fib daddr type local"
	case Mark:
		return fmt.Sprintf("meta mark & %d == %d", m, m)
	case EtherType:
		return "ether type " + either(m.Not, "", "!= ") + m.Name
	case TCPSYN:
		return "tcp flags syn"
	}
	panic(fmt.Sprintf("ruleset: no text for the match %T", m))
}

func actionText(a Action) string {
	switch a := a.(type) {
	case Counter:
		return "counter"
	case Log:
		return fmt.Sprintf("log prefix %q", string(a))
	case Accept:
		return "accept"
	case Drop:
		return "drop"
	case Jump:
		return "jump " + string(a)
	case Goto:
		return "goto " + string(a)
	case Reset:
		return "reject with tcp reset"
	case Prohibited:
		return "reject with icmpx admin-prohibited"
	case SetMark:
		return fmt.Sprintf("meta mark set %d", a)
	case AddMark:
		return fmt.Sprintf("meta mark set meta mark | %d", a)
	case Masquerade:
		return "masquerade"
	case SNAT:
		return "snat ip to " + netip.Addr(a).String()
	case DNAT:
		if at := netip.AddrPort(a); at.Port() != 0 {
			return "dnat ip to " + at.String()
		}
		return "dnat ip to " + netip.AddrPort(a).Addr().String()
	case ClampMSS:
		return "tcp option maxseg size set rt mtu"
	}
	panic(fmt.Sprintf("ruleset: no text for the action %T", a))
}

func (m Address) text() string {
	var list []string
	family := "ip"
	for _, p := range m.Prefixes {
		if p.Addr().Is6() {
			family = "ip6"
		}
		if p.IsSingleIP() {
			list = append(list, p.Addr().String())
		} else {
			list = append(list, p.String())
		}
	}
	return family + either(bool(m.Of), " saddr ", " daddr ") + either(m.Not, "", "!= ") + several(list)
}

// names returns the protocols as the packet filter names them.
func (m Proto) names() []string {
	var out []string
	for _, p := range m {
		if out = append(out, string(p)); p == lab.ICMP {
			out = append(out, "icmpv6")
		}
	}
	return out
}

func (m Ports) text() string {
	proto := string(m.Proto)
	if m.Proto == lab.Any {
		proto = "th"
	}
	text := fmt.Sprintf("%s%s %d", proto, either(bool(m.Of), " sport", " dport"), m.From)
	if m.To != m.From {
		text += fmt.Sprintf("-%d", m.To)
	}
	return text
}
