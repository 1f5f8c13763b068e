package check

import (
	"fmt"
	"slices"

	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// rules are the findings about translation and rules.
func rules() []Entry {
	return []Entry{
		{
			Code: "no-nat", Severity: Error, Title: "Inside addresses leave untranslated",
			See:    "Packets leave, but no reply comes back.",
			Why:    "Upstream has no route to the inside; it can reply to the WAN address only.",
			Remedy: "Masquerade the segment.",
			Old:    "    nat:\n",
			Bad:    "    nat:\n      masquerade: []\n",
			find:   (*checker).untranslated,
		},
		{
			Code: "no-path-outside", Severity: Error, Title: "Outside is expected, but no rule allows it",
			See:    "Guests reach the appliance but nothing beyond.",
			Why:    "What no rule allows is denied.",
			Remedy: "Add a rule that allows it.",
			Old:    "  - newt never reaches outside",
			Bad:    "  - newt reaches outside",
			find:   (*checker).noWayOut,
		},
		{
			Code: "private-wan-blocked", Severity: Error, Title: "Private sources are blocked on a private WAN",
			See:    "The appliance gets no replies from the local network: names do not resolve, and port forwards do not answer there.",
			Why:    "The option drops packets from private addresses; a private WAN has only such packets.",
			Remedy: "Disable the option.",
			Old:    "{role: wan, segment: road,",
			Bad:    "{role: wan, drop-private: true, segment: road,",
			find:   (*checker).privateWANDropped,
		},
		{
			Code: "double-nat", Severity: Note, Title: "Double NAT",
			See:    "A port forward answers on the local network but not beyond.",
			Why:    "The WAN address is private: the site's router translates again.",
			Remedy: "To publish beyond the site, forward the port on the site's router as well.",
			Old:    "road: {reach: upstream, uplink: enp1, subnet: 203.0.113.0/24, gateway: 203.0.113.1}",
			Bad:    "road: {reach: upstream, uplink: enp1, subnet: 172.29.64.0/24, gateway: 172.29.64.1}",
			find:   (*checker).nestedNAT,
		},
		{
			Code: "forward-to-changing-address", Severity: Warning, Title: "A port forward to a changing address",
			See:    "After some days the published page is another guest's.",
			Why:    "A port forward has a fixed target address; DHCP may give the guest another.",
			Remedy: "Reserve an address for the guest.",
			Old:    "to: ferry, at",
			Bad:    "to: heron, at",
			find:   (*checker).publishMoving,
		},
		{
			Code: "forward-clash", Severity: Error, Title: "Two port forwards on one port",
			See:    "One of the two never answers.",
			Why:    "An outside port can be forwarded to one target only.",
			Remedy: "Choose another outside port for one.",
			Old:    "- {port: tcp/8443, to: ferry, at: tcp/443}",
			Bad:    "- {port: tcp/8443, to: ferry, at: tcp/443}\n        - {port: tcp/8443, to: ferry, at: tcp/80}",
			find:   (*checker).publishClash,
		},
		{
			Code: "forward-denied", Severity: Error, Title: "A port forward that a rule denies",
			See:    "The published port does not answer from outside.",
			Why:    "Rules apply to published traffic as well.",
			Remedy: "Remove the rule, or allow the guest before it.",
			Old:    "      - deny any from pool to any",
			Bad:    "      - deny any from outside to any\n      - deny any from pool to any",
			find:   (*checker).publishDenied,
		},
		{
			Code: "admin-outside", Severity: Error, Title: "The admin page answers outside",
			See:    "Anyone upstream can try passwords.",
			Why:    "The admin page belongs inside.",
			Remedy: "Remove admin from the WAN port.",
			Old:    "{role: wan, segment: road,",
			Bad:    "{role: wan, admin: true, segment: road,",
			find:   (*checker).adminOutside,
		},
		{
			Code: "plain-admin", Severity: Warning, Title: "An unencrypted admin page",
			See:    "Anyone on the segment can read the password.",
			Why:    "HTTP and Telnet are not encrypted.",
			Remedy: "Use HTTPS or SSH.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, admin: tcp/80, address: 10.83.16.1/24,",
			find:   (*checker).plainAdmin,
		},
		{
			Code: "open-inbound", Severity: Error, Title: "A rule allows everything in",
			See:    "Guests are reachable from outside.",
			Why:    "A rule that allows any from outside defeats the appliance.",
			Remedy: "Publish the one port that is meant, and remove the rule.",
			Old:    "      - allow any from desks to outside",
			Bad:    "      - allow any from desks to outside\n      - allow any from outside to desks",
			find:   (*checker).openInbound,
		},
		{
			Code: "shadowed-rule", Severity: Warning, Title: "A shadowed rule",
			See:    "Nothing: the rule seems to work.",
			Why:    "Earlier rules decide everything that it matches.",
			Remedy: "Remove it, or move it up.",
			Old:    "      - allow any from desks to outside",
			Bad:    "      - allow any from desks to outside\n      - deny tcp/25 from desks to outside",
			find:   (*checker).deadRule,
		},
		{
			Code: "unreachable-expectation", Severity: Error, Title: "An expectation that the rules contradict",
			See:    "A test that cannot pass.",
			Why:    "The sentence and the rules disagree.",
			Remedy: "Change the rules or the sentence.",
			Old:    "  - newt never reaches outside",
			Bad:    "  - newt never reaches outside\n  - newt reaches heron tcp/22",
			find:   (*checker).unreachableExpectation,
		},
	}
}

func (c *checker) untranslated() {
	for _, m := range c.p.Running() {
		if m.Appliance.Kind != "routed" || len(m.WAN()) == 0 {
			continue
		}
		masq := map[*plan.Segment]bool{}
		for _, s := range m.Masq {
			masq[s] = true
		}
		done := map[*plan.Segment]bool{}
		for _, a := range m.Adapters {
			s := a.Segment
			if !a.Role.Inside() || masq[s] || done[s] || !subnet.Private(s.Subnet.Addr()) || ownOutside(m, s) {
				continue
			}
			done[s] = true
			back := func(w *plan.Adapter) bool { // upstream knows the way back
				return slices.ContainsFunc(w.Segment.Lab.Routes, func(r lab.Route) bool {
					return r.To.Overlaps(s.Subnet) &&
						r.To.Bits() <= s.Subnet.Bits()
				})
			}
			if len(c.passing(m, c.model().Lines(s), c.outside(m))) > 0 && !slices.ContainsFunc(m.WAN(), back) {
				c.find(
					s.Name,
					m.Appliance.NAT.At("masquerade"),
					"add "+s.Name+" to masquerade, or leave masquerade out",
					"%s may go outside, and %s does not translate %s",
					s.Name,
					m.Name,
					s.Subnet,
				)
			}
		}
	}
}

// ownOutside reports whether each guest of a segment leaves under an outside address of its own.
func ownOutside(m *plan.Machine, s *plan.Segment) bool {
	guests := 0
	for _, a := range s.Adapters {
		if a.Guest == nil {
			continue
		}
		if guests++; !slices.ContainsFunc(m.OneToOne, func(o plan.OneToOne) bool { return o.To == a }) {
			return false
		}
	}
	return guests > 0
}

func (c *checker) privateWANDropped() {
	for _, m := range c.p.Running() {
		for _, a := range m.WAN() {
			if a.Port.DropPrivate && subnet.Private(a.Segment.Subnet.Addr()) {
				c.find(
					portName(a),
					a.Port.At("drop-private"),
					"write drop-private: false",
					"port %s of %s drops packets from private sources, and %s is private itself",
					a.Name,
					m.Name,
					a.Segment.Subnet,
				).set(a.Port,
					"drop-private", "false")
			}
		}
	}
}

func (c *checker) nestedNAT() {
	for _, m := range c.p.Running() {
		for _, a := range m.WAN() {
			if a.Segment.Reach == lab.Upstream && subnet.Private(a.Segment.Subnet.Addr()) && !a.Segment.Assumed {
				c.find(portName(a), a.Pos, "to publish beyond the site, forward there as well",
					"the WAN of %s is on %s: it is behind another NAT", m.Name, a.Segment.Subnet)
			}
		}
	}
}

func (c *checker) publishMoving() {
	for _, m := range c.p.Running() {
		for i := range m.Publishes {
			if v := &m.Publishes[i]; !v.To.Address.IsValid() {
				c.find(
					v.To.Machine.Name,
					v.Lab.Pos,
					"reserve an address for "+v.To.Machine.Name,
					"%s/%d is forwarded to %s, whose lease may change",
					v.Proto,
					v.Port,
					v.To.Machine.Name,
				)
			}
		}
	}
}

func (c *checker) publishClash() {
	for _, m := range c.p.Running() {
		taken := map[string]string{}
		for _, a := range m.WAN() {
			for _, s := range a.Admin {
				taken[fmt.Sprintf("tcp/%d", s.Port)] = "the admin page"
			}
		}
		for i := range m.Publishes {
			v := &m.Publishes[i]
			key := fmt.Sprintf("%s/%d", v.Proto, v.Port)
			if old, ok := taken[key]; ok {
				c.find(
					v.To.Machine.Name,
					v.Lab.Pos,
					"choose another outside port",
					"%s is published to %s, and %s has it already",
					key,
					v.To.Machine.Name,
					old,
				)
				continue
			}
			taken[key] = "the publish to " + v.To.Machine.Name
		}
	}
}

func (c *checker) publishDenied() {
	for _, m := range c.p.Running() {
		for i := range m.Publishes {
			v := &m.Publishes[i]
			if !v.To.Address.IsValid() {
				continue
			}
			packets := packetset.Packets{Source: c.outside(m), Destination: c.one(v.To),
				Service: packetset.Service(lab.Service{Proto: v.Proto, From: v.Target, To: v.Target})}
			left := []packetset.Packets{packets}
			for j, r := range c.sets(m) {
				if slices.ContainsFunc(left, r.Meets) && m.Rules[j].Action == lab.Allow {
					break // some of the outside gets in, as a list of who may not can mean to
				}
				if left = packetset.Without(left, r); len(left) == 0 {
					c.find(
						v.To.Machine.Name,
						v.Lab.Pos,
						"remove the rule, or allow it before",
						"%s/%d is published to %s, and the rule %q denies it",
						v.Proto,
						v.Port,
						v.To.Machine.Name,
						m.Rules[j].Text,
					)
					break
				}
			}
		}
	}
}

func (c *checker) adminOutside() {
	for _, m := range c.p.Running() {
		for _, a := range m.Adapters {
			if a.Admin == nil || a.Role != lab.WAN && (a.Segment.Reach != lab.Upstream || a.Segment.Inside()) {
				continue
			}
			where := "its WAN"
			if a.Role != lab.WAN {
				where = a.Segment.Name + ", which is upstream"
			}
			f := c.find(portName(a), a.Port.At("admin"), "write admin: false", "the admin page of %s answers on %s, tcp/%d", m.Name,
				where, a.Admin[0].Port).
				set(a.Port, "admin", "false")
			if !slices.ContainsFunc(m.WAN(), func(w *plan.Adapter) bool { return w.Segment == a.Segment }) {
				f.as(Warning) // a network of the site that it is managed from
			}
		}
	}
}

func (c *checker) plainAdmin() {
	for _, m := range c.p.Running() {
		for _, a := range m.Adapters {
			for _, s := range a.Admin {
				switch {
				case !s.Plain():
				case len(m.Appliance.AdminServices) > 0:
					c.find(portName(a), m.Appliance.At("admin-services"), "take it off the list, or write https or ssh",
						"%s is managed by %s, in plain text", m.Name, s)
				default:
					c.find(
						portName(a),
						a.Port.At("admin"),
						"write admin: tcp/443",
						"the admin page of %s answers on tcp/%d, in plain text",
						m.Name,
						s.Port,
					).set(a.Port, "admin", "tcp/443")
				}
			}
		}
	}
}

func (c *checker) openInbound() {
	for _, m := range c.p.Running() {
		for i, r := range c.sets(m) {
			rule := &m.Rules[i]
			if rule.Lab == nil || rule.Action != lab.Allow {
				continue
			}
			in := packetset.Packets{Source: c.outside(m), Destination: c.inside(m), Service: packetset.AllServices}
			if !r.Meets(in) || !c.model().Space().More(r.Source.And(in.Source), 1<<16) {
				continue
			}
			left := []packetset.Packets{r.And(in)}
			for _, meant := range c.meantInbound(m) { // what is published needs its rule on many an appliance
				left = packetset.Without(left, meant)
			}
			if len(left) == 0 {
				continue
			}
			f := c.find(
				fmt.Sprintf("%s rule %d", m.Name, i+1),
				rule.Lab.Pos,
				"publish the one port that is meant, and remove the rule",
				"%q lets packets from outside in",
				rule.Text,
			)
			if !slices.ContainsFunc(
				rule.Services,
				func(s lab.Service) bool { return s.Proto == lab.Any || s.AllPorts() && s.Proto != lab.ICMP },
			) {
				f.as(Warning)
			}
		}
	}
}
