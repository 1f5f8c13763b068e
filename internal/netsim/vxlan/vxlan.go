// Package vxlan carries Ethernet frames in datagrams (RFC 7348): a header of eight bytes
// before each frame, with the number of the segment that it is of.
package vxlan

import (
	"encoding/binary"
	"errors"
)

// Port is the UDP port that segments are carried to (RFC 7348, section 5).
const Port = 4789

// Size is how long the header is.
const Size = 8

// MaxSegment is the largest number of a segment: it has 24 bits.
const MaxSegment = 1<<24 - 1

// valid says that the header names a segment: the flag I (RFC 7348, section 5).
const valid = 0x08

// ErrNoFrame says that a datagram carries no frame of a segment.
var ErrNoFrame = errors.New("vxlan: no frame of a segment")

// Append appends the header of a segment and a frame to a datagram. A number above
// MaxSegment is cut to its lower bits.
func Append(datagram []byte, segment uint32, frame []byte) []byte {
	datagram = append(datagram, valid, 0, 0, 0)
	datagram = binary.BigEndian.AppendUint32(datagram, segment<<8)
	return append(datagram, frame...)
}

// Split returns the segment and the frame of a datagram; the frame lies in it. Reserved bits
// are not looked at, as the standard wants it.
func Split(datagram []byte) (segment uint32, frame []byte, err error) {
	const leastFrame = 14
	if len(datagram) < Size+leastFrame || datagram[0]&valid == 0 {
		return 0, nil, ErrNoFrame
	}
	return binary.BigEndian.Uint32(datagram[4:]) >> 8, datagram[Size:], nil
}
