package claims

import (
	"fmt"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// list makes the claims of a plan, in the order in which they are told.
func list(m *reachability.Model, p *plan.Plan, facts Facts) []claim {
	w := facts.Witness
	guests := p.Guests()
	between := betweenClaims(m, p)
	out := make(
		[]claim,
		0,
		len(guests)*(len(GuestKinds)+1)+3*len(p.Segments)+len(between)+len(p.Lab.Expect),
	) // claims are large: few copies
	for _, g := range guests {
		out = append(out, behindClaim(m, g))
		if g.Off {
			continue
		}
		if home := InsideAdapter(g); home != nil {
			out = append(out, guestClaims(m, g, home, w)...)
		} else if around, _ := m.Standing(g); around == reachability.Behind && len(g.Adapters) > 0 {
			out = append(out, cutClaim(m, g, g.Adapters[0]))
		}
	}
	for _, s := range p.Segments {
		if c, ok := aloneClaim(m, s); ok {
			out = append(out, c)
		}
		if c, ok := soleClaim(m, s); ok {
			out = append(out, c)
		}
		if c, ok := fullSizeClaim(m, s, w); ok {
			out = append(out, c)
		}
		if c, ok := hostClaim(s, facts.Host); ok {
			out = append(out, c)
		}
	}
	out = append(out, between...)
	for _, a := range p.Running() {
		out = append(out, apartClaim(m, a))
		for _, wan := range a.WAN() {
			if Transparent(wan) && (wan.Segment.Reach != lab.Upstream && !m.OuterWAN(wan) || routersOnly(a)) {
				continue // nothing behind the bridge can be tried from outside it
			}
			out = append(out, inboundClaim(m, a, wan))
		}
		if ways := waysOut(a); len(ways) > 0 {
			for i := range a.Publishes {
				if c, ok := publishedClaim(m, a, ways[0], &a.Publishes[i]); ok {
					out = append(out, c)
				}
			}
		}
	}
	for i := range p.Lab.Expect {
		out = append(out, expectClaim(m, p, w, i))
	}
	return out
}

// InsideAdapter returns the guest's first adapter on a segment behind an
// appliance, or nil. It is where the guest's way out must lead.
func InsideAdapter(g *plan.Machine) *plan.Adapter {
	for _, a := range g.Adapters {
		if a.Segment.Inside() && a.Plugged {
			return a
		}
	}
	return nil
}

// usual is one service of each protocol, tried before what rules name.
var usual = []lab.Service{{Proto: lab.ICMP}, {Proto: lab.UDP, From: 7, To: 7}, {Proto: lab.TCP, From: 80, To: 80}}

func guestClaims(m *reachability.Model, g *plan.Machine, home *plan.Adapter, w Witness) []claim {
	out := make([]claim, 0, len(GuestKinds))
	add := func(kind Kind, parts ...part) {
		if len(parts) == 0 {
			return
		}
		out = append(
			out,
			claim{Result: Result{ID: g.Name + "." + string(kind), Guest: g.Name, Kind: kind}, parts: parts,
				guests: []string{g.Name}, lone: home.Segment.Name},
		)
	}
	var leasing []part
	for _, a := range g.Adapters {
		if a.Segment.Inside() && a.Plugged && (a.How == plan.Lease || a.How == plan.Reservation) {
			leasing = append(leasing, part{asks: asking(AskLease{RefTo(a)}),
				judge: func(r *Result, got []Got) { judgeLease(r, a, got[0].(GotLease), m.Each) }})
		}
	}
	add(DHCP, leasing...)
	port := home.Gate()
	next := []part{{asks: asking(AskNeighbor{RefTo(home)}),
		judge: func(r *Result, got []Got) { judgeGateway(r, home, port, got[0].(GotNeighbor), m.Each) }}}
	if home.Address6.IsValid() && port != nil {
		next = append(next, part{asks: asking(AskIPv6{RefTo(home)}),
			judge: func(r *Result, got []Got) { judgeIPv6(r, home, port, got[0].(GotIPv6), m.Each) }})
	}
	add(Gateway, next...)

	var allowed []lab.Service
	if port != nil && leadsOut(m, port.Machine) {
		allowed = AllowedServices(port.Machine, home.Segment, home.Likely(), w.Address)
	}
	if port != nil && leadsOut(m, port.Machine) && varies(home) {
		add(Outside, byAddressParts(home, w)...)
	} else if len(allowed) > 0 {
		add(
			DNS,
			part{
				asks:  asking(AskName{RefTo(home)}),
				judge: func(r *Result, got []Got) { judgeNames(r, home, w, got[0].(GotName)) },
			},
		)
		add(
			Outside,
			append(outsideParts(home, waysOut(port.Machine.Outermost()), allowed), stoppedParts(m, g, home, w)...)...)
		if !Transparent(port) { // a bridge is no hop
			add(
				FirstHop,
				part{
					asks:  asking(AskHop{RefTo(home)}),
					judge: func(r *Result, got []Got) { judgePath(r, port, got[0].(GotHop)) },
				},
			)
		}
	} else if packet, ok := elsewhere(m, home); ok {
		add(Outside, append(stoppedParts(m, g, home, w), elsewherePart(home, packet))...)
	} else {
		way, partial := m.Outward(g)
		parts := attacked(m, Running, g, way, partial)
		add(Blocked, append(parts, part{asks: asking(AskName{RefTo(home)}), judge: func(r *Result, got []Got) {
			if names := got[0].(GotName); r.Verdict == Holds && names.Answered && slices.Contains(names.Addresses, w.Address) {
				r.Observed += fmt.Sprintf("; but %s looks names up outside for it: what words a DNS server carries out and back, no rule on addresses closes", names.Resolver)
			}
		}})...)
	}
	if home.Segment.Reach != lab.Upstream { // beside a one-armed appliance the way around it is open, by design
		out = append(out, cutClaim(m, g, home))
	}
	return out
}

// elsewhere returns a packet by which a guest may go outside, where the rules let it
// go somewhere and not to the witness.
func elsewhere(m *reachability.Model, home *plan.Adapter) (reachability.Packet, bool) {
	if gate := home.Gate(); gate == nil || !leadsOut(m, gate.Machine) {
		return reachability.Packet{}, false
	}
	p, ok := m.Polite(home)
	return p, ok && p.Protocol != lab.Any && p.Destination.Is4()
}

func elsewherePart(home *plan.Adapter, p reachability.Packet) part {
	s := lab.Service{Proto: p.Protocol, From: p.DestinationPort, To: p.DestinationPort}
	return part{
		asks: asking(AskReach{From: RefTo(home), Service: s, Address: p.Destination}),
		judge: func(r *Result, got []Got) {
			if o := got[0].(GotReach); !o.Answered {
				r.fail(
					Reason{
						Code:     "destination-unreachable",
						Subject:  home.Machine.Name,
						Segment:  home.Segment.Name,
						Service:  s.String(),
						Observed: p.Destination.String(),
						Detail:   o.Outcome.String(),
					},
				)
			} else {
				r.Observed = fmt.Sprintf("%s answers %s, as far as the rules allow", p.Destination, s)
			}
		},
	}
}

// outsideParts ask whether each allowed service reaches the witness, and, apart
// from that, whether it saw the planned source.
func outsideParts(home *plan.Adapter, wans []*plan.Adapter, allowed []lab.Service) []part {
	var addresses []Asking
	for _, wan := range wans {
		addresses = append(addresses, AskAddress{RefTo(wan)})
	}
	n := len(addresses)
	var out []part
	for _, s := range allowed {
		reach := AskReach{From: RefTo(home), Service: s}
		out = append(
			out,
			part{
				asks:  asking(reach),
				judge: func(r *Result, got []Got) { judgeReached(r, home, s, got[0].(GotReach)) },
			},
			part{asks: asking(append(slices.Clone(addresses), reach)...), judge: func(r *Result, got []Got) {
				judgeSource(r, home, s, expectedSource(home, wans, got[:n]), got[n].(GotReach))
			}},
		)
	}
	return out
}

// waysOut returns the ports by which an appliance leads outside: its WANs, or
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

// Transparent reports whether it is a port of an appliance that bridges.
func Transparent(a *plan.Adapter) bool {
	return a.Machine.Transparent() && a.Role != lab.Manage
}

func aloneClaim(m *reachability.Model, s *plan.Segment) (claim, bool) {
	if !s.Inside() {
		return claim{}, false
	}
	for _, a := range s.Adapters {
		if a.Guest != nil && a.Plugged && a.Leases == nil { // who hands them out does not hear itself
			return claim{
				Result: Result{ID: s.Name + ".one-dhcp", Segment: s.Name, Kind: OneDHCP},
				parts: []part{
					{
						asks:  asking(AskServers{RefTo(a)}),
						judge: func(r *Result, got []Got) { judgeAlone(r, s, got[0].(GotServers), m.Each) },
					},
					{
						asks:  asking(AskRouters{RefTo(a)}),
						judge: func(r *Result, got []Got) { judgeRouters(r, s, got[0].(GotRouters), m.Each) },
					},
				},
			}, true
		}
	}
	return claim{}, false
}

// routersOnly reports whether routers and no guests are directly behind a transparent appliance.
func routersOnly(a *plan.Machine) bool {
	routers := false
	for _, x := range a.Adapters {
		for _, other := range x.Segment.Adapters {
			if !x.Role.Inside() || other.Machine == a {
				continue
			}
			if other.Guest != nil && other.Plugged {
				return false
			}
			routers = routers || other.Role == lab.WAN
		}
	}
	return routers
}

// inboundClaim scans the WAN from outside: usual services, the admin page's
// port, what is published.
func inboundClaim(model *reachability.Model, m *plan.Machine, wan *plan.Adapter) claim {
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
		for _, s := range a.Admin {
			add(lab.TCP, s.Port)
			admin[s.Port] = true
		}
	}
	if Transparent(wan) {
		scan = nil // it has no address that could answer
	}
	c := claim{Result: Result{ID: m.Name + "." + string(Inbound), Appliance: m.Name, Kind: Inbound}}
	if len(m.WAN()) > 1 {
		c.ID, c.Port = m.Name+"."+wan.Name+"."+string(Inbound), wan.Name
	}
	c.parts = []part{{asks: asking(AskScan{RefTo(wan), scan}), judge: func(r *Result, got []Got) {
		o := got[0].(GotScan)
		for _, s := range o.Open {
			isAdmin := s.Proto == lab.TCP && admin[s.From] && !published[s]
			if published[s] || !isAdmin && model.Answers(wan, s) {
				continue
			}
			what := s.String()
			if isAdmin {
				what += " (the admin page)"
			}
			r.fail(Reason{Code: "inbound-open", Subject: m.Name, Port: portOf(wan), Service: what, Do: takeOffAdmin})
		}
		ways := slices.DeleteFunc(slices.Clone(o.Ways), func(w Way) bool { return MeantToEnter(model, m, w) })
		judgeWays(r, o.Attempts, ways, "%d attempts from outside, only what the file publishes answers")
	}}}
	for _, at := range model.AdminOutside(m) {
		c.parts = append(
			c.parts,
			stated(Reason{Code: "admin-outside", Subject: m.Name, Segment: at.Segment.Name, Port: portOf(at)}),
		)
	}
	return c
}

// MeantToEnter reports whether the file lets in, at an appliance, what got inside by a way.
func MeantToEnter(model *reachability.Model, at *plan.Machine, w Way) bool {
	to := model.Plan().Machine(w.To)
	return to != nil && to.Guest != nil && w.Sent != nil && model.LetsIn(at, to, *w.Sent)
}

// publishedClaim asks from outside for what is published; where the WAN is behind
// another appliance, from a guest that stands beside it.
func publishedClaim(model *reachability.Model, m *plan.Machine, wan *plan.Adapter, v *plan.Publish) (claim, bool) {
	s := lab.Service{Proto: v.Proto, From: v.Port, To: v.Port}
	guest := v.To.Machine.Name
	ask, from := AskReach{To: RefTo(wan), Service: s}, "outside"
	if model.OuterWAN(wan) {
		if at := sender(model, v); at.IsValid() {
			ask.Source, from = at, at.String()
		}
	} else {
		at := slices.IndexFunc(wan.Segment.Adapters, func(a *plan.Adapter) bool { return a.Guest != nil && a.Plugged })
		if at < 0 {
			return claim{}, false // nobody is there to reach it
		}
		ask.From, from = RefTo(wan.Segment.Adapters[at]), wan.Segment.Name
	}
	return claim{
		Result: Result{
			ID:        fmt.Sprintf("%s-%s-%d.published", guest, v.Proto, v.Port),
			Guest:     guest,
			Appliance: m.Name,
			Service:   s.String(),
			Kind:      Published,
		},
		guests: []string{guest},
		parts: []part{{asks: asking(ask), judge: func(r *Result, got []Got) {
			switch o := got[0].(GotReach); {
			case !o.Answered:
				r.fail(
					Reason{
						Code:     "forward-silent",
						Subject:  m.Name,
						By:       from,
						Service:  s.String(),
						Expected: guest,
						Detail:   o.Outcome.String(),
					},
				)
			case o.Who != guest:
				r.fail(
					Reason{
						Code:     "forward-elsewhere",
						Subject:  m.Name,
						Service:  s.String(),
						Observed: o.Who,
						Expected: guest,
					},
				)
			default:
				r.Observed = fmt.Sprintf("%s at %s reaches %s", s, m.Name, o.Who)
			}
		}}},
	}, true
}
