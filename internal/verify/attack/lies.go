package attack

import (
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/mdlayher/ndp"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/packet"
)

// StrangePrefix is what a hostile guest announces.
var StrangePrefix = netip.MustParsePrefix("2001:db8:7::/64")

// madeUp is a hardware address that nobody has.
var madeUp = mac.Address{0x02, 0x0b, 0xee, 0xee, 0xee, 0xee}

// Lies are what a guest can tell the other stations of its segment to change
// where their packets go: that it has the next hop's address or its victim's,
// that it is a router, that it is somebody else who wants a lease. victim is a
// neighbor's address, or invalid.
func Lies(ad *plan.Adapter, victim netip.Addr, now time.Duration) [][]byte {
	claim := func(a netip.Addr) []byte {
		return packet.ARP(packet.ARPReply, mac.Broadcast, ad.MAC, a, mac.Broadcast, a)
	}
	hop := nextHop(ad)
	out := [][]byte{claim(hop)}
	if victim.IsValid() {
		out = append(out, claim(victim))
	}
	six := func(to netip.Addr, m ndp.Message) {
		if data, err := ndp.MarshalMessage(m); err == nil {
			f := packet.Message6(packet.IP{Source: ad.MAC.LinkLocal(), Destination: to, TTL: 255}, data)
			packet.SetLink(f, packet.Group6(to), ad.MAC)
			out = append(out, f)
		}
	}
	everybody := netip.MustParseAddr("ff02::1")
	six(everybody, &ndp.RouterAdvertisement{RouterLifetime: time.Hour,
		Options: []ndp.Option{
			&ndp.PrefixInformation{PrefixLength: 64, OnLink: true, AutonomousAddressConfiguration: true,
				ValidLifetime: time.Hour, PreferredLifetime: time.Hour, Prefix: StrangePrefix.Addr()},
		}})
	if port := ad.Segment.Port; port != nil && port.Address6.IsValid() {
		six(everybody, &ndp.NeighborAdvertisement{Override: true, Router: true, TargetAddress: port.Address6.Addr(),
			Options: []ndp.Option{&ndp.LinkLayerAddress{Direction: ndp.Target, Addr: ad.MAC[:]}}})
	}
	client := dhcp.Client{MAC: madeUp}
	for _, action := range client.Start(now) {
		for _, wanted := range []netip.Addr{{}, hop} { // an address for nobody; then the next hop's own
			m := action.Message
			if wanted.IsValid() {
				m.UpdateOption(dhcpv4.OptMessageType(dhcpv4.MessageTypeRequest))
				m.UpdateOption(dhcpv4.OptRequestedIPAddress(wanted.AsSlice()))
			}
			f := packet.Datagram(
				packet.IP{Source: netip.IPv4Unspecified(), Destination: netip.AddrFrom4([4]byte{255, 255, 255, 255})},
				dhcp.ClientPort,
				dhcp.ServerPort,
				m.ToBytes(),
			)
			packet.SetLink(f, mac.Broadcast, ad.MAC)
			out = append(out, f)
		}
	}
	return out
}

// Victim returns the neighbor whose address a guest takes by one adapter, or nil.
func Victim(ad *plan.Adapter) *plan.Adapter {
	for _, other := range ad.Segment.Adapters {
		if other.Machine != ad.Machine && other.Guest != nil && other.Plugged {
			return other
		}
	}
	return nil
}
