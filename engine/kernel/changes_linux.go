package kernel

import (
	"fmt"
	"slices"

	"openbastion/core/plan"
)

// Changes says what Up makes of a plan, a line for each thing.
func Changes(p *plan.Plan) []string {
	var out []string
	number := 0
	for _, m := range append(slices.Clone(p.Appliances()), p.Guests()...) {
		is, why := real(m)
		if !is {
			if why != "" {
				out = append(out, why)
			}
			continue
		}
		what := "a network namespace for guest " + m.Name
		if m.Appliance != nil {
			what = fmt.Sprintf("a network namespace for appliance %s, with %d rules, a lease server where it is planned, and a resolver", m.Name,
				len(m.Rules))
		}
		out = append(out, what)
		for _, a := range m.Adapters {
			number++
			where := "nowhere yet"
			if !a.Segment.Nowhere() {
				where = "segment " + a.Segment.Name
			}
			out = append(out, fmt.Sprintf("a cable from its %s (%s) to v%d in the switch's namespace: %s", device(a), a.MAC, number, where))
		}
	}
	return append(out, "a network namespace for the program's switch, with the outside: a router and the witness, which are simulated")
}

// HostChanges says what joining a lab to this machine's network changes on it.
func HostChanges(lab string) []string {
	return []string{
		fmt.Sprintf("a device %s, with an address of %s that no network here overlaps", HostLink(lab), linkPool),
		fmt.Sprintf("a table %s of the packet filter: what comes from that device is translated, and nothing gets in by it unasked", hostTable(lab)),
		"the setting net.ipv4.ip_forward, where it is off",
	}
}
