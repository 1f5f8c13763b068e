package firewall

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/mdlayher/ndp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/packet"
)

// six is an appliance with IPv6 that knows a guest on each inside segment.
type six struct {
	*sluice
	p      *plan.Plan
	guests map[int]mac.Address // by adapter
}

func newSix(t *testing.T) *six {
	l, err := lab.Read("lab.yaml", []byte(strings.Replace(text, "\nsegments:", "\nipv6: true\nsegments:", 1)))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	s := &six{
		&sluice{Appliance: New(p.Machine("sluice"), Options{Guests: p.Guests()})},
		p,
		map[int]mac.Address{2: {2, 2}, 3: {2, 3}},
	}
	for _, port := range s.Ports {
		s.Node.StartSix(0, port)
	}
	s.now = 2 * time.Second
	s.Node.Advance(s.now)
	s.Node.Drain()
	for adapter, m := range s.guests {
		s.say(
			adapter,
			packet.IP{Source: s.guest(adapter), Destination: s.Ports[adapter-1].IPv6.Addresses[0].Addr(), TTL: 255},
			&ndp.NeighborSolicitation{
				TargetAddress: s.Ports[adapter-1].IPv6.Addresses[0].Addr(),
				Options:       []ndp.Option{&ndp.LinkLayerAddress{Direction: ndp.Source, Addr: m[:]}},
			},
		)
	}
	return s
}

// guest returns the address of the guest on an adapter's segment.
func (s *six) guest(adapter int) netip.Addr {
	return s.guests[adapter].In(s.Plan.Adapters[adapter-1].Segment.Subnet6)
}

func (s *six) say(adapter int, h packet.IP, m ndp.Message) []*packet.Packet {
	data, err := ndp.MarshalMessage(m)
	if err != nil {
		panic(err)
	}
	return s.give(adapter, packet.Message6(h, data))
}

func (s *six) give(adapter int, frame []byte) []*packet.Packet {
	packet.SetLink(frame, s.Ports[adapter-1].MAC, s.guests[adapter])
	out := s.send(adapter, frame)
	for _, q := range out {
		if q.IPv6 && !q.TransportValid() {
			panic("the appliance sent an invalid packet")
		}
	}
	return out
}

// The rules decide on IPv6 as on IPv4, answers pass, and nothing is translated.
func TestSixRules(t *testing.T) {
	s := newSix(t)
	desk, cell := s.guest(2), s.guest(3)
	own := s.Ports[1].IPv6.Addresses[0].Addr()
	link := s.guests[2].LinkLocal()
	outside := netip.MustParseAddr("2001:db8::80")
	for _, c := range []struct {
		what    string
		adapter int
		frame   []byte
		want    string // what comes out and where
	}{
		{"allowed across", 2, tcp(desk, 4000, cell, 80, packet.SYN), "3 tcp 4000 > 80 SYN"},
		{"its answer", 3, tcp(cell, 80, desk, 4000, packet.SYN|packet.ACK), "2 tcp 80 > 4000 SYN,ACK"},
		{"no rule the other way", 3, tcp(cell, 4001, desk, 80, packet.SYN), ""},
		{"an answer to nothing", 3, tcp(cell, 80, desk, 4002, packet.SYN|packet.ACK), ""},
		{"refused", 2, tcp(desk, 4003, cell, 25, packet.SYN), "2 tcp 25 > 4003 RST,ACK"},
		{"a ping across", 2, ping(desk, cell, 9, false), "3 ping"},
		{"its reply", 3, ping(cell, desk, 9, true), "2 ping answered"},
		{"a reply to nothing", 3, ping(cell, desk, 10, true), ""},
		{"a foreign source", 2, udp(netip.MustParseAddr("2001:db8::5"), 1, cell, 7), ""},
		{"another segment's source", 3, udp(desk, 1, cell, 7), ""},
		{"from a link-local address", 2, udp(link, 1, cell, 7), ""},
		{"outside, where no way leads", 2, udp(desk, 1, outside, 7), "2 unreachable"},
		{"a ping to the appliance", 2, ping(desk, own, 11, false), "2 ping answered"},
		{"its admin page", 2, tcp(desk, 4004, own, 8443, packet.SYN), "2 tcp 8443 > 4004 SYN,ACK"},
		{"its page from a segment that may not", 3, tcp(cell, 4005, s.Ports[2].IPv6.Addresses[0].Addr(), 22, packet.SYN), ""},
	} {
		var got []string
		for _, q := range s.give(c.adapter, c.frame) {
			if q.IPv6 {
				text := q.String()
				got = append(got, string(rune('0'+q.Number))+" "+text[strings.Index(text, ": ")+2:])
				assert.True(t, q.Source.Is6() && q.Destination.Is6())
			}
		}
		assert.Equal(t, c.want, strings.Join(got, "; "), c.what)
	}
	assert.True(t, s.Node.Local(own))
}

// The appliance announces what was planned, to whoever asks, and tells by
// DHCPv6 who resolves names.
func TestSixAnnounces(t *testing.T) {
	s := newSix(t)
	link := s.guests[2].LinkLocal()
	out := s.say(
		2,
		packet.IP{Source: link, Destination: netip.MustParseAddr("ff02::2"), TTL: 255},
		&ndp.RouterSolicitation{},
	)
	require.Len(t, out, 1)
	m, err := ndp.ParseMessage(out[0].Data)
	require.NoError(t, err)
	ra := m.(*ndp.RouterAdvertisement)
	assert.True(t, ra.OtherConfiguration && !ra.ManagedConfiguration)
	var prefix *ndp.PrefixInformation
	for _, o := range ra.Options {
		if v, ok := o.(*ndp.PrefixInformation); ok {
			prefix = v
		}
	}
	assert.Equal(t, s.p.Segment("reedbed").Subnet6, netip.PrefixFrom(prefix.Prefix, int(prefix.PrefixLength)))
	assert.True(t, prefix.AutonomousAddressConfiguration && prefix.OnLink)
	assert.Empty(
		t,
		s.say(
			2,
			packet.IP{Source: link, Destination: netip.MustParseAddr("ff02::2"), TTL: 64},
			&ndp.RouterSolicitation{},
		),
		"from beyond the link",
	)
	assert.Nil(t, s.Ports[0].IPv6, "WAN announces nothing")
}
