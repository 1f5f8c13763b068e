package diagnose

import (
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// FromAnswers reads what a stage answered, value by value: it tells more than a verdict.
func (s *Study) FromAnswers(facts claims.Facts, answers []claims.Answer) []Seen {
	asked := map[string]claims.Question{}
	for _, q := range claims.Questions(s.Plan, facts) {
		asked[q.ID] = q
	}
	r := &paste{s: s}
	for _, a := range answers {
		if q, ok := asked[a.ID]; ok && a.Got != nil {
			r.answer(q, a, facts.Witness.Address)
		}
	}
	return r.out
}

// FromBoth reads what a stage answered, and of its verdict what no answer tells.
func (s *Study) FromBoth(facts claims.Facts, answers []claims.Answer, doc verdict.Document) []Seen {
	out := s.FromAnswers(facts, answers)
	told := map[int]bool{}
	for _, x := range out {
		told[x.Looks[0]] = true
	}
	for _, x := range s.FromVerdict(doc) {
		if !slices.ContainsFunc(x.Looks, func(i int) bool { return told[i] }) {
			out = append(out, x)
		}
	}
	return out
}

// answer notes what one answer says.
func (r *paste) answer(q claims.Question, a claims.Answer, witness netip.Addr) {
	if attack, ok := q.Ask.(claims.AskAttack); ok {
		if m := r.s.Plan.Machine(attack.By); m != nil && q.When == claims.Unplugged {
			r.m = m
			got, _ := a.Got.(claims.GotAttack)
			r.at(openIf(len(got.Ways) > 0), "", Cut)
		}
		return
	}
	ref, ok := claims.Subject(q.Ask)
	if !ok {
		return
	}
	at, err := ref.In(r.s.Plan)
	if err != nil || at == nil || q.When != claims.Running {
		return
	}
	if r.m = at.Machine; r.m.Guest == nil {
		r.portAnswer(at, a)
		return
	}
	if Home(r.m) != at {
		return
	}
	switch got := a.Got.(type) {
	case claims.GotLease:
		r.lease(at, got)
	case claims.GotNeighbor:
		r.at(r.s.neighborValue(at, got, netip.Addr{}), "", Gateway)
	case claims.GotName:
		r.at(nameValue(a, witness), "", Name)
	case claims.GotServers:
		r.at(r.s.serversValue(at, a), "", Servers)
	case claims.GotReach:
		r.reached(q.Ask.(claims.AskReach), got)
	case claims.GotHop:
		v := None
		if gate := at.Gate(); got.Router.IsValid() {
			if v = Holds; gate != nil && gate.Address.IsValid() {
				v = hopValue(r.s.Plan, gate, got.Router)
			}
		}
		r.at(v, "", Path)
	}
}

// portAnswer notes the address of an appliance's port.
func (r *paste) portAnswer(at *plan.Adapter, a claims.Answer) {
	got, ok := a.Got.(claims.GotAddress)
	if i, there := r.s.index[r.m.Name+"."+at.Name+"."+string(Address)]; ok && there {
		r.see(i, addressValue(r.s.Plan, at.Segment, r.s.Looks[i].planned, got.Address), "")
	}
}

// lease notes what a guest's lease says.
func (r *paste) lease(at *plan.Adapter, got claims.GotLease) {
	if got.Lease == nil {
		r.at(None, "", Lease)
		return
	}
	for _, i := range r.s.of(r.m, Lease) {
		r.see(
			i,
			addressValue(r.s.Plan, at.Segment, r.s.Looks[i].planned, got.Lease.Address),
			got.Lease.Address.String(),
		)
	}
	r.at(maskValue(at.Segment, got.Lease.Address), "", Mask)
	for _, i := range r.s.of(r.m, Router) {
		r.see(i, oneValue(got.Lease.Router, r.s.routerOf(r.s.Looks[i])), "")
	}
	for _, i := range r.s.of(r.m, Resolver) {
		r.see(i, listValue(got.Lease.DNS, r.s.resolversOf(r.s.Looks[i])), "")
	}
}

// reached notes what came of an attempt to reach somebody.
func (r *paste) reached(ask claims.AskReach, got claims.GotReach) {
	if ask.Address.IsValid() || ask.IPv6 {
		return
	}
	if ask.Size > 0 {
		if ask.To == (claims.Ref{}) && ask.Service.Proto == lab.ICMP {
			r.at(onOff(got.Answered), "", Large)
		}
		return
	}
	kind := map[lab.Proto]Kind{lab.ICMP: Number, lab.TCP: Page, lab.UDP: Datagram}[ask.Service.Proto]
	for i, l := range r.s.Looks {
		outside := ask.To == (claims.Ref{}) && l.Kind == kind
		across := l.Kind == Across && ask.To == claims.RefTo(l.To)
		if l.Machine == r.m && (outside || across) && l.service == ask.Service {
			r.see(i, reachValue(got, l.allowed), "")
		}
	}
}

func openIf(open bool) Value {
	if open {
		return Open
	}
	return Holds
}
