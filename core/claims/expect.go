package claims

import (
	"fmt"
	"slices"

	"openbastion/core/lab"
	"openbastion/core/plan"
)

// expectClaim asks what a sentence says, by every adapter it speaks of.
func expectClaim(p *plan.Plan, w Witness, i int) claim {
	e := p.Lab.Expect[i]
	c := claim{Result: Result{ID: fmt.Sprintf("expect-%d.expect", i+1), Sentence: e.String(), Kind: Expect}}
	said := 0
	for _, from := range parties(p, e.From) {
		for _, to := range parties(p, e.To) {
			if from == to || from != nil && to != nil && from.Machine == to.Machine {
				continue
			}
			for _, a := range []*plan.Adapter{from, to} {
				if a != nil && a.Guest != nil && !slices.Contains(c.guests, a.Machine.Name) {
					c.guests = append(c.guests, a.Machine.Name)
				}
			}
			var asks []Asking
			for _, s := range meant(p, w, e.Service, from, to) {
				asks = append(asks, ThroughPublish(p, from, to, s))
			}
			c.parts = append(c.parts, part{asks: asking(asks...), any: expected(e.Never, NameOf(from)+" to "+NameOf(to), &said)})
			if e.Never && to == nil && from != nil && e.Service.Proto == lab.Any { // else it speaks of its protocol and port alone
				c.parts = append(c.parts, part{asks: asking(AskAttack{from.Machine.Name}), judge: func(r *Result, got []Got) {
					was := r.Saw
					if judgeAttack(r, got); r.Verdict == Holds {
						r.Saw = was
					}
				}})
			}
		}
	}
	return c
}

// expected judges what a sentence says of one pair: reaching means that one of
// the services that are meant gets through, never that none does. said counts
// the pairs that were told, of which a sentence names three.
func expected(never bool, pair string, said *int) func(r *Result, got []Got) bool {
	return func(r *Result, got []Got) (missing bool) {
		reached := false
		for _, g := range got {
			if g == nil {
				missing = true
			} else {
				reached = reached || g.(GotReach).Answered
			}
		}
		switch {
		case reached && never:
			r.broken(pair+" gets through", "look at the rules, and which of them lets it pass")
			return false
		case reached:
			missing = false
		case !missing && !never:
			r.broken(pair+" does not get through", "look at the rules, and which of them denies it")
		}
		if r.Verdict == Holds && !missing {
			if *said++; *said == 1 {
				r.Saw = "as the sentence says: " + pair
			} else if *said <= 3 {
				r.Saw += ", " + pair
			}
		}
		return missing
	}
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
		for _, s := range m.AllowedServices(likely(from), outside, usual) {
			add(s)
		}
	}
	return asked
}

// ThroughPublish asks whether a service reaches an adapter: from outside, at the
// WAN port that publishes it, where one does.
func ThroughPublish(p *plan.Plan, from, to *plan.Adapter, s lab.Service) AskReach {
	q := AskReach{From: RefTo(from), To: RefTo(to), Service: s}
	if from != nil || to == nil {
		return q
	}
	for _, m := range p.Appliances() {
		for _, v := range m.Publishes {
			if v.To.Machine == to.Machine && v.Proto == s.Proto && (v.Port == s.From || v.Target == s.From) && len(m.WAN()) > 0 {
				q.To, q.Service = RefTo(m.WAN()[0]), lab.Service{Proto: s.Proto, From: v.Port, To: v.Port}
				return q
			}
		}
	}
	return q
}

// parties gives the adapters that a name in a sentence speaks of; nil stands
// for the outside.
func parties(p *plan.Plan, w lab.Who) []*plan.Adapter {
	switch w.Kind {
	case lab.WhoOutside:
		return []*plan.Adapter{nil}
	case lab.WhoGuest:
		if g := p.Machine(w.Name); InsideAdapter(g) != nil {
			return []*plan.Adapter{InsideAdapter(g)}
		}
		return p.Machine(w.Name).Adapters[:1]
	case lab.WhoAppliance:
		return p.Machine(w.Name).Adapters[:1]
	}
	var out []*plan.Adapter
	for _, g := range p.Guests() {
		for _, a := range g.Adapters {
			if w.Kind == lab.WhoAny || w.Kind == lab.WhoSegment && a.Segment.Name == w.Name || w.Kind == lab.WhoPrefix &&
				w.Prefix.Contains(likely(a)) {
				out = append(out, a)
			}
		}
	}
	return out
}
