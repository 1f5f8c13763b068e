package claims

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

func judgeLease(r *Result, a *plan.Adapter, o GotLease) {
	b := o.Lease
	server, want := a.Segment.LeaseService()
	switch {
	case want == nil:
		r.broken(fmt.Sprintf("nobody is planned to hand out leases on %s", a.Segment.Name), "let the appliance hand out leases there")
		return
	case b == nil:
		r.broken(fmt.Sprintf("nobody gave %s a lease on %s", a.Machine.Name, a.Segment.Name),
			fmt.Sprintf("look whether adapter %d of %s and %s of %s are on the same segment", a.Number, a.Machine.Name, portWords(server),
				server.Machine.Name))
		return
	}
	from := fmt.Sprintf("from %s (%s)", b.Server, b.ServerMAC)
	intruder := b.ServerMAC != server.MAC
	try := fmt.Sprintf("look which lease server %s is", b.ServerMAC)
	if intruder {
		try = fmt.Sprintf("switch off the lease server at %s on %s", b.ServerMAC, a.Segment.Name)
		if a.Segment.HostPool != nil {
			try = fmt.Sprintf("switch off the host's lease service on %s", a.Segment.Name)
		}
	}
	switch at := b.Address.Addr(); {
	case a.How == plan.Reservation && at != a.Address.Addr():
		r.broken(fmt.Sprintf("%s got %s %s, and %s is reserved for it", a.Machine.Name, b.Address, from, a.Address.Addr()), try)
	case a.How == plan.Lease && !want.Pool.Contains(at):
		r.broken(fmt.Sprintf("%s got %s %s, outside the pool %s", a.Machine.Name, b.Address, from, want.Pool), try)
	case intruder:
		r.broken(fmt.Sprintf("%s got %s %s, and that is not %s of %s", a.Machine.Name, b.Address, from, portWords(server), server.Machine.Name),
			try)
	case b.Address.Bits() != a.Segment.Subnet.Bits():
		r.broken(fmt.Sprintf("%s got the mask /%d, and %s has /%d", a.Machine.Name, b.Address.Bits(), a.Segment.Name, a.Segment.Subnet.Bits()),
			try)
	case b.Router != want.Router:
		r.broken(fmt.Sprintf("%s was told the router %s, and %s is planned", a.Machine.Name, b.Router, want.Router), try)
	case !slices.Equal(b.DNS, want.DNS):
		r.broken(fmt.Sprintf("%s was told %s, and %s is planned", a.Machine.Name, subnet.Named("resolver", b.DNS),
			subnet.Named("resolver", want.DNS)), try)
	default:
		r.Saw = fmt.Sprintf("%s %s", b.Address, from)
	}
}

// portWords calls an appliance's adapter a port, and a guest's by its number.
func portWords(a *plan.Adapter) string {
	if a.Port == nil {
		return a.Name
	}
	return "port " + a.Name
}

func judgeAlone(r *Result, s *plan.Segment, o GotServers) {
	var known []string
	server, _ := s.LeaseService()
	planned, found := server != nil, false
	for _, offer := range o.Offers {
		if planned && offer.ServerMAC == server.MAC {
			found = true
			known = append(known, fmt.Sprintf("%s at %s", server.Machine.Name, offer.ServerMAC))
			continue
		}
		if !planned && s.Bridged != nil && s.Bridged.Reach == lab.Upstream && offer.Server == s.Bridged.Gateway {
			known = append(known, fmt.Sprintf("upstream, through %s, at %s", s.Port.Machine.Name, offer.ServerMAC))
			continue
		}
		whose, try := "a lease server that nobody planned",
			fmt.Sprintf("find the machine with hardware address %s and switch its lease service off", offer.ServerMAC)
		if s.HostLeg.IsValid() && s.HostLeg.Addr() == offer.Server {
			whose, try = "the host's lease server", fmt.Sprintf("switch off the host's lease service on %s: `leases: none`", s.Name)
		}
		r.broken(fmt.Sprintf("%s answers on %s too: %s at %s offers %s; whom a guest listens to is luck", whose, s.Name, offer.Server,
			offer.ServerMAC, offer.Address), try)
	}
	switch {
	case r.Verdict == Broken:
	case planned && !found:
		r.broken(fmt.Sprintf("nobody answers on %s, and %s should", s.Name, server.Machine.Name),
			fmt.Sprintf("look whether %s of %s is on %s", portWords(server), server.Machine.Name, s.Name))
	case planned, len(known) > 0:
		r.Saw = "only " + strings.Join(known, ", ") + " answers"
	default:
		r.Saw = "nobody hands out leases, as planned"
	}
}

// judgeRouters: nobody but the planned port announces IPv6.
func judgeRouters(r *Result, s *plan.Segment, o GotRouters) {
	planned := s.Port != nil && s.Port.Address6.IsValid()
	found := false
	for _, a := range o.Routers {
		if planned && a.MAC == s.Port.MAC && a.Prefix == s.Subnet6 {
			found = true
			continue
		}
		what := "itself as a router"
		if a.Prefix.IsValid() {
			what = a.Prefix.String()
		}
		r.broken(fmt.Sprintf("%s at %s announces %s by IPv6 on %s, and nobody planned that", a.Address, a.MAC, what, s.Name),
			fmt.Sprintf("find the machine with hardware address %s and switch its announcements off", a.MAC))
	}
	switch {
	case r.Verdict == Broken:
	case planned && !found:
		r.broken(fmt.Sprintf("nobody announces %s on %s, and %s should", s.Subnet6, s.Name, s.Port.Machine.Name),
			"switch router advertisements on for "+portWords(s.Port))
	case planned:
		r.Saw += fmt.Sprintf("; it alone announces %s", s.Subnet6)
	}
}

// judgeIPv6: the guest made itself an address of the planned prefix and goes by
// the planned port.
func judgeIPv6(r *Result, home, port *plan.Adapter, o GotIPv6) {
	s := home.Segment
	switch {
	case r.Verdict == Broken:
	case !o.Address.IsValid():
		r.broken(fmt.Sprintf("%s has no IPv6 address on %s", home.Machine.Name, s.Name),
			"look whether "+portWords(port)+" announces "+s.Subnet6.String())
	case !s.Subnet6.Contains(o.Address.Addr()):
		r.broken(fmt.Sprintf("%s has the IPv6 address %s, and %s is planned", home.Machine.Name, o.Address, s.Subnet6),
			"find who else announces on "+s.Name)
	case o.Router != port.MAC.LinkLocal():
		r.broken(fmt.Sprintf("%s goes by the IPv6 router %s, and %s of %s is %s", home.Machine.Name, o.Router, portWords(port),
			port.Machine.Name, port.MAC.LinkLocal()), "find who else announces on "+s.Name)
	case !slices.Contains(o.Resolvers, port.Address6.Addr()):
		r.broken(fmt.Sprintf("%s was told %s by IPv6, and %s is planned", home.Machine.Name, subnet.Named("resolver", o.Resolvers),
			port.Address6.Addr()), "look what answers DHCPv6 on "+s.Name)
	default:
		r.Saw += fmt.Sprintf("; by IPv6 %s, router %s", o.Address, o.Router)
	}
}

func judgeGateway(r *Result, home, port *plan.Adapter, o GotNeighbor) {
	switch {
	case port == nil:
		r.broken(fmt.Sprintf("no appliance has a port for guests on %s", home.Segment.Name), "give an appliance a lan port there")
	case !o.Hop.IsValid():
		r.broken(fmt.Sprintf("%s has no next hop: %s", home.Machine.Name, o.Saw), "look at its lease, or the gateway typed into it")
	case len(o.Hardware) == 0:
		r.broken(fmt.Sprintf("the next hop %s of %s does not answer", o.Hop, home.Machine.Name),
			fmt.Sprintf("compare it with %s, port %s of %s", port.Shown(), port.Name, port.Machine.Name))
	case len(o.Hardware) > 1:
		r.broken(fmt.Sprintf("two machines answer for the next hop %s: %s and %s", o.Hop, o.Hardware[0], o.Hardware[1]),
			"change the address of the one that is not the appliance")
	case Transparent(port) && !slices.ContainsFunc(home.Segment.Adapters, func(a *plan.Adapter) bool { return a.MAC == o.Hardware[0] }):
		r.Saw = fmt.Sprintf("%s is at %s, beyond %s", o.Hop, o.Hardware[0], port.Machine.Name)
	case o.Hardware[0] != port.MAC:
		r.broken(fmt.Sprintf("the next hop %s is %s, and port %s of %s is %s", o.Hop, o.Hardware[0], port.Name, port.Machine.Name, port.MAC),
			"set the gateway to "+port.Shown())
	default:
		r.Saw = fmt.Sprintf("%s is at %s, port %s of %s", o.Hop, o.Hardware[0], port.Name, port.Machine.Name)
	}
}

func judgeNames(r *Result, home *plan.Adapter, w Witness, o GotName) {
	switch {
	case !o.Resolver.IsValid():
		r.broken(home.Machine.Name+" has no resolver: "+o.Saw, "let its lease name one, or type one in")
	case !o.Answered:
		r.broken(fmt.Sprintf("the resolver %s does not answer %s: %s", o.Resolver, home.Machine.Name, o.Saw),
			"look whether the appliance's resolver has one upstream")
	case !slices.Contains(o.Addresses, w.Address):
		r.broken(fmt.Sprintf("%s says that %s has %s, and it is at %s: %s", o.Resolver, w.Name, subnet.Named("address", o.Addresses), w.Address,
			o.Saw), "look which resolver stands behind it")
	default:
		r.Saw = fmt.Sprintf("%s is %s, says %s", w.Name, w.Address, o.Resolver)
	}
}

// seenAs gives the addresses as which the witness must see a guest: known only
// where the last of the appliances translates and nothing above it does so
// again.
type seenAs struct {
	wans       []*plan.Adapter
	translated bool
	again      bool // the host translates once more
	own        []string
}

func expectedSource(home *plan.Adapter, wans []*plan.Adapter, addresses []Got) seenAs {
	s := seenAs{wans: wans}
	if len(wans) > 0 && !Transparent(wans[0]) {
		s.translated = wans[0].Machine != home.Gate().Machine || slices.Contains(wans[0].Machine.Masq, home.Segment)
		s.again = wans[0].Segment.Lab.Join == "nat" || wans[0].Segment.Reach == lab.Host
	}
	for _, m := range wans {
		for _, v := range m.Machine.OneToOne {
			if v.To == home { // an outside address of its own
				s.own = append(s.own, v.Outside.String())
			}
		}
	}
	for _, g := range addresses {
		if a := g.(GotAddress).Address; a.IsValid() {
			s.own = append(s.own, a.Addr().String())
		}
	}
	return s
}

func judgeReached(r *Result, home *plan.Adapter, service lab.Service, o GotReach) {
	if !o.Answered {
		r.broken(fmt.Sprintf("%s does not reach the witness by %s: %s", home.Machine.Name, service, o.Saw),
			"`bastion diagnose` asks what is seen and finds the mistake")
	}
}

func judgeSource(r *Result, home *plan.Adapter, service lab.Service, s seenAs, o GotReach) {
	switch {
	case !o.Answered:
	case o.Unseen && r.Verdict == Holds && r.Saw == "":
		r.Saw = "the witness answers by " + service.String()
	case o.Unseen:
		r.Saw += ", " + service.String()
	case s.again && home.Segment.Subnet.Contains(o.Source):
		r.broken(fmt.Sprintf("the witness saw %s's own address %s: nothing translated it", home.Machine.Name, o.Source), "look which way it took")
	case s.translated && !s.again && !slices.Contains(s.own, o.Source.String()):
		r.around = true
		r.broken(fmt.Sprintf("the witness saw %s reach it by %s from %s, not from %s's WAN address %s", home.Machine.Name, service, o.Source,
			s.wans[0].Machine.Name, strings.Join(s.own, ", ")),
			"find the way that avoids the appliance: another adapter, or a segment that leads out")
	case r.Verdict == Holds && r.Saw == "":
		r.Saw = fmt.Sprintf("the witness saw %s by %s", o.Source, service)
	case r.Verdict == Holds:
		r.Saw += ", " + service.String()
	}
}

func judgePath(r *Result, port *plan.Adapter, o GotHop) {
	switch {
	case !o.Router.IsValid():
		r.broken("no router on the way says that it is there: "+o.Saw, "look at the guest's next hop first")
	case o.Router != port.Address.Addr():
		r.around = true
		r.broken(fmt.Sprintf("the first hop is %s, and it should be %s, port %s of %s", o.Router, port.Address.Addr(), port.Name,
			port.Machine.Name),
			"find which adapter or gateway leads there and take it away")
	default:
		r.Saw = fmt.Sprintf("the first hop is %s, port %s of %s", o.Router, port.Name, port.Machine.Name)
	}
}

// judgeWays: nothing got through, and something was tried.
func judgeWays(r *Result, attempts int, ways []Way, holds string) {
	for _, w := range ways {
		remedy := "take that way out of the lab, then rehearse again"
		if w.Door != (Ref{}) {
			remedy = fmt.Sprintf("take adapter %d of %s off %s", w.Door.Adapter, w.Door.Machine, segmentAfter(w.Path, w.Door.Machine))
		}
		r.broken(fmt.Sprintf("%s gets to %s: %s (%s)", w.From, w.To, strings.Join(w.Path, " → "), w.Tried), remedy)
	}
	r.Escapes = append(r.Escapes, ways...)
	switch {
	case r.Verdict == Broken:
	case attempts == 0:
		r.Verdict, r.Saw = Unknown, "nothing could be tried"
	default:
		r.Saw = fmt.Sprintf(holds, attempts)
	}
}

// segmentAfter gives the segment that a path leaves a machine by.
func segmentAfter(path []string, machine string) string {
	for i := len(path) - 2; i >= 0; i-- {
		if path[i] == machine {
			return path[i+1]
		}
	}
	return "its segment"
}

func judgeAttack(r *Result, got []Got) {
	o := got[0].(GotAttack)
	judgeWays(r, o.Attempts, o.Ways, "%d ways tried, none leads outside")
}

// judgeBetween judges one service from a segment to another.
func judgeBetween(r *Result, a, b *plan.Adapter, s lab.Service, allowed bool, how string, seen *between, o GotReach) {
	switch {
	case allowed && !o.Answered:
		r.broken(fmt.Sprintf("the rules let %s%s pass from %s to %s, and %s does not reach %s: %s", s, how, a.Segment.Name, b.Segment.Name,
			a.Machine.Name, b.Machine.Name, o.Saw), "look at the lease and gateway of both guests")
	case !allowed && o.Answered:
		r.broken(fmt.Sprintf("the rules let no %s%s pass from %s to %s, and %s reaches %s", s, how, a.Segment.Name, b.Segment.Name,
			a.Machine.Name, b.Machine.Name), "find what joins the two segments beside the appliance")
	default:
		seen.add(s.String(), how, o.Answered)
		if r.Verdict == Holds {
			r.Saw = seen.String()
		}
	}
}

// between is what was seen from one segment to another, by what became of it.
type between struct {
	heads []string
	by    map[string][]string
}

func (b *between) add(service, how string, passed bool) {
	head := how + " stopped as the rules say"
	if passed {
		head = how + " pass as the rules say"
	}
	if b.by == nil {
		b.by = map[string][]string{}
	}
	if b.by[head] == nil {
		b.heads = append(b.heads, head)
	}
	if !slices.Contains(b.by[head], service) {
		b.by[head] = append(b.by[head], service)
	}
}

func (b *between) String() string {
	var parts []string
	for _, h := range b.heads {
		parts = append(parts, strings.Join(b.by[h], ", ")+h)
	}
	return strings.Join(parts, "; ")
}
