// Package layers tells a frame as people read it: layer by layer, each with
// the fields that matter (IEEE 802.3, RFC 826, 791, 8200, 792, 4443, 768,
// 9293, 2131, 1035, 2516).
package dissect

import (
	"fmt"
	"net/netip"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/mdlayher/ndp"
	"golang.org/x/net/dns/dnsmessage"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
)

// Field is a field's name and its value in words.
type Field struct{ Name, Value string }

// Layer is one protocol's part of a frame.
type Layer struct {
	Name   string
	Fields []Field
}

func (l *Layer) add(name, format string, args ...any) {
	l.Fields = append(l.Fields, Field{name, fmt.Sprintf(format, args...)})
}

// Of takes a frame apart. What cannot be read ends the list with a layer named
// "data" that says why.
func Of(frame []byte) []Layer {
	p, err := packet.Decode(frame)
	if len(frame) < 14 {
		return []Layer{unread(frame, err)}
	}
	link := Layer{Name: "Ethernet"}
	link.add("from", "%s", p.From)
	link.add("to", "%s%s", p.To, group(p.To))
	if p.Tag != 0 {
		link.add("tag", "%d", p.Tag)
	}
	link.add("type", "%#04x %s", p.Type, typeNames[p.Type])
	out := []Layer{link}
	switch {
	case p.IP():
		return append(out, ip(p)...)
	case p.Type == packet.TypeARP && header.ARP(p.Body).Valid():
		return append(out, arp(header.ARP(p.Body)))
	}
	return append(out, unread(p.Body, err))
}

var typeNames = map[uint16]string{packet.TypeIPv4: "IPv4", packet.TypeARP: "ARP", packet.TypeIPv6: "IPv6",
	packet.TypePPP: "PPPoE session", 0x8863: "PPPoE discovery", packet.TypeVLAN: "another tag"}

func group(a mac.Address) string {
	switch {
	case a == mac.Broadcast:
		return " (everybody)"
	case a[0]&1 != 0:
		return " (a group)"
	}
	return ""
}

func unread(data []byte, err error) Layer {
	l := Layer{Name: "data"}
	l.add("length", "%d bytes", len(data))
	if err != nil {
		l.add("not read", "%s", err)
	}
	return l
}

func arp(a header.ARP) Layer {
	l := Layer{Name: "ARP"}
	sender, target := addr4(a.SenderAddr()), addr4(a.TargetAddr())
	switch a.Op() {
	case header.ARPRequest:
		l.add("asks", "who has %s?", target)
		l.add("for", "%s at %s", sender, mac.Address(a.SenderMAC()))
	default:
		l.add("says", "%s is at %s", sender, mac.Address(a.SenderMAC()))
		l.add("to", "%s at %s", target, mac.Address(a.TargetMAC()))
	}
	return l
}

func addr4(b []byte) netip.Addr { return netip.AddrFrom4([4]byte(b)) }

func ip(p *packet.Packet) []Layer {
	l := Layer{Name: "IPv4"}
	if p.IPv6 {
		l.Name = "IPv6"
	}
	l.add("source", "%s", p.Source)
	l.add("destination", "%s", p.Destination)
	l.add("hops left", "%d", p.TTL)
	l.add("protocol", "%d %s", p.Proto, protoNames[p.Proto])
	if p.Fragment && p.IPv4 {
		h := header.IPv4(p.Body)
		l.add("fragment", "from byte %d, more to come: %t", h.FragmentOffset()*8, h.More())
	}
	out := []Layer{l}
	if p.Fragment {
		return append(out, unread(p.Data, nil))
	}
	switch {
	case p.Proto == packet.ICMP && len(p.Data) >= header.ICMPSize:
		out = append(out, icmp(p.Data))
	case p.Proto == packet.ICMP6 && len(p.Data) >= header.ICMPSize:
		out = append(out, icmp6(p.Data))
	case p.Proto == packet.UDP && len(p.Data) >= header.UDPSize:
		out = append(out, udp(p.Data)...)
	case p.Proto == packet.TCP && len(p.Data) >= header.TCPSize:
		out = append(out, tcp(p)...)
	default:
		out = append(out, unread(p.Data, nil))
	}
	return out
}

var protoNames = map[uint8]string{
	packet.ICMP: "ICMP",
	packet.TCP:  "TCP",
	packet.UDP:  "UDP",
	41:          "IPv6 in IPv4",
	47:          "GRE",
	58:          "ICMPv6",
}

func icmp(data []byte) Layer {
	h := header.ICMP(data)
	l := Layer{Name: "ICMP"}
	what := map[uint8]string{0: "echo reply", 3: "destination unreachable", 5: "redirect", 8: "echo request", 11: "time exceeded"}[h.Type()]
	if what == "" {
		what = "message"
	}
	l.add("type", "%d %s, code %d", h.Type(), what, data[1])
	if h.Type() == header.EchoReply || h.Type() == 8 {
		l.add("identifier", "%d, sequence %d", h.Ident(), h.Sequence())
	} else if source, destination, proto, quoted, ok := packet.Quoted(data); ok {
		l.add("about", "%s > %s, %s%s", source, destination, protoNames[proto], quotedPorts(proto, quoted))
	}
	return l
}

// icmp6 returns an ICMPv6 message, neighbor discovery among them (RFC 4861).
func icmp6(data []byte) Layer {
	l := Layer{Name: "ICMPv6"}
	add := func(what string) { l.add("type", "%d %s", data[0], what) }
	switch data[0] {
	case packet.Echo6, packet.EchoReply6:
		add(map[uint8]string{packet.Echo6: "echo request", packet.EchoReply6: "echo reply"}[data[0]])
		l.add("identifier", "%d, sequence %d", header.ICMP(data).Ident(), header.ICMP(data).Sequence())
		return l
	case 1, packet.TimeExceeded6:
		add(map[uint8]string{1: "destination unreachable", packet.TimeExceeded6: "time exceeded"}[data[0]])
		if source, destination, proto, quoted, ok := packet.Quoted(data); ok {
			l.add("about", "%s > %s, %s%s", source, destination, protoNames[proto], quotedPorts(proto, quoted))
		}
		return l
	}
	m, err := ndp.ParseMessage(data)
	if err != nil {
		add("message")
		return l
	}
	var options []ndp.Option
	switch m := m.(type) {
	case *ndp.NeighborSolicitation:
		add("neighbor solicitation")
		l.add("asks", "who has %s?", m.TargetAddress)
		options = m.Options
	case *ndp.NeighborAdvertisement:
		add("neighbor advertisement")
		l.add("says", "%s is here", m.TargetAddress)
		options = m.Options
	case *ndp.RouterSolicitation:
		add("router solicitation")
		options = m.Options
	case *ndp.RouterAdvertisement:
		add("router advertisement")
		l.add("router for", "%s", m.RouterLifetime)
		options = m.Options
	}
	for _, o := range options {
		switch o := o.(type) {
		case *ndp.LinkLayerAddress:
			l.add("MAC address", "%s", o.Addr)
		case *ndp.PrefixInformation:
			l.add("prefix", "%s/%d for %s", o.Prefix, o.PrefixLength, o.ValidLifetime)
		}
	}
	return l
}

func quotedPorts(proto uint8, data []byte) string {
	if from, to, ok := packet.Ports(proto, data); ok && proto != packet.ICMP {
		return fmt.Sprintf(" port %d to %d", from, to)
	}
	return ""
}

func udp(data []byte) []Layer {
	h := header.UDP(data)
	l := Layer{Name: "UDP"}
	l.add("ports", "%d to %d", h.SourcePort(), h.DestinationPort())
	l.add("length", "%d bytes", h.Length())
	out, body := []Layer{l}, data[header.UDPSize:]
	ports := [2]uint16{h.SourcePort(), h.DestinationPort()}
	for _, p := range ports {
		switch p {
		case dhcp.ServerPort:
			if m, err := dhcpv4.FromBytes(body); err == nil {
				return append(out, dhcpLayer(m))
			}
		case dns.Port:
			var m dnsmessage.Message
			if m.Unpack(body) == nil {
				return append(out, dnsLayer(m))
			}
		}
	}
	if len(body) > 0 {
		out = append(out, text(body))
	}
	return out
}

func dhcpLayer(m *dhcpv4.DHCPv4) Layer {
	l := Layer{Name: "DHCP"}
	l.add("message", "%s", strings.ToLower(m.MessageType().String()))
	l.add("client", "%s", m.ClientHWAddr)
	for _, f := range []struct {
		name string
		text string
	}{
		{"offers", addrText(m.YourIPAddr.String())}, {"has", addrText(m.ClientIPAddr.String())},
		{"queries", addrText(m.RequestedIPAddress().String())}, {"server", addrText(m.ServerIdentifier().String())},
	} {
		if f.text != "" {
			l.add(f.name, "%s", f.text)
		}
	}
	if mask := m.SubnetMask(); mask != nil {
		ones, _ := mask.Size()
		l.add("prefix length", "%d", ones)
	}
	if r := m.Router(); len(r) > 0 {
		l.add("router", "%s", r[0])
	}
	if d := m.DNS(); len(d) > 0 {
		var list []string
		for _, a := range d {
			list = append(list, a.String())
		}
		l.add("resolvers", "%s", strings.Join(list, ", "))
	}
	if d := m.DomainName(); d != "" {
		l.add("domain", "%s", d)
	}
	if t := m.IPAddressLeaseTime(0); t > 0 {
		l.add("for", "%s", t)
	}
	return l
}

func addrText(s string) string {
	if s == "0.0.0.0" || s == "<nil>" {
		return ""
	}
	return s
}

func dnsLayer(m dnsmessage.Message) Layer {
	l := Layer{Name: "DNS"}
	kind := "question"
	if m.Response {
		kind = "answer, " + strings.TrimPrefix(m.RCode.String(), "RCode")
	}
	l.add("message", "%s, number %d", kind, m.ID)
	for _, q := range m.Questions {
		l.add("asks", "%s %s", q.Name, strings.TrimPrefix(q.Type.String(), "Type"))
	}
	for _, a := range m.Answers {
		switch r := a.Body.(type) {
		case *dnsmessage.AResource:
			l.add("says", "%s is %s", a.Header.Name, addr4(r.A[:]))
		default:
			l.add("says", "%s %s", a.Header.Name, strings.TrimPrefix(a.Header.Type.String(), "Type"))
		}
	}
	return l
}

func tcp(p *packet.Packet) []Layer {
	f, body := packet.ReadSegment(p)
	l := Layer{Name: "TCP"}
	l.add("ports", "%d to %d", f.Source, f.Destination)
	var flags []string
	for _, x := range []struct {
		bit  uint8
		name string
	}{{packet.SYN, "SYN"}, {packet.ACK, "ACK"}, {packet.PSH, "PSH"}, {packet.FIN, "FIN"}, {packet.RST, "RST"}} {
		if f.Flags&x.bit != 0 {
			flags = append(flags, x.name)
		}
	}
	l.add("flags", "%s", strings.Join(flags, " "))
	l.add("sequence", "%d, acknowledges %d, window %d", f.Seq, f.Ack, f.Window)
	if f.MSS != 0 {
		l.add("largest segment", "%d bytes", f.MSS)
	}
	out := []Layer{l}
	if len(body) > 0 {
		out = append(out, text(body))
	}
	return out
}

// text shows what can be read of data.
func text(data []byte) Layer {
	l := Layer{Name: "data"}
	l.add("length", "%d bytes", len(data))
	if len(data) > 160 {
		data = data[:160]
	}
	readable := strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' || r > '~' {
			return '.'
		}
		return r
	}, strings.ReplaceAll(string(data), "\r\n", "\n"))
	l.add("text", "%s", readable)
	return l
}

// Dump returns a frame as rows of sixteen bytes: offset, hexadecimal, text.
func Dump(frame []byte) string {
	var b strings.Builder
	for at := 0; at < len(frame); at += 16 {
		row := frame[at:min(at+16, len(frame))]
		fmt.Fprintf(&b, "%04x  ", at)
		for i := range 16 {
			if i < len(row) {
				fmt.Fprintf(&b, "%02x ", row[i])
			} else {
				b.WriteString("   ")
			}
		}
		b.WriteByte(' ')
		for _, c := range row {
			if c < ' ' || c > '~' {
				c = '.'
			}
			b.WriteByte(c)
		}
		b.WriteByte('\n')
	}
	return b.String()
}
