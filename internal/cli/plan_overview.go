package cli

import (
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// overviewTables are what one needs to build the lab: adapters with their attachment, addresses
// with DHCP, NAT and rules.
func overviewTables(p *plan.Plan) []section {
	out := []section{{"Adapters", overviewAdapters(p)}, {"Addresses and DHCP", overviewAddresses(p)}}
	return append(append(out, natTables(p)...), ruleTables(p)...)
}

// mostAlike is how many alike guests of a segment are still listed one by one.
const mostAlike = 8

// alikeGuests returns, for the first of more than mostAlike guests that differ in name and address
// only, the adapters of all of them; the others of the group are in rest.
func alikeGuests(p *plan.Plan) (first map[*plan.Adapter][]*plan.Adapter, rest map[*plan.Adapter]bool) {
	first, rest = map[*plan.Adapter][]*plan.Adapter{}, map[*plan.Adapter]bool{}
	groups := map[string][]*plan.Adapter{}
	var order []string
	for _, m := range p.Machines {
		if m.Guest == nil || len(m.Adapters) != 1 {
			continue
		}
		a := m.Adapters[0]
		key := strings.Join(
			[]string{a.Segment.Name, string(a.How), a.Attach, fmt.Sprint(a.Plugged, a.MACGiven, a.Gateway)},
			"|",
		)
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], a)
	}
	for _, key := range order {
		if g := groups[key]; len(g) > mostAlike {
			first[g[0]] = g
			for _, a := range g[1:] {
				rest[a] = true
			}
		}
	}
	return first, rest
}

// spanned returns the name of a group of machines, such as "guest1 … guest40 (40)".
func spanned(g []*plan.Adapter) string {
	return fmt.Sprintf("%s … %s (%d)", g[0].Machine.Name, g[len(g)-1].Machine.Name, len(g))
}

func overviewAdapters(p *plan.Plan) table {
	t := table{head: []string{"machine", "no.", "port", "MAC address", "attach to"}}
	groups, rest := alikeGuests(p)
	for _, a := range p.Adapters {
		if rest[a] {
			continue
		}
		name, port, hardware := a.Machine.Name, a.Name, starred(a.MAC.String(), !a.MACGiven)
		if a.Guest != nil {
			port = ""
		}
		if g := groups[a]; g != nil {
			name, hardware = spanned(g), "(--part adapters)"
		}
		t.add(name, fmt.Sprint(a.Number), cell{port, roleStyle(a.Role)}, hardware, attachment(a))
	}
	return t
}

// attachment returns which network an adapter is attached to, and what is special about it.
func attachment(a *plan.Adapter) string {
	how := a.Attach
	if a.Later() {
		how += "; connected once the appliance is set up"
	}
	if !a.Plugged && a.Role != lab.Unused && !a.Segment.Nowhere() {
		how = "unplugged; " + how
	}
	if a.Port != nil && a.Port.Joins != "" {
		how += ", joined with " + a.Port.Joins
	}
	return how
}

func overviewAddresses(p *plan.Plan) table {
	t := table{head: []string{"segment", "subnet", "machine", "address", "gateway"}}
	groups, rest := alikeGuests(p)
	for _, seg := range p.Segments {
		name, net := segmentCell(seg), subnetText(seg)
		row := func(machine, address, gateway string) {
			t.add(name, net, machine, address, gateway)
			name, net = cell{}, ""
		}
		if seg.HostLeg.IsValid() {
			row("host", starred(seg.HostLeg.String(), !seg.Lab.HostAddress.IsValid()), "")
		}
		for _, a := range seg.Adapters {
			if rest[a] {
				continue
			}
			machine := a.Machine.Name
			if a.Port != nil && a.Name != "" {
				machine += "." + a.Name
			}
			if g := groups[a]; g != nil {
				machine = spanned(g)
			}
			row(machine, addressed(a), gatewayText(a))
		}
		if pool := served(seg); pool != "" {
			row("DHCP", pool, "")
		}
	}
	return t
}

// addressed returns an adapter's address, or how it gets one.
func addressed(a *plan.Adapter) string {
	text := a.Shown()
	if a.How == plan.Lease {
		text = "DHCP"
	}
	if a.Address.IsValid() && !a.Unknown() {
		text = starred(a.Address.String(), a.Planned)
		if a.How == plan.Reservation {
			text += ", reserved"
		}
	}
	if a.Address6.IsValid() {
		text += " " + starred(a.Address6.String(), true)
	}
	return text
}

func gatewayText(a *plan.Adapter) string {
	switch {
	case a.KnownGateway().IsValid() && a.How == plan.Static:
		return a.Gateway.String()
	case a.Guest != nil && a.How != plan.Static:
		return "DHCP"
	}
	return ""
}

// subnetText returns a segment's subnet, marked where the plan chose it; an upstream network that
// neither the file nor a survey gives is unknown.
func subnetText(seg *plan.Segment) string {
	switch {
	case !seg.Subnet.IsValid():
		return ""
	case seg.Unknown():
		return "unknown"
	}
	return starred(seg.Subnet.String(), seg.Planned)
}

// served returns the DHCP server and the pool of a segment.
func served(seg *plan.Segment) string {
	switch {
	case seg.Port != nil && seg.Port.Leases != nil:
		return starred(seg.Port.PoolText(), seg.Port.Leases.Planned) + ", from " + seg.Port.Machine.Name
	case seg.HostPool != nil:
		return starred(seg.HostPool.String(), true) + ", from the host"
	}
	return ""
}

// planLegend explains the mark of chosen values, where there are any.
func planLegend(p *plan.Plan) string {
	for _, a := range p.Adapters {
		if !a.MACGiven || a.Planned {
			return "* chosen, as the lab file does not set it; `bastion plan --write` writes it into the file. "
		}
	}
	return ""
}
