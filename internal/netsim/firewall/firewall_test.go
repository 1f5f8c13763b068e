package firewall

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

const text = `bastion: 1
lab: saltmarsh
segments:
  causeway: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, subnet: 10.83.16.0/24}
  tidepool: {reach: isolated, subnet: 10.83.48.0/24}
appliances:
  sluice:
    ports:
      - {role: wan, segment: causeway, address: 172.29.64.7/24}
      - {role: lan, segment: reedbed, admin: tcp/8443}
      - {role: lan, segment: tidepool}
    nat:
      publish: [{port: tcp/8080, to: otter, at: tcp/80}]
    rules:
      - refuse tcp/25 from any to any
      - refuse udp/53 from reedbed to outside
      - allow any from reedbed to any
      - allow tcp/443 from tidepool to outside
guests:
  otter: {segment: reedbed, reserve: 10.83.16.20}
  newt: tidepool
`

var (
	heron  = netip.MustParseAddr("10.83.16.50")
	newt   = netip.MustParseAddr("10.83.48.50")
	otter  = netip.MustParseAddr("10.83.16.20")
	buoy   = netip.MustParseAddr("203.0.113.80")
	wan    = netip.MustParseAddr("172.29.64.7")
	lan    = netip.MustParseAddr("10.83.16.1")
	router = netip.MustParseAddr("172.29.64.1")
)

// sluice is the appliance with neighbors that it knows by hardware address.
type sluice struct {
	*Appliance
	now time.Duration
}

func newSluice(t require.TestingT) *sluice {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	s := &sluice{Appliance: New(p.Machine("sluice"), Options{Guests: p.Guests()})}
	for adapter, hosts := range map[int][]netip.Addr{1: {router}, 2: {heron, otter}, 3: {newt}} {
		for _, h := range hosts {
			m := mac.Address{2, 0, 0, 0, byte(adapter), h.As4()[3]}
			port := s.Ports[adapter-1]
			s.send(adapter, packet.ARP(packet.ARPRequest, mac.Broadcast, m, h, mac.Address{}, port.Address.Addr()))
		}
	}
	return s
}

// send gives the appliance a frame and returns the packets that come out.
func (s *sluice) send(adapter int, frame []byte) []*packet.Packet {
	if p, err := packet.Decode(frame); err == nil && p.Type == packet.TypeIPv4 {
		packet.SetLink(frame, s.Ports[adapter-1].MAC, mac.Address{2, 0, 0, 0, byte(adapter), 1})
	}
	p, err := packet.Decode(frame)
	if err != nil {
		return nil
	}
	s.now += time.Millisecond
	s.Node.Receive(s.now, adapter, p)
	var out []*packet.Packet
	for _, e := range s.Node.Drain() {
		q, err := packet.Decode(e.Frame)
		if err != nil || q.IPv4 && !q.TransportValid() {
			panic("the appliance sent an invalid packet")
		}
		q.Number = e.Adapter
		out = append(out, q)
	}
	return out
}

func tcp(from netip.Addr, port uint16, to netip.Addr, at uint16, flags uint8) []byte {
	return packet.Segment(packet.IP{Source: from, Destination: to},
		packet.SegmentFields{Source: port, Destination: at, Seq: 100, Ack: 7, Flags: flags, Window: 1000}, nil)
}

func udp(from netip.Addr, port uint16, to netip.Addr, at uint16) []byte {
	return packet.Datagram(packet.IP{Source: from, Destination: to}, port, at, []byte("x"))
}

func ping(from, to netip.Addr, id uint16, reply bool) []byte {
	return packet.Echo(packet.IP{Source: from, Destination: to}, reply, id, 1, nil)
}

// lines returns what came out: the adapter and the packet.
func lines(list []*packet.Packet) []string {
	out := []string{}
	for _, p := range list {
		out = append(out, string(rune('0'+p.Number))+" "+p.String())
	}
	return out
}

// Each step is one packet in and what comes out; steps build on each other.
func TestFilter(t *testing.T) {
	s := newSluice(t)
	fragment := udp(heron, 40000, buoy, 7)
	fragment[20] |= 0x20 // more fragments
	fragment[24], fragment[25] = 0, 0
	c := checksum(fragment[14:34])
	fragment[24], fragment[25] = byte(c>>8), byte(c)
	for _, c := range []struct {
		what    string
		adapter int
		frame   []byte
		want    []string
	}{
		{"out, translated", 2, tcp(heron, 40000, buoy, 80, packet.SYN), []string{"1 172.29.64.7 > 203.0.113.80: tcp 40000 > 80 SYN"}},
		{"its answer back", 1, tcp(buoy, 80, wan, 40000, packet.SYN|packet.ACK),
			[]string{"2 203.0.113.80 > 10.83.16.50: tcp 80 > 40000 SYN,ACK"}},
		{"a second guest with the same port", 2, tcp(otter, 40000, buoy, 80, packet.SYN),
			[]string{"1 172.29.64.7 > 203.0.113.80: tcp 1025 > 80 SYN"}},
		{"an answer to nothing", 1, tcp(buoy, 80, wan, 40001, packet.SYN|packet.ACK), nil},
		{"not the start of a connection", 2, tcp(heron, 40009, buoy, 80, packet.ACK), nil},
		{"ping out", 2, ping(heron, buoy, 5, false), []string{"1 172.29.64.7 > 203.0.113.80: ping"}},
		{"and back", 1, ping(buoy, wan, 5, true), []string{"2 203.0.113.80 > 10.83.16.50: ping answered"}},
		{"refused by a rule", 2, tcp(heron, 40000, buoy, 25, packet.SYN), []string{"2 203.0.113.80 > 10.83.16.50: tcp 25 > 40000 RST,ACK"}},
		{"refused again: its reset opened no way", 2, tcp(heron, 40000, buoy, 25, packet.SYN),
			[]string{"2 203.0.113.80 > 10.83.16.50: tcp 25 > 40000 RST,ACK"}},
		{"refused, not TCP", 2, udp(heron, 40000, buoy, 53), []string{"2 10.83.16.1 > 10.83.16.50: unreachable (code 13)"}},
		{"denied for want of a rule", 3, tcp(newt, 40000, buoy, 80, packet.SYN), nil},
		{"allowed by its rule", 3, tcp(newt, 40000, buoy, 443, packet.SYN), []string{"1 172.29.64.7 > 203.0.113.80: tcp 40000 > 443 SYN"}},
		{"between segments, one way", 2, ping(heron, newt, 9, false), []string{"3 10.83.16.50 > 10.83.48.50: ping"}},
		{"its answer", 3, ping(newt, heron, 9, true), []string{"2 10.83.48.50 > 10.83.16.50: ping answered"}},
		{"the other way, with the same identifier", 3, ping(newt, heron, 9, false), nil},
		{"a source from elsewhere", 2, udp(newt, 40000, buoy, 7), nil},
		{"an inside source from outside", 1, udp(heron, 40000, wan, 7), nil},
		{"a fragment", 2, fragment, nil},
		{"published", 1, tcp(buoy, 50000, wan, 8080, packet.SYN), []string{"2 203.0.113.80 > 10.83.16.20: tcp 50000 > 80 SYN"}},
		{"the published guest's answer", 2, tcp(otter, 80, buoy, 50000, packet.SYN|packet.ACK),
			[]string{"1 172.29.64.7 > 203.0.113.80: tcp 8080 > 50000 SYN,ACK"}},
		{"not published", 1, tcp(buoy, 50000, wan, 8081, packet.SYN), nil},
		{"the admin page from outside", 1, tcp(buoy, 50000, wan, 8443, packet.SYN), nil},
		{"the admin page from inside", 2, tcp(heron, 50000, lan, 8443, packet.SYN),
			[]string{"2 10.83.16.1 > 10.83.16.50: tcp 8443 > 50000 SYN,ACK"}},
		{"ping from outside", 1, ping(buoy, wan, 1, false), nil},
		{"to an inside address from outside", 1, udp(buoy, 1, heron, 7), nil},
	} {
		got := lines(s.send(c.adapter, c.frame))
		if len(c.want) == 0 {
			c.want = []string{}
		}
		assert.Equal(t, c.want, got, c.what)
	}
	assert.NotZero(t, s.Filter.Hits[&s.Plan.Rules[2]])
}

func checksum(b []byte) uint16 {
	sum := uint32(0)
	for i := 0; i+1 < len(b); i += 2 {
		sum += uint32(b[i])<<8 | uint32(b[i+1])
	}
	for sum>>16 != 0 {
		sum = sum&0xffff + sum>>16
	}
	return ^uint16(sum)
}

func TestErrorsAreTranslated(t *testing.T) {
	s := newSluice(t)
	out := s.send(2, udp(heron, 40000, buoy, 7))
	require.Len(t, out, 1)
	back := s.send(
		1,
		packet.ICMPError(
			packet.IP{Source: router, Destination: wan},
			packet.Unreachable,
			packet.HostUnreachable,
			out[0].Body,
		),
	)
	require.Equal(t, []string{"2 172.29.64.1 > 10.83.16.50: unreachable (code 1)"}, lines(back))
	source, destination, _, data, ok := packet.Quoted(back[0].Data)
	require.True(t, ok)
	from, _, _ := packet.Ports(packet.UDP, data)
	assert.Equal(
		t,
		[]any{heron, buoy, uint16(40000)},
		[]any{source, destination, from},
		"the quote is as the guest sent it",
	)
	stray := packet.ICMPError(packet.IP{Source: router, Destination: wan}, packet.Unreachable, 1, back[0].Body)
	assert.Empty(t, s.send(1, stray), "an error about nothing")
}

func TestTimeouts(t *testing.T) {
	for _, c := range []struct {
		what       string
		out, back  []byte
		live, dead time.Duration
	}{
		{"UDP without answer", udp(heron, 40000, buoy, 7), udp(buoy, 7, wan, 40000), udpNew - time.Second, udpNew + time.Second},
		{"ICMP", ping(heron, buoy, 3, false), ping(buoy, wan, 3, true), icmpIdle - time.Second, icmpIdle + time.Second},
		{"TCP opening", tcp(heron, 40000, buoy, 80, packet.SYN), tcp(buoy, 80, wan, 40000, packet.SYN|packet.ACK), tcpOpening - time.Second,
			tcpOpening + time.Second},
		{"TCP after a reset", tcp(heron, 40000, buoy, 80, packet.SYN), tcp(buoy, 80, wan, 40000, packet.RST), tcpOpening - time.Second,
			tcpOpening + time.Second},
	} {
		for _, wait := range []time.Duration{c.live, c.dead} {
			s := newSluice(t)
			s.Node.Ports()[0].Address = netip.PrefixFrom(wan, 24)
			require.Len(t, s.send(2, slices.Clone(c.out)), 1)
			s.now += wait
			passed := false
			for _, p := range s.send(1, slices.Clone(c.back)) {
				passed = passed || p.Destination == heron || p.Type == packet.TypeARP
			}
			assert.Equal(t, wait == c.live, passed, "%s after %s", c.what, wait)
		}
	}
}

// Nobody outside gets in, whatever is sent, but for answers and what is
// published; and two conversations never leave under one name.
func TestNothingGetsIn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := newSluice(t)
		type name struct {
			proto    uint8
			port, at uint16
			to       netip.Addr
		}
		left := map[name]netip.AddrPort{}
		for range rapid.IntRange(1, 60).Draw(t, "packets") {
			peer := netip.AddrFrom4([4]byte{203, 0, 113, rapid.ByteRange(80, 82).Draw(t, "peer")})
			from := rapid.SampledFrom([]netip.Addr{heron, otter}).Draw(t, "guest")
			port, at := rapid.Uint16Range(5000, 5003).
				Draw(t, "port"),
				rapid.SampledFrom([]uint16{7, 80, 8443}).
					Draw(t, "at")
			if rapid.Bool().Draw(t, "out") {
				frame := udp(from, port, peer, at)
				if rapid.Bool().Draw(t, "tcp") {
					frame = tcp(from, port, peer, at, packet.SYN)
				}
				for _, p := range s.send(2, frame) {
					require.Equal(t, wan, p.Source)
					sp, dp, _ := p.Ports()
					n, who := name{p.Proto, sp, dp, p.Destination}, netip.AddrPortFrom(from, port)
					if old, ok := left[n]; ok {
						require.Equal(t, old, who, "two guests leave as %v", n)
					}
					left[n] = who
				}
				continue
			}
			target := rapid.SampledFrom([]netip.Addr{wan, heron, otter, newt, lan}).Draw(t, "target")
			frame := udp(peer, at, target, port)
			if rapid.Bool().Draw(t, "tcp") {
				frame = tcp(
					peer,
					at,
					target,
					port,
					rapid.SampledFrom([]uint8{packet.SYN, packet.ACK, packet.SYN | packet.ACK, packet.RST}).Draw(t,
						"flags"),
				)
			}
			q, _ := packet.Decode(frame)
			for _, p := range s.send(1, frame) {
				require.Equal(t, 2, p.Number, "nothing is answered: %s", p)
				want, ok := left[name{q.Proto, port, at, peer}]
				require.True(t, ok && target == wan, "%s got in", q)
				_, dp, _ := p.Ports()
				require.Equal(t, want, netip.AddrPortFrom(p.Destination, dp))
			}
		}
	})
}

func TestTableDoesNotCollapse(t *testing.T) {
	var tab table
	p, _ := packet.Decode(udp(heron, 1, buoy, 7))
	for i := range 3 * maxFlows {
		require.True(t, tab.room(0))
		a := netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
		k := tuple{proto: packet.UDP, source: a, destination: buoy, from: 1, to: 7}
		tab.add(0, &flow{forth: k, back: k.reversed()}, p)
	}
	assert.Equal(t, 2*maxFlows, len(tab.flows))
	tab.sweep = 0
	require.True(t, tab.room(time.Hour))
	assert.Empty(t, tab.flows, "what has run out is cleared")
}

func FuzzPackets(f *testing.F) {
	f.Add(byte(2), tcp(heron, 1, buoy, 80, packet.SYN), byte(1), tcp(buoy, 80, wan, 1, packet.ACK))
	f.Add(byte(1), ping(buoy, wan, 1, false), byte(3), udp(newt, 1, buoy, 53))
	f.Fuzz(func(t *testing.T, a byte, x []byte, b byte, y []byte) {
		s := newSluice(t)
		for _, in := range []struct {
			adapter byte
			frame   []byte
		}{{a, x}, {b, y}, {a, x}} {
			s.send(1+int(in.adapter%3), slices.Clone(in.frame))
		}
	})
}

var _ host.Hook = (*Filter)(nil)

func BenchmarkForward(b *testing.B) {
	s := newSluice(b)
	p, _ := packet.Decode(udp(heron, 40000, buoy, 7))
	packet.SetLink(p.Bytes, s.Ports[1].MAC, mac.Address{2})
	p, _ = packet.Decode(p.Bytes)
	b.ReportAllocs()
	for b.Loop() {
		s.Node.Receive(time.Second, 2, p)
		s.Node.Drain()
	}
}

// A bridge knows from which side a conversation began: the same packets from the other
// side, which a flooded frame may have opened, belong to none.
func TestBridgeKnowsItsSides(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: veiled
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  veiled: {reach: isolated}
appliances:
  veil:
    kind: transparent
    ports: [{role: wan, segment: moor}, {role: lan, segment: veiled}]
    rules: [deny any from any to outside, allow any from any to any]
guests: {rail: veiled}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	s := &sluice{Appliance: New(p.Machine("veil"), Options{Guests: p.Guests()})}
	out, in := netip.MustParseAddr("172.29.70.50"), netip.MustParseAddr("172.29.70.60")
	for _, c := range []struct {
		what    string
		adapter int
		frame   []byte
		passes  bool
	}{
		{"from inside to outside the rules deny it", 2, ping(in, out, 7, false), false},
		{"from outside they let it in", 1, ping(out, in, 7, false), true},
		{"and its answer out", 2, ping(in, out, 7, true), true},
		{"the answer does not is from outside", 1, ping(in, out, 7, true), false},
		{"nor does the same request is from inside", 2, ping(out, in, 7, false), false},
		{"a conversation of its own stays denied", 2, udp(in, 5000, out, 53), false},
	} {
		packet.SetLink(c.frame, mac.Address{2, 0, 0, 0, 9, 9}, mac.Address{2, 0, 0, 0, byte(c.adapter), 1})
		q, err := packet.Decode(c.frame)
		require.NoError(t, err)
		s.now += time.Millisecond
		s.Node.Receive(s.now, c.adapter, q)
		assert.Equal(t, c.passes, len(s.Node.Drain()) > 0, c.what)
	}
}
