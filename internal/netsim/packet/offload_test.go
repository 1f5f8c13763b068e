package packet

import (
	"bytes"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/mac"
)

// A large segment with a partial checksum, as a real adapter gives it, becomes
// frames that a wire takes, that are right, and that carry the same bytes.
func TestSplitAndComplete(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ends := [][2]netip.Addr{{netip.MustParseAddr("10.83.16.50"), netip.MustParseAddr("203.0.113.80")},
			{netip.MustParseAddr("fd00::1"), netip.MustParseAddr("2001:db8::2")}}
		e := ends[rapid.IntRange(0, 1).Draw(t, "version")]
		data := rapid.SliceOfN(rapid.Byte(), 0, 9000).Draw(t, "data")
		mtu := rapid.IntRange(600, 1500).Draw(t, "mtu")
		seq := rapid.Uint32().Draw(t, "seq")
		f := Segment(IP{Source: e[0], Destination: e[1]},
			SegmentFields{Source: 40000, Destination: 80, Seq: seq, Ack: 7, Flags: ACK | PSH, Window: 900}, data)
		SetLink(f, mac.Address{2, 1}, mac.Address{2, 2})
		p, err := Decode(f)
		require.NoError(t, err)
		p.Data[16], p.Data[17] = 0x12, 0x34 // the sum of the pseudo header, or anything
		var got []byte
		next := seq
		for i, part := range Split(Complete(f), mtu) {
			q, err := Decode(part)
			require.NoError(t, err)
			assert.True(t, q.TransportValid(), "part %d", i)
			assert.LessOrEqual(t, len(q.Body), mtu)
			fields, payload := ReadSegment(q)
			assert.Equal(t, next, fields.Seq)
			next += uint32(len(payload))
			got = append(got, payload...)
		}
		assert.True(t, bytes.Equal(data, got))
	})
	short := []byte{1, 2, 3}
	assert.Equal(t, [][]byte{short}, Split(Complete(short), 1500), "what cannot be read stays")
}
