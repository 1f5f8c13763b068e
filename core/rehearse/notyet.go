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
	}
	for _, m := range p.Appliances() {
		for _, a := range m.Adapters {
			if a.How == plan.FromAbove && a.Port.Address.How == "pppoe" {
				add(a.Port.At("address"), "address: pppoe")
			}
		}
	}
	if p.Lab.IPv6 {
		add(p.Lab.At("ipv6"), "ipv6")
	}
	return faults
}
