package simulator

import (
	"net/netip"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/bridge"
	"openbastion/internal/netsim/host"
	"openbastion/internal/verify/claims"
)

// The outside's IPv6 networks (documentation addresses, RFC 3849): that of the
// witness, and those of routers that nobody planned.
var (
	beyond6  = netip.MustParsePrefix("2001:db8:ffff::/64")
	witness6 = netip.MustParseAddr("2001:db8:ffff::80")
)

// addAnnouncers makes, for each segment on which the file says that somebody
// else announces IPv6, that somebody: a router with a way outside of its own.
func (l *Lab) addAnnouncers(cables map[*plan.Wire]*cable) {
	l.announcers = map[*plan.Segment]*station{}
	for i, s := range l.plan.Segments {
		if !s.Lab.RouterAdvertisements {
			continue
		}
		near := netip.PrefixFrom(
			netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0, byte((i + 1) >> 8), 0, byte(i + 1)}),
			64,
		)
		far := netip.PrefixFrom(
			netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0xff, 0xff, 14: byte(i >> 8), 15: byte(i + 129)}),
			64,
		)
		n := host.New("announcer on " + s.Name)
		n.Forwards = true
		one := netip.PrefixFrom(near.Addr().Next(), 64)
		n.AddPort(host.Port{Adapter: 1, MAC: standIn(kindAnnouncer, 2*i+1),
			IPv6: &host.IPv6{Addresses: []netip.Prefix{one},
				Announces: &host.Announcement{
					Prefix:   near,
					Lifetime: 30 * time.Minute,
					DNS:      []netip.Addr{one.Addr()},
				}}})
		n.AddPort(
			host.Port{Adapter: 2, MAC: standIn(kindAnnouncer, 2*i+2), IPv6: &host.IPv6{Addresses: []netip.Prefix{far}}},
		)
		n.ServeInformation()
		st := l.world.addStation(n)
		l.world.attach(st, 1, cables[s.Wire], bridge.Port{Native: s.Tag})
		l.world.attach(st, 2, l.far, bridge.Port{})
		l.announcers[s] = st
		buoy := l.buoy.node
		buoy.Ports()[0].IPv6 = &host.IPv6{Addresses: []netip.Prefix{netip.PrefixFrom(witness6, beyond6.Bits())}}
		buoy.Routes = append(buoy.Routes, host.Route{To: near, Hop: far.Addr()})
	}
}

// askRouters asks who announces IPv6 on an adapter's segment. A guest that
// speaks none there listens for as long as the question takes, makes itself no
// address, and is as before afterwards: observing changes nothing.
func (l *Lab) askRouters(a *plan.Adapter) func() answer {
	s, port := l.portOf(a)
	mute := port.IPv6 == nil
	if mute {
		port.IPv6 = &host.IPv6{}
		s.node.StartSix(l.world.now, port)
		l.world.pump(s)
		l.world.run(l.world.now + 2*time.Second)
	}
	s.node.SolicitRouters(l.world.now, port)
	l.world.pump(s)
	six := port.IPv6
	return func() answer {
		got, out := claims.GotRouters{}, answer{}
		for _, h := range six.Heard {
			got.Routers = append(got.Routers, claims.Router{Address: h.Router, MAC: h.MAC, Prefix: h.Prefix})
			out.evidence = append(
				out.evidence,
				l.frame(h.Frame, "%s at %s announces %s", h.Router, h.MAC, shown(h.Prefix)),
			)
		}
		if len(got.Routers) == 0 {
			out.evidence = []claims.Evidence{
				l.frame(0, "%s sent a router solicitation and got no answer", a.Machine.Name),
			}
		}
		if mute {
			port.IPv6 = nil
		}
		out.got = got
		return out
	}
}

// askIPv6 looks what IPv6 an adapter came by.
func (l *Lab) askIPv6(a *plan.Adapter) func() answer {
	_, port := l.portOf(a)
	return func() answer {
		s := port.IPv6
		if s == nil {
			return answer{missing: a.Machine.Name + " has no IPv6 there"}
		}
		got, frame := claims.GotIPv6{
			Address:   claims.Telling(s.Addresses, a.Segment.Subnet6),
			Router:    s.Router,
			Resolvers: s.DNS,
		}, 0
		if len(s.Heard) > 0 {
			frame = s.Heard[0].Frame
		}
		return answer{
			got: got,
			evidence: []claims.Evidence{l.frame(frame, "%s has the IPv6 address %s, router %s, %s", a.Machine.Name,
				shown(got.Address), orNone(s.Router), subnet.Named("resolver", s.DNS))},
		}
	}
}
