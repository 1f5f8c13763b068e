package field

import (
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/verify/claims"
)

// The kinds of adapters that are not a plain one.
const (
	wireless  = "wireless adapter"
	usb       = "USB adapter"
	tunnel    = "tunnel"
	tagged    = "VLAN adapter"
	ordinary  = "adapter"
	routeKind = "route"
	proxyKind = "proxy"
)

// Route is a route of a system that has a next hop, or that leads everywhere.
type Route struct {
	To  netip.Prefix // the zero prefix of its IP version: everywhere
	Via netip.Addr   // invalid: none
	By  string       // the adapter
}

// String writes it as the system's own tools do.
func (r Route) String() string {
	to := r.To.String()
	if r.To.Bits() == 0 {
		to = "default"
	}
	if r.Via.IsValid() {
		to += " via " + r.Via.String()
	}
	return to + " dev " + r.By
}

// proxies returns the proxies that a system's environment names, without their passwords.
func proxies() (out []netip.AddrPort) {
	for _, name := range []string{"http_proxy", "https_proxy", "all_proxy"} {
		for _, name := range []string{name, strings.ToUpper(name)} {
			u, err := url.Parse(os.Getenv(name))
			if err != nil || u.Hostname() == "" {
				continue
			}
			at, err := netip.ParseAddrPort(u.Host)
			if err == nil && !slices.Contains(out, at) {
				out = append(out, at)
			}
		}
	}
	return out
}

// way is something unplanned, and how packets leave by it.
type way struct {
	claims.Unplanned
	adapter *Adapter // nil: it is none of this system's
	via     netip.Addr
	proxy   netip.AddrPort
}

// unplanned returns what a system has and the plan of its machine does not, and that packets may leave by. What
// is tied to a planned adapter is planned, and so are the next hops that the plan has there.
func (s System) unplanned(m *plan.Machine, tied map[*plan.Adapter]*Adapter) (out []way) {
	planned := map[string]*plan.Adapter{}
	for a, x := range tied {
		planned[x.Name], planned[x.device()] = a, a
	}
	for i := range s.Adapters {
		x := &s.Adapters[i]
		if planned[x.Name] != nil && x.Within == "" || !x.leads(planned) {
			continue
		}
		u := claims.Unplanned{Kind: x.Kind, Name: x.Name, Addresses: x.routable()}
		if u.Kind == "" {
			u.Kind = ordinary
		}
		if x.Within != "" {
			u.Name += " in namespace " + x.Within
		}
		switch {
		case !x.Up:
			u.Why = "it is down"
		case x.NoCarrier:
			u.Why = "it has no link"
		}
		out = append(out, way{Unplanned: u, adapter: x})
	}
	for _, r := range s.Routes {
		a := planned[r.By]
		if a == nil || nextHop(a, r) {
			continue
		}
		i := slices.IndexFunc(s.Adapters, func(x Adapter) bool { return x.Name == r.By && x.Within == "" })
		out = append(out, way{Unplanned: claims.Unplanned{Kind: routeKind, Name: r.String()}, adapter: &s.Adapters[i], via: r.Via})
	}
	for _, at := range s.Proxies {
		if !slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool { return ofPlan(a, at.Addr()) }) && !at.Addr().IsLoopback() {
			out = append(out, way{Unplanned: claims.Unplanned{Kind: proxyKind, Name: at.String()}, proxy: at})
		}
	}
	return out
}

// leads reports whether an adapter leads anywhere by itself: not one that only leads into the same machine, and
// none of those that a kernel has for a case that never came.
func (a Adapter) leads(planned map[string]*plan.Adapter) bool {
	switch {
	case a.Internal:
		return false
	case a.Kind == tunnel:
		return len(a.routable()) > 0 || a.Gateway.IsValid() || a.Gateway6.IsValid()
	case a.Kind == tagged && planned[a.Over] != nil:
		return a.Up || len(a.Addresses) > 0
	case !a.Known:
		return len(a.routable()) > 0 || a.Gateway.IsValid()
	}
	return true
}

// routable returns the addresses that are good beyond the link.
func (a Adapter) routable() []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(a.Addresses), func(p netip.Prefix) bool { return p.Addr().IsLinkLocalUnicast() })
}

// nextHop reports whether a route leads where the plan has it: to somebody of the plan on the adapter's segment.
func nextHop(a *plan.Adapter, r Route) bool {
	switch {
	case !r.Via.IsValid():
		return false
	case r.Via.IsLinkLocalUnicast():
		return r.Via.Is4() || a.Segment.Subnet6.IsValid() || a.Segment.Port == nil || a.Segment.Bridged != nil
	}
	return ofPlan(a, r.Via)
}

// ofPlan reports whether an address is that of a router that the plan has on an adapter's network.
func ofPlan(a *plan.Adapter, at netip.Addr) bool {
	if a.Gateway == at {
		return true
	}
	for _, s := range a.Segment.Network() {
		if s.Gateway == at || s.HostLeg.IsValid() && s.HostLeg.Addr() == at || s.Unknown() {
			return true
		}
		for _, o := range s.Adapters {
			if o.Guest == nil && (o.Address.Addr() == at || o.Address6.Addr() == at) {
				return true
			}
		}
	}
	return false
}

// tie says which of a system's adapters are those of a machine of the plan: by MAC address; where the file gives
// none, by an address on the planned network; and the only one that is left of both. The remarks say what
// was not told by the MAC address.
func (s *System) tie(m *plan.Machine) (tied map[*plan.Adapter]*Adapter, remarks []string) {
	tied = map[*plan.Adapter]*Adapter{}
	taken := map[*Adapter]bool{}
	take := func(a *plan.Adapter, by string, fits func(*Adapter) bool) {
		if tied[a] != nil {
			return
		}
		var fit []*Adapter
		for i := range s.Adapters {
			x := &s.Adapters[i]
			if !taken[x] && x.Within == "" && !x.MAC.IsZero() && fits(x) {
				fit = append(fit, x)
			}
		}
		if by == "" && len(fit) > 0 || len(fit) == 1 {
			tied[a], taken[fit[0]] = fit[0], true
			if by != "" {
				remarks = append(remarks, fmt.Sprintf("%s is adapter %d, by %s; the lab file gives no MAC address for it, here it is %s",
					fit[0].Name, a.Number, by, fit[0].MAC))
			}
		}
	}
	for _, a := range m.Adapters {
		take(a, "", func(x *Adapter) bool {
			return x.MAC == a.MAC && (a.Over == nil || strings.HasSuffix(x.Name, fmt.Sprintf(".%d", a.Segment.Tag)))
		})
	}
	for _, a := range m.Adapters {
		if a.Over == nil && a.Segment.Subnet.IsValid() && !a.MACGiven {
			take(a, "its address", func(x *Adapter) bool { return x.Four().IsValid() && a.Segment.Subnet.Contains(x.Four().Addr()) })
		}
	}
	left := slices.DeleteFunc(slices.Clone(m.Adapters), func(a *plan.Adapter) bool { return tied[a] != nil || a.Over != nil })
	if len(left) == 1 && !left[0].MACGiven {
		take(left[0], "being the only one left", func(x *Adapter) bool { return x.Up && x.leads(nil) && x.Kind != tunnel && x.Kind != tagged })
	}
	return tied, remarks
}

// look finds out what this machine has besides the plan, and tries to reach the test server by each of it.
func (s *Probe) look(ctx context.Context) claims.Observed {
	s.ways = s.system.unplanned(s.self, s.tied)
	planned := s.sources(ctx)
	var all sync.WaitGroup
	for i := range s.ways {
		w := &s.ways[i]
		if !s.Witness.Address.IsValid() {
			w.Why = noWitness
			continue
		}
		if w.Why == "" {
			all.Go(func() { s.tryBy(ctx, w, planned) })
		}
	}
	all.Wait()
	seen := claims.Observed{Machine: s.Self, Unplanned: []claims.Unplanned{}}
	for _, w := range s.ways {
		seen.Unplanned = append(seen.Unplanned, w.Unplanned)
	}
	return seen
}

// sources returns as whom the test server may see this machine when it goes the planned way: the addresses of the
// appliances' WANs, where all of them are known and nobody above them translates; else as whom it is seen by the planned
// adapters.
func (s *Probe) sources(ctx context.Context) (out []netip.Addr) {
	known := true
	for _, m := range s.plan.Appliances() {
		for _, a := range m.Adapters {
			if a.Role != lab.WAN || !a.Plugged {
				continue
			}
			at, ok := s.given(a)
			known = known && ok && a.Segment.Lab.Join != "nat" && a.Segment.Reach != lab.Host
			out = append(out, at.Addr())
		}
	}
	if known && len(out) > 0 || !s.Witness.Address.IsValid() || len(s.ways) == 0 {
		return out
	}
	for _, x := range s.tied {
		for _, by := range ways {
			if r, _, err := s.ask(ctx, by, leaving{device: x.device()}, 0, 0); err == nil {
				out = append(out, r.Source.Addr())
				break
			}
		}
	}
	return out
}

// given returns the address of another machine's adapter that a person read off it, or that the lab file gives.
func (s *Probe) given(a *plan.Adapter) (netip.Prefix, bool) {
	if at, ok := s.At[a.Machine.Name]; ok && a.Segment.Subnet.IsValid() && (a.Guest != nil || a.Role == lab.WAN) {
		return netip.PrefixFrom(at, a.Segment.Subnet.Bits()), true
	}
	return a.Address, a.How == plan.Static && !a.Planned && a.Address.IsValid()
}

// tryBy tries to reach the test server by something that is not in the plan.
func (s *Probe) tryBy(ctx context.Context, w *way, planned []netip.Addr) {
	leave, list := leaving{proxy: w.proxy}, ways
	switch {
	case w.proxy.IsValid():
		list = []tried{{witness.HTTP, 80}}
	case w.via.IsValid() || w.Kind == routeKind:
		s.tryRoute(ctx, w, planned)
		return
	case len(w.Addresses) == 0:
		w.Why = s.withoutAddress(ctx, w.adapter)
		return
	default:
		leave.device, leave.space = w.adapter.device(), w.adapter.space
	}
	for _, by := range list {
		w.Attempts++
		if r, signed, err := s.ask(ctx, by, leave, 0, 0); err == nil {
			s.keep(signed)
			w.Source = r.Source.Addr()
			w.Bypass = !slices.Contains(planned, w.Source)
			return
		}
	}
}

// tryRoute asks what is behind a next hop that is not in the plan. A route that leads to the test server is what the
// system's own packets take.
func (s *Probe) tryRoute(ctx context.Context, w *way, planned []netip.Addr) {
	if hop, err := firstHop(ctx, netip.AddrPortFrom(s.Witness.Address, hopPort)); err != nil || hop != w.via {
		w.Why = "the system takes another route to the test server"
		return
	}
	for _, by := range ways {
		w.Attempts++
		if r, _, err := s.ask(ctx, by, leaving{}, 0, 0); err == nil {
			w.Source, w.Bypass = r.Source.Addr(), !slices.Contains(planned, r.Source.Addr())
			return
		}
	}
}

// withoutAddress finds out whether somebody hands out addresses where an adapter without one is, and returns why
// nothing more could be tried by it.
func (s *Probe) withoutAddress(ctx context.Context, x *Adapter) string {
	if s.packets == nil || x.MAC.IsZero() || x.Within != "" {
		return "it has no address"
	}
	offers, err := System{Adapters: []Adapter{*x}}.servers(ctx)
	switch {
	case err != nil:
		return "it has no address, and " + err.Error()
	case len(offers) == 0:
		return "it has no address, and no DHCP server answers there"
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.offered[x.Name] = offers
	return fmt.Sprintf("it has no address, but the DHCP server %s offers %s there", offers[0].Server, offers[0].Address)
}

// servers asks who hands out leases on the adapters of a system.
func (s System) servers(ctx context.Context) (offers []dhcp.Offer, err error) {
	p, err := s.ownPlan()
	if err != nil {
		return nil, err
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	tied, _ := s.tie(p.Guests()[0])
	own, err := openPackets(ctx, p, p.Guests()[0], tied)
	if err != nil {
		return nil, err
	}
	var list []claims.Question
	for i, a := range p.Guests()[0].Adapters {
		list = append(list, claims.Question{ID: fmt.Sprint(i), Ask: claims.AskServers{At: claims.RefTo(a)}})
	}
	own.ask(ctx, list, func(a claims.Answer) {
		if got, ok := a.Got.(claims.GotServers); ok {
			offers = append(offers, got.Offers...)
		}
	})
	return offers, nil
}
