package diagnose

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
	"openbastion/internal/verify/claims"
)

// FromPaste reads what somebody copied from a machine: its settings, and what came of
// pings, questions for names and pages. What is not said is not guessed.
func (s *Study) FromPaste(m *plan.Machine, text string) []Seen {
	r := paste{s: s, m: m}
	l, _ := identify.Of(s.Plan, m, listing.Read(text, s.Plan.Names()...))
	if m.Guest != nil {
		r.guest(l)
	} else {
		r.ports(l)
	}
	r.attachments(l)
	for _, t := range l.Tries {
		r.conclude(t)
	}
	return r.out
}

// paste makes what a machine shows into what was seen.
type paste struct {
	s      *Study
	m      *plan.Machine
	own    netip.Prefix // the address that it shows, with its mask
	hop    netip.Addr   // the next hop that it shows; invalid: none
	routed bool         // it shows whether it has one
	out    []Seen
}

// see notes that a look shows a value, the first time that it does.
func (r *paste) see(i int, v Value, how string) {
	if v == Unseen {
		return
	}
	for _, x := range r.out {
		if x.Looks[0] == i {
			return
		}
	}
	l := r.s.Looks[i]
	r.out = append(r.out, Seen{Text: l.ID + "=" + cmp.Or(how, v.Word(r.s.Plan)), Looks: []int{i}, Value: v})
}

func (r *paste) at(v Value, how string, kinds ...Kind) {
	for _, i := range r.s.of(r.m, kinds...) {
		r.see(i, v, how)
	}
}

// guest reads a guest's settings.
func (r *paste) guest(l listing.Listing) {
	home := Home(r.m)
	if home == nil || l.Empty() {
		return
	}
	own := r.interfaceOf(l, home)
	if own == nil {
		r.routes(l)
		return
	}
	if len(own.Tail) == 12 && home.MACGiven { // an address that the plan chose is evidence of nothing
		r.at(sameOr(own.Tail == strings.ReplaceAll(home.MAC.String(), ":", "")), "", Hardware)
	}
	shown := map[string]bool{} // adapters that are listed whole
	for _, x := range l.Interfaces {
		if len(x.Tail) == 12 && !listing.Virtual(x.Device) {
			shown[x.Tail] = true
		}
	}
	if len(shown) > 0 {
		r.at(sameOr(len(shown) == len(r.m.Adapters)), "", Adapters)
	}
	switch own.Link {
	case listing.LinkUp:
		r.at(Holds, "", Cable)
	case listing.LinkDown:
		r.at(None, "", Cable)
	}
	if own.Lease != listing.LeaseUnsaid {
		r.at(sameOr((own.Lease == listing.IsLease) == (home.How != plan.Static)), "", How)
	}
	if own.Duplicate {
		r.at(Other, "", Twin)
	}
	r.leaseServer(own.LeaseServer, home)
	for _, i := range r.s.of(r.m, Lease, Address) {
		look := r.s.Looks[i]
		if own.Unanswered && len(own.Addresses) == 0 {
			r.see(i, None, "")
			continue
		}
		if len(own.Addresses) == 0 && own.Lease == listing.LeaseUnsaid &&
			(own.Network != "" || own.Attached != listing.UnsaidAttachment) {
			continue // a page of the hypervisor shows no addresses
		}
		best := netip.Prefix{}
		for _, a := range own.Addresses {
			if a.Addr().Is4() && !(own.Duplicate && a.Addr().IsLinkLocalUnicast()) &&
				(!best.IsValid() || look.planned(a.Addr())) {
				best = a.Prefix
				if a.Masked {
					r.own = a.Prefix
					r.out = append(r.out, r.s.maskOf(r.m, a.Prefix)...)
				}
			}
		}
		v := addressValue(r.s.Plan, home.Segment, look.planned, best)
		if best.IsValid() {
			r.see(i, v, best.Addr().String())
		} else {
			r.see(i, v, "")
		}
	}
	r.routes(l)
}

// leaseServer notes a lease of another server than the planned one; that the planned one gave it does not say that it
// is the only one.
func (r *paste) leaseServer(by netip.Addr, home *plan.Adapter) {
	server, _ := home.Segment.LeaseService()
	if server != nil && server.Address.IsValid() && by != server.Address.Addr() &&
		home.Segment.Subnet.Contains(by) { // by an address of another network it may be the planned one with other settings
		r.at(Broken, by.String(), Servers)
	}
}

func sameOr(same bool) Value {
	if same {
		return Holds
	}
	return Other
}

// interfaceOf finds the interface of a listing that is an adapter: by its hardware
// address, else the only one, else the first with an address or a link.
func (r *paste) interfaceOf(l listing.Listing, home *plan.Adapter) *listing.Interface {
	for i := range l.Interfaces {
		if tail := l.Interfaces[i].Tail; tail != "" &&
			strings.HasSuffix(strings.ReplaceAll(home.MAC.String(), ":", ""), tail) {
			return &l.Interfaces[i]
		}
	}
	var found *listing.Interface
	for i := range l.Interfaces {
		x := &l.Interfaces[i]
		if found == nil || len(found.Addresses) == 0 && len(x.Addresses) > 0 {
			found = x
		}
	}
	return found
}

// routes reads the way to everywhere, and who is asked for names.
func (r *paste) routes(l listing.Listing) {
	if r.routed = l.RoutesHere || len(l.Routes) > 0; len(l.Routes) > 0 {
		r.hop = l.Routes[0].Gateway
	}
	for _, i := range r.s.of(r.m, Router) {
		switch planned := r.s.routerOf(r.s.Looks[i]); {
		case len(l.Routes) > 0:
			r.see(i, routerValue(r.own, l.Routes[0].Gateway, planned), l.Routes[0].Gateway.String())
		case l.RoutesHere:
			r.see(i, oneValue(netip.Addr{}, planned), "")
		}
	}
	for _, i := range r.s.of(r.m, Resolver) {
		planned := r.s.resolversOf(r.s.Looks[i])
		switch {
		case len(l.Resolvers) > 0 && l.Resolvers[0].Address.IsLoopback(): // a stub on the machine itself says nothing of who is asked
		case len(l.Resolvers) > 0:
			r.see(i, listValue([]netip.Addr{l.Resolvers[0].Address}, planned), l.Resolvers[0].Address.String())
		case l.NamesHere:
			r.see(i, listValue(nil, planned), "")
		}
	}
	gate := Home(r.m).Gate()
	for _, n := range l.Neighbors {
		if gate != nil && gate.Address.IsValid() && n.Address == gate.Address.Addr() && len(n.Tail) == 12 &&
			!claims.Transparent(gate) && (gate.MACGiven || n.Tail == strings.ReplaceAll(gate.MAC.String(), ":", "")) {
			if h, err := mac.Parse(n.Tail); err == nil {
				r.at(r.s.neighborValue(Home(r.m), claims.GotNeighbor{Hardware: []mac.Address{h}}, n.Address), "", Gateway)
			}
		}
	}
}

// ports reads an appliance's console.
func (r *paste) ports(l listing.Listing) {
	if l.Empty() {
		return
	}
	if i, ok := r.s.index[r.m.Name+".console"]; ok {
		r.see(i, Holds, "")
	}
	shown := identify.Interfaces(r.s.Plan, r.m, l)
	exchanged := r.exchanged(shown)
	for i, look := range r.s.Looks {
		x, found := shown[look.At]
		if exchanged[look.At] && look.Kind == Address {
			continue
		}
		if look.Machine != r.m || look.At == nil || !found || look.At.Over != nil {
			continue
		}
		switch {
		case look.Kind == Cable && x.Link == listing.LinkDown:
			r.see(i, None, "")
		case look.Kind == Cable && x.Link == listing.LinkUp:
			r.see(i, Holds, "")
		case look.Kind == Address && len(x.Addresses) > 0:
			r.see(
				i,
				addressValue(r.s.Plan, look.home, look.planned, x.Addresses[0].Prefix),
				x.Addresses[0].Addr().String(),
			)
		case look.Kind == Address && x.Network == "" && x.Attached == listing.UnsaidAttachment: // a page of the hypervisor shows none
			r.see(i, None, "")
		}
	}
}

// exchanged notes two ports whose adapters have an address of each other's network: each is on the
// other's network, whatever the console assigned.
func (r *paste) exchanged(shown map[*plan.Adapter]listing.Interface) map[*plan.Adapter]bool {
	out := map[*plan.Adapter]bool{}
	in := func(x listing.Interface, s *plan.Segment) bool {
		return slices.ContainsFunc(x.Addresses, func(a listing.Address) bool { return s.Subnet.Contains(a.Addr()) })
	}
	for a, x := range shown {
		for b, y := range shown {
			if a.Segment == b.Segment || len(x.Tail) != 12 || len(y.Tail) != 12 || !a.MACGiven || !b.MACGiven ||
				!in(x, b.Segment) || !in(y, a.Segment) {
				continue
			}
			out[a] = true
			for i, look := range r.s.Looks {
				if n := slices.Index(r.s.Plan.Segments, b.Segment); look.Kind == Attached && look.At == a && n >= 0 {
					r.see(i, InNetwork(n), b.Segment.Name)
				}
			}
		}
	}
	return out
}

// attachments reads which networks the hypervisor attaches the adapters to.
func (r *paste) attachments(l listing.Listing) {
	for _, x := range identify.Attachments(r.s.Plan, r.m, l) {
		v := Holds
		if x.Sight == identify.Differs {
			v = Other
			if x.Kind == listing.Detached {
				v = None
			}
			for i, s := range r.s.Plan.Segments {
				if s == x.Segment && s != x.Adapter.Segment {
					v = InNetwork(i)
				}
			}
		}
		for i, look := range r.s.Looks {
			if look.Kind == Attached && look.At == x.Adapter {
				r.see(i, v, x.Shown)
			}
		}
	}
}

// conclude notes what a try that is over came to.
func (r *paste) conclude(t listing.Try) {
	value := map[outcome.Code]Value{outcome.OK: Holds, outcome.NoAnswer: None, outcome.Refused: Refused,
		outcome.Unreachable: Unreached, outcome.NoRoute: NoRoute, outcome.Failed: Failed}[t.Code]
	if t.Code == outcome.NoNeighbor || t.By.IsValid() && t.By == r.own.Addr() {
		value = None // the machine itself reports that its next hop does not answer
	}
	to, numbered := t.Address()
	switch {
	case t.What == listing.Hop:
		r.firstHop(t.By)
	case t.What == listing.Name, !numbered && t.What == listing.Page && t.Code == outcome.Failed:
		r.at(value, "", Name)
	case !numbered:
		return // by a name it says nothing of addresses alone
	case t.What == listing.Page:
		r.page(to, value)
	default:
		r.ping(to, value, t.Large)
	}
}

// firstHop notes the first router on a traced path.
func (r *paste) firstHop(by netip.Addr) {
	for _, i := range r.s.of(r.m, Path) {
		switch gate := r.s.Looks[i].At.Gate(); {
		case !by.IsValid():
			r.see(i, None, "")
		case gate != nil && gate.Address.IsValid():
			r.see(i, hopValue(r.s.Plan, gate, by), by.String())
		}
	}
}

// ping notes a ping of an address.
func (r *paste) ping(to netip.Addr, v Value, large bool) {
	home := Home(r.m)
	if home == nil {
		return
	}
	if large {
		r.at(onOff(v == Holds), "", Large)
		return
	}
	if gate := home.Gate(); gate != nil && gate.Address.IsValid() && gate.Address.Addr() == to {
		switch {
		case r.routed && r.hop != to: // it is not where this guest sends what is for elsewhere
		case v == Holds:
			r.at(Holds, "", Gateway)
		case !r.denied(gate, home):
			r.at(None, "", Gateway)
		}
		return
	}
	for i, l := range r.s.Looks {
		if l.Machine == r.m && (l.Kind == Neighbor || l.Kind == Across && l.service.Proto == "icmp") &&
			l.To.Address.IsValid() &&
			l.To.Address.Addr() == to {
			r.see(i, allowedValue(l, v), "")
			return
		}
	}
	if r.outside(to) {
		for _, i := range r.s.of(r.m, Number) {
			r.see(i, allowedValue(r.s.Looks[i], v), "")
		}
	}
}

// denied reports whether a rule keeps a guest from pinging its next hop.
func (r *paste) denied(gate, home *plan.Adapter) bool {
	rule, action := gate.Machine.Decide(
		plan.Flow{Source: home.Likely(), Destination: gate.Address.Addr(), Proto: lab.ICMP, Own: true},
	)
	return rule != nil && action != lab.Allow
}

// allowedValue turns what answered round where nothing may.
func allowedValue(l *Look, v Value) Value {
	switch {
	case l.allowed || l.Kind == Neighbor:
		return v
	case v == Holds:
		return Open
	}
	return Holds
}

// outside reports whether it is an address that is none of the lab's.
func (r *paste) outside(a netip.Addr) bool {
	for _, s := range r.s.Plan.Segments {
		if s.Subnet.Contains(a) {
			return false
		}
	}
	return !a.IsLoopback() && a.Is4()
}

func (r *paste) page(to netip.Addr, v Value) {
	for i, l := range r.s.Looks {
		switch {
		case l.Machine != r.m:
		case l.Kind == Admin && l.To.Address.Addr() == to:
			r.see(i, v, "")
			return
		case (l.Kind == Inside || l.Kind == Across && l.service.Proto == "tcp") && l.To.Address.IsValid() && l.To.Address.Addr() == to:
			r.see(i, allowedValue(l, v), "")
			return
		}
	}
	if r.outside(to) {
		for _, i := range r.s.of(r.m, Page) {
			r.see(i, allowedValue(r.s.Looks[i], v), "")
		}
	}
}
