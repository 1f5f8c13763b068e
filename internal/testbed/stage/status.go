package stage

import (
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/simulator"
)

// Planned returns how a machine is planned: its adapters without addresses.
func Planned(m *plan.Machine) status.Machine {
	out := status.Machine{Name: m.Name, Kind: "guest", How: "simulated", Adapters: []status.Adapter{}}
	if m.Appliance != nil {
		out.Kind = "appliance"
	}
	if m.Off {
		out.How = "off"
	}
	for _, a := range m.Adapters {
		s := status.Adapter{Number: a.Number, Name: a.Name, MAC: a.MAC, Plugged: a.Plugged, IPv6: []netip.Prefix{}}
		if !a.Segment.Nowhere() {
			s.Segment = a.Segment.Name
		}
		out.Adapters = append(out.Adapters, s)
	}
	return out
}

// Leases returns what a server has handed out on a segment.
func Leases(p *plan.Plan, now time.Duration, segment, server string, from *dhcp.Server) (out []status.Lease) {
	list := from.List(now)
	if len(list) == 0 {
		return nil
	}
	named := map[mac.Address]string{}
	for _, m := range p.Machines {
		for _, a := range m.Adapters {
			named[a.MAC] = m.Name
		}
	}
	for _, h := range list {
		out = append(
			out,
			status.Lease{Segment: segment, Server: server, Address: h.Address, MAC: h.Card, Hostname: named[h.Card],
				Until: time.Now().Add(h.Until - now).Round(time.Second)},
		)
	}
	return out
}

// Simulated returns how a machine is that is not real. It is called from the loop of those.
func Simulated(m *plan.Machine, v *simulator.Live) status.Machine {
	out := Planned(m)
	if m.Off {
		return out
	}
	for i, a := range m.Adapters {
		s := &out.Adapters[i]
		var six []netip.Prefix
		s.Address, s.Gateway, six = v.Addresses(a)
		s.IPv6 = append(s.IPv6, six...)
	}
	return out
}

// SimulatedLeases returns what is handed out by those who are simulated. It is called from
// their loop.
func SimulatedLeases(p *plan.Plan, v *simulator.Live) (out []status.Lease) {
	v.Servers(func(now time.Duration, segment, server string, from *dhcp.Server) {
		out = append(out, Leases(p, now, segment, server, from)...)
	})
	return out
}
