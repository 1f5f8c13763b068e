package lab

import (
	"cmp"
	"fmt"
)

// complete checks what no single key can: that names lead somewhere, that what
// belongs together is there. What is well written but unwise is left to
// findings.
func (r *reader) complete(l *Lab) {
	if l.Version == 0 && !l.Has("bastion") {
		r.fail(Pos{Line: 1, Column: 1}, "the format version is missing; write `bastion: 1` as the first line")
	}
	if l.Name == "" && !l.Has("lab") {
		r.fail(Pos{Line: 1, Column: 1}, "the lab has no name; write `lab: NAME`")
	}
	for _, s := range l.Segments {
		r.known(l, s.Name, "segment", s, s.Pos)
	}
	for _, a := range l.Appliances {
		r.known(l, a.Name, "appliance", a, a.Pos)
	}
	for _, g := range l.Guests {
		r.known(l, g.Name, "guest", g, g.Pos)
	}
	called := map[string]*Segment{}
	for _, s := range l.Segments {
		r.completeSegment(l, s)
		name := cmp.Or(s.KnownAs, s.Name)
		if old := called[name]; old != nil && (s.KnownAs != "" || old.KnownAs != "") {
			r.fail(
				s.At("known-as"),
				"segments %s and %s are both known as %q; a hypervisor could not distinguish them",
				old.Name,
				s.Name,
				name,
			)
		}
		called[name] = s
	}
	for _, a := range l.Appliances {
		r.completeAppliance(l, a)
	}
	for _, g := range l.Guests {
		if g.Has("adapters") {
			for _, f := range adapterFields() {
				if g.Has(f.name) {
					r.fail(
						g.At(f.name),
						"%s belongs to one adapter, and this guest lists adapters; write it in the list",
						f.name,
					)
				}
			}
		}
		if len(g.Adapters) == 0 {
			g.Adapters = []Adapter{{Plugged: true, Origin: Origin{Pos: g.Pos, body: g.body}}}
		}
		for i := range g.Adapters {
			a := &g.Adapters[i]
			r.segment(l, a.Segment, a.At("segment"))
			if a.Reserve.IsValid() && a.Static.IsValid() {
				r.fail(a.At("static"), "guest %s has both a reservation and a static address; keep one", g.Name)
			}
		}
	}
	for i := range l.Expect {
		e := &l.Expect[i]
		r.who(l, &e.From, e.Pos)
		r.who(l, &e.To, e.Pos)
	}
	l.findOpen()
}

func (r *reader) known(l *Lab, name, what string, v any, at Pos) {
	if name == later {
		r.fail(at, "%s %s uses a reserved name (later); choose another", what, name)
	}
	if old, ok := l.names[name]; ok {
		r.fail(at, "%s %s has the same name as %s, which makes rules ambiguous; choose another", what, name, aKind(old))
		return
	}
	l.names[name] = v
}

func aKind(v any) string {
	switch v.(type) {
	case *Segment:
		return "a segment"
	case *Appliance:
		return "an appliance"
	}
	return "a guest"
}

// segment checks that name is a segment.
func (r *reader) segment(l *Lab, name string, at Pos) {
	if name == "" || l.Segment(name) != nil {
		return
	}
	if v, ok := l.names[name]; ok {
		r.fail(at, "%s is %s, not a segment", name, aKind(v))
		return
	}
	known := map[string]*Segment{}
	for _, s := range l.Segments {
		known[s.Name] = s
	}
	r.fail(at, "no segment %s%s", shorten(name), suggest(name, known))
}

func (r *reader) guest(l *Lab, name string, at Pos) {
	if name == "" || l.Guest(name) != nil {
		return
	}
	if v, ok := l.names[name]; ok {
		r.fail(at, "%s is %s, not a guest", name, aKind(v))
		return
	}
	known := map[string]*Guest{}
	for _, g := range l.Guests {
		known[g.Name] = g
	}
	r.fail(at, "no guest %s%s", shorten(name), suggest(name, known))
}

func suggest[V any](name string, known map[string]V) string {
	if near := closest(name, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return "; add it, or name one that is there"
}

// who turns a name into the kind of thing it names.
func (r *reader) who(l *Lab, w *Who, at Pos) {
	if w.Kind != WhoSegment {
		return
	}
	switch l.names[w.Name].(type) {
	case *Segment:
	case *Guest:
		w.Kind = WhoGuest
	case *Appliance:
		w.Kind = WhoAppliance
	default:
		r.fail(at, "%q is not a segment, guest or appliance of this lab%s", shorten(w.Name), suggest(w.Name, l.names))
	}
}

// ofKind sets what the kind of network in the hypervisor implies: its reach, who serves DHCP there,
// and whether the host translates for it.
func (r *reader) ofKind(s *Segment) {
	if s.Kind == "" {
		return
	}
	for _, key := range []string{"reach", "join", "host-forwards"} {
		if s.Has(key) {
			r.fail(s.At(key), "kind: %s sets %s of segment %s; keep one of the two", s.Kind, key, s.Name)
		}
	}
	switch s.Kind {
	case "bridged":
		s.Reach, s.Join = Upstream, "bridged"
	case "translated":
		s.Reach, s.Join = Upstream, "nat"
	case "host-only":
		s.Reach = Host
		if !s.Has("dhcp") {
			s.Leases = "host"
		}
	case "isolated":
		s.Reach = Isolated
	}
}

func (r *reader) completeSegment(l *Lab, s *Segment) {
	r.ofKind(s)
	if s.Reach == "" {
		if !s.written("reach") && s.Within != "" && l.Segment(s.Within) != nil {
			s.Reach = l.Segment(s.Within).Reach
		}
	}
	r.segment(l, s.Within, s.At("within"))
	if s.Within == s.Name {
		r.fail(s.At("within"), "segment %s cannot be within itself", s.Name)
	}
	if s.Within != "" && !s.Has("vlan") {
		r.fail(
			s.At("within"),
			"segment %s is within %s and has no tag; write `vlan: 48` or another number from 1 to 4094",
			s.Name,
			s.Within,
		)
	}
	r.reachKeys(s)
	if p := s.Subnet; s.PoolFrom.IsValid() && s.PoolTo.IsValid() {
		switch {
		case !p.IsValid():
			r.fail(s.At("pool"), "segment %s has a pool and no network; write its subnet too", s.Name)
		case s.PoolTo.Less(s.PoolFrom):
			r.fail(s.At("pool"), "the pool ends before it begins; write FIRST-LAST")
		case !(p.Contains(s.PoolFrom) && p.Contains(s.PoolTo)):
			r.fail(s.At("pool"), "the pool is not within %s, the network of %s", p, s.Name)
		}
	}
	switch s.Leases {
	case "", "upstream", "host", "none":
	default:
		r.guest(l, s.Leases, s.At("dhcp"))
	}
}

// reachKeys refuses keys that a segment of this reach has no use for.
func (r *reader) reachKeys(s *Segment) {
	belong := func(reach Reach, keys ...string) {
		for _, key := range keys {
			if s.Has(key) && s.Reach != reach && s.Reach != "" {
				r.fail(
					s.At(key),
					"%s belongs to a segment of reach %s, and %s has reach %s; leave it out",
					key,
					reach,
					s.Name,
					s.Reach,
				)
			}
		}
	}
	belong(Upstream, "join", "gateway", "pool", "routes")
	belong(Host, "host-address", "host-gateway", "host-forwards")
	switch {
	case s.Has("uplink") && s.Reach == Host:
		r.fail(
			s.At("uplink"),
			"%s has reach host, but no adapter of the host is on it; omit the uplink, or write reach: isolated",
			s.Name,
		)
	case s.Has("uplink") && s.Within != "":
		r.fail(s.At("uplink"), "%s is carried by %s; write the uplink there", s.Name, s.Within)
	case s.Has("native") && !s.Has("uplink"):
		r.fail(
			s.At("native"),
			"native is a tag on an uplink's cable, and %s has no uplink; write it too, or leave native out",
			s.Name,
		)
	}
}

func (r *reader) completeAppliance(l *Lab, a *Appliance) {
	if len(a.Ports) == 0 {
		r.fail(
			a.Pos,
			"appliance %s has no ports; write at least `ports: [{role: wan, segment: …}, {role: lan, segment: …}]`",
			a.Name,
		)
	}
	used := map[string]*Port{}
	for _, p := range a.Ports {
		if p.Name != "" {
			if old := used[p.Name]; old != nil {
				r.fail(
					p.At("name"),
					"appliance %s has two ports named %s; the first is in line %d",
					a.Name,
					p.Name,
					old.Pos.Line,
				)
			}
			used[p.Name] = p
		}
	}
	for _, p := range a.Ports {
		if kind := cmp.Or(string(p.Role), "port"); p.Name == "" && p.written("role") {
			p.Name = kind
			for i := 2; used[p.Name] != nil; i++ {
				p.Name = fmt.Sprintf("%s%d", kind, i)
			}
			used[p.Name] = p
		}
		r.segment(l, p.Segment, p.At("segment"))
		if p.Role == Unused {
			for _, key := range []string{"address", "gateway", "dhcp", "admin", "over", "joins", "connect"} {
				if p.Has(key) {
					r.fail(
						p.At(key),
						"port %s is unused and has no %s; omit it, or give the port another role",
						p.Name,
						key,
					)
				}
			}
			if p.Has("plugged") && p.Plugged {
				r.fail(
					p.At("plugged"),
					"port %s is unused and always unplugged; omit plugged, or give the port another role",
					p.Name,
				)
			}
			p.Plugged = false
		}
		if p.Address.How != "static" && p.Has("gateway") && p.Role == WAN {
			r.fail(p.At("gateway"), "a static gateway needs a static address; write the address, or omit the gateway")
		}
	}
	for _, p := range a.Ports {
		if p.Over == "" {
			continue
		}
		carrier := used[p.Over]
		switch {
		case carrier == nil:
			r.fail(p.At("over"), "appliance %s has no port %s%s", a.Name, shorten(p.Over), suggest(p.Over, used))
		case carrier == p || carrier.Over != "":
			r.fail(p.At("over"), "port %s cannot be over %s, which has no adapter of its own", p.Name, p.Over)
		}
		if s := l.Segment(p.Segment); s != nil && s.Within == "" {
			r.fail(
				p.At("over"),
				"port %s is over %s, and segment %s has no tag; write `within:` and `vlan:` there, or leave over out",
				p.Name,
				p.Over,
				s.Name,
			)
		}
	}
	for _, p := range a.Ports {
		other := used[p.Joins]
		switch {
		case p.Joins == "":
		case other == nil:
			r.fail(p.At("joins"), "appliance %s has no port %s%s", a.Name, shorten(p.Joins), suggest(p.Joins, used))
		case other == p || other.Joins != "" || other.Segment != p.Segment:
			r.fail(
				p.At("joins"),
				"port %s cannot join %s; join a port of the same segment that joins none itself",
				p.Name,
				p.Joins,
			)
		case p.Has("address") || p.Has("dhcp"):
			r.fail(
				p.At("joins"),
				"port %s joins %s and shares its address; write the address and dhcp there",
				p.Name,
				p.Joins,
			)
		}
	}
	if a.Filter == "none" && a.Has("rules") {
		r.fail(a.At("filter"), "appliance %s has rules and filter: none; keep one of the two", a.Name)
	}
	for _, m := range a.NAT.Masquerade {
		r.segment(l, m, a.NAT.At("masquerade"))
	}
	for i := range a.NAT.Publish {
		p := &a.NAT.Publish[i]
		r.guest(l, p.To, p.At("to"))
		if p.Target.Proto == "" {
			p.Target = p.Port
		}
		if p.Target.Proto != p.Port.Proto && p.Port.Proto != "" {
			r.fail(
				p.At("at"),
				"a publish cannot turn %s into %s; write %s/%d",
				p.Port.Proto,
				p.Target.Proto,
				p.Port.Proto,
				p.Target.From,
			)
		}
	}
	for i := range a.NAT.OneToOne {
		r.guest(l, a.NAT.OneToOne[i].Inside, a.NAT.OneToOne[i].At("inside"))
	}
	for i := range a.Rules {
		rule := &a.Rules[i]
		for j := range rule.From {
			r.who(l, &rule.From[j], rule.Pos)
		}
		for j := range rule.To {
			r.who(l, &rule.To[j], rule.Pos)
		}
	}
}
