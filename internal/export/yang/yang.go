// Package yang writes appliances as configuration after the IETF's models, as
// JSON (RFC 7951): interfaces and addressing (RFC 8343, RFC 8344), translation
// (RFC 8512) and access lists (RFC 8519).
package yang

import (
	"encoding/json"
	"fmt"
	"net/netip"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

type address struct {
	IP     netip.Addr `json:"ip"`
	Length int        `json:"prefix-length"`
}

type family struct {
	Enabled   bool      `json:"enabled"`
	Addresses []address `json:"address,omitempty"`
}

// tagged is the encapsulation of a VLAN (draft-ietf-netmod-sub-intf-vlan-model).
type tagged struct {
	VLAN struct {
		Outer struct {
			Type string `json:"tag-type"`
			ID   int    `json:"vlan-id"`
		} `json:"outer-tag"`
	} `json:"ietf-if-vlan-encapsulation:dot1q-vlan"`
}

type iface struct {
	Name        string  `json:"name"`
	Description string  `json:"description"`
	Type        string  `json:"type"`
	Enabled     bool    `json:"enabled"`
	IPv4        *family `json:"ietf-ip:ipv4,omitempty"`
	IPv6        *family `json:"ietf-ip:ipv6,omitempty"`
	Parent      string  `json:"ietf-if-extensions:parent-interface,omitempty"`
	Tag         *tagged `json:"ietf-if-extensions:encapsulation,omitempty"`
}

type portRange struct {
	Start uint16 `json:"start-port-number"`
	End   uint16 `json:"end-port-number,omitempty"`
}

type mapping struct {
	Index        int        `json:"index"`
	Type         string     `json:"type"`
	Proto        int        `json:"transport-protocol,omitempty"`
	Internal     string     `json:"internal-src-address"`
	InternalPort *portRange `json:"internal-src-port,omitempty"`
	External     string     `json:"external-src-address,omitempty"`
	ExternalPort *portRange `json:"external-src-port,omitempty"`
}

type poolEntry struct {
	ID   int          `json:"pool-id"`
	Pool netip.Prefix `json:"external-ip-pool"`
}

type subscriber struct {
	ID     int          `json:"match-id"`
	Subnet netip.Prefix `json:"subnet"`
}

type policy struct {
	ID      int          `json:"id"`
	Pools   []poolEntry  `json:"external-ip-address-pool,omitempty"`
	Matches []subscriber `json:"subscriber-match,omitempty"`
}

type table struct {
	Entries []mapping `json:"mapping-entry"`
}

type instance struct {
	ID       int      `json:"id"`
	Name     string   `json:"name"`
	Enable   bool     `json:"enable"`
	Policies []policy `json:"policy,omitempty"`
	Table    *table   `json:"mapping-table,omitempty"`
}

type ports struct {
	Operator string `json:"operator,omitempty"`
	Port     uint16 `json:"port,omitempty"`
	Lower    uint16 `json:"lower-port,omitempty"`
	Upper    uint16 `json:"upper-port,omitempty"`
}

type transport struct {
	Ports *ports `json:"destination-port,omitempty"`
}

type ipMatch struct {
	Protocol int    `json:"protocol,omitempty"`
	To4      string `json:"destination-ipv4-network,omitempty"`
	From4    string `json:"source-ipv4-network,omitempty"`
	To6      string `json:"destination-ipv6-network,omitempty"`
	From6    string `json:"source-ipv6-network,omitempty"`
}

type matches struct {
	IPv4 *ipMatch   `json:"ipv4,omitempty"`
	IPv6 *ipMatch   `json:"ipv6,omitempty"`
	TCP  *transport `json:"tcp,omitempty"`
	UDP  *transport `json:"udp,omitempty"`
	Out  string     `json:"egress-interface,omitempty"`
	In   string     `json:"ingress-interface,omitempty"`
}

type actions struct {
	Forwarding string `json:"forwarding"`
	Logging    string `json:"logging,omitempty"`
}

type entry struct {
	Name    string   `json:"name"`
	Matches *matches `json:"matches,omitempty"`
	Actions actions  `json:"actions"`
}

type list struct {
	Name    string             `json:"name"`
	Type    string             `json:"type"`
	Entries map[string][]entry `json:"aces"`
}

type aclSet struct {
	Name string `json:"name"`
}

type attachment struct {
	Interface string `json:"interface-id"`
	Ingress   struct {
		Sets struct {
			Sets []aclSet `json:"acl-set"`
		} `json:"acl-sets"`
	} `json:"ingress"`
}

type document struct {
	Interfaces struct {
		Interfaces []iface `json:"interface"`
	} `json:"ietf-interfaces:interfaces"`
	NAT *struct {
		Instances struct {
			Instances []instance `json:"instance"`
		} `json:"instances"`
	} `json:"ietf-nat:nat,omitempty"`
	ACLs struct {
		Lists  []list `json:"acl"`
		Points struct {
			Interfaces []attachment `json:"interface"`
		} `json:"attachment-points"`
	} `json:"ietf-access-control-list:acls"`
}

// Files returns a document for each appliance.
func Files(p *plan.Plan) ([]fileset.File, error) {
	var out []fileset.File
	for _, m := range p.Appliances() {
		data, err := json.MarshalIndent(appliance(m), "", "  ")
		if err != nil {
			return nil, fmt.Errorf("yang: %s: %w", m.Name, err)
		}
		out = append(out, fileset.File{Name: m.Name + ".json", Data: append(data, '\n')})
	}
	return out, nil
}

func appliance(m *plan.Machine) document {
	var d document
	rules := list{Name: m.Name + "-rules", Type: "ietf-access-control-list:mixed-eth-ipv4-ipv6-acl-type",
		Entries: map[string][]entry{"ace": entries(m)}}
	d.ACLs.Lists = []list{rules}
	for _, a := range m.Adapters {
		d.Interfaces.Interfaces = append(d.Interfaces.Interfaces, interfaceOf(a))
		at := attachment{Interface: a.Name}
		at.Ingress.Sets.Sets = []aclSet{{rules.Name}}
		d.ACLs.Points.Interfaces = append(d.ACLs.Points.Interfaces, at)
	}
	if n := translation(m); n.Policies != nil || n.Table != nil {
		d.NAT = new(struct {
			Instances struct {
				Instances []instance `json:"instance"`
			} `json:"instances"`
		})
		d.NAT.Instances.Instances = []instance{n}
	}
	return d
}

func interfaceOf(a *plan.Adapter) iface {
	i := iface{Name: a.Name, Description: a.Description(),
		Type: "iana-if-type:ethernetCsmacd", Enabled: a.Plugged}
	if a.Over != nil {
		i.Type = "iana-if-type:l2vlan"
		i.Parent, i.Tag = a.Over.Name, &tagged{}
		i.Tag.VLAN.Outer.Type, i.Tag.VLAN.Outer.ID = "ieee802-dot1q-types:c-vlan", a.Segment.Tag
	}
	if a.Port != nil && a.Port.Address.How == "pppoe" {
		i.Type = "iana-if-type:ppp"
		i.Description += ", PPPoE session (RFC 2516)"
	}
	if a.How != plan.NoAddress {
		i.IPv4 = &family{Enabled: true}
		if a.How == plan.Static && a.Address.IsValid() {
			i.IPv4.Addresses = []address{{a.Address.Addr(), a.Address.Bits()}}
			if a.Planned {
				i.Description += ", address chosen by the plan"
			}
		} else if i.Type != "iana-if-type:ppp" {
			i.Description += ", " + a.Shown()
		}
	}
	if a.Address6.IsValid() {
		i.IPv6 = &family{true, []address{{a.Address6.Addr(), a.Address6.Bits()}}}
	}
	return i
}

func translation(m *plan.Machine) instance {
	n := instance{ID: 1, Name: m.Name, Enable: true}
	var wan netip.Prefix
	if w := m.WAN(); len(w) > 0 && w[0].Address.IsValid() {
		wan = netip.PrefixFrom(w[0].Address.Addr(), 32)
	}
	for i, s := range m.Masq {
		p := policy{ID: i + 1, Matches: []subscriber{{1, s.Subnet}}}
		if wan.IsValid() {
			p.Pools = []poolEntry{{1, wan}}
		}
		n.Policies = append(n.Policies, p)
	}
	var t table
	for _, v := range m.Publishes {
		if !v.To.Address.IsValid() {
			continue
		}
		e := mapping{
			Index:        len(t.Entries) + 1,
			Type:         "static",
			Proto:        protocol(v.Proto),
			Internal:     v.To.Address.Addr().String() + "/32",
			InternalPort: &portRange{Start: v.Target},
			ExternalPort: &portRange{Start: v.Port},
		}
		if wan.IsValid() {
			e.External = wan.String()
		}
		t.Entries = append(t.Entries, e)
	}
	for _, v := range m.OneToOne {
		if v.To.Address.IsValid() {
			t.Entries = append(
				t.Entries,
				mapping{Index: len(t.Entries) + 1, Type: "static", Internal: v.To.Address.Addr().String() + "/32",
					External: v.Outside.String() + "/32"},
			)
		}
	}
	if t.Entries != nil {
		n.Table = &t
	}
	return n
}

func protocol(p lab.Proto) int {
	return map[lab.Proto]int{lab.ICMP: 1, lab.TCP: 6, lab.UDP: 17}[p]
}

// entries returns the rules as access list entries. What the model cannot say in
// one entry becomes several; outside is what comes or leaves by a WAN.
func entries(m *plan.Machine) []entry {
	var out []entry
	for i := range m.Rules {
		r := &m.Rules[i]
		act := actions{
			Forwarding: "ietf-access-control-list:" + map[lab.Action]string{lab.Allow: "accept", lab.Deny: "drop",
				lab.Refuse: "reject"}[r.Action],
		}
		if r.Log {
			act.Logging = "ietf-access-control-list:log-syslog"
		}
		n := 0
		for _, from := range parties(m, r.From) {
			for _, to := range parties(m, r.To) {
				six := from.network.IsValid() && from.network.Addr().Is6() || to.network.IsValid() && to.network.Addr().Is6()
				if from.network.IsValid() && to.network.IsValid() && from.network.Addr().Is6() != to.network.Addr().Is6() {
					continue
				}
				for _, s := range r.Services {
					n++
					out = append(out, entry{fmt.Sprintf("%d-%d", i+1, n), match(from, to, s, six), act})
				}
			}
		}
	}
	return append(out, entry{"rest", nil, actions{Forwarding: "ietf-access-control-list:drop"}})
}

func match(from, to party, s lab.Service, six bool) *matches {
	text := func(p party) string {
		if !p.network.IsValid() {
			return ""
		}
		return p.network.Masked().String()
	}
	out := &matches{In: from.wan, Out: to.wan}
	proto := protocol(s.Proto)
	if six {
		if s.Proto == lab.ICMP {
			proto = 58
		}
		out.IPv6 = &ipMatch{Protocol: proto, From6: text(from), To6: text(to)}
	} else if proto != 0 || from.network.IsValid() || to.network.IsValid() {
		out.IPv4 = &ipMatch{Protocol: proto, From4: text(from), To4: text(to)}
	}
	if !s.AllPorts() {
		p := &ports{Operator: "eq", Port: s.From}
		if s.To != s.From {
			p = &ports{Lower: s.From, Upper: s.To}
		}
		switch s.Proto {
		case lab.TCP:
			out.TCP = &transport{p}
		case lab.UDP:
			out.UDP = &transport{p}
		}
	}
	if *out == (matches{}) {
		return nil
	}
	return out
}

// party is one network of a rule's party, or what is beyond a WAN; the zero value is anybody.
type party struct {
	network netip.Prefix
	wan     string
}

// parties returns a rule's party in parts.
func parties(m *plan.Machine, list []plan.Match) []party {
	var out []party
	for _, x := range list {
		switch {
		case x.Any:
			return []party{{}}
		case x.Outside:
			for _, w := range m.WAN() {
				out = append(out, party{wan: w.Name})
			}
		}
		for _, p := range x.Prefixes {
			out = append(out, party{network: p})
		}
	}
	return out
}
