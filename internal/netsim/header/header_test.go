package header

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	peer "gvisor.dev/gvisor/pkg/tcpip/header"
	"pgregory.net/rapid"
)

func address(t *rapid.T, what string) netip.Addr {
	return netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, what)))
}

func theirs(a netip.Addr) tcpip.Address { return tcpip.AddrFrom4(a.As4()) }

// Every header written here reads the same in the library, and sums the same.
func TestAgreesWithPeer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SliceOfN(rapid.Byte(), 0, 70).Draw(t, "data")
		initial := rapid.Uint16().Draw(t, "initial")
		require.Equal(t, checksum.Checksum(data, initial), Sum(data, initial))

		from, to := address(t, "from"), address(t, "to")
		require.Equal(t, peer.PseudoHeaderChecksum(6, theirs(from), theirs(to), 77), Pseudo(6, from, to, 77))

		b := make([]byte, IPv4Size+len(data))
		id, ttl := rapid.Uint16().Draw(t, "id"), rapid.Byte().Draw(t, "ttl")
		ip := IPv4(b)
		ip.Encode(len(b), id, DontFragment, ttl, 17, from, to)
		p := peer.IPv4(b)
		require.True(t, p.IsValid(len(b)) && p.IsChecksumValid() && ip.Valid(len(b)) && ip.ChecksumValid())
		require.Equal(
			t,
			[]any{
				p.ID(),
				p.TTL(),
				p.Protocol(),
				p.TotalLength(),
				int(p.FragmentOffset()),
				p.More(),
				int(p.HeaderLength()),
			},
			[]any{ip.ID(), ip.TTL(), ip.Protocol(), ip.Total(), ip.FragmentOffset(), ip.More(), ip.HeaderSize()},
		)
		require.Equal(t, theirs(from), p.SourceAddress())
		ip.SetSource(to.As4())
		ip.SetDestination(from.As4())
		ip.SetTTL(9)
		ip.SetID(7)
		require.True(t, p.IsChecksumValid())
		require.Equal(
			t,
			[]tcpip.Address{theirs(to), theirs(from)},
			[]tcpip.Address{p.SourceAddress(), p.DestinationAddress()},
		)
	})
}

func TestSegmentsAndMessages(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := make([]byte, TCPSize+MSSSize+3)
		seq, ack := rapid.Uint32().Draw(t, "seq"), rapid.Uint32().Draw(t, "ack")
		flags, window, mss := rapid.ByteRange(0, 31).Draw(t, "flags"), rapid.Uint16().Draw(t, "window"),
			rapid.Uint16Range(64, 9000).Draw(t, "mss")
		s := TCP(b)
		s.SetPorts(4000, 80)
		s.Encode(seq, ack, TCPSize+MSSSize, flags, window)
		PutMSS(b[TCPSize:], mss)
		p := peer.TCP(b)
		require.Equal(
			t,
			[]any{
				p.SourcePort(),
				p.DestinationPort(),
				p.SequenceNumber(),
				p.AckNumber(),
				uint8(p.Flags()),
				p.WindowSize(),
				int(p.DataOffset()),
			},
			[]any{s.SourcePort(), s.DestinationPort(), s.Seq(), s.Ack(), s.Flags(), s.Window(), s.HeaderSize()},
		)
		require.Equal(t, peer.ParseSynOptions(p.Options(), false).MSS, s.MSS())

		u := UDP(make([]byte, UDPSize))
		u.Encode(1, 2, UDPSize)
		u.SetChecksum(3)
		q := peer.UDP(u)
		require.Equal(
			t,
			[]uint16{1, 2, UDPSize, 3},
			[]uint16{q.SourcePort(), q.DestinationPort(), q.Length(), q.Checksum()},
		)

		c := ICMP(make([]byte, ICMPSize+5))
		c.Encode(Echo, 0, 5, 6)
		c.Seal()
		c.SetIdent(rapid.Uint16().Draw(t, "ident"))
		require.Equal(t, uint16(0xffff), Sum(c, 0))
		m := peer.ICMPv4(c)
		require.Equal(t, []any{m.Type(), m.Ident(), m.Sequence()}, []any{peer.ICMPv4Echo, c.Ident(), c.Sequence()})

		a := ARP(make([]byte, ARPSize))
		a.Encode(ARPReply)
		r := peer.ARP(a)
		require.True(t, r.IsValid() && a.Valid() && r.Op() == peer.ARPReply && a.Op() == ARPReply)
	})
}

// Odd options neither hang nor crash the search for the segment size.
func FuzzMSS(f *testing.F) {
	f.Add([]byte{1, 1, 2, 4, 5, 0xb4, 0, 0})
	f.Add([]byte{8, 0, 2, 4})
	f.Fuzz(func(t *testing.T, options []byte) {
		b := make([]byte, TCPSize+len(options))
		copy(b[TCPSize:], options)
		for _, size := range []int{TCPSize, TCPSize + 8, 60} {
			TCP(b).Encode(0, 0, size, SYN, 0)
			TCP(b).MSS()
		}
	})
}
