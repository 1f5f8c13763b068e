package mistakes

import (
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/verify/claims"
)

// elsewhere is a network that no lab has inside: documentation addresses
// (RFC 5737), where somebody's settings of another place would stand.
var elsewhere = netip.MustParsePrefix("198.51.100.0/24")

// homes returns a place for each guest that stands behind an appliance, at its adapter
// there, where fits.
func homes(fits func(a *plan.Adapter) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for _, g := range p.Guests() {
			if a := claims.InsideAdapter(g); a != nil && !g.Off && (fits == nil || fits(a)) {
				out = append(out, Place{Adapter: a})
			}
		}
		return out
	}
}

// Leasing reports whether it is an adapter that asks for a lease.
func leasing(a *plan.Adapter) bool { return a.How == plan.Lease || a.How == plan.Reservation }

// typed reports whether it is an adapter whose settings are typed in.
func typed(a *plan.Adapter) bool { return a.How == plan.Static && a.Address.IsValid() }

// ports returns a place for each port of an appliance that is in use, where fits.
func ports(fits func(a *plan.Adapter) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for _, m := range p.Running() {
			for _, a := range m.Adapters {
				if a.Plugged && a.Role != lab.Unused && fits(a) {
					out = append(out, Place{Adapter: a})
				}
			}
		}
		return out
	}
}

// own reports whether it is a port with an adapter of its own.
func own(a *plan.Adapter) bool { return a.Over == nil }

// faces reports whether it is a port with an address that faces guests.
func faces(a *plan.Adapter) bool { return a.Role.Inside() && a.Address.IsValid() }

// serves reports whether it is a port that hands out leases to somebody.
func serves(a *plan.Adapter) bool {
	if a.Leases == nil {
		return false
	}
	for _, x := range a.Segment.Adapters {
		if x.Guest != nil && leasing(x) && x.Plugged {
			return true
		}
	}
	return false
}

func wan(a *plan.Adapter) bool { return a.Role == lab.WAN }

func typedWAN(a *plan.Adapter) bool { return wan(a) && typed(a) }

func gatewayWAN(a *plan.Adapter) bool { return typedWAN(a) && a.Gateway.IsValid() }

func leasedWAN(a *plan.Adapter) bool {
	return wan(a) && a.How == plan.FromAbove && a.Port.Address.How != "pppoe"
}

// machines returns a place for each running appliance, where fits.
func machines(fits func(m *plan.Machine) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for _, m := range p.Running() {
			if fits == nil || fits(m) {
				out = append(out, Place{Machine: m})
			}
		}
		return out
	}
}

// routes reports whether it is an appliance that routes.
func routes(m *plan.Machine) bool { return !m.Transparent() }

// resolves reports whether it is an appliance that some guest asks for names.
func resolves(m *plan.Machine) bool {
	for _, a := range m.Adapters {
		if faces(a) && a.Plugged {
			for _, x := range a.Segment.Adapters {
				if x.Guest != nil && asks(x, a) {
					return true
				}
			}
		}
	}
	return false
}

// asks reports whether it is a guest's adapter that asks a port for names.
func asks(x, port *plan.Adapter) bool {
	list := x.DNS
	if leasing(x) && port.Leases != nil {
		list = port.Leases.DNS
	}
	for _, d := range list {
		if d == port.Address.Addr() {
			return true
		}
	}
	return false
}

// segments returns a place for each segment with somebody on it, where fits.
func segments(fits func(s *plan.Segment) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for _, s := range p.Segments {
			if len(s.Adapters) > 0 && fits(s) {
				out = append(out, Place{Segment: s})
			}
		}
		return out
	}
}

// closed reports whether it is a segment inside that only those attached are on.
func closed(s *plan.Segment) bool { return s.Inside() && s.Reach == lab.Isolated && guests(s) > 0 }

func upstream(s *plan.Segment) bool { return s.Reach == lab.Upstream }

// guests counts the guests on a segment.
func guests(s *plan.Segment) (n int) {
	for _, a := range s.Adapters {
		if a.Guest != nil && a.Plugged {
			n++
		}
	}
	return n
}

// neighbor returns another guest's adapter on the same segment, or nil.
func neighbor(a *plan.Adapter) *plan.Adapter {
	for _, x := range a.Segment.Adapters {
		if x.Guest != nil && x.Machine != a.Machine && x.Plugged {
			return x
		}
	}
	return nil
}

// free returns an address of a network that nothing of its plan has, from its end.
func free(s *plan.Segment, in netip.Prefix) netip.Addr {
	taken := map[netip.Addr]bool{s.Gateway: true, s.HostLeg.Addr(): true}
	for _, a := range s.Adapters {
		taken[a.Address.Addr()] = true
	}
	for at := subnet.Last(in); in.Contains(at); at = at.Prev() {
		if !taken[at] && !subnet.Reserved(in, at) {
			return at
		}
	}
	return subnet.First(in)
}

// shifted returns an address in the next network of the same length.
func shifted(p netip.Prefix) netip.Prefix {
	return netip.PrefixFrom(subnet.Add(p.Addr(), subnet.Size(p)), p.Bits())
}

// narrow returns a longer mask that leaves an address alone with fewer others, and
// outside of it another one.
func narrow(p netip.Prefix, without netip.Addr) netip.Prefix {
	for bits := p.Bits() + 1; bits <= 30; bits++ {
		if q := netip.PrefixFrom(p.Addr(), bits); !without.IsValid() || !q.Contains(without) {
			return q
		}
	}
	return netip.PrefixFrom(p.Addr(), min(p.Bits()+1, 30))
}

// unusedName returns a name that nothing in a lab has.
func unusedName(l *lab.Lab, name string) string {
	for l.Guest(name) != nil || l.Segment(name) != nil || l.Appliance(name) != nil {
		name += "-too"
	}
	return name
}

// here returns what is built in an adapter's place.
func (b *Built) here(a *plan.Adapter) *plan.Adapter { return b.Plan.Same(a) }

func (b *Built) machine(m *plan.Machine) *plan.Machine { return b.Plan.Machine(m.Name) }

func (b *Built) segment(s *plan.Segment) *plan.Segment { return b.Plan.Segment(s.Name) }
