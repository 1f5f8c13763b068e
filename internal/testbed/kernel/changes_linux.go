package kernel

import (
	"fmt"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Changes returns what Up makes of a plan, a line for each thing.
func Changes(p *plan.Plan) []string {
	var out []string
	number := 0
	for _, m := range p.Machines {
		is, why := Carries(m)
		if !is {
			if why != "" {
				out = append(out, why)
			}
			continue
		}
		what := "a network namespace for guest " + m.Name
		if m.Appliance != nil {
			what = fmt.Sprintf(
				"a network namespace for appliance %s, with %d rules, a DHCP server where it is planned, and a DNS server",
				m.Name,
				len(m.Rules),
			)
		}
		out = append(out, what)
		for _, a := range m.Adapters {
			number++
			where := "nowhere yet"
			if !a.Segment.Nowhere() {
				where = "segment " + a.Segment.Name
			}
			out = append(
				out,
				fmt.Sprintf(
					"a cable from its %s (%s) to v%d in the switch's namespace: %s",
					device(a),
					a.MAC,
					number,
					where,
				),
			)
		}
	}
	return append(
		out,
		"a network namespace for the program's switch, with the outside: a router and the test server, which are simulated",
	)
}

// HostChanges returns what joining a lab to this machine's network does on it.
func HostChanges(p *plan.Plan) (out []string) {
	translated := false
	for _, s := range p.Segments {
		switch {
		case s.Reach != lab.Upstream:
		case bridges(s):
			out = append(
				out,
				fmt.Sprintf(
					"a socket on adapter %s that receives and sends frames there for %s; the adapter is unchanged",
					s.Lab.Uplink,
					s.Name,
				),
			)
		default:
			translated = true
		}
	}
	if !translated {
		return out
	}
	return append(
		out,
		fmt.Sprintf("a device %s, with an address of %s that no network here overlaps", HostLink(p.Name), linkPool),
		fmt.Sprintf(
			"a table %s of the packet filter: what comes from that device is translated, reaches no service of this "+
				"machine but its DNS server, and nothing gets in by it unasked",
			hostTable(p.Name),
		),
		"the setting net.ipv4.ip_forward, where it is off, with a table that passes on nobody else's packets",
	)
}
