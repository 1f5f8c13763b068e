package check

import (
	"fmt"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// wires are the findings about tags, switches and what shares a wire.
func wires() []Entry {
	return []Entry{
		{
			Code: "vlan-clash", Severity: Error, Title: "A VLAN tag that cannot work",
			See:    "Guests of one tagged segment see those of another, or none.",
			Why:    "On one wire each tag (1 to 4094) names one segment, and a tagged segment cannot carry another.",
			Remedy: "Choose a free tag from 1 to 4094.",
			Old:    "  pool: {reach: isolated,",
			Bad:    "  pool: {reach: isolated, within: desks, vlan: 4095,",
			find:   (*checker).tagClash,
		},
		{
			Code: "vlan-not-carried", Severity: Error, Title: "A VLAN that the appliance does not receive",
			See:    "Guests of the tagged segment get no address; the appliance never receives their frames.",
			Why:    "A tagged segment reaches the appliance over the port that carries it, or over its own adapter.",
			Remedy: "Add over: with the carrying port.",
			Old:    "      - {role: lan, name: loft, segment: loft, over: lan}\n",
			find:   (*checker).tagUnheard,
		},
		{
			Code: "refusing-switch", Severity: Error, Title: "A switch that refuses foreign MAC addresses",
			See:    "Packets enter the bridge but do not leave on the other side.",
			Why:    "A transparent appliance sends frames with its guests' MAC addresses; such a switch drops them.",
			Remedy: "Allow foreign MAC addresses on both sides.",
			Old:    "203.0.113.1, foreign-macs: allow",
			Bad:    "203.0.113.1, foreign-macs: refuse",
			find:   (*checker).refusingSwitch,
		},
		{
			Code: "rogue-advertisements", Severity: Error, Title: "Rogue router advertisements",
			See:    "Guests have an unplanned IPv6 address, and reach outside over IPv6.",
			Why:    "Whoever advertises a prefix becomes the guests' IPv6 router, and IPv4 rules do not apply.",
			Remedy: "Disable the other router's advertisements.",
			Old:    "  desks: {reach: isolated,",
			Bad:    "  desks: {reach: isolated, router-advertisements: true,",
			find:   (*checker).v6Door,
		},
		{
			Code: "shared-roles", Severity: Warning, Title: "Two ports on one segment",
			See:    "The appliance reports two interfaces on one network, or answers on the wrong one.",
			Why:    "Guests can reach a management port on their segment; two inside ports on one segment confuse the appliance unless they are joined.",
			Remedy: "Give the port its own segment, or write joins: if it is meant.",
			Old:    "{role: lan, name: sealed, segment: pool,",
			Bad:    "{role: manage, name: console, segment: desks, mac: '02:00:00:00:01:09'}\n      - {role: lan, name: sealed, segment: pool,",
			find:   (*checker).sharedRoles,
		},
		{
			Code: "bridge-loop", Severity: Error, Title: "A bridge loop",
			See:    "The network stops, and every link light blinks.",
			Why:    "Where both sides of a transparent appliance end on one wire, frames circulate forever.",
			Remedy: "Put the two sides on separate wires.",
			Old:    "{role: lan, segment: desks,",
			Bad:    "{role: lan, segment: road,",
			find:   (*checker).bridgeLoop,
		},
		{
			Code: "twin-appliance", Severity: Error, Title: "Two appliances in one place",
			See:    "Guests lose their connections alternately.",
			Why:    "Two appliances with one address, or both serving DHCP on one segment, conflict.",
			Remedy: "Leave the address and DHCP to one of them.",
			Old:    "guests:",
			Bad:    "  spare: {ports: [{role: wan, segment: road, mac: '02:00:00:00:02:01'}, {role: lan, segment: desks, address: 10.83.16.3/24, mac: '02:00:00:00:02:02'}]}\nguests:",
			find:   (*checker).twinAppliance,
		},
	}
}

func (c *checker) tagClash() {
	for _, w := range c.p.Wires {
		first := map[int]*plan.Segment{}
		for _, s := range w.Segments {
			if s.Lab.Within == "" {
				continue
			}
			parent := c.p.Segment(s.Lab.Within)
			switch old := first[s.Tag]; {
			case s.Tag < 1 || s.Tag > 4094:
				c.find(
					s.Name,
					s.Lab.At("vlan"),
					"choose a tag from 1 to 4094",
					"%s has tag %d, and tags go from 1 to 4094",
					s.Name,
					s.Tag,
				)
			case parent.Lab.Within != "":
				c.find(s.Name, s.Lab.At("within"), "write within: "+w.Name, "%s is within %s, which is tagged itself", s.Name, parent.Name).
					set(s.Lab,
						"within", w.Name)
			case old != nil:
				c.find(
					s.Name,
					s.Lab.At("vlan"),
					"choose another tag",
					"%s has tag %d, and so has %s on the same wire",
					s.Name,
					s.Tag,
					old.Name,
				)
			default:
				first[s.Tag] = s
			}
		}
	}
}

func (c *checker) tagUnheard() {
	for _, s := range c.p.Segments {
		if s.Lab.Within == "" {
			continue
		}
		guests, heard := 0, false
		first := ""
		for _, a := range s.Adapters {
			if a.Guest != nil {
				if guests++; first == "" {
					first = a.Machine.Name
				}
				continue
			}
			heard = heard || a.Over == nil || a.Over.Segment.Wire == s.Wire
		}
		if guests > 0 && !heard {
			c.find(
				s.Name,
				s.Lab.At("within"),
				fmt.Sprintf(
					"add a port {role: lan, segment: %s, over: …} to the appliance on %s",
					s.Name,
					s.Lab.Within,
				),
				"%s on %s, tag %d of %s, and no appliance has a port for it",
				crowd(first, guests),
				s.Name,
				s.Tag,
				s.Wire.Name,
			)
		}
	}
}

func (c *checker) refusingSwitch() {
	for _, m := range c.p.Running() {
		if !m.Transparent() {
			continue
		}
		for _, a := range m.Adapters {
			if s := a.Segment; a.Role != lab.Manage && s.Lab.ForeignMACs == "refuse" {
				c.find(
					s.Name,
					s.Lab.At("foreign-macs"),
					"write foreign-macs: allow",
					"%s bridges %s, whose switch drops frames with its guests' MAC addresses",
					m.Name,
					s.Name,
				).set(s.Lab, "foreign-macs", "allow")
			}
		}
	}
}

func (c *checker) v6Door() {
	for _, s := range c.p.Segments {
		if s.Inside() && s.Lab.RouterAdvertisements {
			c.find(s.Name, s.Lab.At("router-advertisements"), "find what announces it and switch it off",
				"something that is not the appliance announces IPv6 on %s", s.Name)
		}
	}
}

func (c *checker) sharedRoles() {
	for _, m := range c.p.Running() {
		first := map[*plan.Segment]*plan.Adapter{}
		for _, a := range m.Adapters {
			if a.Segment.Nowhere() {
				continue
			}
			old := first[a.Segment]
			switch {
			case old == nil:
				first[a.Segment] = a
			case old.Role == lab.Manage && a.Role == lab.Manage: // one to manage it by, one to diagnose
			case old.Role == lab.Manage || a.Role == lab.Manage:
				c.find(
					portName(a),
					a.Pos,
					"give the manage port its own segment",
					"ports %s and %s of %s share %s, and one is the management port",
					old.Name,
					a.Name,
					m.Name,
					a.Segment.Name,
				)
			case old.Role == a.Role && a.Role.Inside() && a.Port.Joins == "":
				c.find(portName(a), a.Pos, "write joins: "+old.Name+", or set another segment", "ports %s and %s of %s are both on %s", old.Name,
					a.Name, m.Name, a.Segment.Name).
					set(a.Port, "joins", old.Name)
			}
		}
	}
}

func (c *checker) bridgeLoop() {
	for _, m := range c.p.Running() {
		if !m.Transparent() {
			continue
		}
		sides := map[string]*plan.Adapter{}
		for _, a := range m.Adapters {
			if a.Role == lab.Manage || a.Role == lab.Unused || a.Segment.Nowhere() {
				continue
			}
			w := wireOf(a.Segment)
			if old := sides[w]; old != nil {
				c.find(
					portName(a),
					a.Pos,
					"put the two sides on two wires",
					"ports %s and %s of %s, which bridges them, both end on %s",
					old.Name,
					a.Name,
					m.Name,
					w,
				)
			}
			sides[w] = a
		}
	}
}

func (c *checker) twinAppliance() {
	for _, s := range c.p.Segments {
		var first, server *plan.Adapter
		for _, a := range s.Adapters {
			if a.Guest != nil || a.Over != nil && a.Leases == nil {
				continue
			}
			if first != nil && first.Machine != a.Machine && a.Address.IsValid() && first.Address.IsValid() &&
				a.Address.Addr() == first.Address.Addr() {
				c.find(
					portName(a),
					a.Pos,
					"give one of them another address",
					"%s and %s both have %s on %s",
					first.Machine.Name,
					a.Machine.Name,
					a.Address.Addr(),
					s.Name,
				)
			}
			if a.Port.Role.Inside() && server != nil && server.Machine != a.Machine && !a.Port.Leases.Off {
				c.find(portName(a), a.Pos, "write dhcp: none on one of them", "%s and %s would both serve DHCP on %s", server.Machine.Name,
					a.Machine.Name, s.Name).
					set(a.Port, "dhcp", "none")
			}
			if first == nil {
				first = a
			}
			if server == nil && a.Role.Inside() && !a.Port.Leases.Off {
				server = a
			}
		}
	}
}
