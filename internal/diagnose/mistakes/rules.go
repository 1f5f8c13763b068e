package mistakes

import (
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

var ruleKinds = []*Kind{
	{Name: "rule-missing", Family: Filtering, Weight: 5, Finding: "no-path-outside",
		Says:   "{machine} lacks the rule \"{rule}\"",
		Why:    "the next matching rule decides instead, or the default deny",
		Look:   "on the admin page of {machine}, look for the rule, and whether it is on",
		Remedy: "add the rule \"{rule}\" to {machine} in its place, and apply the change",
		places: rules(func(m *plan.Machine, i int) bool { return true }), settings: func(b *Built, at Place) {
			b.takeRule(at)
		}},
	{Name: "rule-too-late", Family: Filtering, Weight: 4, Finding: "shadowed-rule",
		Says:   "on {machine} the rule \"{rule}\" comes after rules that allow the same",
		Why:    "the first matching rule decides: an earlier one allows what this rule should deny",
		Look:   "on the admin page of {machine}, check the rules from the top",
		Remedy: "move the rule \"{rule}\" before those that allow, and apply the change",
		places: rules(func(m *plan.Machine, i int) bool {
			return m.Rules[i].Action != lab.Allow &&
				slices.ContainsFunc(m.Rules[i+1:], func(r plan.Rule) bool { return r.Action == lab.Allow })
		}),
		settings: func(b *Built, at Place) {
			m := b.machine(at.Machine)
			m.Rules = append(m.Rules, b.takeRule(at)...)
		}},
	{Name: "rule-by-tcp-only", Family: Filtering, Weight: 4, Finding: "",
		Says:   "on {machine} the rule \"{rule}\" allows TCP alone",
		Why:    "web pages open by IP address, but ping and time do not pass",
		Look:   "on the admin page of {machine}, check the protocol of the rule",
		Remedy: "write the rule \"{rule}\" as planned, and apply the change",
		places: rules(anyAllowed), settings: func(b *Built, at Place) {
			b.rule(at).Services = []lab.Service{{Proto: lab.TCP}}
		}},
	{Name: "rule-without-ping", Family: Filtering, Weight: 3, Finding: "",
		Says:   "on {machine} the rule \"{rule}\" allows TCP and UDP, and no ICMP",
		Why:    "everything works but ping",
		Look:   "on the admin page of {machine}, check the protocol of the rule",
		Remedy: "write the rule \"{rule}\" as planned, and apply the change",
		places: rules(anyAllowed), settings: func(b *Built, at Place) {
			b.rule(at).Services = []lab.Service{{Proto: lab.TCP}, {Proto: lab.UDP}}
		}},
	{Name: "rule-for-other-segment", Family: Filtering, Weight: 3, Finding: "",
		Says:   "on {machine} the rule \"{rule}\" has the wrong source",
		Why:    "the rule allows another segment instead of this one",
		Look:   "on the admin page of {machine}, check the source of the rule",
		Remedy: "write the rule \"{rule}\" as planned, and apply the change",
		places: rules(
			func(m *plan.Machine, i int) bool { return m.Rules[i].Action == lab.Allow && wrongSource(m, i) != nil },
		),
		settings: func(b *Built, at Place) {
			s := b.segment(wrongSource(at.Machine, at.Index-1))
			b.rule(at).From = []plan.Match{{Segment: s, Prefixes: []netip.Prefix{s.Subnet}}}
		}},
	{Name: "rules-all-open", Family: Filtering, Weight: 3, Finding: "open-inbound",
		Says:   "{machine} has a rule that allows everything, before all others",
		Why:    "everything works, including what should be denied",
		Look:   "on the admin page of {machine}, check the first rule",
		Remedy: "remove the rule that allows everything, and apply the change",
		places: machines(func(m *plan.Machine) bool { return len(m.Rules) > 0 }), settings: func(b *Built, at Place) {
			m := b.machine(at.Machine)
			m.Rules = append(
				[]plan.Rule{
					{Text: "allow any from any to any", Action: lab.Allow, Services: []lab.Service{{Proto: lab.Any}},
						From: []plan.Match{{Any: true}}, To: []plan.Match{{Any: true}}},
				},
				m.Rules...)
		}},
	{Name: "rules-missing", Family: Filtering, Weight: 5, Finding: "no-path-outside",
		Says:   "{machine} has no rules",
		Why:    "default deny: the appliance answers, but nothing passes it",
		Look:   "on the admin page of {machine}, count the rules",
		Remedy: "write the plan's rules into {machine}, and apply the change",
		places: machines(func(m *plan.Machine) bool { return len(m.Rules) > 1 }), settings: func(b *Built,
			at Place) {
			b.machine(at.Machine).Rules = nil
		}},
	{Name: "rules-not-applied", Family: Filtering, Weight: 5, Finding: "",
		Says:   "the changes to {machine} are pending: its factory rules still apply",
		Why:    "the first inside segment reaches outside, all others do not, and there are no port forwards",
		Look:   "on the admin page of {machine}, look for changes that are not applied yet",
		Remedy: "apply the changes on {machine}",
		places: machines(
			func(m *plan.Machine) bool { return m.Appliance.Has("rules") && insideOf(m) != nil },
		), settings: func(b *Built, at Place) {
			m, s := b.machine(at.Machine), b.segment(insideOf(at.Machine))
			m.Publishes, m.OneToOne = nil, nil
			m.Rules = []plan.Rule{
				{
					Text:     "allow any from " + s.Name + " to outside",
					Action:   lab.Allow,
					Services: []lab.Service{{Proto: lab.Any}},
					From: []plan.Match{
						{Segment: s, Prefixes: []netip.Prefix{s.Subnet}},
					},
					To: []plan.Match{{Outside: true}},
				},
			}
		}},
	{Name: "admin-outside", Family: Filtering, Weight: 3, Finding: "admin-outside",
		Says:   "the admin page of {machine} answers at {adapter}",
		Why:    "anyone outside can try passwords",
		Look:   "from outside, open the admin page at the WAN address",
		Remedy: "remove the admin page from {adapter}",
		places: ports(func(a *plan.Adapter) bool { return wan(a) && len(a.Admin) == 0 && adminOf(a.Machine) != nil }),
		settings: func(b *Built, at Place) {
			b.here(at.Adapter).Admin = adminOf(at.Adapter.Machine).Admin
		}},
	{Name: "admin-off", Family: Filtering, Weight: 3, Finding: "odd-admin",
		Says:   "the admin page does not answer at {adapter}",
		Why:    "everything else works, but {machine} cannot be managed from {home}",
		Look:   "on the console of {machine}, check on which ports the admin page listens",
		Remedy: "have the admin page of {machine} listen at {adapter}",
		places: ports(
			func(a *plan.Adapter) bool { return len(a.Admin) > 0 && a.Role != lab.WAN && guests(a.Segment) > 0 },
		),
		settings: func(b *Built, at Place) {
			b.here(at.Adapter).Admin = nil
		}},
}

var natKinds = []*Kind{
	{Name: "masquerade-off", Family: Translating, Weight: 5, Finding: "no-nat",
		Says:   "{machine} does not translate",
		Why:    "packets leave with inside source addresses, to which upstream has no return route",
		Look:   "on the admin page of {machine}, check whether masquerade is on for the WAN",
		Remedy: "switch masquerade on for the inside segments of {machine}",
		places: machines(func(m *plan.Machine) bool { return len(m.Masq) > 0 }), settings: func(b *Built,
			at Place) {
			b.machine(at.Machine).Masq = nil
		}},
	{Name: "masquerade-misses-segment", Family: Translating, Weight: 4, Finding: "no-nat",
		Says:   "{machine} does not translate {segment}",
		Why:    "only packets of {segment} leave with inside source addresses, to which upstream has no return route",
		Look:   "on the admin page of {machine}, check which networks have source NAT: {segment-subnet} must be among them",
		Remedy: "have {machine} translate {segment-subnet} too",
		places: func(p *plan.Plan) []Place {
			var out []Place
			for _, m := range p.Running() {
				for _, s := range m.Masq {
					if len(m.Masq) > 1 && guests(s) > 0 {
						out = append(out, Place{Machine: m, Segment: s})
					}
				}
			}
			return out
		},
		settings: func(b *Built, at Place) {
			m := b.machine(at.Machine)
			m.Masq = slices.DeleteFunc(m.Masq, func(s *plan.Segment) bool { return s.Name == at.Segment.Name })
		}},
	{Name: "publish-missing", Family: Translating, Weight: 4, Finding: "unreachable-expectation",
		Says:   "{machine} does not publish {publish} for {to}",
		Why:    "from outside nothing answers there",
		Look:   "on the admin page of {machine}, look for the port forward of {publish}",
		Remedy: "publish {publish} of {machine} to {target} of {to}",
		places: publishes, settings: func(b *Built, at Place) {
			m := b.machine(at.Machine)
			if i := b.publishAt(at); i >= 0 {
				m.Publishes = slices.Delete(m.Publishes, i, i+1)
			}
		}},
	{Name: "publish-wrong-port", Family: Translating, Weight: 4, Finding: "",
		Says:   "{machine} publishes {publish} to a port of {to} other than {target}",
		Why:    "another service of {to} answers, or none",
		Look:   "on the admin page of {machine}, check the target of the port forward {publish}",
		Remedy: "have {publish} go to {target} of {to}",
		places: publishes, settings: func(b *Built, at Place) {
			i := b.publishAt(at)
			if i < 0 {
				return
			}
			v := &b.machine(at.Machine).Publishes[i]
			v.Target = shut
			if b.Trouble.Shut == nil {
				b.Trouble.Shut = map[*plan.Machine]uint16{}
			}
			b.Trouble.Shut[v.To.Machine] = shut
		}},
	{Name: "publish-wrong-guest", Family: Translating, Weight: 4, Finding: "",
		Says:   "{machine} publishes {publish} to {other} instead of {to}",
		Why:    "another machine answers from outside",
		Look:   "on the admin page of {machine}, check the target of the port forward {publish}",
		Remedy: "have {publish} go to {target} of {to}",
		places: func(p *plan.Plan) []Place {
			var out []Place
			for _, at := range publishes(p) {
				to := at.Machine.Publishes[at.Index-1].To
				for _, x := range p.Guests() {
					if x != to.Machine && len(x.Adapters) > 0 && x.Adapters[0].Segment.Inside() &&
						x.Adapters[0].Address.IsValid() {
						at.Other = x.Adapters[0]
						out = append(out, at)
						break
					}
				}
			}
			return out
		},
		settings: func(b *Built, at Place) {
			if i := b.publishAt(at); i >= 0 {
				b.machine(at.Machine).Publishes[i].To = b.here(at.Other)
			}
		}},
	{Name: "published-service-down", Family: Operating, Weight: 5, Finding: "",
		Says:   "nothing listens at {target} on {to}",
		Why:    "the port forward works, but {to} rejects the sender",
		Look:   "on {to}, list its listening ports, and check its own filter",
		Remedy: "start the service of {to}, and let its own filter pass {target}",
		places: publishes, settings: func(b *Built, at Place) {
			b.Trouble.Silent = append(b.Trouble.Silent, b.machine(at.Machine.Publishes[at.Index-1].To.Machine))
		}},
	{Name: "one-to-one-missing", Family: Translating, Weight: 3, Finding: "",
		Says:   "{machine} does not translate an outside address to {other}",
		Why:    "{other} is seen under the appliance's own address, and its outside address does not answer",
		Look:   "on the admin page of {machine}, check the 1:1 NAT of {other}",
		Remedy: "enter the 1:1 NAT of {other} as planned",
		places: func(p *plan.Plan) []Place {
			var out []Place
			for _, m := range p.Running() {
				for i, o := range m.OneToOne {
					out = append(out, Place{Machine: m, Other: o.To, Index: i + 1})
				}
			}
			return out
		},
		settings: func(b *Built, at Place) {
			m, was := b.machine(at.Machine), at.Machine.OneToOne[at.Index-1]
			m.OneToOne = slices.DeleteFunc(m.OneToOne, func(o plan.OneToOne) bool { return o.Outside == was.Outside })
		}},
}

// shut is a port at which nobody in a lab listens.
const shut = 4

// rules returns a place for each rule of each running appliance, where fits.
func rules(fits func(m *plan.Machine, i int) bool) func(p *plan.Plan) []Place {
	return func(p *plan.Plan) []Place {
		var out []Place
		for _, m := range p.Running() {
			for i := range m.Rules {
				if fits(m, i) {
					out = append(out, Place{Machine: m, Index: i + 1})
				}
			}
		}
		return out
	}
}

func publishes(p *plan.Plan) []Place {
	var out []Place
	for _, m := range p.Running() {
		for i := range m.Publishes {
			out = append(out, Place{Machine: m, Index: i + 1})
		}
	}
	return out
}

// ruleAt returns where the rule of a place is in what is built, by its text and how many of that
// text come before it; -1 where another mistake took it away.
func (b *Built) ruleAt(at Place) int {
	was, before := at.Machine.Rules[at.Index-1], 0
	for _, r := range at.Machine.Rules[:at.Index-1] {
		if r.Text == was.Text {
			before++
		}
	}
	for i, r := range b.machine(at.Machine).Rules {
		if r.Text == was.Text {
			if before == 0 {
				return i
			}
			before--
		}
	}
	return -1
}

// rule returns what is built in the place of a rule; where that is gone, one of no lab, so that
// what is done to it changes nothing.
func (b *Built) rule(at Place) *plan.Rule {
	if i := b.ruleAt(at); i >= 0 {
		return &b.machine(at.Machine).Rules[i]
	}
	r := at.Machine.Rules[at.Index-1]
	return &r
}

// takeRule removes the rule of a place, and returns it, where it is still there.
func (b *Built) takeRule(at Place) []plan.Rule {
	m, i := b.machine(at.Machine), b.ruleAt(at)
	if i < 0 {
		return nil
	}
	r := m.Rules[i]
	m.Rules = slices.Delete(m.Rules, i, i+1)
	return []plan.Rule{r}
}

// publishAt returns where the port forward of a place is in what is built; -1 where it is gone.
func (b *Built) publishAt(at Place) int {
	was := at.Machine.Publishes[at.Index-1]
	return slices.IndexFunc(b.machine(at.Machine).Publishes, func(v plan.Publish) bool {
		return v.Proto == was.Proto && v.Port == was.Port
	})
}

// service returns the DHCP server of a port as it is built; where another mistake took it away, one
// of no lab, so that what is done to it changes nothing.
func (b *Built) service(a *plan.Adapter) *plan.Service {
	if v := b.here(a).Leases; v != nil {
		return v
	}
	gone := *a.Leases
	return &gone
}

// anyAllowed reports whether it is a rule that allows every protocol.
func anyAllowed(m *plan.Machine, i int) bool {
	r := m.Rules[i]
	return r.Action == lab.Allow &&
		slices.ContainsFunc(r.Services, func(s lab.Service) bool { return s.Proto == lab.Any })
}

// wrongSource returns a segment of the appliance that a rule is not for, or nil.
func wrongSource(m *plan.Machine, i int) *plan.Segment {
	from := map[*plan.Segment]bool{}
	for _, w := range m.Rules[i].From {
		if w.Segment == nil {
			return nil
		}
		from[w.Segment] = true
	}
	for _, a := range m.Adapters {
		if a.Role.Inside() && !from[a.Segment] && !a.Segment.Nowhere() {
			return a.Segment
		}
	}
	return nil
}

// insideOf returns the first segment that an appliance has inside, or nil.
func insideOf(m *plan.Machine) *plan.Segment {
	for _, a := range m.Adapters {
		if a.Role.Inside() && !a.Segment.Nowhere() {
			return a.Segment
		}
	}
	return nil
}

// adminOf returns a port at which the appliance is managed, or nil.
func adminOf(m *plan.Machine) *plan.Adapter {
	for _, a := range m.Adapters {
		if len(a.Admin) > 0 {
			return a
		}
	}
	return nil
}
