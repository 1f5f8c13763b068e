package vxlan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What was put together comes apart, and what was not is refused.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		segment := rapid.Uint32Range(0, MaxSegment).Draw(t, "segment")
		frame := rapid.SliceOfN(rapid.Byte(), 14, 1600).Draw(t, "frame")
		got, inner, err := Split(Append(nil, segment, frame))
		require.NoError(t, err)
		assert.Equal(t, segment, got)
		assert.Equal(t, frame, inner)
	})
	for _, b := range [][]byte{nil, make([]byte, 7), make([]byte, 64), Append(nil, 7, make([]byte, 13))} {
		_, _, err := Split(b)
		assert.ErrorIs(t, err, ErrNoFrame)
	}
}

func FuzzSplit(f *testing.F) {
	f.Add(Append(nil, 48, make([]byte, 60)))
	f.Fuzz(func(t *testing.T, b []byte) {
		segment, frame, err := Split(b)
		if err == nil {
			again, inner, err := Split(Append(nil, segment, frame))
			require.NoError(t, err)
			assert.Equal(t, segment, again)
			assert.Equal(t, frame, inner)
		}
	})
}
