package field

import (
	"bytes"
	"encoding/binary"
	"flag"
	"net/netip"
	"os"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

var capture = flag.String("capture", "", "write what this system's IP Helper gives into this folder")

// What this system gives is read as its own package reads it; with -capture it is kept, for the
// other systems' tests.
func TestHelperHere(t *testing.T) {
	size := uint32(64 << 10)
	buffer := make([]byte, size)
	require.NoError(t, windows.GetAdaptersAddresses(windows.AF_UNSPEC, windows.GAA_FLAG_INCLUDE_GATEWAYS, 0,
		(*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])), &size))
	memory := helperMemory{uint64(uintptr(unsafe.Pointer(&buffer[0]))), buffer[:size]}
	list := memory.adapters()
	n := 0
	for one := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])); one != nil; one = one.Next {
		require.Less(t, n, len(list))
		got := list[n]
		n++
		assert.Equal(t, int(one.IfIndex), got.index)
		var gateways, DNS []netip.Addr
		for g := one.FirstGatewayAddress; g != nil; g = g.Next {
			at, _ := netip.AddrFromSlice(g.Address.IP())
			gateways = append(gateways, at.Unmap())
		}
		for d := one.FirstDnsServerAddress; d != nil; d = d.Next {
			at, _ := netip.AddrFromSlice(d.Address.IP())
			DNS = append(DNS, at.Unmap())
		}
		assert.Equal(t, gateways, got.gateways)
		assert.Equal(t, DNS, got.resolvers)
	}
	assert.Len(t, list, n)
	if *capture == "" {
		return
	}
	keep := func(name string, data []byte) { require.NoError(t, os.WriteFile(*capture+"/"+name, data, 0o644)) }
	keep(
		"adapters.iphelper",
		append(
			binary.LittleEndian.AppendUint64(nil, memory.base),
			append(bytes.TrimRight(memory.data, "\x00"), make([]byte, helperSize)...)...),
	)
	rows, err := neighborRows(windows.AF_INET)
	require.NoError(t, err)
	keep("neighbors.iphelper", rows)
}
