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
	if p.Lab.IPv6 {
		add(p.Lab.At("ipv6"), "ipv6")
	}
	return faults
}
