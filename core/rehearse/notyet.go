package rehearse

import (
	"openbastion/core/lab"
	"openbastion/core/plan"
)

// notYet lists what the lab file says and a rehearsal does not act on yet.
func notYet(p *plan.Plan) lab.Faults {
	var faults lab.Faults
	add := func(pos lab.Pos, key string) { faults = append(faults, p.Lab.NotYet(pos, key, "rehearse")) }
	for _, s := range p.Segments {
		src := s.Lab
		if src.RouterAdvertisements {
			add(src.At("router-advertisements"), "router-advertisements")
		}
		if src.ForeignMACs == "refuse" {
			add(src.At("foreign-macs"), "foreign-macs: refuse")
		}
		if p.Lab.Guest(src.Leases) != nil {
			add(src.At("leases"), "leases handed out by a guest")
		}
	}
	for _, m := range p.Appliances() {
		src := m.Appliance
		if src.Kind != "routed" {
			add(src.At("kind"), "kind: "+src.Kind)
		}
		if len(src.NAT.OneToOne) > 0 {
			add(src.NAT.At("one-to-one"), "one-to-one")
		}
		wans := 0
		for _, a := range m.Adapters {
			if a.Role == lab.WAN {
				wans++
			}
			if a.How == plan.FromAbove && a.Port.Address.How == "pppoe" {
				add(a.Port.At("address"), "address: pppoe")
			}
			if a.Port.DropPrivate {
				add(a.Port.At("drop-private"), "drop-private")
			}
			if a.Role == lab.WAN && wans > 1 {
				add(a.Pos, "a second WAN port")
			}
			if a.Role == lab.WAN && a.Segment.Reach != lab.Upstream && !a.Segment.Inside() {
				add(a.Pos, "a WAN port on a segment that leads nowhere")
			}
			if a.Port.Joins != "" {
				add(a.Port.At("joins"), "joins")
			}
		}
		if wans == 0 && src.Kind == "routed" {
			add(src.Pos, "an appliance without a WAN port")
		}
	}
	if p.Lab.IPv6 {
		add(p.Lab.At("ipv6"), "ipv6")
	}
	return faults
}
