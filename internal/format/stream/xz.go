package stream

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
)

// block is one block of an xz stream.
type block struct {
	at, size int64 // in the file, without padding
	length   int64 // unpacked
	flags    [2]byte
}

// Bounds: a block is held in memory while it is unpacked beside others.
const (
	maxBlock  = 256 << 20
	maxBlocks = 1 << 20
)

// xzBlocks reads the index of a file that is one xz stream (the .xz file
// format 1.2, sections 2.1.2 and 4). It gives nothing for any other file, and
// for one whose blocks are too large to hold: those are read from the front.
func xzBlocks(file io.ReaderAt, size int64) []block {
	foot := make([]byte, 12)
	if size < 32 {
		return nil
	}
	if _, err := file.ReadAt(foot, size-12); err != nil || string(foot[10:]) != "YZ" ||
		crc32.ChecksumIEEE(foot[4:10]) != binary.LittleEndian.Uint32(foot) {
		return nil
	}
	length := (int64(binary.LittleEndian.Uint32(foot[4:])) + 1) * 4
	if length > min(size-24, 64<<20) {
		return nil
	}
	index := make([]byte, length)
	if _, err := file.ReadAt(index, size-12-length); err != nil ||
		crc32.ChecksumIEEE(index[:length-4]) != binary.LittleEndian.Uint32(index[length-4:]) || index[0] != 0 {
		return nil
	}
	r := bytes.NewReader(index[1 : length-4])
	count, err := binary.ReadUvarint(r)
	if err != nil || count > maxBlocks {
		return nil
	}
	var out []block
	at := int64(12)
	for range count {
		packed, err := binary.ReadUvarint(r)
		unpacked, err2 := binary.ReadUvarint(r)
		if err != nil || err2 != nil || packed == 0 || int64(packed) > size || int64(packed) < 0 ||
			unpacked > maxBlock {
			return nil
		}
		out = append(out, block{at, int64(packed), int64(unpacked), [2]byte(foot[8:10])})
		at += (int64(packed) + 3) &^ 3
	}
	if at != size-12-length { // several streams, or padding behind
		return nil
	}
	return out
}

// xzParallel unpacks blocks on all cores and gives them in order.
type xzParallel struct {
	next chan chan unpacked
	quit chan struct{}
	now  []byte
	err  error
}

type unpacked struct {
	data []byte
	err  error
}

func openBlocks(file io.ReaderAt, blocks []block) io.ReadCloser {
	cores := runtime.GOMAXPROCS(0)
	p := &xzParallel{next: make(chan chan unpacked, cores-1), quit: make(chan struct{})}
	go func() {
		defer close(p.next)
		for _, b := range blocks {
			done := make(chan unpacked, 1)
			select {
			case p.next <- done:
			case <-p.quit:
				return
			}
			go func() {
				data, err := b.unpack(file)
				done <- unpacked{data, err}
			}()
		}
	}()
	return p
}

// unpack reads one block as a stream of its own: header, block, and an index
// that speaks of it alone.
func (b block) unpack(file io.ReaderAt) ([]byte, error) {
	head := append([]byte("\xfd7zXZ\x00"), b.flags[0], b.flags[1])
	head = binary.LittleEndian.AppendUint32(head, crc32.ChecksumIEEE(head[6:8]))
	index := []byte{0, 1}
	index = binary.AppendUvarint(index, uint64(b.size))
	index = binary.AppendUvarint(index, uint64(b.length))
	for len(index)%4 != 0 {
		index = append(index, 0)
	}
	index = binary.LittleEndian.AppendUint32(index, crc32.ChecksumIEEE(index))
	tail := binary.LittleEndian.AppendUint32(nil, uint32(len(index)/4-1))
	tail = append(tail, b.flags[0], b.flags[1])
	foot := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(tail))
	foot = append(append(foot, tail...), "YZ"...)

	r, err := Peek(
		XZ,
		io.MultiReader(bytes.NewReader(head), io.NewSectionReader(file, b.at, (b.size+3)&^3), bytes.NewReader(index),
			bytes.NewReader(foot)),
	)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Grow(int(b.length) + bytes.MinRead)
	if n, err := out.ReadFrom(io.LimitReader(r, b.length+1)); err != nil {
		return nil, err
	} else if n != b.length {
		return nil, fmt.Errorf("xz: a block of %d bytes where the index promises %d", n, b.length)
	}
	return out.Bytes(), nil
}

// Read returns the next bytes in order.
func (p *xzParallel) Read(b []byte) (int, error) {
	for len(p.now) == 0 && p.err == nil {
		done, ok := <-p.next
		if !ok {
			p.err = io.EOF
			break
		}
		u := <-done
		p.now, p.err = u.data, u.err
	}
	if len(p.now) == 0 {
		return 0, p.err
	}
	n := copy(b, p.now)
	p.now = p.now[n:]
	return n, nil
}

// Close ends the work that is still under way.
func (p *xzParallel) Close() error {
	close(p.quit)
	return nil
}
