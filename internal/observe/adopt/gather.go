package adopt

import (
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/mac"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
)

// Source is one export or paste.
type Source struct {
	File  string
	Name  string           // of the machine, where whoever gives it says so; host: the host itself
	Built *identify.Built  // of an export, else nil
	Shown *listing.Listing // of a paste, else nil

	Networks []listing.Network // what networks of the host are, as its machine manager defines them
}

// Host is the name of the machine that carries the lab.
const Host = "host"

// machine is what is known of one machine.
type machine struct {
	name      string
	files     []string
	built     *identify.Built
	system    listing.System
	adapters  []*adapter
	gateways  []netip.Addr
	resolvers []netip.Addr
	appliance bool
	serves    bool // its routes were shown
}

// adapter is what is known of one adapter.
type adapter struct {
	of       *machine
	exported bool
	number   int // from 1; 0: not said
	device   string
	label    string
	tail     string // of the hardware address, twelve digits where all were shown
	network  string // as the hypervisor calls it
	how      listing.Attachment
	model    string
	off      bool // not connected
	address  netip.Prefix
	masked   bool
	lease    listing.Lease
	server   netip.Addr
	tag      int
	silent   bool // it asked for a lease and nobody answered
	segment  *segment
	role     string
}

// gather makes machines of the sources: exports first, as they know all adapters.
func gather(sources []Source) []*machine {
	var out []*machine
	named := func(name string) *machine {
		for _, m := range out {
			if m.name == name {
				return m
			}
		}
		m := &machine{name: name}
		out = append(out, m)
		return m
	}
	taken := map[string]bool{}
	for _, s := range sources {
		if s.Built != nil {
			name := nameOf(s.Name, s.Built.Name, s.File)
			if m := again(out, name, s.Built); m != nil { // it is in another export too
				m.files = append(m.files, s.File)
				continue
			}
			m := named(unused(taken, name))
			m.files, m.built = append(m.files, s.File), s.Built
			for _, a := range s.Built.Adapters {
				x := &adapter{
					of:       m,
					exported: true,
					number:   a.Number,
					network:  a.Network,
					off:      !a.Plugged,
					tail:     digits(a.MAC),
				}
				if side(a.Name) != "" {
					x.label = a.Name
				}
				if len(a.Models) > 0 {
					x.model = a.Models[0]
				}
				m.adapters = append(m.adapters, x)
			}
		}
	}
	for _, s := range sources {
		if s.Shown == nil {
			continue
		}
		for name, part := range split(s.Shown) {
			m := named(identity(out, nameOf(s.Name, name, s.File), part))
			m.files = append(m.files, s.File)
			m.show(part)
		}
	}
	slices.SortStableFunc(out, func(a, b *machine) int { return strings.Compare(a.name, b.name) })
	return out
}

// again returns the machine that an export is of once more: one of its name that shares a
// hardware address with it, or has none to tell it by.
func again(known []*machine, name string, b *identify.Built) *machine {
	for _, m := range known {
		if m.name != name || m.built == nil || len(m.adapters) != len(b.Adapters) {
			continue
		}
		same := true
		for i, a := range b.Adapters {
			same = same && m.adapters[i].tail == digits(a.MAC) && m.adapters[i].network == a.Network
		}
		if same {
			return m
		}
	}
	return nil
}

// identity returns the machine that a paste is of: the one with a hardware address that
// it shows, else the one of its name.
func identity(known []*machine, name string, l listing.Listing) string {
	for _, i := range l.Interfaces {
		for _, m := range known {
			for _, a := range m.adapters {
				if len(i.Tail) == 12 && a.tail == i.Tail {
					return m.name
				}
			}
		}
	}
	return name
}

// split takes a paste apart by the machines that it says; "" is one that it does not
// name.
func split(l *listing.Listing) map[string]listing.Listing {
	out := map[string]listing.Listing{}
	edit := func(name string, change func(*listing.Listing)) {
		part := out[name]
		part.System = l.System
		change(&part)
		out[name] = part
	}
	for _, i := range l.Interfaces {
		edit(i.Machine, func(p *listing.Listing) { p.Interfaces = append(p.Interfaces, i) })
	}
	for _, r := range l.Routes {
		edit(r.Machine, func(p *listing.Listing) { p.Routes = append(p.Routes, r) })
	}
	for _, r := range l.Resolvers {
		edit(r.Machine, func(p *listing.Listing) { p.Resolvers = append(p.Resolvers, r) })
	}
	if len(out) == 1 {
		for name, part := range out {
			part.RoutesHere = l.RoutesHere
			out[name] = part
		}
	}
	return out
}

// show adds what a paste shows of a machine.
func (m *machine) show(l listing.Listing) {
	if l.System != "" {
		m.system = l.System
	}
	for _, i := range l.Interfaces {
		if len(i.Addresses) == 0 && i.Tail == "" && i.Network == "" && i.Label == "" {
			continue
		}
		m.merge(i)
	}
	for _, r := range l.Routes {
		m.serves = true
		if r.Gateway.IsValid() && !slices.Contains(m.gateways, r.Gateway) {
			m.gateways = append(m.gateways, r.Gateway)
		}
	}
	for _, r := range l.Resolvers {
		if r.Address.Is4() && !slices.Contains(m.resolvers, r.Address) && !r.Address.IsLoopback() {
			m.resolvers = append(m.resolvers, r.Address)
		}
	}
}

// merge adds an interface to the adapter that it is: by hardware address, else by
// number, else by device; a new one where it is none of them.
func (m *machine) merge(i listing.Interface) {
	at := slices.IndexFunc(m.adapters, func(a *adapter) bool {
		switch {
		case i.Tag != 0 || a.tag != 0:
			return a.tag == i.Tag && a.device != "" && a.device == i.Device
		case i.Tail != "" && a.tail != "":
			return strings.HasSuffix(a.tail, i.Tail) || strings.HasSuffix(i.Tail, a.tail)
		case i.Number > 0 && a.number > 0:
			return a.number == i.Number
		}
		return a.device != "" && a.device == i.Device
	})
	var a *adapter
	if at >= 0 {
		a = m.adapters[at]
	} else {
		a = &adapter{of: m, exported: i.Network != "" && i.Device == "" && len(i.Addresses) == 0} // a hypervisor's page
		m.adapters = append(m.adapters, a)
	}
	set := func(to *string, text string) {
		if *to == "" || len(text) > len(*to) && strings.HasSuffix(text, *to) {
			*to = text
		}
	}
	set(&a.device, i.Device)
	set(&a.label, i.Label)
	set(&a.tail, i.Tail)
	set(&a.network, i.Network)
	if i.Attached != listing.UnsaidAttachment {
		a.how = i.Attached
	}
	a.number, a.tag = max(a.number, i.Number), max(a.tag, i.Tag)
	a.off = a.off || i.Link == listing.LinkDown
	a.silent = a.silent || i.Unanswered
	for _, x := range i.Addresses {
		if ordinary(x.Prefix) && !a.address.IsValid() {
			a.address, a.masked = x.Prefix, x.Masked
		}
	}
	if i.Lease != listing.LeaseUnsaid {
		a.lease = i.Lease
	}
	if i.LeaseServer.IsValid() {
		a.server = i.LeaseServer
	}
}

// ordinary reports whether it is an address that a machine of a segment can have.
func ordinary(p netip.Prefix) bool {
	a := p.Addr()
	if !a.Is4() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsMulticast() || p.Bits() < 8 {
		return false
	}
	first := a.As4()[0]
	return first != 0 && first < 240
}

// digits returns a hardware address as twelve hexadecimal digits; empty when it is none.
func digits(text string) string {
	a, err := mac.Parse(text)
	if err != nil {
		return ""
	}
	return strings.ReplaceAll(a.String(), ":", "")
}
