package simulator

import (
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"time"

	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/host"
)

// Resume is Start for a lab that goes on where another one is, whose place it takes: with its clock, and with the
// machines of its outside that are the same in both, which keep their conversations, leases and translations. What
// else is simulated comes up beside them. The other one is not to be used any more.
func (v *Live) Resume(old *Live) {
	const comesUp = 10 * time.Second // what Start lets pass
	v.world.now = max(old.world.now-comesUp, 0)
	was := map[string]*station{}
	for _, s := range old.others() {
		was[s.name] = s
	}
	for _, s := range v.others() {
		if o := was[s.name]; o != nil && sameNode(o.node, s.node) {
			takeOver(s, o.node)
			v.world.pump(s)
		}
	}
	v.serveOn(old)
	v.Start()
	v.world.now, v.began = max(v.world.now, old.world.now), old.began
	maps.Copy(v.seen, old.seen)
	v.pinged, v.pings = old.pinged, old.pings
	v.out = nil // of frames to real machines: it was as if they had been off
}

// serveOn has those who serve DHCP on a segment, and are not who did before, go on with the leases that were given there.
func (v *Live) serveOn(old *Live) {
	v.Servers(func(_ time.Duration, segment, _ string, now *dhcp.Server) {
		old.Servers(func(_ time.Duration, where, _ string, was *dhcp.Server) {
			if where == segment && was != now {
				now.Resume(was)
			}
		})
	})
}

// others returns the simulated stations that are no machines of the plan.
func (v *Live) others() (out []*station) {
	planned := map[*station]bool{}
	for _, s := range v.members {
		planned[s] = true
	}
	for _, s := range v.world.stations {
		if !s.real && !planned[s] {
			out = append(out, s)
		}
	}
	return out
}

// takeOver puts a node that has conversations in the place of a fresh one, with what the new
// plan says of others: routes, names, and the addresses that it answers for.
func takeOver(s *station, node *host.Node) {
	fresh := s.node
	node.Routes, node.Seen, node.AnyUDP, node.AnyTCP = fresh.Routes, fresh.Seen, nil, nil
	if fresh.AnyUDP != nil {
		introduce(node)
	}
	for i, p := range node.Ports() {
		p.Also = slices.Clone(fresh.Ports()[i].Also)
	}
	node.Readdressed()
	if r := node.Resolver; r != nil {
		r.Names, r.Zones, r.Self = fresh.Resolver.Names, fresh.Resolver.Zones, fresh.Resolver.Self
	}
	s.node, s.resumed = node, true
}

// sameNode reports whether a node may go on in the place of another: it has the same adapters, set up in
// one way, and passes the same on.
func sameNode(a, b *host.Node) bool {
	filter, isFilter := a.Hook.(interface{ Same(host.Hook) bool })
	if a.Forwards != b.Forwards || (a.Hook == nil) != (b.Hook == nil) || (a.Resolver == nil) != (b.Resolver == nil) ||
		len(a.Ports()) != len(b.Ports()) || a.Hook != nil && (!isFilter || !filter.Same(b.Hook)) {
		return false
	}
	for i, p := range a.Ports() {
		q := b.Ports()[i]
		if p.Adapter != q.Adapter || p.Tag != q.Tag || p.MAC != q.MAC || (p.Client == nil) != (q.Client == nil) ||
			(p.Server == nil) != (q.Server == nil) || (p.Access == nil) != (q.Access == nil) ||
			(p.IPv6 == nil) != (q.IPv6 == nil) || p.Access != nil {
			return false
		}
		if p.Client == nil && (p.Address != q.Address || p.Gateway != q.Gateway) {
			return false
		}
		if p.Server != nil && !reflect.DeepEqual(p.Server.Config, q.Server.Config) {
			return false
		}
		if p.IPv6 != nil &&
			!slices.EqualFunc(p.IPv6.Addresses, q.IPv6.Addresses, func(a, b netip.Prefix) bool { return a == b }) {
			return false
		}
	}
	return true
}
