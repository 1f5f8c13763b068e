package listing

import (
	"net/netip"
	"strings"
)

// Shown is what a machine shows of itself: its interfaces, next hops,
// resolvers, and where its lease came from.
type Shown struct {
	Interfaces  []Interface
	Gateways    []netip.Addr
	Resolvers   []netip.Addr
	LeaseServer netip.Addr // invalid when it is not shown
}

// ReadShown reads the output of the usual commands of Linux, BSD and desktop
// systems, one after another in any order: addresses, routes, resolvers.
func ReadShown(text string) Shown {
	text = text[:min(len(text), MaxSize)]
	var s Shown
	var rest []string
	var desk *Interface
	last := "" // the label that lines without one go on with
	for n, line := range strings.Split(text, "\n") {
		line = strings.TrimRight(stripColor(line), "\r \t")
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		label, value := labelled(line)
		switch {
		case label == "" && last == "dns servers" && len(words) == 1 && addr(words[0]).IsValid():
			s.resolver(words[0])
			continue
		case strings.HasPrefix(strings.ToLower(words[0]), "nameserver") && len(words) > 1:
			s.resolver(words[1])
			continue
		case words[0] == "default" && len(words) > 2 && words[1] == "via":
			s.gateway(words[2])
			continue
		case (words[0] == "default" || words[0] == "0.0.0.0") && len(words) > 1 && addr(words[1]).IsValid() && addr(words[1]) != zero:
			s.gateway(words[1])
			continue
		case strings.Contains(strings.ToLower(line), "adapter ") && strings.HasSuffix(line, ":"):
			s.Interfaces = append(s.Interfaces, Interface{Device: strings.TrimSuffix(line, ":"), Line: n + 1})
			desk = &s.Interfaces[len(s.Interfaces)-1]
			continue
		}
		switch last = label; label {
		case "default gateway":
			s.gateway(value)
		case "dhcp server", "dhcp-server-identifier", "server_name", "dhcp_server_identifier":
			s.LeaseServer = addr(value)
		case "dns servers", "dns server", "current dns server":
			s.resolver(value)
		case "physical address":
			if d := digits(value); desk != nil && len(d) == 12 {
				desk.Tail = d
			}
		case "ipv4 address", "ip address", "autoconfiguration ipv4 address":
			if a := addr(value); desk != nil && a.Is4() {
				desk.Addresses = append(desk.Addresses, netip.PrefixFrom(a, 32))
			}
		case "subnet mask":
			if desk != nil && len(desk.Addresses) > 0 {
				p := &desk.Addresses[len(desk.Addresses)-1]
				*p = netip.PrefixFrom(p.Addr(), maskBits(value))
			}
		case "media state":
			if desk != nil && strings.Contains(strings.ToLower(value), "disconnected") {
				desk.Link = LinkDown
			}
		default:
			rest = append(rest, line)
		}
	}
	if desk == nil {
		s.Interfaces = Read(strings.Join(rest, "\n"))
	}
	return s
}

var zero = netip.AddrFrom4([4]byte{})

// labelled takes a line such as "Default Gateway . . . : 10.0.0.1" apart.
func labelled(line string) (label, value string) {
	l, v, ok := strings.Cut(line, " : ")
	if !ok {
		if l, v, ok = strings.Cut(line, ": "); !ok {
			return "", ""
		}
	}
	return strings.ToLower(strings.TrimSpace(strings.TrimRight(strings.TrimSpace(l), ". "))), strings.TrimSpace(v)
}

// addr reads an address with what systems write behind it, such as (Preferred).
func addr(text string) netip.Addr {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "(")
	text, _, _ = strings.Cut(text, "%")
	a, err := netip.ParseAddr(strings.TrimSpace(text))
	if err != nil || !a.Is4() {
		return netip.Addr{}
	}
	return a
}

func (s *Shown) gateway(text string) {
	if a := addr(text); a.IsValid() && len(s.Gateways) < 64 {
		s.Gateways = append(s.Gateways, a)
	}
}

func (s *Shown) resolver(text string) {
	for _, w := range strings.Fields(text) {
		if a := addr(w); a.IsValid() && len(s.Resolvers) < 64 {
			s.Resolvers = append(s.Resolvers, a)
		}
	}
}
