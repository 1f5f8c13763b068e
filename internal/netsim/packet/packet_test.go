package packet

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
)

var (
	here  = netip.MustParseAddr("10.83.16.20")
	there = netip.MustParseAddr("203.0.113.80")
)

// anyFrame draws a frame of every kind that the builders make.
func anyFrame(t *rapid.T) []byte {
	h := IP{
		Source:      here,
		Destination: there,
		TTL:         rapid.Uint8Range(2, 255).Draw(t, "ttl"),
		ID:          rapid.Uint16().Draw(t, "id"),
	}
	data := rapid.SliceOfN(rapid.Byte(), 0, 64).Draw(t, "data")
	p, q := rapid.Uint16().Draw(t, "p"), rapid.Uint16().Draw(t, "q")
	switch rapid.IntRange(0, 3).Draw(t, "kind") {
	case 0:
		return Echo(h, rapid.Bool().Draw(t, "reply"), p, q, data)
	case 1:
		return Datagram(h, p, q, data)
	case 2:
		return Segment(
			h,
			SegmentFields{
				Source:      p,
				Destination: q,
				Seq:         rapid.Uint32().Draw(t, "seq"),
				Flags:       SYN,
				Window:      9,
				MSS:         1400,
			},
			data,
		)
	}
	inner, _ := Decode(Datagram(IP{Source: there, Destination: here}, q, p, data))
	return ICMPError(h, Unreachable, PortUnreachable, inner.Body)
}

func valid(t require.TestingT, p *Packet) {
	again, err := Decode(p.Bytes)
	require.NoError(t, err)
	require.True(t, again.TransportValid(), "%s", again)
}

func TestBuiltIsValidAndStaysSo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, err := Decode(anyFrame(t))
		require.NoError(t, err)
		valid(t, p)
		kept := p.Bytes[:len(p.Bytes):len(p.Bytes)]
		require.Equal(t, kept, Untagged(Tagged(kept, 48)))
		tagged, err := Decode(Tagged(kept, 48))
		require.NoError(t, err)
		require.Equal(t, 48, tagged.Tag)
		valid(t, tagged)

		// What translation and forwarding change leaves every checksum right.
		source := netip.MustParseAddr("172.29.64.7")
		port := rapid.Uint16().Draw(t, "port")
		c := p.Copy()
		c.SetSource(source, port)
		c.SetDestination(here, port)
		c.Hop()
		if IsError(c.Data) && c.Proto == ICMP {
			c.RewriteQuoted(source, port, rapid.Bool().Draw(t, "side"))
		}
		valid(t, c)
		require.Equal(t, []netip.Addr{source, here}, []netip.Addr{c.Source, c.Destination})
		if s, d, ok := c.Ports(); ok {
			require.Equal(t, []uint16{port, port}, []uint16{s, d})
		}
		require.Equal(t, p.TTL-1, c.TTL)
		require.Equal(t, here, p.Source, "the original is untouched")

		// A flipped bit is noticed.
		broken := append([]byte(nil), p.Bytes...)
		i := rapid.IntRange(14, len(broken)-1).Draw(t, "at")
		broken[i] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		b, err := Decode(broken)
		require.True(
			t,
			err != nil || !b.TransportValid() || b.Proto != p.Proto || b.Fragment ||
				b.Proto == UDP && (broken[40]|broken[41] == 0),
		)
	})
}

func TestARP(t *testing.T) {
	a := mac.Address{2, 0, 0, 0, 0, 1}
	p, err := Decode(ARP(ARPRequest, mac.Broadcast, a, here, mac.Address{}, there))
	require.NoError(t, err)
	require.Equal(t, "ARP: who has 203.0.113.80? from 02:00:00:00:00:01", p.String())
	require.Equal(t, mac.Broadcast, p.To)
}

func FuzzDecode(f *testing.F) {
	f.Add(Echo(IP{Source: here, Destination: there}, false, 1, 2, []byte("x")))
	f.Add(Tagged(Segment(IP{Source: here, Destination: there}, SegmentFields{Flags: SYN, MSS: 1}, nil), 7))
	f.Add(ARP(ARPReply, mac.Broadcast, mac.Address{1}, here, mac.Address{2}, there))
	f.Fuzz(func(t *testing.T, frame []byte) {
		p, err := Decode(frame)
		_ = p.String()
		p.Ports()
		if err != nil || !p.IPv4 {
			return
		}
		if IsError(p.Data) {
			Quoted(p.Data)
		}
		if p.TransportValid() && !p.Fragment {
			c := p.Copy()
			c.SetSource(there, 9)
			c.RewriteQuoted(here, 9, true)
			if p.Proto == TCP {
				ReadSegment(p)
			}
		}
	})
}

func BenchmarkDecode(b *testing.B) {
	frame := Datagram(IP{Source: here, Destination: there}, 1, 2, make([]byte, 18))
	b.ReportAllocs()
	for b.Loop() {
		_, _ = Decode(frame)
	}
}

func BenchmarkBuild(b *testing.B) {
	data := make([]byte, 18)
	b.ReportAllocs()
	for b.Loop() {
		Datagram(IP{Source: here, Destination: there}, 1, 2, data)
	}
}
