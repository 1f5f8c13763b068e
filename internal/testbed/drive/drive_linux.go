package drive

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"openbastion/internal/netsim/packet"
)

// ethernetMTU is the largest packet that is handed on whole.
const ethernetMTU = 1500

// linkSize is what goes before a packet in a frame, at most: addresses, a tag, and the type.
const linkSize = 18

// largest is what a receive buffer holds: a segment as large as the kernel makes
// one (64 KiB) with its headers.
const largest = 1<<16 + 256

// receiveBuffer holds what comes in a moment in which nobody reads, in bytes.
const receiveBuffer = 4 << 20

// burst bounds how many frames are taken from one adapter before others have
// their turn.
const burst = 256

// Adapter is a real adapter, opened for all frames of its wire.
type Adapter struct {
	Number int // by which the machine knows it
	fd     int
	name   string
	lost   atomic.Int64 // frames that were not taken
}

// Open opens the adapter of a name in the network namespace of the calling
// thread. It needs the right to open packet sockets there.
func Open(name string, number int) (*Adapter, error) {
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("open %s: packet socket: %w", name, err)
	}
	a := &Adapter{Number: number, fd: fd, name: name}
	if err := a.bind(); err != nil {
		_ = unix.Close(fd)
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	return a, nil
}

// absent is the error of a device that this machine does not have.
type absent struct{ error }

func (e absent) Unwrap() error { return e.error }

// Lacks says that it is this machine that lacks something.
func (absent) Lacks() bool { return true }

// device returns a device of this machine.
func device(name string) (*net.Interface, error) {
	d, err := net.InterfaceByName(name)
	if op := (*net.OpError)(nil); errors.As(err, &op) {
		err = op.Err // what it is about is said by the caller
	}
	if err != nil {
		return nil, absent{err}
	}
	return d, nil
}

func (a *Adapter) bind() error {
	found, err := device(a.name)
	if err != nil {
		return err
	}
	for _, option := range []struct{ name, value int }{
		{unix.PACKET_AUXDATA, 1}, {unix.PACKET_IGNORE_OUTGOING, 1}, {unix.PACKET_VNET_HDR, 1},
	} {
		if err := unix.SetsockoptInt(a.fd, unix.SOL_PACKET, option.name, option.value); err != nil {
			return err
		}
	}
	// Best effort: without the right to it the usual size stays.
	_ = unix.SetsockoptInt(a.fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer)
	everything := unix.PacketMreq{Ifindex: int32(found.Index), Type: unix.PACKET_MR_PROMISC}
	if err := unix.SetsockoptPacketMreq(a.fd, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &everything); err != nil {
		return err
	}
	all := binary.NativeEndian.Uint16(binary.BigEndian.AppendUint16(nil, unix.ETH_P_ALL))
	return unix.Bind(a.fd, &unix.SockaddrLinklayer{Protocol: all, Ifindex: found.Index})
}

// Filter lets in only frames that a program of the classic filter (bpf(4)) takes.
func (a *Adapter) Filter(program []unix.SockFilter) error {
	f := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	if err := unix.SetsockoptSockFprog(a.fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &f); err != nil {
		return fmt.Errorf("%s: filter: %w", a.name, err)
	}
	return nil
}

// Lost returns how many frames were lost since the last call, because a buffer was full:
// of those that came, and of those that were sent.
func (a *Adapter) Lost() int {
	n := int(a.lost.Swap(0))
	if s, err := unix.GetsockoptTpacketStats(a.fd, unix.SOL_PACKET, unix.PACKET_STATISTICS); err == nil {
		n += int(s.Drops)
	}
	return n
}

// Close returns the adapter back.
func (a *Adapter) Close() error { return unix.Close(a.fd) }

// offload is what goes before each frame of the socket: what its sender left to be done (struct virtio_net_hdr of
// linux/virtio_net.h, 10 bytes in the machine's byte order). segment is how much data each TCP segment is to have, 0: the
// frame is one.
func offload(head []byte) (segment int) {
	if len(head) < offloadSize || head[1] == 0 { // the type of segmentation
		return 0
	}
	return int(binary.NativeEndian.Uint16(head[4:]))
}

const offloadSize = 10

// receive takes one frame, whole, into a buffer: with its checksum, and its tag where the
// kernel took that off; nil when none is there.
func (a *Adapter) receive(buffer, control []byte) (frame []byte, segment int, err error) {
	n, c, _, _, err := unix.Recvmsg(a.fd, buffer, control, 0)
	switch {
	case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR), errors.Is(err, unix.ENETDOWN):
		return nil, 0, nil
	case err != nil:
		return nil, 0, fmt.Errorf("%s: %w", a.name, err)
	case n < offloadSize:
		return nil, 0, nil
	}
	frame, segment = buffer[offloadSize:n], offload(buffer[:n])
	messages, err := unix.ParseSocketControlMessage(control[:c])
	if err != nil {
		return frame, segment, nil
	}
	for _, m := range messages {
		if m.Header.Level != unix.SOL_PACKET || m.Header.Type != unix.PACKET_AUXDATA ||
			len(m.Data) < int(unsafe.Sizeof(unix.TpacketAuxdata{})) {
			continue
		}
		aux := (*unix.TpacketAuxdata)(unsafe.Pointer(&m.Data[0]))
		if aux.Status&unix.TP_STATUS_VLAN_VALID != 0 {
			frame = packet.Tagged(frame, int(aux.Vlan_tci&0xfff))
		}
		if aux.Status&unix.TP_STATUS_CSUMNOTREADY != 0 {
			frame = packet.Complete(frame)
		}
	}
	return frame, segment, nil
}

// nothingLeft goes before a frame that is whole.
var nothingLeft [offloadSize]byte

// Name returns what the device is called in its namespace.
func (a *Adapter) Name() string { return a.name }

func (a *Adapter) number() int     { return a.Number }
func (a *Adapter) descriptor() int { return a.fd }

// push has nothing to do: frames are sent one by one.
func (a *Adapter) push() (bool, error) { return false, nil }

// take hands on what has come, so many frames at a time that others have their turn.
func (a *Adapter) take(b *buffers, each func([]byte) error) error {
	for range burst {
		frame, segment, err := a.receive(b.frame, b.control)
		if err != nil || frame == nil {
			return err
		}
		if segment == 0 {
			if err := each(frame); err != nil {
				return err
			}
			continue
		}
		for _, part := range packet.Segments(frame, segment) { // as its sender would have sent them
			if err := each(part); err != nil {
				return err
			}
		}
	}
	return nil
}

// send puts a frame on the wire. What the wire does not take at once is lost, as
// on any wire.
func (a *Adapter) send(frame []byte) error {
	_, err := unix.SendmsgBuffers(a.fd, [][]byte{nothingLeft[:], frame}, nil, nil, unix.MSG_DONTWAIT)
	switch {
	case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.ENOBUFS):
		a.lost.Add(1)
		return nil
	case err == nil, errors.Is(err, unix.ENETDOWN), errors.Is(err, unix.EMSGSIZE):
		return nil
	}
	return fmt.Errorf("%s: %w", a.name, err)
}

// Port is where a machine's frames come from and go to: an Adapter, a Stream, a Tap or a
// Tunnel.
type Port interface {
	Lost() int    // how many frames were lost since the last call
	Close() error // gives what it holds of this machine back

	number() int
	descriptor() int                                // to be watched; -1: nothing comes any more
	take(b *buffers, each func([]byte) error) error // hands on what has come
	send(frame []byte) error
	push() (more bool, err error) // sends what was kept back; more: the descriptor is full
}

// Ports returns adapters, or streams, as ports.
func Ports[P Port](list []P) []Port {
	out := make([]Port, len(list))
	for i, p := range list {
		out[i] = p
	}
	return out
}

// buffers are what ports may use while they take.
type buffers struct{ frame, control []byte }

// Drive runs a machine on ports.
type Drive struct {
	machine  Machine
	ports    []Port
	began    time.Time
	wake     [2]int // a pipe whose reading end the loop watches
	calls    chan call
	polls    []unix.PollFd
	buffers  buffers
	byNumber map[int]int // a port's place in the list
	kept     []int       // the places of ports that have something to send
	keeps    []bool      // by place: it is among them
	failed   error
}

type call struct {
	do   func(now time.Duration)
	done chan struct{}
}

// New makes a drive. Run must be called for anything to happen.
func New(m Machine, ports ...Port) (*Drive, error) {
	d := &Drive{machine: m, ports: ports, began: time.Now(), calls: make(chan call, 16), byNumber: map[int]int{},
		keeps: make([]bool, len(ports))}
	for i, p := range ports {
		d.byNumber[p.number()] = i
	}
	var pipe [2]int
	if err := unix.Pipe2(pipe[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
		return nil, fmt.Errorf("drive: %w", err)
	}
	d.wake = pipe
	return d, nil
}

// Do calls a function between two events of the loop, where the machine may be
// touched, and returns when it is done; at once when the context ends first.
func (d *Drive) Do(ctx context.Context, do func(now time.Duration)) {
	c := call{do, make(chan struct{})}
	select {
	case d.calls <- c:
	case <-ctx.Done():
		return
	}
	_, _ = unix.Write(d.wake[1], []byte{1})
	select {
	case <-c.done:
	case <-ctx.Done():
	}
}

// Run drives the machine until the context ends, or an adapter fails.
func (d *Drive) Run(ctx context.Context) error {
	defer func() { _ = unix.Close(d.wake[0]); _ = unix.Close(d.wake[1]) }()
	stop := context.AfterFunc(ctx, func() { _, _ = unix.Write(d.wake[1], []byte{1}) })
	defer stop()
	polls := []unix.PollFd{{Fd: int32(d.wake[0]), Events: unix.POLLIN}}
	for _, p := range d.ports {
		polls = append(polls, unix.PollFd{Fd: int32(p.descriptor()), Events: unix.POLLIN})
	}
	d.polls, d.buffers = polls, buffers{make([]byte, largest), make([]byte, 256)}
	for ctx.Err() == nil && d.failed == nil {
		d.step(time.Second)
		d.called()
	}
	return d.failed
}

// step waits for frames or the machine's deadline, at most so long, and lets
// happen what is due.
func (d *Drive) step(most time.Duration) {
	if d.failed = d.flush(); d.failed != nil {
		return
	}
	if _, err := unix.Ppoll(d.polls, d.patience(most), nil); err != nil && !errors.Is(err, unix.EINTR) {
		d.failed = fmt.Errorf("drive: poll: %w", err)
		return
	}
	for {
		if n, err := unix.Read(d.wake[0], d.buffers.frame); err != nil || n == 0 {
			break
		}
	}
	for i, p := range d.ports {
		if d.polls[i+1].Revents == 0 {
			continue
		}
		if d.failed = d.take(p); d.failed != nil {
			return
		}
		d.polls[i+1].Fd = int32(p.descriptor())
	}
	d.machine.Advance(d.now())
	if err := d.flush(); err != nil {
		d.failed = err
	}
}

// Until lets happen what happens until a time, from within a function that Do
// calls; what else is called waits. It returns early when an adapter failed or Run
// ends.
func (d *Drive) Until(ctx context.Context, at time.Duration) {
	for now := d.now(); now < at && d.failed == nil && ctx.Err() == nil; now = d.now() {
		d.step(at - now)
	}
	d.machine.Advance(d.now())
}

// Wait is Until, for so long.
func (d *Drive) Wait(ctx context.Context, most time.Duration) { d.Until(ctx, d.now()+most) }

func (d *Drive) now() time.Duration { return time.Since(d.began) }

// patience returns how long to wait for frames: until the machine's deadline, and at
// most so long.
func (d *Drive) patience(wait time.Duration) *unix.Timespec {
	if at, ok := d.machine.Deadline(); ok {
		wait = min(wait, max(at-d.now(), 0))
	}
	ts := unix.NsecToTimespec(wait.Nanoseconds())
	return &ts
}

// called does what was asked for.
func (d *Drive) called() {
	for {
		select {
		case c := <-d.calls:
			c.do(d.now())
			close(c.done)
		default:
			return
		}
	}
}

// take hands the machine what a port has received.
func (d *Drive) take(p Port) error {
	err := p.take(&d.buffers, func(frame []byte) error {
		if len(frame) <= ethernetMTU+linkSize {
			d.machine.Receive(d.now(), p.number(), frame)
			return nil
		}
		for _, part := range packet.Split(frame, ethernetMTU) {
			d.machine.Receive(d.now(), p.number(), part)
		}
		return d.drain()
	})
	if err != nil {
		return err
	}
	return d.flush()
}

// drain returns the ports what the machine wants sent.
func (d *Drive) drain() error {
	for _, e := range d.machine.Drain() {
		i, ok := d.byNumber[e.Adapter]
		if !ok {
			continue
		}
		if err := d.ports[i].send(e.Frame); err != nil {
			return err
		}
		if !d.keeps[i] {
			d.keeps[i] = true
			d.kept = append(d.kept, i)
		}
	}
	return nil
}

// flush sends what the machine wants sent, and has those ports watched that do not take
// all of it now.
func (d *Drive) flush() error {
	if err := d.drain(); err != nil {
		return err
	}
	still := d.kept[:0]
	for _, i := range d.kept {
		more, err := d.ports[i].push()
		if err != nil {
			return err
		}
		d.polls[i+1].Events = unix.POLLIN
		if d.keeps[i] = more; more {
			d.polls[i+1].Events |= unix.POLLOUT
			still = append(still, i)
		}
	}
	d.kept = still
	return nil
}

// Replace puts another machine, and its ports, in place of those that are driven; the clock goes on. It is
// called from within Do. The ports that are no more are whoever's who opened them.
func (d *Drive) Replace(m Machine, ports ...Port) {
	d.machine, d.ports, d.kept, d.keeps = m, ports, nil, make([]bool, len(ports))
	d.byNumber = map[int]int{}
	d.polls = d.polls[:1:1]
	for i, p := range ports {
		d.byNumber[p.number()] = i
		d.polls = append(d.polls, unix.PollFd{Fd: int32(p.descriptor()), Events: unix.POLLIN})
	}
}
