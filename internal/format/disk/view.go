package disk

import (
	"errors"
	"fmt"
	"io"
)

// Opener opens a companion of a virtual disk by the name that the disk says: an extent, a
// data file, what it is based on. An error says that it is not there.
type Opener func(name string) (io.ReaderAt, int64, error)

// maxBacking bounds how many disks may lie one upon the other.
const maxBacking = 8

// View is what a guest sees of a virtual disk: its bytes by offset. Blocks that are not
// in the file are those of the disk beneath, else zeros.
type View struct {
	Size    int64
	End     int64    // behind the last byte of the file that its tables speak of
	Missing []string // companions that are not there
	block   int64    // bytes
	find    func(n int64) (place, error)
	beneath io.ReaderAt // or nil

	unpacked []byte // the block unpacked last
	of       int64
}

// place is where a block lies.
type place struct {
	in     io.ReaderAt // nil: nowhere
	at     int64
	zero   bool // it is zeros, whatever lies beneath
	unpack func() ([]byte, error)
	holes  uint64 // of 32 parts of the block, those that lie nowhere (bits 0 to 31) and that are zeros (32 to 63)
}

// errUnread says that a disk's content cannot be looked at.
var errUnread = errors.New("its content is not looked at")

// Open returns the view of a virtual disk whose header was read from r, a file of a size.
// The error says why its content cannot be looked at; then the header is all that is
// known.
func (v *Virtual) Open(r io.ReaderAt, size int64, open Opener) (*View, error) {
	return v.open(r, size, open, maxBacking)
}

func (v *Virtual) open(r io.ReaderAt, size int64, open Opener, depth int) (*View, error) {
	if depth == 0 {
		return nil, errors.New("disk: too many layers of disks")
	}
	if v.Encrypted {
		return nil, errors.New("disk: it is encrypted")
	}
	var w *View
	var err error
	switch v.Format {
	case "qcow2":
		w, err = openQcow2(r, size, v, open)
	case "vmdk":
		w, err = openVMDK(r, size, v, open)
	case "vdi":
		w, err = openVDI(r, size)
	case "vhd":
		w, err = openVHD(r, size, v)
	case "vhdx":
		w, err = openVHDX(r, size, v)
	default:
		return nil, errUnread
	}
	if err != nil {
		return nil, err
	}
	if w.Size = v.Size; v.Backing != "" {
		w.beneath = w.based(v.Backing, open, depth)
	}
	return w, nil
}

// based returns the view of the disk beneath; nil where it is not there.
func (w *View) based(name string, open Opener, depth int) io.ReaderAt {
	r, size, err := open(name)
	if err != nil {
		w.Missing = append(w.Missing, name)
		return nil
	}
	v, err := ReadVirtual(r, size)
	if err != nil {
		return r // raw, or nothing that is known
	}
	below, err := v.open(r, size, open, depth-1)
	if err != nil {
		return nil
	}
	w.Missing = append(w.Missing, below.Missing...)
	return below
}

// ReadAt reads what a guest reads there.
func (w *View) ReadAt(b []byte, at int64) (int, error) {
	n := 0
	for n < len(b) {
		if at < 0 || at >= w.Size {
			return n, io.EOF
		}
		in := at % w.block
		part := b[n:min(int64(len(b)), int64(n)+w.block-in, int64(n)+w.Size-at)]
		if err := w.part(part, at/w.block, in); err != nil {
			return n, err
		}
		n, at = n+len(part), at+int64(len(part))
	}
	return n, nil
}

// part reads within one block.
func (w *View) part(b []byte, block, in int64) error {
	p, err := w.find(block)
	switch {
	case err != nil:
		return err
	case p.zero:
		clear(b)
		return nil
	case p.unpack != nil:
		if w.unpacked == nil || w.of != block {
			if w.unpacked, err = p.unpack(); err != nil {
				w.unpacked = nil
				return fmt.Errorf("disk: a packed block: %w", err)
			}
			w.of = block
		}
		clear(b)
		if in < int64(len(w.unpacked)) {
			copy(b, w.unpacked[in:])
		}
		return nil
	case p.holes != 0:
		return w.parts(b, block, in, p)
	case p.in != nil:
		return full(p.in, b, p.at+in)
	}
	return w.below(b, block*w.block+in)
}

// below reads what lies beneath.
func (w *View) below(b []byte, at int64) error {
	clear(b)
	if w.beneath == nil {
		return nil
	}
	if n, err := w.beneath.ReadAt(b, at); err != nil && err != io.EOF && n < len(b) {
		return err
	}
	return nil
}

// parts reads a block of which each of 32 parts lies somewhere of its own.
func (w *View) parts(b []byte, block, in int64, p place) error {
	size := w.block / 32
	for n := int64(0); n < int64(len(b)); {
		k, off := (in+n)/size, (in+n)%size
		part := b[n:min(int64(len(b)), n+size-off)]
		var err error
		switch {
		case p.holes>>(32+k)&1 != 0:
			clear(part)
		case p.holes>>k&1 != 0:
			err = w.below(part, block*w.block+in+n)
		default:
			err = full(p.in, part, p.at+in+n)
		}
		if err != nil {
			return err
		}
		n += int64(len(part))
	}
	return nil
}

// full reads all of b, or says that the file ends before it.
func full(r io.ReaderAt, b []byte, at int64) error {
	if at < 0 {
		return errors.New("disk: a block before the file's beginning")
	}
	n, err := r.ReadAt(b, at)
	if n == len(b) {
		return nil
	}
	if err == nil || err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// reach notes that the file must hold bytes up to an end.
func (w *View) reach(end int64) {
	if end < maxSize {
		w.End = max(w.End, end)
	} else {
		w.End = maxSize
	}
}
