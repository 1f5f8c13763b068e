package drive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Framing of a stream: the length of a frame before it, as QEMU's stream network backend
// has it.
const (
	lengthSize = 4
	maxFrame   = 69632 // what QEMU sends at most (64 KiB and room for headers); more is no frame
)

// Sizes of a stream's buffers, in bytes.
const (
	taken   = 256 << 10 // read at once
	maxKept = 512 << 10 // that wait to be sent; what comes on top is lost, as on any wire
)

// Stream is an adapter at the far end of a stream socket: each frame with its length before
// it. When the far end closes it, nothing comes any more, and what is sent is lost.
type Stream struct {
	Number int // by which the machine knows it
	fd     int
	in     []byte // what was read and is no whole frame yet
	out    []byte // what was not yet sent
	sent   int    // of that
	lost   atomic.Int64
}

// OpenStream takes over a connected stream socket.
func OpenStream(fd, number int) (*Stream, error) {
	if err := unix.SetNonblock(fd, true); err != nil {
		return nil, fmt.Errorf("stream %d: %w", number, err)
	}
	return &Stream{Number: number, fd: fd, in: make([]byte, 0, taken)}, nil
}

// Lost returns how many frames were lost since the last call, because the far end took none.
func (s *Stream) Lost() int { return int(s.lost.Swap(0)) }

// Close returns the socket back.
func (s *Stream) Close() error { return s.end() }

func (s *Stream) end() (err error) {
	if s.fd >= 0 {
		err = unix.Close(s.fd)
	}
	s.fd, s.out, s.sent = -1, nil, 0
	return err
}

func (s *Stream) number() int     { return s.Number }
func (s *Stream) descriptor() int { return s.fd }

// take reads once and hands on the frames that are whole, in place.
func (s *Stream) take(_ *buffers, each func([]byte) error) error {
	n, err := unix.Read(s.fd, s.in[len(s.in):cap(s.in)])
	switch {
	case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
		return nil
	case err != nil || n <= 0: // it is gone; the lab goes on without
		_ = s.end()
		return nil
	}
	s.in = s.in[:len(s.in)+n]
	rest := s.in
	for len(rest) >= lengthSize {
		size := int(binary.BigEndian.Uint32(rest))
		if size > maxFrame {
			_ = s.end() // there is no way to find the next frame
			return nil
		}
		if len(rest) < lengthSize+size {
			break
		}
		if err := each(rest[lengthSize : lengthSize+size]); err != nil {
			return err
		}
		rest = rest[lengthSize+size:]
	}
	s.in = s.in[:copy(s.in[:cap(s.in)], rest)]
	return nil
}

// send keeps a frame until the next push.
func (s *Stream) send(frame []byte) error {
	if s.fd < 0 {
		return nil
	}
	if len(s.out)-s.sent+len(frame) > maxKept {
		s.lost.Add(1)
		return nil
	}
	if s.sent > maxKept/2 {
		s.out, s.sent = s.out[:copy(s.out, s.out[s.sent:])], 0
	}
	s.out = binary.BigEndian.AppendUint32(s.out, uint32(len(frame)))
	s.out = append(s.out, frame...)
	return nil
}

// push sends what was kept, as far as the far end takes it.
func (s *Stream) push() (more bool, err error) {
	for s.fd >= 0 && s.sent < len(s.out) {
		n, err := unix.SendmsgN(s.fd, s.out[s.sent:], nil, nil, unix.MSG_NOSIGNAL)
		switch {
		case errors.Is(err, unix.EAGAIN):
			return true, nil
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			_ = s.end()
			return false, nil
		}
		s.sent += n
	}
	if s.fd >= 0 {
		s.out, s.sent = s.out[:0], 0
	}
	return false, nil
}
