package disk

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// Incompatible features of a qcow2 header, by bit.
const (
	qcowDirty = 1 << iota
	qcowCorrupt
	qcowDataFile
	qcowCompression
	qcowExtendedL2
	qcowKnown = 1<<5 - 1
)

// tableBudget bounds how many bytes of second-level tables are read whole to find the end
// of the file: the last ones first, as they mostly reach furthest.
const tableBudget = 8 << 20

// features reads what a header of version 3 has beyond version 2.
func (v *Virtual) features(r io.ReaderAt, h []byte) error {
	if v.Version != "3" {
		return nil
	}
	bits := binary.BigEndian.Uint64(h[72:])
	if unknown := bits &^ qcowKnown; unknown != 0 {
		return fmt.Errorf("disk: qcow2: features %#x that are not known here", unknown)
	}
	if bits&qcowCorrupt != 0 {
		v.Fault = "it is marked as corrupt: its tables contradict each other"
	} else if bits&qcowDirty != 0 {
		v.Remark = "it was not closed by the machine that used it last"
	}
	v.wide = bits&qcowExtendedL2 != 0
	length := int64(binary.BigEndian.Uint32(h[100:]))
	if length >= 105 && bits&qcowCompression != 0 {
		v.zstd = h[104] == 1
	}
	for at := length; at >= 104 && at < 64<<10; {
		e := make([]byte, 8)
		if full(r, e, at) != nil {
			break
		}
		kind, size := binary.BigEndian.Uint32(e), int64(binary.BigEndian.Uint32(e[4:]))
		if kind == 0 || size > 4096 {
			break
		}
		if kind == 0x44415441 && bits&qcowDataFile != 0 {
			name := make([]byte, size)
			if full(r, name, at+8) == nil {
				v.Data = strings.ToValidUTF8(string(name), "?")
			}
		}
		at += 8 + (size+7)/8*8
	}
	if bits&qcowDataFile != 0 && v.Data == "" {
		v.Data = "its data file, whose name is missing"
	}
	return nil
}

type qcow struct {
	r, data io.ReaderAt
	apart   bool // data is another file
	bits    uint
	wide    bool
	zstd    bool
	l1      []uint64
	l2      map[int64][]byte // tables read last, by their place
}

// openQcow2 follows the two levels of tables.
func openQcow2(r io.ReaderAt, size int64, v *Virtual, open Opener) (*View, error) {
	h := make([]byte, 104)
	if err := full(r, h, 0); err != nil {
		return nil, err
	}
	q := &qcow{
		r:    r,
		data: r,
		bits: uint(binary.BigEndian.Uint32(h[20:])),
		wide: v.wide,
		zstd: v.zstd,
		l2:   map[int64][]byte{},
	}
	entries, at := int64(binary.BigEndian.Uint32(h[36:])), int64(binary.BigEndian.Uint64(h[40:]))
	w := &View{block: 1 << q.bits, find: q.find}
	reach := q.entries() << q.bits
	if entries*reach < v.Size {
		return nil, errors.New("disk: qcow2: a first table too short for the disk")
	}
	entries = (v.Size + reach - 1) / reach // what is beyond the disk's end says nothing
	raw := make([]byte, entries*8)
	w.reach(at + entries*8)
	if err := full(r, raw, at); err != nil {
		return nil, fmt.Errorf("disk: qcow2: the first table: %w", err)
	}
	for k := 0; k < len(raw); k += 8 {
		q.l1 = append(q.l1, binary.BigEndian.Uint64(raw[k:]))
	}
	if v.Data != "" {
		data, length, err := open(v.Data)
		if err != nil {
			w.Missing = append(w.Missing, v.Data)
			return w, nil
		}
		q.data, q.apart = data, true
		if length < v.Size && size > 0 {
			v.Fault = fmt.Sprintf("its data file %s has %d bytes, and the disk %d", v.Data, length, v.Size)
		}
	}
	err := q.furthest(w)
	if err == nil && v.Fault == "" && (size < 0 || w.End <= size) && !v.counted(r, size, h) {
		v.Fault = "its reference counts are damaged: see qemu-img check"
	}
	return w, err
}

// entries returns how many clusters a second-level table speaks of.
func (q *qcow) entries() int64 {
	if q.wide {
		return 1 << (q.bits - 4)
	}
	return 1 << (q.bits - 3)
}

const qcowOffset = 0x00fffffffffffe00

// table reads a second-level table.
func (q *qcow) table(at int64) ([]byte, error) {
	if t := q.l2[at]; t != nil {
		return t, nil
	}
	t := make([]byte, 1<<q.bits)
	if err := full(q.r, t, at); err != nil {
		return nil, fmt.Errorf("disk: qcow2: a second table: %w", err)
	}
	if len(q.l2) >= 16 {
		clear(q.l2)
	}
	q.l2[at] = t
	return t, nil
}

// furthest finds how far the tables reach into the file; of the second ones the first
// and the last are read.
func (q *qcow) furthest(w *View) error {
	for _, e := range q.l1 {
		if at := int64(e & qcowOffset); at != 0 {
			w.reach(at + 1<<q.bits)
		}
	}
	seen, left := map[int64]bool{}, tableBudget
	for k := len(q.l1) - 1; k >= 0 && left > 0; k-- {
		at := int64(q.l1[k] & qcowOffset)
		if at == 0 || seen[at] {
			continue
		}
		seen[at] = true
		left -= 1 << q.bits
		t, err := q.table(at)
		if err != nil {
			return err
		}
		step := 8
		if q.wide {
			step = 16
		}
		for c := 0; c+8 <= len(t); c += step {
			switch e := binary.BigEndian.Uint64(t[c:]); {
			case e&(1<<62) != 0:
				at, length := q.packed(e)
				w.reach(at + min(length, 1)) // the last sector may be cut short
			case q.apart:
			case e&qcowOffset != 0:
				w.reach(int64(e&qcowOffset) + 1<<9)
			}
		}
	}
	return nil
}

// packed returns where a compressed cluster lies, and how many bytes it may have.
func (q *qcow) packed(e uint64) (at, length int64) {
	x := 62 - (q.bits - 8)
	at = int64(e & (1<<x - 1))
	sectors := int64(e >> x & (1<<(q.bits-8) - 1))
	return at, (sectors+1)*512 - at%512
}

func (q *qcow) find(n int64) (place, error) {
	per := q.entries()
	if n/per >= int64(len(q.l1)) {
		return place{}, nil
	}
	at := int64(q.l1[n/per] & qcowOffset)
	if at == 0 {
		return place{}, nil
	}
	t, err := q.table(at)
	if err != nil {
		return place{}, err
	}
	step := int64(8)
	if q.wide {
		step = 16
	}
	e := binary.BigEndian.Uint64(t[n%per*step:])
	switch {
	case e&(1<<62) != 0:
		return place{unpack: func() ([]byte, error) { return q.unpack(e) }}, nil
	case q.wide:
		bits := binary.BigEndian.Uint64(t[n%per*step+8:])
		allocated, zeros := bits&(1<<32-1), bits>>32
		return place{in: q.data, at: int64(e & qcowOffset), holes: ^allocated&(1<<32-1) | zeros<<32}, nil
	case e&1 != 0:
		return place{zero: true}, nil
	case e&qcowOffset == 0 && !(q.apart && e&(1<<63) != 0):
		return place{}, nil
	}
	return place{in: q.data, at: int64(e & qcowOffset)}, nil
}

// unpack unpacks a compressed cluster.
func (q *qcow) unpack(e uint64) ([]byte, error) {
	at, length := q.packed(e)
	b := make([]byte, length)
	n, err := q.r.ReadAt(b, at)
	if n == 0 && err != nil {
		return nil, err
	}
	var in io.Reader = flate.NewReader(bytes.NewReader(b[:n]))
	if q.zstd {
		z, err := zstd.NewReader(
			bytes.NewReader(b[:n]),
			zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxMemory(64<<20),
		)
		if err != nil {
			return nil, err
		}
		defer z.Close()
		in = z
	}
	out := make([]byte, 1<<q.bits)
	if _, err := io.ReadFull(in, out); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return out, nil
}
