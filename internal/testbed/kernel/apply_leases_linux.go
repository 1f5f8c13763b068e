package kernel

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/host"
)

// takeOver gives a shadow the leases of the one before it. It is called from the shadows' loop.
func (a *apply) takeOver(k kept) {
	for now, p := range k.now.ports {
		was := a.carried[now]
		if was == nil || k.was.ports[was].Server == nil {
			a.serveOn(now, p)
		}
		if was == nil {
			continue
		}
		old := k.was.ports[was]
		if p.Client != nil && old.Client != nil && now.Plugged && keeps(now, was, old.Address) {
			p.Client, p.Address, p.Gateway, p.DNS = old.Client, old.Address, old.Gateway, old.DNS
			k.now.shadow.Readdressed()
		}
		has := state{Address: p.Address, Gateway: p.Gateway, DNS: p.DNS}
		if p.Client != nil && p.Client == old.Client {
			has = k.was.now(was)
		}
		k.now.keep(now, has)
		if p.Address != old.Address || p.Gateway != old.Gateway || !slices.Equal(p.Also, old.Also) ||
			a.renumbered(k) {
			a.address[now] = has
		}
		switch {
		case p.Server == nil || old.Server == nil:
		case reflect.DeepEqual(p.Server.Config, old.Server.Config):
			p.Server = old.Server
		default:
			p.Server.Resume(old.Server)
		}
	}
}

// serveOn has a port that serves DHCP on a segment go on with the leases of whoever served there before: a new
// port, or a new appliance.
func (a *apply) serveOn(now *plan.Adapter, p *host.Port) {
	if p.Server == nil {
		return
	}
	for _, x := range a.was.stacks.machines {
		for was, old := range x.ports {
			if old.Server != nil && was.Segment.Name == now.Segment.Name {
				p.Server.Resume(old.Server)
			}
		}
	}
}

// offered is what a segment's DHCP service promises an adapter: who serves at all, and what.
type offered struct{ served, what string }

// terms returns what is promised to an adapter.
func terms(a *plan.Adapter) offered {
	s := a.Segment
	by, v := s.LeaseService()
	out := offered{served: "none"}
	switch {
	case v != nil:
		out.served = "the lab"
	case s.HostPool != nil, s.Lab.Leases != "", s.Reach == lab.Upstream:
		out.served = "others"
	}
	out.what = fmt.Sprint(
		s.Name,
		s.Subnet,
		s.Gateway,
		s.Lab.Leases,
		s.Reach,
		s.Lab.Join,
		s.HostPool,
		a.Address,
		a.Plugged,
		a.How,
	)
	if s.Reach == lab.Upstream { // the outside keeps addresses for the appliances there
		for _, o := range s.Adapters {
			if o.Guest == nil {
				out.what += fmt.Sprint(o.MAC, o.How, o.Role)
			}
		}
	}
	if v != nil {
		out.what += fmt.Sprint(by.Machine.Name, by.MAC, by.Address, v.Pool, v.Router, v.DNS, v.Domain, v.Time)
	}
	return out
}

// keeps reports whether an adapter may go on with its lease: where others serve than the lab, only as long as nothing of that
// has changed.
func keeps(now, was *plan.Adapter, leased netip.Prefix) bool {
	if terms(now).served == "others" {
		return terms(now) == terms(was)
	}
	return terms(now).served == terms(was).served && fits(now, leased)
}

// fits reports whether an adapter may keep a leased address: where the lab itself serves, it is the one that
// is reserved for it, or in the pool and reserved for no other. Another server decides when it is asked again.
func fits(a *plan.Adapter, leased netip.Prefix) bool {
	_, v := a.Segment.LeaseService()
	if v == nil || !leased.IsValid() {
		return true
	}
	for _, r := range v.Reservations {
		if r.MAC == a.MAC || r.Address.Addr() == leased.Addr() {
			return r.MAC == a.MAC && r.Address.Addr() == leased.Addr()
		}
	}
	return v.Pool.Contains(leased.Addr()) && leased.Bits() == a.Segment.Subnet.Bits()
}

// answered waits until the clients that asked for their address again have one from who serves now. One that
// is not answered gives it up.
func (a *apply) answered(list []*plan.Machine) {
	n := a.lab
	asking := func(each func(now time.Duration, x *machine, p *host.Port)) {
		n.stacks.shadows.Do(n.ctx, func(now time.Duration) {
			for _, m := range list {
				x := n.stacks.machines[m]
				if x == nil {
					continue
				}
				for _, p := range x.ports {
					if c := p.Client; c != nil && p.Up() && c.Binding != nil && c.State != dhcp.Bound &&
						c.State != dhcp.Renewing && c.State != dhcp.Rebinding {
						each(now, x, p)
					}
				}
			}
		})
	}
	for began, waits := time.Now(), true; n.ctx.Err() == nil && waits && time.Since(began) < Served; {
		waits = false
		asking(func(time.Duration, *machine, *host.Port) { waits = true })
		time.Sleep(5 * time.Millisecond)
	}
	asking(func(now time.Duration, x *machine, p *host.Port) {
		x.shadow.ReleaseLease(now, p)
		x.shadow.StartLease(now, p)
	})
}

// ask has a machine's adapters ask for leases and routers, each where that is due. It is called from the
// shadows' loop.
func (a *apply) ask(now time.Duration, x *machine) {
	for _, ad := range x.plan.Adapters {
		p, was := x.ports[ad], a.carried[ad]
		if !ad.Plugged {
			x.shadow.SetLink(now, p.Adapter, false)
			continue
		}
		x.shadow.StartSix(now, p)
		switch {
		case p.Client == nil:
		case p.Client.Binding == nil, terms(ad) != terms(was): // whoever serves now is asked for the same address, which stays meanwhile
			x.shadow.StartLease(now, p)
		}
	}
}
