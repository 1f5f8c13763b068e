// Package stream reads compressed streams: gzip (RFC 1952), bzip2, xz (file
// format 1.2) and Zstandard (RFC 8878), with as many cores as the format
// allows, in memory bounded by the format's window or block.
package stream

import (
	"bytes"
	"compress/bzip2"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"
)

// Kind is a compressed stream's format; empty for none.
type Kind string

// The formats.
const (
	Gzip  Kind = "gzip"
	Bzip2 Kind = "bzip2"
	XZ    Kind = "xz"
	Zstd  Kind = "zstd"
)

// Suffixes gives the ends that file names have for each kind.
var Suffixes = map[Kind][]string{
	Gzip: {".gz", ".tgz"}, Bzip2: {".bz2", ".tbz2", ".tbz"}, XZ: {".xz", ".txz"}, Zstd: {".zst", ".tzst"},
}

// maxWindow bounds the window that a stream may ask for, in bytes: as much as
// strong settings of xz and Zstandard use. Of it no more is touched than the
// stream is long.
const maxWindow = 1 << 30

// Detect returns a stream's kind by its first bytes; 6 are enough.
func Detect(head []byte) Kind {
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b, 8}):
		return Gzip
	case len(head) >= 4 && bytes.HasPrefix(head, []byte("BZh")) && head[3] >= '1' && head[3] <= '9':
		return Bzip2
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		return XZ
	case len(head) >= 4 && binary.LittleEndian.Uint32(head) == 0xfd2fb528:
		return Zstd
	}
	return ""
}

// Peek opens a stream to look at its beginning, on one core.
func Peek(k Kind, r io.Reader) (io.Reader, error) {
	return guarded(k, func() (io.Reader, error) { return decoder(k, r) })
}

// guarded opens a decoder, which meets bytes from anybody: one that gives up in
// disorder, or goes on without giving anything, ends in an error.
func guarded(k Kind, open func() (io.Reader, error)) (r io.Reader, err error) {
	defer disorder(k, &err)
	if r, err = open(); err != nil {
		return nil, supported(err)
	}
	return &guard{r: r, kind: k}, nil
}

// disorder turns a panic of a decoder into its error.
func disorder(k Kind, err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("stream: the %s decoder gave up: %v", k, p)
	}
}

type guard struct {
	r     io.Reader
	kind  Kind
	idle  int // reads in a row that gave nothing
	ended error
}

// maxIdle is how many reads in a row may give nothing.
const maxIdle = 100

// Read returns what the decoder gives, as long as it does.
func (g *guard) Read(b []byte) (n int, err error) {
	if g.ended != nil {
		return 0, g.ended
	}
	defer func() { g.ended = err }()
	defer disorder(g.kind, &err)
	n, err = g.r.Read(b)
	err = supported(err)
	if g.idle++; n > 0 || len(b) == 0 {
		g.idle = 0
	}
	if err == nil && g.idle >= maxIdle {
		err = io.ErrNoProgress
	}
	return n, err
}

func decoder(k Kind, r io.Reader) (io.Reader, error) {
	switch k {
	case Gzip:
		return openGzip(r)
	case Bzip2:
		return bzip2.NewReader(r), nil
	case XZ:
		return xz.NewReader(r, maxWindow)
	case Zstd:
		d, err := zstd.NewReader(
			r,
			zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxWindow(maxWindow),
			zstd.WithDecoderLowmem(true),
		)
		return d, err
	}
	return nil, fmt.Errorf("stream: %q is not a known kind of stream", string(k))
}

// Open opens the stream that fills a file of a size, on all cores that help.
// Closing it ends whatever still works.
func Open(k Kind, file io.ReaderAt, size int64) (io.ReadCloser, error) {
	all := io.NewSectionReader(file, 0, size)
	switch k {
	case Bzip2:
		return openBzip2(file, size), nil
	case XZ:
		if blocks := xzBlocks(file, size); len(blocks) > 1 {
			return openBlocks(file, blocks), nil
		}
	case Zstd:
		d, err := zstd.NewReader(all, zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return nil, supported(err)
		}
		shut := d.IOReadCloser()
		return struct {
			io.Reader
			io.Closer
		}{&guard{r: d, kind: k}, shut}, nil
	}
	r, err := Peek(k, all)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(r), nil
}

// Length returns how long a stream is when unpacked, where its file says so
// without unpacking: from the index of xz, or Zstandard's frame header.
func Length(k Kind, file io.ReaderAt, size int64) (int64, bool) {
	switch k {
	case XZ:
		var n int64
		for _, b := range xzBlocks(file, size) {
			n += b.length
		}
		return n, n > 0
	case Zstd:
		head := make([]byte, zstd.HeaderMaxSize)
		n, _ := file.ReadAt(head, 0)
		var h zstd.Header
		if h.Decode(head[:n]) == nil && h.HasFCS && h.FrameContentSize < 1<<56 {
			return int64(h.FrameContentSize), true
		}
	}
	return 0, false
}
