// Package appliance is the reference appliance: a router between its ports
// with a stateful packet filter, translation and port forwards, a lease
// service, a resolver, and an admin page, made from an appliance of a plan.
package firewall

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/pppoe"
)

// announceLifetime is how long guests take a port for their IPv6 router after
// its last word (RFC 4861, section 6.2.1).
const announceLifetime = 30 * time.Minute

// Appliance is the node with what it is made of.
type Appliance struct {
	Node   *host.Node
	Filter *Filter
	Plan   *plan.Machine
	Ports  []*host.Port // in the order of the plan's adapters
}

// Options are what an appliance is given beside its plan. The zero Options name
// nobody, give no secret, and make it the same in every run.
type Options struct {
	Guests        []*plan.Machine // whose names its resolver answers for
	SessionSecret string          // by which it gets its PPPoE session; a lab file holds none
	Random        rand.Source     // of sequence numbers, ports and identifiers; on a real wire one that nobody can guess
}

// noTag is the tag that no frame carries (IEEE 802.1Q reserves it).
const noTag = 4095

// New makes an appliance of the plan. Its adapters are numbered as in the
// plan, from 1.
func New(m *plan.Machine, o Options) *Appliance {
	n := host.New(m.Name)
	if o.Random != nil {
		n = host.NewWith(m.Name, o.Random)
	}
	n.Forwards = m.Appliance == nil || !m.Transparent()
	a := &Appliance{Node: n, Plan: m, Filter: &Filter{machine: m, node: n, ports: map[*host.Port]*plan.Adapter{}}}
	n.Hook = a.Filter
	for _, s := range m.Masq {
		a.Filter.masq = append(a.Filter.masq, s.Subnet)
	}
	resolver := &dns.Resolver{Names: map[string]netip.Addr{}, Self: map[string]bool{}}
	for _, ad := range m.Adapters {
		p := n.AddPort(
			host.Port{
				Name:    ad.Name,
				Adapter: ad.Number,
				MAC:     ad.MAC,
				Address: ad.Address,
				Gateway: ad.Gateway,
				DNS:     ad.DNS,
			},
		)
		if ad.Over != nil {
			if p.Tag = ad.Segment.Tag; ad.Segment.Nowhere() {
				p.Tag = noTag
			}
		}
		a.Ports = append(a.Ports, p)
		a.Filter.ports[p] = ad
		if ad.Role == lab.WAN {
			a.Filter.wans = append(a.Filter.wans, p)
		}
		if ad.How == plan.FromAbove && ad.Port != nil && ad.Port.Address.How == "pppoe" {
			p.Dial = &pppoe.Client{MAC: ad.MAC, User: m.Name, Password: o.SessionSecret}
		} else if ad.How == plan.FromAbove {
			p.Client = &dhcp.Client{MAC: ad.MAC, Hostname: m.Name}
		}
		if ad.Role == lab.WAN || ad.Gateway.IsValid() {
			learn := func() { resolver.Upstreams = a.upstreams() }
			p.Changed = learn
			learn()
		}
		if ad.Address6.IsValid() {
			p.IPv6 = &host.IPv6{Addresses: []netip.Prefix{ad.Address6}}
		}
		if ad.Announces() {
			p.IPv6.Announces = &host.Announcement{
				Prefix:   ad.Segment.Subnet6,
				Lifetime: announceLifetime,
				DNS:      []netip.Addr{ad.Address6.Addr()},
			}
			if ad.Leases != nil {
				p.IPv6.Announces.Domain = ad.Leases.Domain
			}
			n.ServeInformation()
		}
		if v := ad.Leases; v != nil {
			p.Server = dhcp.NewServer(LeaseConfig(ad))
			if v.Domain != "" {
				nameGuests(resolver, v, m, o.Guests)
			}
		}
		for _, o := range m.OneToOne {
			if ad.Role == lab.WAN && ad.Segment.Subnet.Contains(o.Outside) {
				p.Also = append(p.Also, o.Outside)
				n.Readdressed()
			}
		}
		for _, s := range ad.Admin {
			n.ServePages(s.Port, func(netip.AddrPort) string { return fmt.Sprintf("admin page of %s\n", m.Name) })
		}
	}
	n.ServeNames(resolver)
	a.join()
	return a
}

// join bridges the pair of a transparent appliance, and has the ways out
// watched where there are several.
func (a *Appliance) join() {
	var pair []*host.Port
	for i, ad := range a.Plan.Adapters {
		if ad.Role != lab.Manage {
			pair = append(pair, a.Ports[i])
		}
	}
	if !a.Node.Forwards {
		a.Node.Join(pair...)
		return
	}
	if wans := a.Filter.wans; len(wans) > 1 {
		for _, p := range wans {
			a.Node.Watch(p)
		}
	}
}

// upstreams returns the resolvers that the WAN ports know.
func (a *Appliance) upstreams() []netip.Addr {
	var list []netip.Addr
	for i, p := range a.Ports {
		if a.Plan.Adapters[i].Role == lab.WAN || p.Gateway.IsValid() {
			list = append(list, p.DNS...)
		}
	}
	return list
}

// LeaseConfig returns what the port's lease service hands out.
func LeaseConfig(a *plan.Adapter) dhcp.Config {
	v := a.Leases
	c := dhcp.Config{
		Address: a.Address, From: v.Pool.From, To: v.Pool.To, Router: v.Router, DNS: v.DNS, Domain: v.Domain, Time: v.Time,
		Reservations: map[mac.Address]netip.Addr{},
	}
	for _, r := range v.Reservations {
		c.Reservations[r.MAC] = r.Address.Addr()
	}
	return c
}

// nameGuests lets the resolver answer for the appliance and for guests whose
// address the plan knows.
func nameGuests(r *dns.Resolver, v *plan.Service, m *plan.Machine, guests []*plan.Machine) {
	zone := v.Domain + "."
	r.Zones = append(r.Zones, zone)
	r.Self[m.Name+"."+zone] = true
	for _, g := range guests {
		for _, ad := range g.Adapters {
			if ad.Address.IsValid() && ad.Segment.Port != nil && ad.Segment.Port.Machine == m {
				r.Names[g.Name+"."+zone] = ad.Address.Addr()
				break
			}
		}
	}
}
