//go:build linux

package kernel

import (
	"fmt"
	"net"
	"os"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// BenchmarkBridge is what the kernel's own bridge carries between two veth pairs, to hold
// the program's switch against (BenchmarkSwitch of testbed/drive).
func BenchmarkBridge(b *testing.B) {
	if os.Getuid() != 0 {
		b.Skip("needs root for network namespaces")
	}
	for _, size := range []int{60, 1514} {
		b.Run(fmt.Sprint(size), func(b *testing.B) { bridged(b, size) })
	}
}

func bridged(b *testing.B, size int) {
	s, err := NewSpace()
	require.NoError(b, err)
	defer s.Close()
	bridge := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: "wire"}}
	require.NoError(b, s.links.LinkAdd(bridge))
	require.NoError(b, s.up("wire"))
	var ends [2]int
	for i := range ends {
		near, far := fmt.Sprint("near", i), fmt.Sprint("far", i)
		require.NoError(b, s.links.LinkAdd(&netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: near}, PeerName: far}))
		link, err := s.links.LinkByName(near)
		require.NoError(b, err)
		require.NoError(b, s.links.LinkSetMaster(link, bridge))
		require.NoError(b, s.up(near))
		require.NoError(b, s.up(far))
		require.NoError(b, s.Do(func() error {
			device, err := net.InterfaceByName(far)
			if err != nil {
				return err
			}
			const all = 0x0300 // of every protocol, in the order of the network
			if ends[i], err = unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, all); err != nil {
				return err
			}
			_ = unix.SetsockoptInt(ends[i], unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 64<<20)
			_ = unix.SetsockoptInt(ends[i], unix.SOL_PACKET, unix.PACKET_IGNORE_OUTGOING, 1)
			_ = unix.SetsockoptTimeval(ends[i], unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 200_000})
			return unix.Bind(ends[i], &unix.SockaddrLinklayer{Protocol: all, Ifindex: device.Index})
		}))
		defer unix.Close(ends[i])
	}
	frame := make([]byte, size)
	copy(frame, []byte{2, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 1, 0x88, 0xb5})
	reply := append([]byte{2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2}, frame[12:]...)
	require.NoError(b, unix.Send(ends[1], reply, 0)) // so that it is known where the other is
	b.SetBytes(int64(size))
	b.ResetTimer()
	taken := 0
	var all sync.WaitGroup
	all.Go(func() {
		buffer := make([]byte, 2048)
		for taken < b.N {
			if n, _, err := unix.Recvfrom(ends[1], buffer, 0); err != nil || n == 0 {
				return
			}
			taken++
		}
	})
	for range b.N {
		_ = unix.Send(ends[0], frame, 0)
	}
	all.Wait()
	b.ReportMetric(float64(taken)/b.Elapsed().Seconds(), "frames/s")
}
