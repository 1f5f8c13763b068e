package claims

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/core/lab"
	"openbastion/core/plan"
)

// list makes the claims of a plan, in the order in which they are told.
func list(p *plan.Plan, w Witness) []claim {
	var out []claim
	for _, g := range p.Guests() {
		home := Home(g)
		if home == nil { // not behind an appliance
			if a := stranded(g); a != nil {
				out = append(out, claim{
					Result: Result{ID: g.Name + "." + string(Gateway), Subject: g.Name, Kind: Gateway},
					probes: []Probe{{Kind: AskNeighbor, From: a}},
					judge:  func(r *Result, obs []Observation) { judgeGateway(r, a, nil, obs[0]) },
				})
			}
			continue
		}
		out = append(out, guestClaims(p, g, home, w)...)
	}
	for _, s := range p.Segments {
		if c, ok := aloneClaim(s); ok {
			out = append(out, c)
		}
	}
	out = append(out, betweenClaims(p)...)
	for _, m := range p.Appliances() {
		for _, wan := range m.WAN() {
			out = append(out, inboundClaim(p, m, wan))
		}
		if ways := waysOut(m); len(ways) > 0 {
			for i := range m.Publishes {
				out = append(out, publishedClaim(m, ways[0], &m.Publishes[i]))
			}
		}
	}
	for i := range p.Lab.Expect {
		out = append(out, expectClaim(p, w, i))
	}
	return out
}

// Home gives the guest's first adapter on a segment behind an appliance, or
// nil. It is where the guest's way out must lead.
func Home(g *plan.Machine) *plan.Adapter {
	for _, a := range g.Adapters {
		if a.Segment.Inside() && a.Plugged {
			return a
		}
	}
	return nil
}

// stranded gives the adapter of a guest that is on no segment from which any
// way leads: no appliance's port, no upstream, no host that forwards. Nil when
// it is not stranded.
func stranded(g *plan.Machine) *plan.Adapter {
	for _, a := range g.Adapters {
		if s := a.Segment; s.Port != nil || s.Reach == lab.Upstream || s.Lab.HostForwards || s.Inside() {
			return nil
		}
	}
	return g.Adapters[0]
}

// Passing gives services, one of each protocol where there is one, that every
// appliance on the way from an address on a segment to the outside lets pass.
func Passing(m *plan.Machine, from *plan.Segment, source, to netip.Addr) []lab.Service {
	type gate struct {
		m      *plan.Machine
		source netip.Addr
	}
	var way []gate
	var candidates []lab.Service
	for range 64 {
		way = append(way, gate{m, source})
		for _, s := range m.Passing(source, to, usual) {
			if !slices.Contains(candidates, s) {
				candidates = append(candidates, s)
			}
		}
		wan, next := above(m)
		if next == nil {
			break
		}
		if slices.Contains(m.Masq, from) {
			source = likely(wan)
		}
		m, from = next, wan.Segment
	}
	var out []lab.Service
	for _, s := range candidates {
		passes := !slices.ContainsFunc(out, func(o lab.Service) bool { return o.Proto == s.Proto })
		for _, g := range way {
			_, action := g.m.Decide(plan.Flow{Source: g.source, Destination: to, Proto: s.Proto, Port: s.From})
			passes = passes && action == lab.Allow
		}
		if passes {
			out = append(out, s)
		}
	}
	return out
}

// last gives the appliance whose WAN address the outside sees: the outermost
// of those in a row.
func last(m *plan.Machine) *plan.Machine {
	for range 64 {
		_, next := above(m)
		if next == nil {
			break
		}
		m = next
	}
	return m
}

// above gives the appliance behind which an appliance stands, and the WAN by
// which it does; nil when it is the outermost.
func above(m *plan.Machine) (wan *plan.Adapter, next *plan.Machine) {
	wans := m.WAN()
	if len(wans) == 0 || !wans[0].Segment.Inside() || wans[0].Segment.Port == nil || wans[0].Segment.Port.Machine == m {
		return nil, nil
	}
	return wans[0], wans[0].Segment.Port.Machine
}

// likely gives an address the adapter has or may get.
func likely(a *plan.Adapter) netip.Addr {
	if a.Address.IsValid() {
		return a.Address.Addr()
	}
	if s := a.Segment.Port; s != nil && s.Leases != nil {
		return s.Leases.Pool.From
	}
	return a.Segment.Subnet.Addr().Next()
}

// usual is one service of each protocol, tried before what rules name.
var usual = []lab.Service{{Proto: lab.ICMP}, {Proto: lab.UDP, From: 7, To: 7}, {Proto: lab.TCP, From: 80, To: 80}}

func guestClaims(p *plan.Plan, g *plan.Machine, home *plan.Adapter, w Witness) []claim {
	var out []claim
	add := func(kind Kind, judge func(*Result, []Observation), probes ...Probe) {
		out = append(out, claim{Result: Result{ID: g.Name + "." + string(kind), Subject: g.Name, Kind: kind}, probes: probes, judge: judge})
	}
	var leasing []Probe
	for _, a := range g.Adapters {
		if a.Segment.Inside() && a.Plugged && (a.How == plan.Lease || a.How == plan.Reservation) {
			leasing = append(leasing, Probe{Kind: AskLease, From: a})
		}
	}
	if len(leasing) > 0 {
		add(Lease, func(r *Result, obs []Observation) {
			for i, o := range obs {
				judgeLease(r, leasing[i].From, o)
			}
		}, leasing...)
	}
	port := home.Segment.Port
	next := []Probe{{Kind: AskNeighbor, From: home}}
	if home.Address6.IsValid() && port != nil {
		next = append(next, Probe{Kind: AskSix, From: home})
	}
	add(Gateway, func(r *Result, obs []Observation) {
		judgeGateway(r, home, port, obs[0])
		if len(obs) > 1 {
			judgeSix(r, home, port, obs[1])
		}
	}, next...)

	var allowed []lab.Service
	if port != nil {
		allowed = Passing(port.Machine, home.Segment, likely(home), w.Address)
	}
	if len(allowed) > 0 {
		add(Names, func(r *Result, obs []Observation) { judgeNames(r, home, w, obs[0]) }, Probe{Kind: AskName, From: home})
		probes := []Probe{}
		wans := waysOut(last(port.Machine))
		for _, wan := range wans {
			probes = append(probes, Probe{Kind: AskAddress, From: wan})
		}
		for _, s := range allowed {
			probes = append(probes, Probe{Kind: AskReach, From: home, Proto: s.Proto, Port: s.From})
		}
		add(Outside, func(r *Result, obs []Observation) {
			judgeOutside(r, home, wans, allowed, obs[:len(wans)], obs[len(wans):])
		}, probes...)
		if !transparent(port) { // a bridge is no hop
			add(Path, func(r *Result, obs []Observation) { judgePath(r, port, obs[0]) }, Probe{Kind: AskHop, From: home})
		}
	} else {
		add(Held, func(r *Result, obs []Observation) {
			judgeEscapes(r, obs[:1])
			if names := obs[1]; names.Answered && slices.Contains(names.Addrs, w.Address) {
				r.Saw += fmt.Sprintf("; but %s looks names up outside for it: what words a resolver carries out and back, no rule on addresses closes", names.From)
			}
		}, Probe{Kind: Escape, From: home}, Probe{Kind: AskName, From: home})
	}
	if home.Segment.Reach != lab.Upstream { // beside a one-armed appliance the way around it is open, by design
		add(Cut, judgeEscapes, Probe{Kind: Escape, From: home, When: Unplugged})
	}
	return out
}

// waysOut gives the ports by which an appliance leads outside: its WANs, or
// the one port of a one-armed appliance.
func waysOut(m *plan.Machine) []*plan.Adapter {
	if wans := m.WAN(); len(wans) > 0 {
		return wans
	}
	for _, a := range m.Adapters {
		if a.Gateway.IsValid() {
			return []*plan.Adapter{a}
		}
	}
	return nil
}

// transparent tells a port of an appliance that bridges.
func transparent(a *plan.Adapter) bool {
	return a.Machine.Appliance != nil && a.Machine.Appliance.Kind == "transparent" && a.Role != lab.Manage
}

func aloneClaim(s *plan.Segment) (claim, bool) {
	if !s.Inside() {
		return claim{}, false
	}
	for _, a := range s.Adapters {
		if a.Guest != nil && a.Plugged && a.Leases == nil { // who hands them out does not hear itself
			return claim{
				Result: Result{ID: s.Name + ".alone", Subject: s.Name, Kind: Alone},
				probes: []Probe{{Kind: AskServers, From: a}, {Kind: AskRouters, From: a}},
				judge: func(r *Result, obs []Observation) {
					judgeAlone(r, s, obs[0])
					judgeRouters(r, s, obs[1])
				},
			}, true
		}
	}
	return claim{}, false
}

// betweenClaims speak of each pair of segments behind one appliance, through
// one guest of each.
func betweenClaims(p *plan.Plan) []claim {
	first := map[*plan.Segment]*plan.Adapter{}
	for _, g := range p.Guests() {
		if home := Home(g); home != nil && len(g.Adapters) == 1 && first[home.Segment] == nil {
			first[home.Segment] = home
		}
	}
	var out []claim
	for _, from := range p.Segments {
		for _, to := range p.Segments {
			a, b := first[from], first[to]
			if from == to || a == nil || b == nil || from.Port == nil || to.Port == nil || from.Port.Machine != to.Port.Machine {
				continue
			}
			m := from.Port.Machine
			asked, allowed := askedBetween(m, likely(a), likely(b))
			c := claim{Result: Result{ID: from.Name + "-" + to.Name + ".between", Subject: from.Name + "-" + to.Name, Kind: Between}}
			for _, s := range asked {
				c.probes = append(c.probes, Probe{Kind: AskReach, From: a, To: b, Proto: s.Proto, Port: s.From})
			}
			n := len(asked)
			var six []lab.Service // the same question over IPv6: what passes first, then what does not
			allowed6 := 0
			if a.Address6.IsValid() && b.Address6.IsValid() {
				six, allowed6 = askedBetween(m, a.Address6.Addr(), b.Address6.Addr())
				for _, s := range six {
					c.probes = append(c.probes, Probe{Kind: AskReach, From: a, To: b, Proto: s.Proto, Port: s.From, Six: true})
				}
			}
			c.judge = func(r *Result, obs []Observation) {
				judgeBetween(r, a, b, asked, allowed, "", obs[:n])
				judgeBetween(r, a, b, six, allowed6, " over IPv6", obs[n:])
			}
			out = append(out, c)
		}
	}
	return out
}

// askedBetween gives services to try between two addresses: first those that
// the rules let pass, and how many they are, then usual ones that they do not.
func askedBetween(m *plan.Machine, from, to netip.Addr) (asked []lab.Service, allowed int) {
	asked = m.Passing(from, to, usual)
	allowed = len(asked)
	for _, s := range usual {
		if _, action := m.Decide(plan.Flow{Source: from, Destination: to, Proto: s.Proto, Port: s.From}); action != lab.Allow {
			asked = append(asked, s)
		}
	}
	return asked, allowed
}

// inboundClaim scans the WAN from outside: usual services, the admin page's
// port, what is published.
func inboundClaim(p *plan.Plan, m *plan.Machine, wan *plan.Adapter) claim {
	scan := []lab.Service{{Proto: lab.ICMP}}
	add := func(proto lab.Proto, ports ...uint16) {
		for _, port := range ports {
			if s := (lab.Service{Proto: proto, From: port, To: port}); !slices.Contains(scan, s) {
				scan = append(scan, s)
			}
		}
	}
	add(lab.TCP, 22, 23, 53, 80, 443, 8080, 8443)
	add(lab.UDP, 7, 53, 123, 161, 500)
	published := map[lab.Service]bool{}
	for _, v := range m.Publishes {
		add(v.Proto, v.Port)
		published[lab.Service{Proto: v.Proto, From: v.Port, To: v.Port}] = true
	}
	admin := map[uint16]bool{}
	for _, a := range m.Adapters {
		if a.Admin != 0 {
			add(lab.TCP, a.Admin)
			admin[a.Admin] = true
		}
	}
	if transparent(wan) {
		scan = nil // it has no address that could answer
	}
	id := m.Name + "." + string(Inbound)
	if len(m.WAN()) > 1 {
		id = m.Name + "." + wan.Name + "." + string(Inbound)
	}
	return claim{
		Result: Result{ID: id, Subject: m.Name, Kind: Inbound},
		probes: []Probe{{Kind: Scan, To: wan, Scan: scan}},
		judge: func(r *Result, obs []Observation) {
			o := obs[0]
			for _, s := range o.Open {
				if published[s] {
					continue
				}
				what := s.String()
				if s.Proto == lab.TCP && admin[s.From] {
					what += ", the admin page,"
				}
				r.broken(fmt.Sprintf("from outside, %s answers at port %s of %s, and it is not published", what, wan.Name, m.Name),
					fmt.Sprintf("take admin off port %s, or the rule away that lets it in", wan.Name))
			}
			judgeEscapes(r, obs)
			if r.Verdict == Holds {
				r.Saw = fmt.Sprintf("%d tries from outside, nothing but what is published answers", o.Attempts)
			}
		},
	}
}

func publishedClaim(m *plan.Machine, wan *plan.Adapter, v *plan.Publish) claim {
	s := lab.Service{Proto: v.Proto, From: v.Port, To: v.Port}
	return claim{
		Result: Result{ID: fmt.Sprintf("%s-%s-%d.published", v.To.Machine.Name, v.Proto, v.Port), Subject: v.To.Machine.Name, Kind: Published},
		probes: []Probe{{Kind: AskReach, To: wan, Proto: v.Proto, Port: v.Port}},
		judge: func(r *Result, obs []Observation) {
			switch o := obs[0]; {
			case !o.Answered:
				r.broken(fmt.Sprintf("from outside, %s at %s does not answer: %s", s, m.Name, o.Saw), "look whether the guest has its planned address and the rules let it in")
			case o.Who != v.To.Machine.Name:
				r.broken(fmt.Sprintf("%s at %s reaches %s, not %s", s, m.Name, o.Who, v.To.Machine.Name), "give "+v.To.Machine.Name+" a fixed address")
			default:
				r.Saw = fmt.Sprintf("%s at %s reaches %s", s, m.Name, o.Who)
			}
		},
	}
}

// expectClaim asks what a sentence says, by every adapter it speaks of.
func expectClaim(p *plan.Plan, w Witness, i int) claim {
	e := p.Lab.Expect[i]
	c := claim{Result: Result{ID: fmt.Sprintf("expect-%d.expect", i+1), Subject: e.String(), Kind: Expect}}
	var names []string // of each group of probes
	for _, from := range parties(p, e.From) {
		for _, to := range parties(p, e.To) {
			if from == to || from != nil && to != nil && from.Machine == to.Machine {
				continue
			}
			for _, s := range meant(p, w, e.Service, from, to) {
				c.probes = append(c.probes, ThroughPublish(p, Probe{Kind: AskReach, From: from, To: to, Proto: s.Proto, Port: s.From}))
				names = append(names, NameOf(from)+" to "+NameOf(to))
			}
			if e.Never && to == nil && from != nil && e.Service.Proto == lab.Any { // else it speaks of its protocol and port alone
				c.probes = append(c.probes, Probe{Kind: Escape, From: from})
				names = append(names, NameOf(from))
			}
		}
	}
	c.judge = func(r *Result, obs []Observation) {
		reached := map[string]bool{}
		var order []string
		for j, o := range obs {
			if len(o.Escapes) > 0 {
				judgeEscapes(r, obs[j:j+1])
			}
			if !slices.Contains(order, names[j]) {
				order = append(order, names[j])
			}
			reached[names[j]] = reached[names[j]] || o.Answered
		}
		for _, n := range order {
			switch {
			case e.Never && reached[n]:
				r.broken(n+" gets through", "look at the rules, and which of them lets it pass")
			case !e.Never && !reached[n]:
				r.broken(n+" does not get through", "look at the rules, and which of them denies it")
			}
		}
		if r.Verdict == Holds {
			r.Saw = "as the sentence says: " + strings.Join(order[:min(3, len(order))], ", ")
		}
	}
	return c
}

// meant gives the services that stand for what a sentence names: itself, or,
// where it names no port, the usual ones and one of each protocol that the
// rules let pass.
func meant(p *plan.Plan, w Witness, named lab.Service, from, to *plan.Adapter) []lab.Service {
	if named.Proto == lab.ICMP || !named.AllPorts() {
		return []lab.Service{named}
	}
	var asked []lab.Service
	add := func(s lab.Service) {
		if (named.Proto == lab.Any || named.Proto == s.Proto) && !slices.Contains(asked, s) {
			asked = append(asked, s)
		}
	}
	for _, s := range usual {
		add(s)
	}
	for _, m := range p.Appliances() {
		if from == nil {
			for _, v := range m.Publishes {
				if v.To == to {
					add(lab.Service{Proto: v.Proto, From: v.Port, To: v.Port})
				}
			}
			continue
		}
		outside := w.Address
		if to != nil {
			outside = likely(to)
		}
		for _, s := range m.Passing(likely(from), outside, usual) {
			add(s)
		}
	}
	return asked
}

// ThroughPublish turns a probe from outside to a guest into one to the WAN
// port that publishes it, where one does.
func ThroughPublish(p *plan.Plan, q Probe) Probe {
	if q.From != nil || q.To == nil {
		return q
	}
	for _, m := range p.Appliances() {
		for _, v := range m.Publishes {
			if v.To.Machine == q.To.Machine && v.Proto == q.Proto && (v.Port == q.Port || v.Target == q.Port) && len(m.WAN()) > 0 {
				q.To, q.Port = m.WAN()[0], v.Port
				return q
			}
		}
	}
	return q
}

// NameOf gives the machine of an adapter; nil stands for the outside.
func NameOf(a *plan.Adapter) string {
	if a == nil {
		return "outside"
	}
	return a.Machine.Name
}

// parties gives the adapters that a name in a sentence speaks of; nil stands
// for the outside.
func parties(p *plan.Plan, w lab.Who) []*plan.Adapter {
	switch w.Kind {
	case lab.WhoOutside:
		return []*plan.Adapter{nil}
	case lab.WhoGuest:
		if g := p.Machine(w.Name); Home(g) != nil {
			return []*plan.Adapter{Home(g)}
		}
		return p.Machine(w.Name).Adapters[:1]
	case lab.WhoAppliance:
		return p.Machine(w.Name).Adapters[:1]
	}
	var out []*plan.Adapter
	for _, g := range p.Guests() {
		for _, a := range g.Adapters {
			if w.Kind == lab.WhoAny || w.Kind == lab.WhoSegment && a.Segment.Name == w.Name || w.Kind == lab.WhoPrefix && w.Prefix.Contains(likely(a)) {
				out = append(out, a)
			}
		}
	}
	return out
}
