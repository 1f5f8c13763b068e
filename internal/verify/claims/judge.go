package claims

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// portOf names an appliance's port, or another machine's adapter, as every text does: sluice.lan,
// otter adapter 2.
func portOf(a *plan.Adapter) string {
	if a.Port == nil {
		return fmt.Sprintf("%s adapter %d", a.Machine.Name, a.Number)
	}
	return a.Machine.Name + "." + a.Name
}

// seenAsPort reports whether a station is an appliance's port: by its MAC address, or, where something else made the machine
// and the lab file gives no MAC address of it, by the planned address.
func seenAsPort(port *plan.Adapter, m mac.Address, at netip.Addr, foreign bool) bool {
	return m == port.MAC || foreign && !port.MACGiven && port.Address.IsValid() && at == port.Address.Addr()
}

// judgeLease judges a lease; foreign: in a lab that something else made.
func judgeLease(r *Result, a *plan.Adapter, o GotLease, foreign bool) {
	b := o.Lease
	server, want := a.Segment.LeaseService()
	why := Reason{Subject: a.Machine.Name, Segment: a.Segment.Name}
	switch {
	case want == nil:
		why.Code = "no-dhcp-planned"
		r.fail(why)
		return
	case b == nil:
		why.Code, why.Expected, why.Port = "no-lease", portOf(a), portOf(server)
		r.fail(why)
		return
	}
	intruder := !seenAsPort(server, b.ServerMAC, b.Server, foreign)
	why.By, why.Observed, why.Do = fmt.Sprintf("%s (%s)", b.Server, b.ServerMAC), b.Address.String(), identifyServer
	switch {
	case intruder && a.Segment.HostPool != nil:
		why.Do = disableHostServer
	case intruder:
		why.Do = disableServer
	}
	switch at := b.Address.Addr(); {
	case a.How == plan.Reservation && at != a.Address.Addr():
		why.Code, why.Expected = "wrong-reservation", a.Address.Addr().String()
	case a.How == plan.Lease && !want.Pool.Contains(at):
		why.Code, why.Expected = "outside-pool", want.Pool.String()
	case intruder:
		why.Code, why.Expected = "wrong-dhcp-server", portOf(server)
	case b.Address.Bits() != a.Segment.Subnet.Bits():
		why.Code, why.Observed, why.Expected = "wrong-prefix-length", bits(b.Address), bits(a.Segment.Subnet)
	case b.Router != want.Router:
		why.Code, why.Observed, why.Expected = "wrong-dhcp-gateway", addressText(b.Router), addressText(want.Router)
	case !slices.Equal(b.DNS, want.DNS):
		why.Code, why.Observed, why.Expected = "wrong-dhcp-dns", subnet.Named(
			"DNS server",
			b.DNS,
		), subnet.Named(
			"DNS server",
			want.DNS,
		)
	default:
		r.Observed = b.Address.String() + " from " + why.By
		return
	}
	r.fail(why)
}

func bits(p netip.Prefix) string { return fmt.Sprintf("/%d", p.Bits()) }

// addressText writes an address, and none for the zero one.
func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

func judgeAlone(r *Result, s *plan.Segment, o GotServers, foreign bool) {
	var known []string
	server, _ := s.LeaseService()
	planned, found := server != nil, false
	for _, offer := range o.Offers {
		if planned && seenAsPort(server, offer.ServerMAC, offer.Server, foreign && !found) {
			found = true
			known = append(known, fmt.Sprintf("%s at %s", server.Machine.Name, offer.ServerMAC))
			continue
		}
		if !planned && s.Reach == lab.Upstream && s.Lab.Leases != "none" && offer.Server == s.Gateway {
			known = append(known, fmt.Sprintf("the site's DHCP server at %s", offer.ServerMAC))
			continue
		}
		if !planned && s.Bridged != nil && s.Bridged.Reach == lab.Upstream && offer.Server == s.Bridged.Gateway {
			known = append(
				known,
				fmt.Sprintf("the upstream DHCP server, through %s, at %s", s.Port.Machine.Name, offer.ServerMAC),
			)
			continue
		}
		who, do := "an unplanned DHCP server", disableServer
		if s.HostLeg.IsValid() && s.HostLeg.Addr() == offer.Server {
			who, do = "the host's DHCP server", disableHostServer
		}
		r.fail(Reason{Code: "rogue-dhcp-server", Subject: s.Name, Segment: s.Name,
			By: fmt.Sprintf(
				"%s (%s, %s)",
				who,
				offer.Server,
				offer.ServerMAC,
			), Observed: offer.Address.String(), Do: do})
	}
	switch {
	case r.Verdict == Broken:
	case planned && !found:
		r.fail(
			Reason{
				Code:     "dhcp-server-silent",
				Subject:  s.Name,
				Segment:  s.Name,
				Expected: server.Machine.Name,
				Port:     portOf(server),
			},
		)
	case planned, len(known) > 0:
		r.Observed = "only " + strings.Join(known, ", ") + " answers"
	default:
		r.Observed = "no DHCP server answers, as planned"
	}
}

// judgeRouters: only the planned port announces IPv6.
func judgeRouters(r *Result, s *plan.Segment, o GotRouters, foreign bool) {
	planned := s.Port != nil && s.Port.Address6.IsValid()
	found := false
	for _, a := range o.Routers {
		if planned && (a.MAC == s.Port.MAC || foreign && !s.Port.MACGiven) && a.Prefix == s.Subnet6 {
			found = true
			continue
		}
		what := "itself as a router"
		if a.Prefix.IsValid() {
			what = a.Prefix.String()
		}
		r.fail(
			Reason{
				Code:     "rogue-router",
				Subject:  s.Name,
				Segment:  s.Name,
				By:       fmt.Sprintf("%s (%s)", a.Address, a.MAC),
				Observed: what,
			},
		)
	}
	switch {
	case r.Verdict == Broken:
	case planned && !found:
		r.fail(
			Reason{
				Code:     "router-silent",
				Subject:  s.Name,
				Segment:  s.Name,
				Expected: s.Subnet6.String(),
				Port:     portOf(s.Port),
			},
		)
	case planned:
		r.Observed += fmt.Sprintf("; it alone announces %s", s.Subnet6)
	}
}

// judgeIPv6: the guest made itself an address of the planned prefix, and its router is the planned
// port.
func judgeIPv6(r *Result, home, port *plan.Adapter, o GotIPv6, foreign bool) {
	s := home.Segment
	why := Reason{Subject: home.Machine.Name, Segment: s.Name, Port: portOf(port), Expected: s.Subnet6.String()}
	switch {
	case r.Verdict == Broken:
		return
	case !o.Address.IsValid():
		why.Code = "no-ipv6-address"
	case !s.Subnet6.Contains(o.Address.Addr()):
		why.Code, why.Observed = "wrong-ipv6-address", o.Address.String()
	case o.Router != port.MAC.LinkLocal() && (!foreign || port.MACGiven):
		why.Code, why.Observed, why.Expected = "wrong-ipv6-router", addressText(o.Router), port.MAC.LinkLocal().String()
	case !slices.Contains(o.Resolvers, port.Address6.Addr()):
		why.Code, why.Observed, why.Expected = "wrong-ipv6-dns", subnet.Named(
			"DNS server",
			o.Resolvers,
		), port.Address6.Addr().
			String()
	default:
		r.Observed += fmt.Sprintf("; over IPv6 %s, router %s", o.Address, o.Router)
		return
	}
	r.fail(why)
}

func judgeGateway(r *Result, home, port *plan.Adapter, o GotNeighbor, foreign bool) {
	why := Reason{Subject: home.Machine.Name, Segment: home.Segment.Name, Detail: o.Outcome.String()}
	if port == nil {
		why.Code = "no-inside-port"
		r.fail(why)
		return
	}
	why.Port, why.Expected, why.Service = portOf(port), port.MAC.String(), port.Shown()
	switch {
	case !o.Hop.IsValid():
		why.Code = "no-default-gateway"
	case len(o.Hardware) == 0:
		why.Code, why.Observed, why.Expected = "gateway-silent", o.Hop.String(), port.Shown()
	case len(o.Hardware) > 1:
		why.Code, why.Expected, why.Observed = "gateway-twice", o.Hop.String(), fmt.Sprintf(
			"%s and %s",
			o.Hardware[0],
			o.Hardware[1],
		)
	case Transparent(port) && !slices.ContainsFunc(home.Segment.Adapters, func(a *plan.Adapter) bool { return a.MAC == o.Hardware[0] }):
		r.Observed = fmt.Sprintf("%s is at %s, beyond %s", o.Hop, o.Hardware[0], port.Machine.Name)
		return
	case o.Hardware[0] != port.MAC && seenAsPort(port, o.Hardware[0], o.Hop, foreign):
		r.Verdict = Unknown
		r.Observed = fmt.Sprintf("%s is at %s; the lab file gives no MAC address of %s to tell it by", o.Hop, o.Hardware[0], portOf(port))
		r.Remedy = "take its MAC address over from the machine's listing (bastion map), and check again"
		return
	case o.Hardware[0] != port.MAC:
		why.Code, why.Observed, why.Detail = "wrong-gateway", o.Hardware[0].String(), o.Hop.String()
	default:
		r.Observed = fmt.Sprintf("%s is at %s, %s", o.Hop, o.Hardware[0], portOf(port))
		return
	}
	r.fail(why)
}

func judgeNames(r *Result, home *plan.Adapter, w Witness, o GotName) {
	why := Reason{Subject: home.Machine.Name, Segment: home.Segment.Name, By: addressText(o.Resolver), Detail: o.Text()}
	switch {
	case !o.Resolver.IsValid():
		why.Code = "no-dns-server"
	case !o.Answered:
		why.Code = "dns-silent"
	case !slices.Contains(o.Addresses, w.Address):
		why.Code, why.Service, why.Observed, why.Expected = "wrong-name", w.Name, subnet.Named(
			"address",
			o.Addresses,
		), addressText(
			w.Address,
		)
	default:
		r.Observed = fmt.Sprintf("%s is %s, from DNS server %s", w.Name, w.Address, o.Resolver)
		return
	}
	r.fail(why)
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
		r.fail(
			Reason{
				Code:    "outside-unreachable",
				Subject: home.Machine.Name,
				Segment: home.Segment.Name,
				Service: service.String(),
				Detail:  o.Outcome.String(),
			},
		)
	}
}

func judgeSource(r *Result, home *plan.Adapter, service lab.Service, s seenAs, o GotReach) {
	switch {
	case !o.Answered:
	case o.Unseen && r.Verdict == Holds && r.Observed == "":
		r.Observed = "the test server answers " + service.String()
	case o.Unseen:
		r.Observed += ", " + service.String()
	case s.again && home.Segment.Subnet.Contains(o.Source):
		r.fail(
			Reason{
				Code:     "not-translated",
				Subject:  home.Machine.Name,
				Segment:  home.Segment.Name,
				Observed: o.Source.String(),
			},
		)
	case s.translated && !s.again && !slices.Contains(s.own, o.Source.String()):
		r.around = true
		r.fail(
			Reason{
				Code:     "wrong-source",
				Subject:  home.Machine.Name,
				Segment:  home.Segment.Name,
				Service:  service.String(),
				Observed: o.Source.String(),
				Expected: strings.Join(s.own, ", "),
				By:       s.wans[0].Machine.Name,
			},
		)
	case r.Verdict == Holds && r.Observed == "":
		r.Observed = fmt.Sprintf("the test server saw %s: %s", o.Source, service)
	case r.Verdict == Holds:
		r.Observed += ", " + service.String()
	}
}

func judgePath(r *Result, port *plan.Adapter, o GotHop) {
	switch {
	case !o.Router.IsValid():
		r.fail(Reason{Code: "no-hop", Subject: r.Guest, Port: portOf(port), Detail: o.Outcome.String()})
	case o.Router != port.Address.Addr():
		r.around = true
		r.fail(Reason{Code: "wrong-hop", Subject: r.Guest, Port: portOf(port), Observed: o.Router.String(),
			Expected: port.Address.Addr().String()})
	default:
		r.Observed = fmt.Sprintf("the first hop is %s, %s", o.Router, portOf(port))
	}
}

// judgeWays: nothing got through, and something was tried.
func judgeWays(r *Result, attempts int, ways []Way, holds string) {
	for _, w := range ways {
		why := Reason{Code: "bypass", Subject: w.From, Observed: w.To, Detail: pathText(w.Path, w.Tried), Do: openPath}
		if w.Door != (Ref{}) {
			why.Do, why.Expected = removeAdapter, fmt.Sprintf("%s adapter %d", w.Door.Machine, w.Door.Adapter)
			why.Segment = segmentAfter(w.Path, w.Door.Machine)
		}
		r.fail(why)
	}
	r.Escapes = append(r.Escapes, ways...)
	switch {
	case r.Verdict == Broken:
	case attempts == 0:
		r.Verdict, r.Observed = Unknown, "nothing could be tried"
	default:
		r.Observed = fmt.Sprintf(holds, attempts)
	}
}

// pathText writes a path with the packet that took it, where that is known.
func pathText(path []string, tried string) string {
	text := strings.Join(path, " → ")
	if tried != "" {
		text += " (" + tried + ")"
	}
	return text
}

// segmentAfter returns the segment that a path leaves a machine by.
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
	judgeWays(r, o.Attempts, o.Ways, "%d attempts, none got out")
}

// judgeBetween judges one service from a segment to another.
func judgeBetween(r *Result, c crossing, x passing, seen *between, o GotReach) {
	how := ""
	if x.six {
		how = " over IPv6"
	}
	why := Reason{Subject: c.a.Segment.Name, Segment: c.b.Segment.Name, Service: x.service.String() + how, By: c.a.Machine.Name}
	switch {
	case x.allowed && !o.Answered:
		why.Code, why.Expected, why.Detail = "allowed-blocked", c.b.Machine.Name, o.Outcome.String()
		r.fail(why)
	case !x.allowed && o.Answered:
		why.Code, why.Observed = "denied-passes", c.b.Machine.Name
		r.fail(why)
	default:
		seen.add(x.service.String(), how+c.to, o.Answered)
		if r.Verdict == Holds {
			r.Observed = seen.String()
		}
	}
}

// between is what was seen from one segment to another, by what became of it.
type between struct {
	heads []string
	by    map[string][]string
}

func (b *between) add(service, how string, passed bool) {
	head := how + " blocked by the rules"
	if passed {
		head = how + " allowed by the rules"
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
