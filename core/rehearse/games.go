package rehearse

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/mdlayher/ndp"

	"openbastion/core/lease"
	"openbastion/core/mac"
	"openbastion/core/packet"
	"openbastion/core/plan"
)

// strangePrefix is what a hostile guest announces.
var strangePrefix = netip.MustParsePrefix("2001:db8:7::/64")

// madeUp is a hardware address that nobody has.
var madeUp = mac.Address{0x02, 0x0b, 0xee, 0xee, 0xee, 0xee}

// lies are what a guest can tell the other stations of its segment to change
// where their packets go: that it has the next hop's address or a neighbor's,
// that it is a router, that it is somebody else who wants a lease.
func (l *Lab) lies(ad *plan.Adapter, victim *plan.Adapter) [][]byte {
	claim := func(a netip.Addr) []byte {
		return packet.ARP(packet.ARPReply, mac.Broadcast, ad.MAC, a, mac.Broadcast, a)
	}
	hop := l.nextHop(ad)
	out := [][]byte{claim(hop)}
	if victim != nil {
		out = append(out, claim(l.address(victim)))
	}
	six := func(to netip.Addr, m ndp.Message) {
		if data, err := ndp.MarshalMessage(m); err == nil {
			f := packet.Message6(packet.IP{Source: ad.MAC.LinkLocal(), Destination: to, TTL: 255}, data)
			packet.SetLink(f, packet.Group6(to), ad.MAC)
			out = append(out, f)
		}
	}
	everybody := netip.MustParseAddr("ff02::1")
	six(everybody, &ndp.RouterAdvertisement{RouterLifetime: time.Hour, Options: []ndp.Option{&ndp.PrefixInformation{PrefixLength: 64, OnLink: true, AutonomousAddressConfiguration: true, ValidLifetime: time.Hour, PreferredLifetime: time.Hour, Prefix: strangePrefix.Addr()}}})
	if port := ad.Segment.Port; port != nil && port.Address6.IsValid() {
		six(everybody, &ndp.NeighborAdvertisement{Override: true, Router: true, TargetAddress: port.Address6.Addr(), Options: []ndp.Option{&ndp.LinkLayerAddress{Direction: ndp.Target, Addr: ad.MAC[:]}}})
	}
	ask := lease.Client{MAC: madeUp}
	for _, action := range ask.Start(l.world.now) {
		for _, wanted := range []netip.Addr{{}, hop} { // an address for nobody; then the next hop's own
			m := action.Message
			if wanted.IsValid() {
				m.UpdateOption(dhcpv4.OptMessageType(dhcpv4.MessageTypeRequest))
				m.UpdateOption(dhcpv4.OptRequestedIPAddress(wanted.AsSlice()))
			}
			f := packet.Datagram(packet.IP{Source: netip.IPv4Unspecified(), Destination: netip.AddrFrom4([4]byte{255, 255, 255, 255})}, lease.ClientPort, lease.ServerPort, m.ToBytes())
			packet.SetLink(f, mac.Broadcast, ad.MAC)
			out = append(out, f)
		}
	}
	return out
}

// play tells the lies by one adapter, then tries the ordinary packets again,
// and undoes what the others now believe. What a plain switch cannot prevent,
// that one guest takes another's place before the appliance, is told as a note
// and is no escape.
func (l *Lab) play(a *attack, s *station, ad *plan.Adapter) (attempts int, notes []string) {
	gates, _ := l.hops(ad)
	var victim *plan.Adapter
	for _, other := range ad.Segment.Adapters {
		if other.Machine != ad.Machine && other.Guest != nil && other.Plugged {
			victim = other
			break
		}
	}
	lie := func() {
		for _, f := range l.lies(ad, victim) {
			l.world.transmit(s, ad.Number, f)
			attempts++
			l.world.run(l.world.now + 5*latency)
		}
	}
	first := len(a.attempts)
	own := l.address(ad)
	for _, service := range usual {
		a.attempts = append(a.attempts, attempt{
			from: s, adapter: ad.Number, hops: gates, frame: forge(ad.MAC, own, l.witness, service, len(a.attempts)), before: lie,
			tried: fmt.Sprintf("%s from its own address %s, by adapter %d, after it took its next hop's and neighbor's addresses", shownAs(service), own, ad.Number),
		})
	}
	at := l.world.number + 1
	lie()
	if port := ad.Segment.Port; victim != nil && port != nil && l.members[port.Machine] != nil {
		_, p := l.portOf(port)
		if m, ok := p.Neighbor(l.address(victim)); ok && m == ad.MAC {
			notes = append(notes, fmt.Sprintf("frames %d to %d: it takes %s's place before %s by ARP; on a plain switch nothing prevents that among neighbors, and it leads nowhere else", at, l.world.number, victim.Machine.Name, port.Machine.Name))
		}
	}
	attempts += l.fire(a, first)
	l.heal(ad)
	return attempts, notes
}

// heal undoes what a guest's lies made the others of its segment believe.
func (l *Lab) heal(ad *plan.Adapter) {
	for _, other := range ad.Segment.Adapters {
		if _, port := l.portOf(other); port != nil {
			port.Forget(ad.MAC, l.address(ad), strangePrefix)
		}
	}
	for _, s := range []*station{l.routers[ad.Segment], l.announcers[ad.Segment]} {
		if s != nil {
			s.node.Ports()[0].Forget(ad.MAC, l.address(ad), strangePrefix)
		}
	}
	if l.host != nil {
		for _, port := range l.host.node.Ports() {
			if port.Address == ad.Segment.HostLeg {
				port.Forget(ad.MAC, l.address(ad), strangePrefix)
			}
		}
	}
}
