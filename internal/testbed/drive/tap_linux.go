package drive

import (
	"errors"
	"fmt"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Tap is an adapter that is the near end of a tap or macvtap device of this machine: what
// the device would receive is sent by it, and the other way round. Whoever owns the device
// opens it without further rights.
type Tap struct {
	Number int // by which the machine knows it
	fd     int
	lost   atomic.Int64
}

// OpenTap opens a tap device that is there, in the network namespace of the calling thread.
func OpenTap(name string, number int) (*Tap, error) {
	found, err := device(name)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	request, err := unix.NewIfreq(name)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	const flags = unix.O_RDWR | unix.O_CLOEXEC | unix.O_NONBLOCK
	fd, err := unix.Open(fmt.Sprintf("/dev/tap%d", found.Index), flags, 0) // of a macvtap device
	if errors.Is(err, unix.ENOENT) {
		fd, err = unix.Open("/dev/net/tun", flags, 0)
	}
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	request.SetUint16(unix.IFF_TAP | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, request); err != nil {
		_ = unix.Close(fd)
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	return &Tap{Number: number, fd: fd}, nil
}

// Close returns the device back; it stays where it is.
func (t *Tap) Close() error { return unix.Close(t.fd) }

// Lost returns how many frames were lost since the last call, because the device took none.
func (t *Tap) Lost() int { return int(t.lost.Swap(0)) }

func (t *Tap) number() int         { return t.Number }
func (t *Tap) descriptor() int     { return t.fd }
func (t *Tap) push() (bool, error) { return false, nil }

func (t *Tap) take(b *buffers, each func([]byte) error) error {
	for range burst {
		n, err := unix.Read(t.fd, b.frame)
		if err != nil || n <= 0 { // nothing is there, or the device is down or gone
			return nil
		}
		if err := each(b.frame[:n]); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tap) send(frame []byte) error {
	if _, err := unix.Write(t.fd, frame); err != nil {
		t.lost.Add(1) // as on any wire
	}
	return nil
}
