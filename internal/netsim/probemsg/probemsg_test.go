package probemsg

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Whatever port a question was made for, and whichever it comes to, the answer
// says who gave it and to whom.
func TestQuestionAndAnswer(t *testing.T) {
	from := netip.MustParseAddrPort("10.83.16.50:40000")
	for _, port := range []uint16{7, 53, 123, 161, 5000} {
		q := Question(port)
		got, ok := Reply(q, "buoy", from)
		assert.True(t, ok, "%d", port)
		name, source := Introduced(got)
		assert.Equal(t, "buoy", name, "%d", port)
		assert.Equal(t, from.Addr(), source)
		_, again := Reply(got, "heron", from)
		assert.False(t, again, "an answer is no question")
	}
	name, source := Introduced([]byte(Page("ferry", netip.MustParseAddrPort("[2001:db8::1]:80"))))
	assert.Equal(t, "ferry", name)
	assert.Equal(t, netip.MustParseAddr("2001:db8::1"), source)
}

func FuzzIntroduced(f *testing.F) {
	f.Add([]byte("buoy 10.83.16.50:40000\n"))
	q, _ := Reply(Question(53), "buoy", netip.MustParseAddrPort("10.83.16.50:40000"))
	f.Add(q)
	f.Fuzz(func(t *testing.T, data []byte) {
		if name, source := Introduced(data); !source.IsValid() {
			assert.Empty(t, name)
		}
		Reply(data, "buoy", netip.MustParseAddrPort("10.83.16.50:40000"))
	})
}
