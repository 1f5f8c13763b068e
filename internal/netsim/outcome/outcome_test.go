package outcome

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Every outcome survives being written and read, and has a text for people.
func TestTextRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := Outcome{Code: rapid.SampledFrom(append(codes, OK)).Draw(t, "code")}
		if want.Is(Refused, Reset, Unreachable, TimeExceeded, TooBig) && rapid.Bool().Draw(t, "by") {
			want.By = netip.AddrFrom16([16]byte(rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "address"))).Unmap()
		}
		if want.Is(TooBig, Failed) {
			want.Detail = rapid.StringMatching(`[a-z0-9: ]{1,20}`).Draw(t, "detail")
		}
		data, err := want.MarshalText()
		require.NoError(t, err)
		var got Outcome
		require.NoError(t, got.UnmarshalText(data), "%s", data)
		assert.Equal(t, want, got)
		assert.NotEmpty(t, got.String())
	})
	var o Outcome
	assert.ErrorContains(t, o.UnmarshalText([]byte("lost by 10.0.0.1")), "not a known outcome")
	assert.Error(t, o.UnmarshalText([]byte("refused by nobody")))
}
