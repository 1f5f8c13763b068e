package field

import (
	"encoding/binary"
	"net/netip"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/mac"
)

// captured returns what the IP Helper of a guest on reedbed of the sample lab gave: its adapters, and
// the rows of its neighbors.
func captured(t testing.TB) (helperMemory, []byte) {
	data, err := os.ReadFile("testdata/adapters.iphelper")
	require.NoError(t, err)
	rows, err := os.ReadFile("testdata/neighbors.iphelper")
	require.NoError(t, err)
	return helperMemory{binary.LittleEndian.Uint64(data), data[8:]}, rows
}

func addrs(list ...string) (out []netip.Addr) {
	for _, text := range list {
		out = append(out, netip.MustParseAddr(text))
	}
	return out
}

// What was captured is read, put into the system, and says of leases what it would on a machine
// that has one.
func TestHelperCaptured(t *testing.T) {
	m, rows := captured(t)
	list := m.adapters()
	require.Len(t, list, 2)
	i := 0
	if len(list[0].gateways) == 0 {
		i = 1
	}
	assert.Equal(t, addrs("10.83.16.1"), list[i].gateways)
	assert.Equal(t, addrs("10.83.16.1"), list[i].resolvers)
	assert.False(t, list[i].leased)
	assert.Equal(t, map[netip.Addr]mac.Address{netip.MustParseAddr("10.83.16.1"): {0x02, 0x5b, 0xac, 0x50, 0xc2, 0x02}},
		helperNeighbors(rows, list[i].index))
	assert.Empty(t, helperNeighbors(rows, list[1-i].index))

	at := 0
	for range i { // to the adapter's own structure
		at = int(binary.LittleEndian.Uint64(m.data[helperNext:]) - m.base)
	}
	m.data[at+helperFlags] |= helperLeased
	binary.LittleEndian.PutUint64(m.data[at+helperServer:], m.base+uint64(len(m.data)))
	binary.LittleEndian.PutUint32(m.data[at+helperServer+8:], 16)
	m.data = append(m.data, helperFour, 0, 0, 67, 10, 83, 16, 1, 0, 0, 0, 0, 0, 0, 0, 0)
	s := System{Adapters: []Adapter{{Name: "eth0", index: list[i].index}, {Name: "other", index: 77}}}
	s.takeHelped(m.adapters())
	assert.Equal(t, Adapter{Name: "eth0", index: list[i].index, Leased: true, Server: netip.MustParseAddr("10.83.16.1"),
		Gateway: netip.MustParseAddr("10.83.16.1")}, s.Adapters[0])
	assert.Equal(t, Adapter{Name: "other", index: 77}, s.Adapters[1])
	assert.Equal(t, addrs("10.83.16.1"), s.Resolvers)
}

func TestHelperEcho(t *testing.T) {
	reply := func(status uint32, at ...byte) []byte {
		return append(binary.LittleEndian.AppendUint32(at, status), make([]byte, echoSize)...)
	}
	for name, c := range map[string]struct {
		data        []byte
		from        string
		expired, ok bool
	}{
		"answered":        {reply(0, 10, 83, 16, 1), "10.83.16.1", false, true},
		"its time over":   {reply(echoExpired, 10, 83, 16, 1), "10.83.16.1", true, true},
		"unreachable":     {reply(11003, 10, 83, 16, 1), "10.83.16.1", false, false},
		"nobody answered": {reply(0, 0, 0, 0, 0), "0.0.0.0", false, false},
		"cut":             {[]byte{10, 83, 16, 1}, "", false, false},
	} {
		from, expired, ok := helperEcho(c.data)
		assert.Equal(t, c.ok, ok, name)
		assert.Equal(t, c.expired, expired, name)
		if c.from != "" {
			assert.Equal(t, c.from, from.String(), name)
		}
	}
}

// Whatever memory says, reading it ends, and within it.
func FuzzHelper(f *testing.F) {
	m, rows := captured(f)
	f.Add(m.data, rows, uint16(0), uint64(m.base))
	f.Add(m.data, rows, uint16(helperNext), uint64(m.base))
	f.Fuzz(func(t *testing.T, data, rows []byte, at uint16, pointer uint64) {
		if int(at)+8 <= len(data) {
			binary.LittleEndian.PutUint64(data[at:], pointer)
		}
		assert.LessOrEqual(t, len(helperMemory{m.base, data}.adapters()), mostHelped)
		helperNeighbors(rows, 2)
		helperEcho(rows)
	})
}
