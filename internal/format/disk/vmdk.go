package disk

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Extent is a file that holds a part of a disk.
type Extent struct {
	Kind    string `json:"kind"`    // sparse, flat or zero
	Sectors int64  `json:"sectors"` // that it holds
	File    string `json:"file,omitempty"`
	Offset  int64  `json:"offset,omitempty"` // of a flat one, in sectors
}

// openVMDK returns the view of a sparse extent, or of a descriptor's extents.
func openVMDK(r io.ReaderAt, size int64, v *Virtual, open Opener) (*View, error) {
	if v.Extents == nil {
		return openSparse(r, size, v)
	}
	type part struct {
		from, to int64 // bytes of the disk
		r        io.ReaderAt
		at       int64
	}
	var parts []part
	w := &View{block: 512}
	from := int64(0)
	for _, x := range v.Extents {
		p := part{from: from, to: from + x.Sectors*512, at: x.Offset * 512}
		from = p.to
		if x.Kind == "zero" {
			parts = append(parts, p)
			continue
		}
		f, length, err := open(x.File)
		if err != nil {
			w.Missing = append(w.Missing, x.File)
			continue
		}
		p.r = f
		if x.Kind == "sparse" {
			s, err := openSparse(f, length, v)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", x.File, err)
			}
			if s.End > length {
				v.Fault = fmt.Sprintf(
					"%s is cut short: its tables promise %d bytes, and %d are here",
					x.File,
					s.End,
					length,
				)
			}
			s.Size, p.r = x.Sectors*512, s
		} else if need := p.at + x.Sectors*512; length < need {
			v.Fault = fmt.Sprintf("%s is cut short: the descriptor promises %d bytes, and %d are here", x.File, need, length)
		}
		parts = append(parts, p)
	}
	w.find = func(n int64) (place, error) {
		at := n * 512
		for _, p := range parts {
			if at >= p.from && at < p.to {
				return place{in: p.r, at: p.at + at - p.from, zero: p.r == nil}, nil
			}
		}
		return place{zero: true}, nil
	}
	return w, nil
}

type sparse struct {
	r      io.ReaderAt
	grain  int64 // bytes
	per    int64 // grains of a table
	gd     []uint32
	packed bool
	tables map[int64][]byte
}

// openSparse follows a sparse extent's directory and tables; of a streamed one they lie
// at its end.
func openSparse(r io.ReaderAt, size int64, v *Virtual) (*View, error) {
	h := make([]byte, 512)
	if err := full(r, h, 0); err != nil || string(h[:4]) != "KDMV" {
		return nil, errors.New("disk: vmdk: no sparse extent")
	}
	le := binary.LittleEndian
	if le.Uint64(h[56:]) == 1<<64-1 { // the header at the end counts
		if size < 1536 {
			return nil, errUnread
		}
		if err := full(r, h, size-1024); err != nil || string(h[:4]) != "KDMV" {
			return nil, errors.New("disk: vmdk: it does not end as a streamed disk does: it is cut short")
		}
	}
	capacity, grain, per := int64(le.Uint64(h[12:])), int64(le.Uint64(h[20:])), int64(le.Uint32(h[44:]))
	at := int64(le.Uint64(h[56:]))
	if grain < 1 || grain > 1<<15 || per < 1 || per > 1<<16 || capacity < 0 || capacity > maxSize/512 || at < 0 ||
		at > maxSize/512 {
		return nil, errors.New("disk: vmdk: its tables have no sound size")
	}
	s := &sparse{r: r, grain: grain * 512, per: per, packed: le.Uint32(h[8:])&(1<<16) != 0, tables: map[int64][]byte{}}
	count := (capacity + grain*per - 1) / (grain * per)
	if count > 8<<20 {
		return nil, errors.New("disk: vmdk: a directory larger than any")
	}
	w := &View{block: s.grain, find: s.find}
	raw := make([]byte, count*4)
	w.reach(at*512 + count*4)
	if err := full(r, raw, at*512); err != nil {
		return nil, fmt.Errorf("disk: vmdk: the directory: %w", err)
	}
	for k := 0; k < len(raw); k += 4 {
		s.gd = append(s.gd, le.Uint32(raw[k:]))
	}
	seen, left := map[uint32]bool{}, tableBudget
	for k := len(s.gd) - 1; k >= 0 && left > 0; k-- {
		e := s.gd[k]
		if e == 0 || seen[e] {
			continue
		}
		seen[e] = true
		left -= int(s.per) * 4
		t, err := s.table(int64(e) * 512)
		if err != nil {
			return nil, err
		}
		for c := 0; c < len(t); c += 4 {
			if g := int64(le.Uint32(t[c:])); g > 1 {
				if s.packed {
					w.reach(g*512 + 12)
				} else {
					w.reach(g*512 + s.grain)
				}
			}
		}
	}
	switch {
	case v.Fault != "" || size >= 0 && w.End > size:
	case !described(r, h):
		v.Fault = "its descriptor is damaged"
	case !s.twice(h):
		v.Fault = "the two copies of its tables differ"
	}
	return w, nil
}

func (s *sparse) table(at int64) ([]byte, error) {
	if t := s.tables[at]; t != nil {
		return t, nil
	}
	t := make([]byte, s.per*4)
	if err := full(s.r, t, at); err != nil {
		return nil, fmt.Errorf("disk: vmdk: a table: %w", err)
	}
	if len(s.tables) >= 64 {
		clear(s.tables)
	}
	s.tables[at] = t
	return t, nil
}

func (s *sparse) find(n int64) (place, error) {
	if n/s.per >= int64(len(s.gd)) || s.gd[n/s.per] == 0 {
		return place{}, nil
	}
	t, err := s.table(int64(s.gd[n/s.per]) * 512)
	if err != nil {
		return place{}, err
	}
	at := int64(binary.LittleEndian.Uint32(t[n%s.per*4:])) * 512
	switch {
	case at == 0:
		return place{}, nil
	case at == 512:
		return place{zero: true}, nil
	case s.packed:
		return place{unpack: func() ([]byte, error) { return s.unpack(at) }}, nil
	}
	return place{in: s.r, at: at}, nil
}

// unpack unpacks a grain: its number, its length, and a zlib stream.
func (s *sparse) unpack(at int64) ([]byte, error) {
	head := make([]byte, 12)
	if err := full(s.r, head, at); err != nil {
		return nil, err
	}
	length := int64(binary.LittleEndian.Uint32(head[8:]))
	if length < 2 || length > 2*s.grain+4096 {
		return nil, fmt.Errorf("a grain of %d packed bytes", length)
	}
	b := make([]byte, length)
	if err := full(s.r, b, at+12); err != nil {
		return nil, err
	}
	z, err := zlib.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	return io.ReadAll(io.LimitReader(z, s.grain))
}
