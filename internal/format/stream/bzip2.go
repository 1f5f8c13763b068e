package stream

import (
	"bytes"
	"compress/bzip2"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"runtime"
)

// A bzip2 stream is a header, blocks that start at any bit, and an end with a
// checksum over the blocks' own. Blocks are found by the 48 bits that each
// starts with and unpacked on all cores, each as a stream of its own.
const (
	blockSign = 0x314159265359
	endSign   = 0x177245385090
	signBits  = 48
	signMask  = 1<<signBits - 1
	// maxBits is more than any block takes: 900,000 bytes that did not pack.
	maxBits = 8 * 2 << 20
)

// likely holds the bytes that can stand second to last in a window of 8 bytes
// in which a sign ends within the last one.
var likely = func() (t [256]bool) {
	for _, sign := range []uint64{blockSign, endSign} {
		for shift := range 8 {
			t[byte(sign<<shift>>8)] = true
		}
	}
	return t
}()

// signs finds the next sign in a file from a bit on: the bit at which it
// starts, and whether it ends the stream.
type signs struct {
	file   io.ReaderAt
	size   int64
	buffer []byte
	from   int64 // offset of buffer in the file
}

func (s *signs) next(bit int64) (at int64, end bool, err error) {
	var w uint64
	start := bit / 8
	for k := start; k < s.size; k++ {
		if k < s.from || k >= s.from+int64(len(s.buffer)) {
			s.buffer, s.from = s.buffer[:cap(s.buffer)], k
			n, err := s.file.ReadAt(s.buffer, k)
			if n == 0 {
				return 0, false, err
			}
			s.buffer = s.buffer[:n]
		}
		w = w<<8 | uint64(s.buffer[k-s.from])
		if !likely[byte(w>>8)] || k < start+5 {
			continue
		}
		for shift := 7; shift >= 0; shift-- {
			v := w >> shift & signMask
			if v != blockSign && v != endSign {
				continue
			}
			if at := (k+1)*8 - int64(shift) - signBits; at >= bit {
				return at, v == endSign, nil
			}
		}
		if (k-start)*8 > maxBits {
			break
		}
	}
	return 0, false, errors.New("bzip2: no block and no end where one must be: it is cut short or broken")
}

// bits copies the bits from one place to another behind a head, and ends them
// as a stream whose blocks have a checksum.
func bits(file io.ReaderAt, from, to int64, head []byte, crc uint32) ([]byte, error) {
	raw := make([]byte, (to+7)/8-from/8)
	if n, err := file.ReadAt(raw, from/8); n < len(raw) {
		return nil, fmt.Errorf("bzip2: %w", err)
	}
	shift := uint(from % 8)
	out := append(make([]byte, 0, len(head)+len(raw)+16), head...)
	whole := int((to - from) / 8)
	for k := range whole {
		b := raw[k] << shift
		if shift > 0 {
			b |= raw[k+1] >> (8 - shift)
		}
		out = append(out, b)
	}
	var w uint64
	n := uint(0) // bits of w that are used
	for bit := from + int64(whole)*8; bit < to; bit++ {
		w = w<<1 | uint64(raw[bit/8-from/8]>>(7-bit%8)&1)
		n++
	}
	put := func(v uint64, size uint) {
		for size > 0 {
			size--
			w = w<<1 | v>>size&1
			if n++; n == 8 {
				out, w, n = append(out, byte(w)), 0, 0
			}
		}
	}
	put(endSign, signBits)
	put(uint64(crc), 32)
	if n > 0 {
		put(0, 8-n)
	}
	return out, nil
}

// bzipPiece is one block, or what was taken for one; or a stream's end.
type bzipPiece struct {
	from, to int64 // bits
	end      bool
	crc      uint32 // of the block, or of the stream
	out      chan unpacked
}

// bzipParallel unpacks bzip2 blocks on all cores and gives them in order.
type bzipParallel struct {
	file io.ReaderAt
	next chan bzipPiece
	bad  chan error // of the finding of blocks; read when next is closed
	quit chan struct{}
	sum  uint32 // of the stream's blocks so far
	now  []byte
	err  error
}

func openBzip2(file io.ReaderAt, size int64) io.ReadCloser {
	p := &bzipParallel{
		file: file,
		next: make(chan bzipPiece, runtime.GOMAXPROCS(0)),
		bad:  make(chan error, 1),
		quit: make(chan struct{}),
	}
	go p.find(size)
	return p
}

// find hands out the blocks of all streams in the file.
func (p *bzipParallel) find(size int64) {
	defer close(p.next)
	s := &signs{file: p.file, size: size, buffer: make([]byte, 0, 1<<18)}
	head := make([]byte, 4)
	cores := make(chan struct{}, runtime.GOMAXPROCS(0))
	for at := int64(0); at < size; {
		if n, _ := p.file.ReadAt(head, at); n < 4 || Detect(head) != Bzip2 {
			if at == 0 {
				p.bad <- errors.New("bzip2: it does not start as a stream does")
			} else if n > 0 && bytes.Trim(head[:n], "\x00") != nil {
				p.bad <- errors.New("bzip2: data that is not a stream follows")
			}
			return
		}
		bit, end, err := s.next(at*8 + 32)
		for err == nil && !end {
			b := bzipPiece{from: bit, out: make(chan unpacked, 1)}
			if b.crc, err = word(p.file, bit+signBits); err != nil {
				break
			}
			if bit, end, err = s.next(bit + signBits + 32); err != nil {
				break
			}
			b.to = bit
			select {
			case cores <- struct{}{}:
			case <-p.quit:
				return
			}
			go func() {
				data, err := unpackBits(p.file, b)
				b.out <- unpacked{data, err}
				<-cores
			}()
			select {
			case p.next <- b:
			case <-p.quit:
				return
			}
		}
		b := bzipPiece{end: true}
		if err == nil {
			b.crc, err = word(p.file, bit+signBits)
		}
		if err != nil {
			p.bad <- err
			return
		}
		select {
		case p.next <- b:
		case <-p.quit:
			return
		}
		at = (bit + signBits + 32 + 7) / 8
	}
}

// word reads 32 bits from a bit on.
func word(file io.ReaderAt, bit int64) (uint32, error) {
	b := make([]byte, 8)
	n, err := file.ReadAt(b, bit/8)
	if int64(n)*8 < bit%8+32 {
		return 0, fmt.Errorf("bzip2: it is cut short: %w", err)
	}
	return uint32(binary.BigEndian.Uint64(b) << (bit % 8) >> 32), nil
}

// unpackBits unpacks a block as a stream of its own.
func unpackBits(file io.ReaderAt, b bzipPiece) ([]byte, error) {
	packed, err := bits(file, b.from, b.to, []byte("BZh9"), b.crc)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Grow(1 << 20)
	_, err = out.ReadFrom(bzip2.NewReader(bytes.NewReader(packed)))
	return out.Bytes(), err
}

// Read returns the next bytes in order.
func (p *bzipParallel) Read(b []byte) (int, error) {
	for len(p.now) == 0 && p.err == nil {
		piece, ok := <-p.next
		if !ok {
			select {
			case p.err = <-p.bad:
			default:
				p.err = io.EOF
			}
			break
		}
		if piece.end {
			if piece.crc != p.sum {
				p.err = errors.New("bzip2: the stream's checksum is wrong")
			}
			p.sum = 0
			continue
		}
		u := <-piece.out
		// The bits of a sign may stand within a block by chance: then it goes on
		// to the next sign.
		for u.err != nil {
			more, ok := <-p.next
			if !ok || more.end || more.to-piece.from > maxBits {
				break
			}
			<-more.out
			piece.to = more.to
			if data, err := unpackBits(p.file, piece); err == nil {
				u = unpacked{data, nil}
			}
		}
		p.now, p.err = u.data, u.err
		p.sum = (p.sum<<1 | p.sum>>31) ^ piece.crc
	}
	if len(p.now) == 0 {
		return 0, p.err
	}
	n := copy(b, p.now)
	p.now = p.now[n:]
	return n, nil
}

// Close ends the work that is still under way.
func (p *bzipParallel) Close() error {
	close(p.quit)
	return nil
}
