package plan

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"openbastion/internal/model/lab"
)

// AsBuilt returns the plan of what somebody built who kept to this plan but for a
// change to its wiring: where adapters end, what segments are, which machines there
// are. What is typed in somewhere (addresses, leases, rules) stays as this plan has
// it, also where a plan of the changed lab would have chosen otherwise. The change
// is made to a copy of the lab. The plan may be changed further: it shares nothing
// with this one that a change could reach.
func (p *Plan) AsBuilt(change func(*lab.Lab)) (*Plan, error) {
	l := p.Lab.Clone()
	for _, s := range l.Segments {
		if of := p.Segment(s.Name); of != nil {
			s.Subnet, s.Gateway = of.Subnet, gatewayGiven(of)
		}
	}
	for _, g := range l.Guests {
		for i := range g.Adapters {
			g.Adapters[i].MAC = p.Machine(g.Name).Adapters[i].MAC
		}
	}
	if change != nil {
		change(l)
	}
	built, err := Build(l)
	if err != nil {
		return nil, err
	}
	for _, m := range built.Machines {
		if as := p.Machine(m.Name); as != nil {
			built.keep(m, as)
		}
	}
	for _, s := range built.Segments {
		if of := p.Segment(s.Name); of != nil {
			s.Gateway = of.Gateway
		}
	}
	return built, nil
}

// gatewayGiven returns the gateway of a segment where it is not an appliance's.
func gatewayGiven(s *Segment) netip.Addr {
	if s.Reach == lab.Upstream || s.Lab.Gateway.IsValid() {
		return s.Gateway
	}
	return netip.Addr{}
}

// keep gives a machine the settings that the plan has for it.
func (p *Plan) keep(m, as *Machine) {
	for i, a := range m.Adapters {
		if i >= len(as.Adapters) {
			break
		}
		of := as.Adapters[i]
		if m.Appliance != nil && of.Name != a.Name { // ports before it were left out
			at := slices.IndexFunc(as.Adapters, func(o *Adapter) bool { return o.Name == a.Name })
			if at < 0 {
				continue
			}
			of = as.Adapters[at]
			a.Number = of.Number
		}
		a.How, a.Address, a.Gateway, a.DNS = of.How, of.Address, of.Gateway, slices.Clone(of.DNS)
		if a.MAC = of.MAC; a.Guest != nil {
			a.MAC = a.Guest.MAC // as it was given above, or changed since
		}
		a.Admin, a.Address6 = slices.Clone(of.Admin), of.Address6
		a.Leases = of.Leases.in(p)
	}
	m.within, m.Rules, m.index = bart.Lite{}, nil, nil // rules as built may be changed yet
	for _, a := range as.Adapters {
		if m.Appliance != nil && a.Role != lab.WAN {
			m.within.Insert(a.Segment.Subnet)
			if a.Segment.Subnet6.IsValid() {
				m.within.Insert(a.Segment.Subnet6)
			}
		}
	}
	for _, r := range as.Rules {
		r.From, r.To = p.matches(r.From), p.matches(r.To)
		m.Rules = append(m.Rules, r)
	}
	m.named, m.Masq, m.Publishes, m.OneToOne = slices.Clone(as.named), nil, nil, nil
	for _, s := range as.Masq {
		if s = p.Segment(s.Name); s != nil {
			m.Masq = append(m.Masq, s)
		}
	}
	for _, v := range as.Publishes {
		if v.To = p.Same(v.To); v.To != nil {
			m.Publishes = append(m.Publishes, v)
		}
	}
	for _, o := range as.OneToOne {
		if o.To = p.Same(o.To); o.To != nil {
			m.OneToOne = append(m.OneToOne, o)
		}
	}
}

// Same returns the adapter of this plan that is another plan's: of a machine of the
// same name, in the same place; nil when there is none.
func (p *Plan) Same(of *Adapter) *Adapter {
	m := p.Machine(of.Machine.Name)
	i := slices.Index(of.Machine.Adapters, of)
	if m == nil || i < 0 || i >= len(m.Adapters) {
		return nil
	}
	return m.Adapters[i]
}

func (p *Plan) matches(list []Match) []Match {
	out := slices.Clone(list)
	for i := range out {
		if s := out[i].Segment; s != nil {
			out[i].Segment = p.Segment(s.Name)
		}
	}
	return out
}

// in returns a copy of a lease service in another plan.
func (v *Service) in(p *Plan) *Service {
	if v == nil {
		return nil
	}
	c := *v
	c.DNS, c.Reservations = slices.Clone(v.DNS), nil
	for _, r := range v.Reservations {
		if r = p.Same(r); r != nil {
			c.Reservations = append(c.Reservations, r)
		}
	}
	return &c
}
