// Package pcapng writes packet captures: the PCAP Next Generation file format
// (draft-ietf-opsawg-pcapng), little-endian, with one interface description a
// segment and nanosecond times.
package pcapng

import (
	"encoding/binary"
	"io"
	"time"
)

// Block types and options.
const (
	blockSection   = 0x0a0d0d0a
	blockInterface = 1
	blockPacket    = 6

	optEnd         = 0
	optComment     = 1
	optApplication = 4 // of a section
	optName        = 2 // of an interface
	optResolution  = 9

	linkEthernet = 1
	nanoseconds  = 9 // as a power of ten
)

// Writer writes a capture. Errors stick: the first is kept and nothing more
// is written.
type Writer struct {
	w   io.Writer
	buf []byte
	err error
}

// NewWriter starts a capture made by application.
func NewWriter(w io.Writer, application, comment string) *Writer {
	c := &Writer{w: w}
	c.begin(blockSection)
	c.u32(0x1a2b3c4d) // byte order
	c.u16(1)          // version 1.0
	c.u16(0)
	c.u32(0xffffffff) // section length: not told
	c.u32(0xffffffff)
	c.option(optComment, comment)
	c.option(optApplication, application)
	c.end(true)
	return c
}

// AddInterface describes the next interface; they count from 0.
func (c *Writer) AddInterface(name, comment string) {
	c.begin(blockInterface)
	c.u16(linkEthernet)
	c.u16(0)
	c.u32(0) // no limit on a packet's length
	c.option(optComment, comment)
	c.option(optName, name)
	c.option(optResolution, string([]byte{nanoseconds}))
	c.end(true)
}

// Record writes a frame seen on an interface.
func (c *Writer) Record(iface int, at time.Time, frame []byte) {
	c.begin(blockPacket)
	c.u32(uint32(iface))
	ns := uint64(at.UnixNano())
	c.u32(uint32(ns >> 32))
	c.u32(uint32(ns))
	c.u32(uint32(len(frame)))
	c.u32(uint32(len(frame)))
	c.bytes(frame)
	c.end(false)
}

// Err returns the first error of writing.
func (c *Writer) Err() error { return c.err }

func (c *Writer) u16(v uint16) { c.buf = binary.LittleEndian.AppendUint16(c.buf, v) }
func (c *Writer) u32(v uint32) { c.buf = binary.LittleEndian.AppendUint32(c.buf, v) }

// bytes adds data, padded to four bytes.
func (c *Writer) bytes(b []byte) {
	c.buf = append(c.buf, b...)
	for len(c.buf)%4 != 0 {
		c.buf = append(c.buf, 0)
	}
}

func (c *Writer) option(code uint16, value string) {
	if value == "" {
		return
	}
	value = value[:min(len(value), 1<<15)]
	c.u16(code)
	c.u16(uint16(len(value)))
	c.bytes([]byte(value))
}

func (c *Writer) begin(kind uint32) {
	c.buf = c.buf[:0]
	c.u32(kind)
	c.u32(0) // the length, known at the end
}

func (c *Writer) end(options bool) {
	if options {
		c.u16(optEnd)
		c.u16(0)
	}
	size := uint32(len(c.buf) + 4)
	c.u32(size)
	binary.LittleEndian.PutUint32(c.buf[4:], size)
	if c.err == nil {
		_, c.err = c.w.Write(c.buf)
	}
}
