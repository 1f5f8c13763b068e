package diagnose

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Vector is what looks show, one value a look.
type Vector []Value

// prompt is how soon a guest has its lease when nothing holds it up.
const prompt = 8 * time.Second

// enough bounds the events of a lab with a mistake in it: frames that go round for ever
// show nothing more.
const enough = 60_000

// observer looks at one lab that was built.
type observer struct {
	s      *Study
	lab    *simulator.Lab
	built  mistakes.Built
	out    Vector
	ask    map[claims.Condition][]claims.Question
	finish map[string][]func(claims.Answer)
	shared map[string]string // questions whose answer is the same from everywhere on a segment, by what they ask
	large  []int             // looks that are pings of a whole packet
	logs   []int             // looks at what the appliance's log says
}

// observe looks at what was built, with those of the looks that wanted says; nil: all.
// kept returns the guests that are there.
func (s *Study) observe(b mistakes.Built, kept func(string) bool, wanted func(int) bool) Vector {
	o := &observer{s: s, built: b, out: make(Vector, len(s.Looks)), ask: map[claims.Condition][]claims.Question{},
		finish: map[string][]func(claims.Answer){}, shared: map[string]string{}}
	o.lab = simulator.NewTroubled(b.Plan, b.Trouble)
	o.lab.World().Budget = enough
	model := o.lab.Model()
	for i, l := range s.Looks {
		if l.Machine != nil && l.Machine.Guest != nil && kept != nil && !kept(l.Machine.Name) ||
			wanted != nil && !wanted(i) {
			continue
		}
		o.look(i, l, model)
	}
	o.run(claims.Running)
	o.fillPackets()
	o.readLogs()
	for i, l := range s.Looks {
		if o.out[i] == renewing {
			o.out[i] = o.renewed(l)
		}
	}
	o.run(claims.Unplugged)
	return o.out
}

// renewing marks a look at a renewal until that is done.
const renewing = Broken

// put asks a question and has read make a value of its answer.
func (o *observer) put(i int, when claims.Condition, what claims.Asking, read func(claims.Answer) Value) {
	id := fmt.Sprintf("%d.%d", i, len(o.finish))
	o.ask[when] = append(o.ask[when], claims.Question{ID: id, When: when, Ask: what})
	o.finish[id] = []func(claims.Answer){func(a claims.Answer) { o.out[i] = read(a) }}
}

// putOnce is put for what everybody on a segment gets the same answer to: it is asked
// from one of them.
func (o *observer) putOnce(i int, at *plan.Adapter, what claims.Asking, read func(claims.Answer) Value) {
	key := fmt.Sprintf("%T on %s", what, at.Segment.Name)
	if id, ok := o.shared[key]; ok && at.Plugged {
		o.finish[id] = append(o.finish[id], func(a claims.Answer) { o.out[i] = read(a) })
		return
	}
	if at.Plugged {
		o.shared[key] = fmt.Sprintf("%d.%d", i, len(o.finish))
	}
	o.put(i, claims.Running, what, read)
}

// run puts what was asked for a condition.
func (o *observer) run(when claims.Condition) {
	if len(o.ask[when]) == 0 {
		return
	}
	ctx := context.Background()
	if o.lab.Set(ctx, when) == nil {
		_ = o.lab.Ask(ctx, o.ask[when], func(a claims.Answer) {
			for _, read := range o.finish[a.ID] {
				read(a)
			}
		}) // only a context's end is an error
	}
}

// look takes one look, or asks for what it takes.
func (o *observer) look(i int, l *Look, model *reachability.Model) {
	if l.Segment != nil {
		o.out[i] = o.hostOn(l.Segment)
		return
	}
	var m *plan.Machine
	if l.Machine != nil {
		if m = o.built.Plan.Machine(l.Machine.Name); m == nil || l.Kind == Console {
			o.out[i] = onOff(m != nil && !m.Off)
			return
		}
	}
	at := o.built.Plan.Same(l.At)
	if at == nil || m != nil && m.Off && l.Kind != Cable {
		if o.out[i] = None; !slices.Contains(l.values, None) {
			o.out[i] = Holds // what cannot be tried does not happen
		}
		return
	}
	if l.Kind == Gateway && m.Appliance != nil {
		o.upstreamRouter(i, at)
		return
	}
	switch l.Kind {
	case Cable:
		o.out[i] = onOff(at.Plugged && !at.Segment.Nowhere())
	case Lease, Address, Mask, Router, Resolver, Renew:
		o.settings(i, l, at)
	case Gateway, Path, Name, Servers, IPv6:
		o.service(i, l, at)
	case Twin:
		o.out[i] = o.twin(at)
	case Attached:
		o.out[i] = o.attached(l, at)
	case Adapters, Hardware, How:
		o.out[i] = o.settled(l, at)
	case Log:
		o.logs = append(o.logs, i)
	case Cut:
		o.cut(i, at, model)
	case Large:
		o.large = append(o.large, i)
	case Source:
		o.source(i, l, at)
	default:
		o.reach(i, l, at)
	}
}

// upstreamRouter has an appliance ping its own next hop.
func (o *observer) upstreamRouter(i int, at *plan.Adapter) {
	hop := o.lab.Held(at).Gateway
	if o.out[i] = NoRoute; !hop.IsValid() {
		return
	}
	ask := claims.AskReach{From: claims.RefTo(at), Service: lab.Service{Proto: lab.ICMP}, Address: hop}
	o.put(i, claims.Running, ask, func(a claims.Answer) Value {
		got, _ := a.Got.(claims.GotReach)
		return reachValue(got, true)
	})
}

func onOff(on bool) Value {
	if on {
		return Holds
	}
	return None
}

// hostOn reports whether the host stands on a segment and was not to.
func (o *observer) hostOn(s *plan.Segment) Value {
	is := o.built.Plan.Segment(s.Name)
	if is.HostLeg.IsValid() && (!s.HostLeg.IsValid() || is.Lab.HostForwards && !s.Lab.HostForwards) {
		return Open
	}
	return Holds
}

// settings reads what an adapter shows of itself.
func (o *observer) settings(i int, l *Look, at *plan.Adapter) {
	h := o.lab.Shown(at)
	if l.Kind == Lease && at.How == plan.Static {
		h.Since = 0
	}
	switch l.Kind {
	case Mask:
		o.out[i] = maskValue(l.At.Segment, h.Address)
	case Router:
		o.out[i] = routerValue(h.Address, h.Gateway, o.s.routerOf(l))
	case Resolver:
		o.out[i] = listValue(h.DNS, o.s.resolversOf(l))
	case Renew:
		o.out[i] = renewing
	default:
		if o.out[i] = addressValue(o.s.Plan, l.home, l.planned, h.Address); o.out[i] == Holds && h.Since > prompt &&
			l.Machine.Guest != nil {
			o.out[i] = Late
		}
	}
}

// renewed returns which address an adapter has once it asked anew.
func (o *observer) renewed(l *Look) Value {
	at := o.built.Plan.Same(l.At)
	if _, stale := o.built.Trouble.Stale[at]; stale {
		o.lab.Renew(at)
	}
	return addressValue(o.s.Plan, l.home, l.planned, o.lab.Held(at).Address)
}

// service asks for what somebody on the way says.
func (o *observer) service(i int, l *Look, at *plan.Adapter) {
	ref := claims.RefTo(at)
	switch l.Kind {
	case Gateway:
		if gate := at.Gate(); gate != nil && gate.Address.IsValid() && ports(gate.Machine, at.Segment) > 1 {
			// Its reply may leave by the other port: what answers ARP need not answer a ping.
			ask := claims.AskReach{From: ref, Service: lab.Service{Proto: lab.ICMP}, Address: gate.Address.Addr()}
			o.put(i, claims.Running, ask, func(a claims.Answer) Value {
				if got, _ := a.Got.(claims.GotReach); got.Answered {
					return Holds
				}
				return Astray
			})
			return
		}
		o.put(i, claims.Running, claims.AskNeighbor{At: ref}, func(a claims.Answer) Value {
			got, _ := a.Got.(claims.GotNeighbor)
			h := o.lab.Held(at)
			v := o.s.neighborValue(l.At, got, h.Gateway)
			if v == Holds && routerValue(h.Address, h.Gateway, h.Gateway) == Astray {
				return Astray // who asks by ARP hears it, and who pings it has no way there
			}
			return v
		})
	case Path:
		o.put(i, claims.Running, claims.AskHop{At: ref}, func(a claims.Answer) Value {
			got, ok := a.Got.(claims.GotHop)
			if !ok || !got.Router.IsValid() {
				return None
			}
			if gate := l.At.Gate(); gate != nil {
				return hopValue(o.s.Plan, gate, got.Router)
			}
			return Holds
		})
	case Name:
		o.put(
			i,
			claims.Running,
			claims.AskName{At: ref},
			func(a claims.Answer) Value { return nameValue(a, o.s.witness) },
		)
	case Servers:
		o.putOnce(i, at, claims.AskServers{At: ref}, func(a claims.Answer) Value { return o.s.serversValue(l.At, a) })
	default:
		o.putOnce(i, at, claims.AskRouters{At: ref}, func(a claims.Answer) Value {
			if got, ok := a.Got.(claims.GotRouters); ok && len(got.Routers) > 0 {
				return Other
			}
			return Holds
		})
	}
}

// ports counts the adapters that a machine has on a segment.
func ports(m *plan.Machine, s *plan.Segment) (n int) {
	for _, a := range m.Adapters {
		if a.Segment == s && a.Plugged {
			n++
		}
	}
	return n
}

// nameValue returns what a resolver said of the witness's name.
func nameValue(a claims.Answer, witness netip.Addr) Value {
	got, ok := a.Got.(claims.GotName)
	switch {
	case !ok || !got.Answered && got.Outcome.Is(outcome.NoRoute, outcome.NoServer):
		return NoRoute
	case !got.Answered && (refusal(got.Outcome) || got.Outcome.By.IsValid() && got.Outcome.By == got.Resolver):
		return Refused // the server's own host reports that nothing listens there
	case !got.Answered:
		return None
	case len(got.Addresses) == 0:
		return Failed
	case !slices.Contains(got.Addresses, witness):
		return Other
	case got.Tries > 1:
		return Late
	}
	return Holds
}

// serversValue holds who offers leases against who is to.
func (s *Study) serversValue(home *plan.Adapter, a claims.Answer) Value {
	got, _ := a.Got.(claims.GotServers)
	from := map[string]bool{}
	for _, offer := range got.Offers {
		from[offer.ServerMAC.String()] = true
	}
	server, _ := home.Segment.LeaseService()
	switch planned := server != nil && from[server.MAC.String()]; {
	case len(from) == 0 && server == nil && home.How != plan.FromAbove:
		return Holds
	case len(from) == 0:
		return None
	case len(from) > 1:
		return Two
	case server != nil && !planned || server == nil && home.How != plan.FromAbove:
		return s.offered(home, got.Offers[0].Address)
	}
	return Holds
}

// offered tells of which network an offer is that nobody planned.
func (s *Study) offered(home *plan.Adapter, a netip.Addr) Value {
	for i, x := range s.Plan.Segments {
		if x.Subnet.Contains(a) && x.Subnet != home.Segment.Subnet {
			return InNetwork(i)
		}
	}
	return Other
}

// cut tries to get outside with the WAN unplugged: politely, and by whatever way the
// proof finds.
func (o *observer) cut(i int, at *plan.Adapter, model *reachability.Model) {
	if stands, _ := model.Standing(at.Machine); stands == reachability.Exposed || stands == reachability.Beside {
		o.out[i] = Open
		return
	}
	o.out[i] = Holds
	for _, service := range []lab.Service{{Proto: lab.ICMP}, {Proto: lab.TCP, From: 80, To: 80}} {
		o.put(
			i,
			claims.Unplugged,
			claims.AskReach{From: claims.RefTo(at), Service: service},
			func(a claims.Answer) Value {
				if got, ok := a.Got.(claims.GotReach); ok && got.Answered || o.out[i] == Open {
					return Open
				}
				return Holds
			},
		)
	}
}

// source asks outside which source it saw.
func (o *observer) source(i int, l *Look, at *plan.Adapter) {
	service, _ := o.s.wayOut(l.Machine)
	o.put(i, claims.Running, claims.AskReach{From: claims.RefTo(at), Service: service}, func(a claims.Answer) Value {
		got, ok := a.Got.(claims.GotReach)
		switch {
		case !ok || !got.Answered:
			return None
		case o.s.note != nil:
			o.s.note(l, got.Source)
		case got.Source != o.s.sources[l.ID] && !o.ownWAN(got.Source):
			return Other
		}
		return Holds
	})
}

// ownWAN reports whether it is an address that an appliance has on its WAN.
func (o *observer) ownWAN(a netip.Addr) bool {
	for _, m := range o.built.Plan.Running() {
		for _, w := range m.WAN() {
			if o.lab.Held(w).Address.Addr() == a {
				return true
			}
		}
	}
	return false
}

// reach tries to reach what a look is for.
func (o *observer) reach(i int, l *Look, at *plan.Adapter) {
	ask := claims.AskReach{From: claims.RefTo(at), Service: l.service}
	expected := ""
	switch l.Kind {
	case Neighbor, Across:
		to := o.built.Plan.Same(l.To)
		if l.Kind == Neighbor {
			ask.Service = lab.Service{Proto: lab.ICMP}
		}
		if l.Kind == Neighbor && to == nil || to == nil {
			o.out[i] = Unseen
			return
		}
		ask.To, expected = claims.RefTo(to), l.To.Machine.Name
		if l.To.Address.IsValid() {
			ask.Address = l.To.Address.Addr() // people try the one that is planned
		}
	case Admin:
		ask.Address = l.To.Address.Addr()
	case Inside:
		ask.Address, expected = l.To.Address.Addr(), l.To.Machine.Name
	case Published:
		ask.From, ask.To, expected = claims.Ref{}, claims.RefTo(at), l.To.Machine.Name
	case Inbound:
		ask.From, ask.To = claims.Ref{}, claims.RefTo(at)
	}
	allowed := l.allowed || l.Kind == Neighbor
	o.put(i, claims.Running, ask, func(a claims.Answer) Value {
		got, ok := a.Got.(claims.GotReach)
		if !ok {
			return None
		}
		v := reachValue(got, allowed)
		if v == Holds && allowed && expected != "" && got.Who != "" && got.Who != expected {
			return Other
		}
		return v
	})
}

// reachValue makes a value of what came of an attempt.
func reachValue(got claims.GotReach, allowed bool) Value {
	switch {
	case got.Answered && allowed, !got.Answered && !allowed:
		return Holds
	case got.Answered:
		return Open
	case refusal(got.Outcome):
		return Refused
	case got.Outcome.Is(outcome.Unreachable, outcome.TimeExceeded, outcome.TooBig):
		return Unreached
	case got.Outcome.Is(outcome.NoRoute):
		return NoRoute
	}
	return None
}

// refusal reports whether the destination itself refused a connection.
func refusal(o outcome.Outcome) bool { return o.Is(outcome.Refused, outcome.Reset) }

// readLogs returns what the appliance writes of a guest's way out: that a rule lets it
// pass, that one stops it, or nothing, as nothing comes to it.
func (o *observer) readLogs() {
	for _, i := range o.logs {
		l := o.s.Looks[i]
		at, gate := o.built.Plan.Same(l.At), o.built.Plan.Same(l.At.Gate())
		o.out[i] = None
		held := o.lab.Held(at)
		comes := o.out[o.s.index[l.Machine.Name+"."+string(Gateway)]] == Holds
		if gate == nil || gate.Machine.Off || !held.Address.IsValid() || !comes {
			continue
		}
		service, ok := o.s.wayOut(l.Machine)
		if !ok {
			continue
		}
		_, action := gate.Machine.Decide(
			plan.Flow{Source: held.Address.Addr(), Destination: o.s.witness, Proto: service.Proto,
				Port: service.From},
		)
		if o.out[i] = Holds; action != lab.Allow {
			o.out[i] = Refused
		}
	}
}

// fillPackets takes the looks with whole packets, of those to whom a ping answers.
func (o *observer) fillPackets() {
	var from []*plan.Adapter
	var which []int
	for _, i := range o.large {
		at := o.built.Plan.Same(o.s.Looks[i].At)
		if o.out[i] = None; at != nil {
			from, which = append(from, at), append(which, i)
		}
	}
	if len(from) == 0 {
		return
	}
	for n, answered := range o.lab.Large(from) {
		o.out[which[n]] = onOff(answered)
	}
}
