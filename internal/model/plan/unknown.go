package plan

import (
	"net/netip"

	"openbastion/internal/model/lab"
)

// Unknown reports whether the segment is an upstream network that neither the lab file nor a survey
// gives. The simulation then uses placeholders, which are never shown as the site's.
func (s *Segment) Unknown() bool {
	return s.Assumed || s.Bridged != nil && s.Planned && s.Bridged.Unknown()
}

// KnownSubnet returns the subnet; the zero Prefix where it is unknown.
func (s *Segment) KnownSubnet() netip.Prefix {
	if s.Unknown() {
		return netip.Prefix{}
	}
	return s.Subnet
}

// SubnetText returns the subnet, or "unknown network".
func (s *Segment) SubnetText() string {
	if s.Unknown() {
		return "unknown network"
	}
	return s.Subnet.String()
}

// KnownGateway returns the gateway; the zero Addr where it is unknown.
func (s *Segment) KnownGateway() netip.Addr {
	if s.Unknown() && !s.Lab.Gateway.IsValid() {
		return netip.Addr{}
	}
	return s.Gateway
}

// Unknown reports whether the adapter's address is a placeholder: it was to be chosen, on a network
// that is unknown.
func (a *Adapter) Unknown() bool { return a.Segment.Unknown() && a.Planned && a.Address.IsValid() }

// KnownGateway returns the default gateway that is set on the adapter; the zero Addr where it is
// unknown.
func (a *Adapter) KnownGateway() netip.Addr {
	if a.Segment.Unknown() && a.Gateway == a.Segment.Gateway && !a.Segment.Lab.Gateway.IsValid() {
		return netip.Addr{}
	}
	return a.Gateway
}

// unknown reports whether the pool was chosen on a network that is unknown.
func (v *Service) unknown(s *Segment) bool { return v.Planned && s.Unknown() }

// PoolText returns the pool of the adapter's DHCP server, or "unknown".
func (a *Adapter) PoolText() string {
	if a.Leases.unknown(a.Segment) {
		return "unknown"
	}
	return a.Leases.Pool.String()
}

// Undetermined returns the segment whose unknown network the settings of an appliance depend on:
// one of its inside ports is there, or it bridges it. It returns nil where there is none.
func (p *Plan) Undetermined() *Segment {
	for _, m := range p.Appliances() {
		for _, a := range m.Adapters {
			if a.Unknown() && a.Role != "wan" || a.Segment.Bridged != nil && a.Segment.Unknown() {
				return a.Segment
			}
		}
	}
	return nil
}

// facts returns what is known of an appliance: the profile that the file names, else only what any
// console asks for in some way.
func facts(a *lab.Appliance, simulated *lab.Profile) *lab.Profile {
	if a.Profile != "" {
		return simulated
	}
	return &lab.Profile{Console: []lab.Topic{lab.Side, lab.Tags, lab.Way, lab.Addressed, lab.Leasing, lab.Named, lab.Resolvers}}
}
