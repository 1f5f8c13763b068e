//go:build linux

package drive

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/simulator"
)

// hub hands every frame to the port that is its destination's last byte.
type hub struct{ out []host.Emission }

func (h *hub) Receive(_ time.Duration, _ int, frame []byte) {
	h.out = append(h.out, host.Emission{Adapter: int(frame[5]), Frame: append([]byte{}, frame...)})
}
func (h *hub) Advance(time.Duration)           {}
func (h *hub) Deadline() (time.Duration, bool) { return 0, false }
func (h *hub) Drain() (out []host.Emission)    { out, h.out = h.out, nil; return out }

// ends returns a drive over streams, and their far ends.
func ends(t testing.TB, m Machine, n int) (list []net.Conn, streams []*Stream) {
	for i := range n {
		fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		require.NoError(t, err)
		s, err := OpenStream(fds[0], i+1)
		require.NoError(t, err)
		streams = append(streams, s)
		f := os.NewFile(uintptr(fds[1]), fmt.Sprint(i))
		c, err := net.FileConn(f)
		require.NoError(t, err)
		f.Close()
		list = append(list, c)
	}
	d, err := New(m, Ports(streams)...)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- d.Run(ctx) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
		for i, c := range list {
			c.Close()
			_ = streams[i].Close()
		}
	})
	return list, streams
}

func framed(size int, to byte) []byte {
	b := binary.BigEndian.AppendUint32(nil, uint32(size))
	f := make([]byte, size)
	copy(f, []byte{2, 0, 0, 0, 0, to, 2, 0, 0, 0, 1, 0})
	return append(b, f...)
}

// Frames come through whole and in order however they are cut on their way; one that is too
// long, and a far end that goes, end that stream and no other.
func TestStreams(t *testing.T) {
	far, streams := ends(t, &hub{}, 4)
	one := framed(60, 2)
	two := framed(1514, 2)
	all := append(append([]byte{}, one...), two...)
	go func() {
		for _, b := range all {
			_, _ = far[0].Write([]byte{b})
		}
	}()
	got := make([]byte, len(all))
	_, err := io.ReadFull(far[1], got)
	require.NoError(t, err)
	assert.Equal(t, all, got)

	_, err = far[2].Write(binary.BigEndian.AppendUint32(nil, maxFrame+1))
	require.NoError(t, err)
	_ = far[2].SetReadDeadline(time.Now().Add(5 * time.Second))
	_, err = far[2].Read(got)
	assert.ErrorIs(t, err, io.EOF, "what is no frame ends the stream")
	far[3].Close()
	for range 3 { // to who is gone, and to who does not exist
		_, _ = far[0].Write(append(framed(60, 4), framed(60, 9)...))
	}
	_, err = far[0].Write(one)
	require.NoError(t, err)
	_, err = io.ReadFull(far[1], got[:len(one)])
	require.NoError(t, err)
	assert.Zero(t, streams[1].Lost())
}

// Who takes nothing loses what does not fit, and that is counted.
func TestStreamLoses(t *testing.T) {
	far, streams := ends(t, &hub{}, 2)
	burst := framed(1514, 2)
	for range 2 * maxKept / len(burst) {
		_, err := far[0].Write(burst)
		require.NoError(t, err)
	}
	assert.Eventually(t, func() bool { return streams[1].Lost() > 0 }, 5*time.Second, 10*time.Millisecond)
}

// flood hands every frame to all ports but that it came from.
type flood struct {
	hub
	ports int
}

func (f *flood) Receive(_ time.Duration, adapter int, frame []byte) {
	one := append([]byte{}, frame...)
	for i := range f.ports {
		if i+1 != adapter {
			f.out = append(f.out, host.Emission{Adapter: i + 1, Frame: one})
		}
	}
}

// A process with the sockets of 32 machines stays small, also when none of them takes what
// it is sent: what is kept for them is bounded.
func TestManyStreamsStaySmall(t *testing.T) {
	const machines, sent, most = 32, 64 << 20, 100 << 20
	far, streams := ends(t, &flood{ports: machines}, machines)
	frame := framed(1514, 1)
	for written := 0; written < sent; written += len(frame) {
		_, err := far[0].Write(frame)
		require.NoError(t, err)
	}
	lost := 0
	for _, s := range streams {
		lost += s.Lost()
	}
	assert.Positive(t, lost, "nobody takes what is sent")
	status, err := os.ReadFile("/proc/self/status")
	require.NoError(t, err)
	var resident int
	for _, line := range strings.Split(string(status), "\n") {
		if strings.HasPrefix(line, "VmRSS:") {
			_, err = fmt.Sscanf(line, "VmRSS: %d kB", &resident)
			require.NoError(t, err)
		}
	}
	t.Logf("%d MiB with %d machines", resident>>10, machines)
	if !raceEnabled {
		assert.Less(t, resident<<10, most)
	}
}

// BenchmarkStreams sends frames from one far end to another through a drive.
func BenchmarkStreams(b *testing.B) {
	for _, size := range []int{60, 1514} {
		b.Run(fmt.Sprint(size), func(b *testing.B) { through(b, &hub{}, framed(size, 2)) })
	}
}

// BenchmarkSwitch is BenchmarkStreams through the lab's own switch: from guest to guest.
func BenchmarkSwitch(b *testing.B) {
	for _, size := range []int{60, 1514} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			data, err := examples.Labs.ReadFile("saltmarsh.yaml")
			require.NoError(b, err)
			l, err := lab.Read("lab.yaml", data)
			require.NoError(b, err)
			p, err := plan.Build(l)
			require.NoError(b, err)
			heron, otter := p.Machine("heron"), p.Machine("otter")
			live := simulator.NewTrunked(p, func(m *plan.Machine) bool { return m == heron || m == otter })
			live.Start()
			f := packet.Datagram(
				packet.IP{
					Source:      netip.MustParseAddr("10.83.16.50"),
					Destination: netip.MustParseAddr("10.83.16.20"),
					TTL:         64,
				},
				4000,
				5000,
				make([]byte, size-42),
			)
			packet.SetLink(f, otter.Adapters[0].MAC, heron.Adapters[0].MAC)
			live.Receive(0, 2, reversed(f)) // so that it is known where the other is
			live.Advance(time.Second)
			live.Drain()
			through(b, live, append(binary.BigEndian.AppendUint32(nil, uint32(len(f))), f...))
		})
	}
}

// reversed swaps who sends and who receives a frame.
func reversed(f []byte) []byte {
	out := append([]byte{}, f...)
	copy(out, f[6:12])
	copy(out[6:], f[:6])
	return out
}

// through measures how many frames a second come through a machine between two streams,
// the first sending to the second as fast as it is taken.
func through(b *testing.B, m Machine, frame []byte) {
	const from, to = 1, 2
	far, _ := ends(b, m, 2)
	size := len(frame) - lengthSize
	var many []byte
	for len(many) < 60_000 {
		many = append(many, frame...)
	}
	each := len(many) / len(frame)
	var sent, taken atomic.Int64
	b.SetBytes(int64(size))
	b.ResetTimer()
	var all sync.WaitGroup
	all.Go(func() {
		buffer := make([]byte, 1<<18)
		for taken.Load() < int64(b.N)*int64(size+lengthSize) {
			n, err := far[to-1].Read(buffer)
			if err != nil {
				return
			}
			taken.Add(int64(n))
		}
	})
	for sent.Load() < int64(b.N) {
		for (sent.Load()*int64(size+lengthSize))-taken.Load() > maxKept/2 { // a window, so that nothing is lost
			time.Sleep(10 * time.Microsecond)
		}
		if _, err := far[from-1].Write(many); err != nil {
			b.Fatal(err)
		}
		sent.Add(int64(each))
	}
	all.Wait()
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
}
