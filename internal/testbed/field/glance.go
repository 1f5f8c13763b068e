package field

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
)

// Glance is what a machine sees, in words.
type Glance struct {
	Schema   string          `json:"schema"`
	Adapters []GlanceAdapter `json:"adapters"`
	Says     []Said          `json:"statements"`
}

// GlanceAdapter is an adapter of it.
type GlanceAdapter struct {
	Name      string   `json:"name"`
	MAC       string   `json:"mac"`
	Addresses []string `json:"addresses"`
	Kind      string   `json:"kind,omitempty"` // what it is, where it is not a plain adapter
	How       string   `json:"method"`         // leased, static, link-local; down, no link
}

// Said is a sentence of it.
type Said struct {
	Good bool   `json:"good"`
	Text string `json:"text"`
}

// GlanceSchema names its format.
const GlanceSchema = "openbastion.glance/1"

// Glance looks at what this system is on, and where that leads as far as anybody can tell
// from within. With servers it also asks on each adapter who hands out leases, by packets of
// its own.
func (s System) Glance(ctx context.Context, servers bool) Glance {
	v := Glance{Schema: GlanceSchema, Adapters: []GlanceAdapter{}, Says: []Said{}}
	say := func(good bool, format string, args ...any) {
		v.Says = append(v.Says, Said{good, fmt.Sprintf(format, args...)})
	}
	hops := 0
	for _, a := range s.Adapters {
		if !a.leads(nil) {
			continue
		}
		g := GlanceAdapter{Name: a.Name, MAC: a.MAC.String(), Addresses: []string{}, Kind: a.Kind}
		if a.Within != "" {
			g.Name += " in namespace " + a.Within
			say(false, "The namespace %s has the adapter %s: what runs there may leave by it.", a.Within, a.Name)
		}
		if a.MAC.IsZero() {
			g.MAC = ""
		}
		for _, at := range a.Addresses {
			if !at.Addr().IsLinkLocalUnicast() || at.Addr().Is4() {
				g.Addresses = append(g.Addresses, at.String())
			}
		}
		switch four := a.Four(); {
		case !a.Up:
			g.How = "down"
		case a.NoCarrier:
			g.How = "no link"
		case four.IsValid() && four.Addr().IsLinkLocalUnicast():
			g.How = "link-local: no DHCP server answered"
		case a.Leased:
			g.How = "leased"
		case four.IsValid():
			g.How = "static"
		}
		v.Adapters = append(v.Adapters, g)
		if a.Kind != "" && a.Up {
			say(false, "%s is a %s: it may lead past the firewall.", a.Name, a.Kind)
		}
		if a.Gateway6.IsValid() {
			say(true, "The next hop by %s over IPv6 is %s.", a.Name, a.Gateway6)
		}
		if !a.Gateway.IsValid() || a.Within != "" {
			continue
		}
		hops++
		if m, ok, _ := a.hardware(ctx, a.Gateway); ok {
			say(true, "The next hop by %s is %s, at %s.", a.Name, a.Gateway, m)
		} else if ping(ctx, a.Gateway) == nil {
			say(true, "The next hop by %s is %s, and it answers.", a.Name, a.Gateway)
		} else {
			say(false, "The next hop by %s is %s, and it does not answer.", a.Name, a.Gateway)
		}
	}
	hops += s.glanceRoutes(say)
	for _, at := range s.Proxies {
		say(false, "Programs here use the proxy %s: what they send leaves by it.", at)
	}
	switch hops {
	case 0:
		say(false, "No default gateway: this machine reaches only its own segment.")
	case 1:
	default:
		say(false, "%d default gateways: one of them may bypass the firewall.", hops)
	}
	if servers {
		s.glanceServers(ctx, say)
	}
	s.glanceNames(ctx, say)
	return v
}

// glanceRoutes tells the routes that are no adapter's one way everywhere, and returns how many of them lead everywhere
// over IPv4.
func (s System) glanceRoutes(say func(good bool, format string, args ...any)) (everywhere int) {
	for _, r := range s.Routes {
		i := slices.IndexFunc(s.Adapters, func(x Adapter) bool { return x.Name == r.By && x.Within == "" })
		if i < 0 || s.Adapters[i].Internal || r.To.Bits() == 0 && (r.Via == s.Adapters[i].Gateway || r.Via == s.Adapters[i].Gateway6) &&
			r.Via.IsValid() {
			continue
		}
		if r.To.Bits() == 0 && r.To.Addr().Is4() {
			everywhere++
		}
		say(false, "A further route: %s.", r)
	}
	return everywhere
}

func (s System) glanceNames(ctx context.Context, say func(good bool, format string, args ...any)) {
	if len(s.Resolvers) == 0 {
		say(false, "No DNS server is set: names do not resolve.")
		return
	}
	got := lookUp(ctx, s.Resolvers[0], "example.com")
	switch {
	case !got.Answered:
		say(false, "DNS server %s: %s.", got.Resolver, got.Text())
		return
	case len(got.Addresses) == 0:
		say(false, "DNS server %s returned %s.", got.Resolver, got.Text())
		return
	}
	say(true, "The DNS server %s answers.", got.Resolver)
	to := netip.AddrPortFrom(got.Addresses[0], 80)
	if c, err := (&net.Dialer{Timeout: tries * tryTime}).DialContext(ctx, "tcp", to.String()); err == nil {
		_ = c.Close()
		say(true, "It gets outside: %s answers by tcp/80.", to.Addr())
	} else {
		say(false, "It does not get outside by tcp/80: %s.", outcomeOf(err))
	}
}
