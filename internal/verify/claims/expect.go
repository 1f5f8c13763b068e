package claims

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// expectClaim asks what a sentence says: that something gets through politely, or
// that nothing does, whatever somebody hostile sends.
func expectClaim(m *reachability.Model, p *plan.Plan, w Witness, i int) claim {
	e := p.Lab.Expect[i]
	c := claim{Result: Result{ID: fmt.Sprintf("expect-%d.expect", i+1), Sentence: e.String(), Kind: Expect}}
	for _, w := range []lab.Who{e.From, e.To} {
		switch w.Kind {
		case lab.WhoGuest:
			c.guests = append(c.guests, w.Name)
		case lab.WhoOutside, lab.WhoAppliance:
		default:
			c.crowd = true
		}
	}
	said := 0
	var ways []*reachability.Escape
	partial := false
	if e.Never {
		ways, partial = m.Never(e.From, e.To, e.Service)
	}
	for _, pair := range pairs(m, e) {
		for _, name := range []string{pair.from, pair.to} {
			if g := p.Machine(name); g != nil && g.Guest != nil && !slices.Contains(c.guests, name) {
				c.guests = append(c.guests, name)
			}
		}
		var asks []Asking
		var tries []try
		for _, x := range pair.ends {
			for of, s := range meant(p, w, e.Service, x.from, x.to) {
				if e.Service.From == e.Service.To {
					of = 0
				}
				for i, q := range x.asks(m, w, s) {
					aside := x.to != nil && !x.address.IsValid() && (i > 0 || shared(p, x.to))
					tries = append(tries, try{aside, of, s})
					asks = append(asks, q)
				}
			}
		}
		if len(asks) == 0 {
			continue
		}
		known := func(who string) bool { return p.Machine(who) != nil } // another answers in its place: it was published
		judge := expected(e.Never, pair, tries, known, &said)
		c.parts = append(c.parts, part{asks: asking(asks...), any: func(r *Result, got []Got) bool {
			before := r.Verdict
			missing := judge(r, got)
			if e.Never && before != Broken && r.Verdict == Broken && ways == nil && !partial {
				r.disagree = "the proof finds no path, but a packet got through: " + r.Observed
			}
			return missing
		}})
		// Else the sentence speaks of its protocol and port alone.
		if g := p.Machine(pair.from); e.Never && e.To.Kind == lab.WhoOutside && g != nil && g.Guest != nil &&
			e.Service.Proto == lab.Any {
			c.parts = append(c.parts, part{asks: asking(AskAttack{g.Name}), judge: func(r *Result, got []Got) {
				was, before := r.Observed, r.Verdict
				if judgeAttack(r, got); r.Verdict == Holds {
					r.Observed = was
				} else if before != Broken && ways == nil && !partial {
					r.disagree = "the proof finds no path outside, but one was found: " + r.Observed
				}
			}})
		}
	}
	for _, way := range ways {
		c.parts = append(c.parts, escaped(p, Running, way, findRule))
	}
	if partial && ways == nil {
		c.parts = append(c.parts, undecided())
	}
	if c.parts == nil {
		c.parts = []part{shows("the sentence names no machine that is connected")}
		if !e.Never {
			c.parts = []part{stated(Reason{Code: "nobody-named", Subject: c.Sentence})}
		}
	}
	return c
}

// try is one question of a pair.
type try struct {
	aside   bool // asked at an address where another machine may answer: which does must be known
	of      int  // tries of one number are one demand: one that gets through is enough
	service lab.Service
}

// shared reports whether it is an adapter whose address somebody else of the plan has as well.
func shared(p *plan.Plan, a *plan.Adapter) bool {
	return a.Address.IsValid() && slices.ContainsFunc(p.Adapters, func(x *plan.Adapter) bool {
		return x != a && x.Address.IsValid() && x.Address.Addr() == a.Address.Addr()
	})
}

// pair is two who are named in a sentence, with every way to ask from one for the
// other.
type pair struct {
	from, to string
	ends     []ends
}

// ends are an adapter, or nil for the outside, and where it asks to: an adapter,
// or an address outside.
type ends struct {
	from, to *plan.Adapter
	address  netip.Addr // where it goes instead
	source   netip.Addr // from outside, by which address there
	fourOnly bool       // the sentence names IPv4 addresses
}

// asks returns how a service is asked for: at the address of the other end, over IPv6 too where both
// have it, and at each address by which it is published.
func (x ends) asks(m *reachability.Model, w Witness, s lab.Service) []AskReach {
	p := m.Plan()
	first := ThroughPublish(p, x.from, x.to, s)
	first.Source = x.source
	if x.address.IsValid() {
		first.Address = x.address
		return []AskReach{first}
	}
	out := []AskReach{first}
	if x.to == nil {
		if at, ok := besides(m, w, x.from, s); ok {
			first.Address = at
			out = append(out, first)
		}
		return out
	}
	if x.from != nil && !x.fourOnly && x.from.Address6.IsValid() && x.to.Address6.IsValid() {
		six := first
		six.IPv6 = true
		out = append(out, six)
	}
	for _, public := range published(p, x.to, s) {
		public.From, public.Source = RefTo(x.from), x.source
		if public != first {
			out = append(out, public)
		}
	}
	return out
}

// Towards asks whether a service reaches an adapter, or the outside: as [ThroughPublish] does, and outside at an
// address to which the rules let it pass, where they let none pass to the test server.
func Towards(m *reachability.Model, w Witness, from, to *plan.Adapter, s lab.Service) AskReach {
	q := ThroughPublish(m.Plan(), from, to, s)
	if at, ok := besides(m, w, from, s); ok && to == nil {
		q.Address = at
	}
	return q
}

// besides returns an address outside to which the rules let a service pass from an adapter, where they
// do not let it pass to the test server.
func besides(m *reachability.Model, w Witness, from *plan.Adapter, s lab.Service) (netip.Addr, bool) {
	if from == nil || from.Gate() == nil || passes(from.Gate().Machine.WayOut(from.Segment, from.Likely()), w.Address, s) {
		return netip.Addr{}, false
	}
	other, ok := elsewhere(m, from)
	if !ok || !passes(from.Gate().Machine.WayOut(from.Segment, from.Likely()), other.Destination, s) {
		return netip.Addr{}, false
	}
	return other.Destination, true
}

// pairs returns the pairs that a sentence speaks of.
func pairs(m *reachability.Model, e lab.Expectation) []pair {
	var out []pair
	at := map[[2]string]int{}
	for _, from := range parties(m, e.From) {
		for _, to := range parties(m, e.To) {
			if from.adapter == nil && to.adapter == nil ||
				from.adapter != nil && to.adapter != nil && from.adapter.Machine == to.adapter.Machine {
				continue
			}
			key := [2]string{NameOf(from.adapter), NameOf(to.adapter)}
			if to.address.IsValid() {
				key[1] = e.To.String() // an address of a prefix is enough
			}
			if from.address.IsValid() {
				key[0] = from.address.String()
			}
			i, ok := at[key]
			if !ok {
				i = len(out)
				at[key] = i
				out = append(out, pair{from: key[0], to: key[1]})
			}
			fourOnly := e.From.Kind == lab.WhoPrefix && e.From.Prefix.Addr().Is4() || e.To.Kind == lab.WhoPrefix && e.To.Prefix.Addr().Is4()
			out[i].ends = append(out[i].ends, ends{from.adapter, to.adapter, to.address, from.address, fourOnly})
		}
	}
	return out
}

// demand is what became of the tries of which one is enough.
type demand struct {
	reached, missing bool
	service          lab.Service
}

// expected judges what a sentence says of one pair: reaching means that one try of
// each demand gets through, never that none does. said counts
// the pairs that were told, of which a sentence names three.
func expected(never bool, pair pair, tries []try, known func(string) bool, said *int) func(r *Result, got []Got) bool {
	subject := pair.from + " to " + pair.to
	return func(r *Result, got []Got) (missing bool) {
		var demands []demand
		for i, g := range got {
			t := tries[i]
			for len(demands) <= t.of {
				demands = append(demands, demand{service: t.service})
			}
			if d := &demands[t.of]; g == nil {
				d.missing = true
			} else if o := g.(GotReach); o.Answered {
				d.reached = d.reached || o.Who == pair.to || !t.aside && !known(o.Who)
			}
		}
		for _, d := range demands {
			why := Reason{Subject: subject}
			if len(demands) > 1 {
				why.Service = d.service.String()
				why.Subject += " " + why.Service
			}
			switch {
			case d.reached && never:
				why.Code = "forbidden-passes"
				r.fail(why)
				return false
			case d.reached:
			case d.missing:
				missing = true
			case !never:
				why.Code = "wanted-blocked"
				r.fail(why)
				return false
			}
		}
		if r.Verdict == Holds && !missing {
			if *said++; *said == 1 {
				r.Observed = "sentence holds: " + subject
			} else if *said <= 3 {
				r.Observed += ", " + subject
			}
		}
		return missing
	}
}

// meant returns the services that stand for what a sentence names: itself, or,
// where it names no port, the usual ones and one of each protocol that the
// rules let pass.
func meant(p *plan.Plan, w Witness, named lab.Service, from, to *plan.Adapter) []lab.Service {
	if named.Proto == lab.ICMP || !named.AllPorts() {
		return reachability.Ports(p, named)
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
	for _, m := range p.Running() {
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
			outside = to.Likely()
		}
		for _, s := range m.AllowedServices(from.Likely(), outside, usual, nil, nil) {
			add(s)
		}
	}
	return asked
}

// ThroughPublish asks whether a service reaches an adapter: from outside, at the
// WAN port that publishes it, or at an address of its own, where there is one.
func ThroughPublish(p *plan.Plan, from, to *plan.Adapter, s lab.Service) AskReach {
	q := AskReach{From: RefTo(from), To: RefTo(to), Service: s}
	if from != nil || to == nil {
		return q
	}
	if public := published(p, to, s); len(public) > 0 {
		return public[0]
	}
	return q
}

// published returns each way to ask for a service of an adapter at an address outside: at every WAN
// port that forwards it, and at an address of its own.
func published(p *plan.Plan, to *plan.Adapter, s lab.Service) []AskReach {
	var out []AskReach
	for _, m := range p.Running() {
		for _, wan := range m.WAN() {
			for _, v := range m.Publishes {
				if v.To == to && v.Proto == s.Proto && (v.Port == s.From || v.Target == s.From) {
					out = append(out, AskReach{To: RefTo(wan), Service: lab.Service{Proto: s.Proto, From: v.Port, To: v.Port}})
				}
			}
			for _, v := range m.OneToOne {
				if v.To == to && wan.Segment.Subnet.Contains(v.Outside) {
					out = append(out, AskReach{To: RefTo(wan), Address: v.Outside, Service: s})
				}
			}
		}
	}
	return out
}

// party is one of whom a sentence speaks: an adapter, nil for the outside, or an
// address there.
type party struct {
	adapter *plan.Adapter
	address netip.Addr
}

// AddressesOutside returns the addresses of nobody in the plan that claims speak of:
// somebody outside answers there.
func AddressesOutside(m *reachability.Model, witness netip.Addr) []netip.Addr {
	var out []netip.Addr
	p := m.Plan()
	for _, g := range p.Guests() {
		home := InsideAdapter(g)
		if home == nil || home.Gate() == nil ||
			len(AllowedServices(home.Gate().Machine, home.Segment, home.Likely(), witness)) > 0 {
			continue
		}
		if x, ok := elsewhere(m, home); ok && !slices.Contains(out, x.Destination) {
			out = append(out, x.Destination)
		}
	}
	add := func(a netip.Addr) {
		if a.IsValid() && a != witness && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	for _, e := range p.Lab.Expect {
		for _, w := range []lab.Who{e.From, e.To} {
			for _, x := range parties(m, w) {
				if x.adapter == nil {
					add(x.address)
				}
			}
		}
	}
	for _, a := range p.Running() {
		for i := range a.Publishes {
			add(sender(m, &a.Publishes[i]))
		}
	}
	return out
}

// sender returns an address outside from which the rules let somebody use what is published, where they
// do not let the test server; the zero Addr where they do, or let nobody.
func sender(m *reachability.Model, v *plan.Publish) netip.Addr {
	s := lab.Service{Proto: v.Proto, From: v.Port, To: v.Port}
	answer := m.Ask(reachability.Running, lab.Who{Kind: lab.WhoOutside}, lab.Who{Kind: lab.WhoGuest, Name: v.To.Machine.Name}, s)
	var other netip.Addr
	for _, x := range answer.Passages {
		switch {
		case x.Maybe:
		case x.Packet.Source == m.Witness():
			return netip.Addr{}
		default:
			other = x.Packet.Source
		}
	}
	return other
}

// parties returns those of whom a name in a sentence speaks.
func parties(m *reachability.Model, w lab.Who) []party {
	p := m.Plan()
	if w.Kind == lab.WhoOutside {
		return []party{{}}
	}
	var out []party
	switch s := p.Segment(w.Name); {
	case w.Kind == lab.WhoAny:
		out = append(out, party{})
	case w.Kind == lab.WhoSegment && s.Reach == lab.Upstream:
		out = append(out, party{address: s.Gateway})
	}
	if w.Kind == lab.WhoGuest || w.Kind == lab.WhoAppliance {
		for _, a := range p.Machine(w.Name).Adapters {
			if a.Plugged {
				out = append(out, party{adapter: a})
			}
		}
		return out
	}
	for _, g := range p.Guests() {
		for _, a := range g.Adapters {
			if a.Plugged && (w.Kind == lab.WhoAny || w.Kind == lab.WhoSegment && a.Segment.Name == w.Name ||
				w.Kind == lab.WhoPrefix && w.Prefix.Contains(a.Likely())) {
				out = append(out, party{adapter: a})
			}
		}
	}
	if w.Kind == lab.WhoPrefix && out == nil {
		for _, a := range m.Outsiders(w.Prefix) {
			out = append(out, party{address: a})
		}
	}
	return out
}
