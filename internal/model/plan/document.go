package plan

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

// Schema names the JSON form of a plan.
const Schema = "openbastion.plan/1"

// Document is a plan as JSON. Lists are never null.
type Document struct {
	Schema    string       `json:"schema"`
	Lab       string       `json:"lab"`
	Segments  []SegmentDoc `json:"segments"`
	Wires     []WireDoc    `json:"wires"`
	Adapters  []AdapterDoc `json:"adapters"`
	Addresses []AddressDoc `json:"addresses"`
	Leases    []LeaseDoc   `json:"leases"`
	NAT       []NATDoc     `json:"nat"`
	Rules     []RuleDoc    `json:"rules"`
	Machines  []MachineDoc `json:"machines"`
	Order     []string     `json:"order"`
	Answers   []AnswerDoc  `json:"answers"`
	Pages     []PageDoc    `json:"pages"`
	Open      []OpenDoc    `json:"open"`
}

// OpenDoc is something that is not decided yet.
type OpenDoc struct {
	Subject  string `json:"subject"`
	Key      string `json:"key"`
	Question string `json:"question"`
	Line     int    `json:"line"`
}

// SegmentDoc is one segment.
type SegmentDoc struct {
	Name    string       `json:"name"`
	Reach   lab.Reach    `json:"reach"`
	Wire    string       `json:"wire"`
	Tag     int          `json:"tag,omitempty"`
	Subnet  netip.Prefix `json:"subnet"`
	Subnet6 string       `json:"subnet6,omitempty"`
	Mask    string       `json:"mask"`
	Gateway string       `json:"gateway,omitempty"`
	HostLeg string       `json:"host_address,omitempty"`
	Free    int          `json:"free"`
	Planned bool         `json:"planned"`
	Assumed bool         `json:"assumed,omitempty"`
}

// WireDoc is one wire.
type WireDoc struct {
	Name     string   `json:"name"`
	Segments []string `json:"segments"`
}

// AdapterDoc is one adapter or tagged port.
type AdapterDoc struct {
	Machine string      `json:"machine"`
	Number  int         `json:"number"`
	Name    string      `json:"name"`
	MAC     mac.Address `json:"mac"`
	Segment string      `json:"segment"`
	Role    lab.Role    `json:"role"`
	Assumed lab.Role    `json:"assumed_role,omitempty"` // what its kind takes it for when nobody says
	NIC     string      `json:"nic"`
	Over    string      `json:"over,omitempty"`
	Devices []string    `json:"devices"`
	Attach  string      `json:"attach"`
	Plugged bool        `json:"plugged"`
	Connect string      `json:"connect,omitempty"` // later: unplugged until the appliance is set up
	Planned bool        `json:"planned"`
}

// AddressDoc is one line of the address book.
type AddressDoc struct {
	Name    string `json:"name"`
	Segment string `json:"segment"`
	Address string `json:"address"`
	How     How    `json:"method"`
	Gateway string `json:"gateway,omitempty"`
	Planned bool   `json:"planned"`

	DNS []string `json:"dns"` // resolvers typed in
}

// LeaseDoc is one lease service.
type LeaseDoc struct {
	Segment      string            `json:"segment"`
	Server       string            `json:"server"`
	Pool         string            `json:"pool"`
	Router       string            `json:"router,omitempty"`
	DNS          []string          `json:"dns"`
	Domain       string            `json:"domain,omitempty"`
	Seconds      int               `json:"seconds"`
	Reservations map[string]string `json:"reservations"`
	Planned      bool              `json:"planned"`
}

// The kinds of NAT in a [NATDoc].
const (
	SourceNAT   = "source NAT"   // From is the inside network, To "wan": the WAN address
	PortForward = "port forward" // From is the outside port, To the inside machine and port
	OneToOneNAT = "1:1 NAT"      // From is the outside address, To the inside machine
)

// NATDoc is one translation.
type NATDoc struct {
	Appliance string `json:"appliance"`
	Kind      string `json:"kind"` // masquerade or publish
	From      string `json:"from"`
	To        string `json:"to"`
}

// RuleDoc is one rule.
type RuleDoc struct {
	Appliance string     `json:"appliance"`
	Number    int        `json:"number"`
	Rule      string     `json:"rule"`
	Line      int        `json:"line"` // in the lab file; 0 for a default rule
	Action    lab.Action `json:"action"`
}

// MachineDoc is one machine.
type MachineDoc struct {
	Name        string    `json:"name"`
	Kind        string    `json:"kind"`
	Running     bool      `json:"running"`
	Physical    bool      `json:"physical,omitempty"`
	Profile     string    `json:"profile,omitempty"`
	Adapters    int       `json:"adapters"`
	CPUs        int       `json:"cpus"`
	Memory      lab.Bytes `json:"memory"`
	MemoryFloor lab.Bytes `json:"memory_floor"`
	Disk        lab.Bytes `json:"disk"`
	DiskBus     string    `json:"disk_bus"`
	NIC         string    `json:"nic"`
	Queues      int       `json:"queues"`
	Firmware    string    `json:"firmware"`
	Boot        []string  `json:"boot"`
	Autostart   bool      `json:"autostart"`
	Why         []string  `json:"why"`
}

// AnswerDoc is one question of an appliance with the plan's answer.
type AnswerDoc struct {
	Appliance string `json:"appliance"`
	Stage     string `json:"stage"`
	Topic     string `json:"topic"`
	Port      string `json:"port,omitempty"`
	About     string `json:"about"`
	Question  string `json:"question"`
	Answer    string `json:"answer"`
	Note      string `json:"note,omitempty"`
}

// PageDoc is an admin page.
type PageDoc struct {
	Appliance string `json:"appliance"`
	URL       string `json:"url"`
	Factory   bool   `json:"factory"`
}

func text(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func addrTexts(list []netip.Addr) []string {
	out := make([]string, 0, len(list))
	for _, a := range list {
		if a.IsValid() {
			out = append(out, a.String())
		}
	}
	return out
}

// Shown returns the adapter's address as people read it: the prefix, or how it
// will come by one.
func (a *Adapter) Shown() string {
	if a.Unknown() {
		return "unknown"
	}
	if a.Address.IsValid() {
		return a.Address.String()
	}
	switch a.How {
	case Lease:
		if s := a.Segment.Port; s != nil && s.Leases != nil && !s.Leases.unknown(a.Segment) {
			return "DHCP from " + s.Leases.Pool.String()
		}
		return "DHCP"
	case FromAbove:
		return "DHCP from upstream"
	}
	return "none"
}

// Document makes the JSON form.
func (p *Plan) Document() Document {
	d := Document{
		Schema: Schema, Lab: p.Name,
		Segments: []SegmentDoc{}, Wires: []WireDoc{}, Adapters: []AdapterDoc{}, Addresses: []AddressDoc{}, Leases: []LeaseDoc{},
		NAT: []NATDoc{}, Rules: []RuleDoc{}, Machines: []MachineDoc{}, Order: []string{}, Answers: []AnswerDoc{}, Pages: []PageDoc{},
	}
	for _, s := range p.Segments {
		doc := SegmentDoc{
			Name: s.Name, Reach: s.Reach, Wire: s.Wire.Name, Tag: s.Tag, Subnet: s.KnownSubnet(), Mask: subnet.Mask(s.Subnet.Bits()),
			Gateway: text(s.KnownGateway()), Free: s.Free(), Planned: s.Planned, Assumed: s.Assumed,
		}
		if s.Subnet6.IsValid() {
			doc.Subnet6 = s.Subnet6.String()
		}
		if s.HostLeg.IsValid() {
			doc.HostLeg = s.HostLeg.String()
		}
		d.Segments = append(d.Segments, doc)
	}
	for _, w := range p.Wires {
		names := []string{}
		for _, s := range w.Segments {
			names = append(names, s.Name)
		}
		d.Wires = append(d.Wires, WireDoc{w.Name, names})
	}
	for _, a := range p.Adapters {
		doc := AdapterDoc{
			Machine: a.Machine.Name,
			Number:  a.Number,
			Name:    a.Name,
			MAC:     a.MAC,
			Segment: a.Segment.Name,
			Role:    a.Role,
			Assumed: a.Assumed(),
			NIC:     a.NIC,
			Devices: append([]string{}, a.Devices...),
			Attach:  a.Attach,
			Plugged: a.Plugged,
			Planned: !a.MACGiven,
		}
		if a.Over != nil {
			doc.Over = a.Over.Name
		}
		if a.Segment.Nowhere() {
			doc.Segment = ""
		}
		if a.Later() {
			doc.Connect = a.Port.Connect
		}
		d.Adapters = append(d.Adapters, doc)
		address := ""
		if a.Address.IsValid() && !a.Unknown() {
			address = a.Address.String()
		}
		d.Addresses = append(
			d.Addresses,
			AddressDoc{a.Machine.Name, doc.Segment, address, a.How, text(a.KnownGateway()), a.Planned, addrTexts(a.DNS)},
		)
		if v := a.Leases; v != nil {
			reservations := map[string]string{}
			for _, r := range v.Reservations {
				reservations[r.Machine.Name] = r.Address.Addr().String()
			}
			d.Leases = append(
				d.Leases,
				LeaseDoc{a.Segment.Name, a.Machine.Name, a.PoolText(), text(v.Router), addrTexts(v.DNS), v.Domain,
					int(v.Time.Seconds()), reservations, v.Planned},
			)
		}
	}
	for _, s := range p.Segments {
		if s.HostLeg.IsValid() {
			d.Addresses = append(
				d.Addresses,
				AddressDoc{"host", s.Name, s.HostLeg.String(), Static, "", !s.Lab.HostAddress.IsValid(), []string{}},
			)
		}
		if s.HostPool != nil {
			d.Leases = append(
				d.Leases,
				LeaseDoc{s.Name, "host", s.HostPool.String(), "", []string{}, "", 3600, map[string]string{}, true},
			)
		}
	}
	for _, m := range p.Appliances() {
		for _, s := range m.Masq {
			d.NAT = append(d.NAT, NATDoc{m.Name, SourceNAT, s.SubnetText(), "wan"})
		}
		for _, v := range m.Publishes {
			d.NAT = append(d.NAT, NATDoc{m.Name, PortForward, fmt.Sprintf("%s/%d", v.Proto, v.Port),
				fmt.Sprintf("%s %s/%d", v.To.Machine.Name, v.Proto, v.Target)})
		}
		for _, v := range m.OneToOne {
			d.NAT = append(d.NAT, NATDoc{m.Name, OneToOneNAT, v.Outside.String(), v.To.Machine.Name})
		}
		for i, r := range m.Rules {
			d.Rules = append(d.Rules, RuleDoc{m.Name, i + 1, r.Text, r.Line, r.Action})
		}
	}
	for _, m := range p.Machines {
		v := m.Spec
		doc := MachineDoc{
			Name: m.Name, Kind: "guest", Running: !m.Off, Physical: m.Physical, Adapters: len(m.Adapters), CPUs: v.CPUs, Memory: v.Memory,
			MemoryFloor: v.MemoryFloor, Disk: v.Disk,
			DiskBus: v.DiskBus, NIC: v.NIC, Queues: v.Queues, Firmware: v.Firmware, Boot: v.Boot, Autostart: v.Autostart, Why: v.Why,
		}
		if m.Appliance != nil {
			doc.Kind, doc.Profile = m.Appliance.Kind+" appliance", m.Facts.Name
		}
		d.Machines = append(d.Machines, doc)
	}
	for _, m := range p.Order {
		d.Order = append(d.Order, m.Name)
	}
	for _, a := range p.Answers {
		port := ""
		if a.Port != nil {
			port = a.Port.Name
		}
		d.Answers = append(
			d.Answers,
			AnswerDoc{a.Appliance.Name, a.Stage, string(a.Topic), port, a.About, a.Question, a.Answer, a.Note},
		)
	}
	for _, a := range p.Pages {
		d.Pages = append(d.Pages, PageDoc{a.Appliance.Name, a.URL, a.Factory})
	}
	d.Open = []OpenDoc{}
	for _, o := range p.Lab.Open {
		d.Open = append(d.Open, OpenDoc{o.Subject, o.Key, o.Question, o.Pos.Line})
	}
	return d
}

// Free counts the usable addresses of the segment that nothing has or hands out.
func (s *Segment) Free() int {
	n := subnet.Usable(s.Subnet)
	if s.Reach == lab.Upstream {
		n-- // the router that is there
	}
	outside := func(x netip.Addr) bool {
		return s.Port == nil || s.Port.Leases == nil || !s.Port.Leases.Pool.Contains(x)
	}
	if s.HostLeg.IsValid() {
		n--
	}
	leasing := 0
	for _, a := range s.Adapters {
		switch {
		case a.Address.IsValid() && outside(a.Address.Addr()):
			n--
		case a.How == Lease:
			leasing++
		}
	}
	if s.Port != nil && s.Port.Leases != nil {
		return n - max(leasing, 1+subnet.Distance(s.Port.Leases.Pool.From, s.Port.Leases.Pool.To))
	}
	return n - leasing
}

// Lasting writes a duration as people do: 8h, 90m, 45s.
func Lasting(d time.Duration) string {
	text := d.String()
	for _, zero := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, zero) {
			text = text[:len(text)-2]
		}
	}
	return text
}
