package mac

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParse(t *testing.T) {
	want := Address{0x02, 0x5b, 0xac, 0x50, 0xc2, 0x01}
	for _, text := range []string{"02:5b:ac:50:c2:01", "02-5B-AC-50-C2-01", "025b.ac50.c201", "025bac50c201", "02 5b ac 50 c2 01"} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, fault := range map[string]string{
		"":                     "0 digits",
		"02:5b:ac:50:c2":       "10 digits",
		"02:5b:ac:50:c2:01:02": "twelve",
		"02:5b:ac:50:c2:0g":    `"g" is not a hexadecimal digit`,
		"0:25b:ac:50:c2:01":    "inside a pair",
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, fault, text)
	}
	assert.Equal(t, "c2:01", want.Tail(2))
	assert.True(t, want.IsLocal() && !want.IsGroup() && Broadcast.IsGroup() && Address{}.IsZero())
}

func TestWrittenIsRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var a, b Address
		copy(a[:], rapid.SliceOfN(rapid.Byte(), 6, 6).Draw(t, "bytes"))
		text := strings.NewReplacer(":", rapid.SampledFrom([]string{":", "-", "", " "}).Draw(t, "separator")).
			Replace(a.String())
		require.NoError(t, b.UnmarshalText([]byte(strings.ToUpper(text))))
		require.Equal(t, a, b)
	})
}
