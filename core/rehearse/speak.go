package rehearse

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/net/dns/dnsmessage"

	"openbastion/core/lab"
	"openbastion/core/names"
	"openbastion/core/node"
	"openbastion/core/plan"
)

// What probes by UDP say and what stations answer: their name and the source
// they saw. On ports where a protocol lives it is that protocol, so that an
// analyser can read it.

// asking is what a probe says.
const asking = "open-bastion-asks"

// ask gives the datagram that a probe sends to a port.
func ask(port uint16) []byte { return say(port, asking) }

// say puts a word of at most 32 letters and hyphens into a datagram for a port.
func say(port uint16, word string) []byte {
	switch port {
	case names.Port:
		b, err := names.Question(0xb0b0, word+".example")
		if err == nil {
			return b
		}
	case 123: // NTP, RFC 5905: version 4, client; the word is in the times
		b := make([]byte, 48)
		b[0] = 0x23
		copy(b[16:], word)
		return b
	case 161: // SNMP, RFC 1157: get sysDescr.0; the word is the community
		b := []byte{0x30, byte(32 + len(word)), 2, 1, 0, 4, byte(len(word))}
		b = append(b, word...)
		return append(b, "\xa0\x19\x02\x01\x01\x02\x01\x00\x02\x01\x00\x30\x0e\x30\x0c\x06\x08\x2b\x06\x01\x02\x01\x01\x01\x00\x05\x00"...)
	}
	return []byte(word + "\n")
}

// answer makes a node answer every question and page with its name and the
// source it saw. It answers nothing else, or two such nodes would go on
// answering each other for ever.
func answer(n *node.Node) {
	n.AnyUDP = func(d node.Datagram) {
		port := d.Local.Port()
		if d.Error == "" && string(d.Data) == string(ask(port)) {
			n.SendUDP(n.Now(), port, d.Remote, reply(port, fmt.Sprintf("%s %s\n", n.Name, d.Remote)))
		}
	}
	n.AnyTCP = node.Pages(func(client netip.AddrPort) string { return fmt.Sprintf("%s %s\n", n.Name, client) })
}

// reply puts a text into the form of the port's protocol.
func reply(port uint16, text string) []byte {
	if port != names.Port {
		return []byte(text)
	}
	name := dnsmessage.MustNewName(asking + ".example.")
	m := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: 0xb0b0, Response: true, RecursionDesired: true, Authoritative: true},
		Questions: []dnsmessage.Question{{Name: name, Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET}},
		Additionals: []dnsmessage.Resource{{
			Header: dnsmessage.ResourceHeader{Name: name, Class: dnsmessage.ClassINET},
			Body:   &dnsmessage.TXTResource{TXT: []string{text}},
		}},
	}
	b, _ := m.Pack() // constant but for a short text
	return b
}

// introduced reads what a station answered: its name and the source it saw.
func introduced(port uint16, data string) (who string, source netip.Addr) {
	if port == names.Port {
		var m dnsmessage.Message
		if m.Unpack([]byte(data)) != nil {
			return "", source
		}
		for _, r := range m.Additionals {
			if txt, ok := r.Body.(*dnsmessage.TXTResource); ok && len(txt.TXT) > 0 {
				data = txt.TXT[0]
			}
		}
	}
	who, rest, _ := strings.Cut(strings.TrimSpace(data), " ")
	ap, err := netip.ParseAddrPort(rest)
	if err != nil {
		return "", netip.Addr{}
	}
	return who, ap.Addr()
}

// usual is what hostile packets are by default.
var usual = []lab.Service{{Proto: lab.ICMP}, {Proto: lab.UDP, From: 7, To: 7}, {Proto: lab.TCP, From: 80, To: 80}}

// maxNamed bounds the services of rules that a hostile guest tries.
const maxNamed = 64

// allowedByName gives the services that rules let pass: a hostile guest knows
// them.
func allowedByName(p *plan.Plan) []lab.Service {
	var list []lab.Service
	for _, m := range p.Appliances() {
		for i := range m.Rules {
			for _, s := range m.Rules[i].Services {
				if len(list) == maxNamed {
					return list
				}
				s.To = s.From
				if m.Rules[i].Action == lab.Allow && s.From != 0 && !slices.Contains(usual, s) && !slices.Contains(list, s) {
					list = append(list, s)
				}
			}
		}
	}
	return list
}

func shownAs(s lab.Service) string {
	if s.Proto == lab.ICMP {
		return "ping"
	}
	return s.String()
}
