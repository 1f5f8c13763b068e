package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// maxMap bounds the map of blocks that is read of a disk.
const maxMap = 64 << 20

// openVDI follows the map of blocks.
func openVDI(r io.ReaderAt, _ int64) (*View, error) {
	h := make([]byte, 400)
	if err := full(r, h, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	at, data, block, count := int64(
		le.Uint32(h[340:]),
	), int64(
		le.Uint32(h[344:]),
	), int64(
		le.Uint32(h[376:]),
	), int64(
		le.Uint32(h[384:]),
	)
	if block < 512 || block > 64<<20 || count*4 > maxMap {
		return nil, errors.New("disk: vdi: its map has no sound size")
	}
	m := make([]byte, count*4)
	w := &View{block: block}
	w.reach(at + count*4)
	if err := full(r, m, at); err != nil {
		return nil, fmt.Errorf("disk: vdi: the map: %w", err)
	}
	where := func(n int64) int64 {
		if n >= count || le.Uint32(m[n*4:]) >= 0xfffffffe {
			return -1
		}
		return data + int64(le.Uint32(m[n*4:]))*block
	}
	for n := range count {
		if at := where(n); at >= 0 {
			w.reach(at + block)
		}
	}
	w.find = func(n int64) (place, error) {
		if at := where(n); at >= 0 {
			return place{in: r, at: at}, nil
		}
		return place{}, nil
	}
	return w, nil
}

// openVHD returns the view of a fixed disk, or follows the table of a growing one.
func openVHD(r io.ReaderAt, size int64, v *Virtual) (*View, error) {
	if v.Layout == "fixed" {
		w := &View{block: 1 << 20, find: func(n int64) (place, error) { return place{in: r, at: n << 20}, nil }}
		w.reach(v.Size + 512)
		return w, nil
	}
	be := binary.BigEndian
	foot := make([]byte, 512)
	if err := full(r, foot, 0); err != nil {
		return nil, err
	}
	h := make([]byte, 1024)
	if err := full(r, h, int64(be.Uint64(foot[16:]))); err != nil || string(h[:8]) != "cxsparse" {
		return nil, errors.New("disk: vhd: no header of a growing disk")
	}
	at, count, block := int64(be.Uint64(h[16:])), int64(be.Uint32(h[28:])), int64(be.Uint32(h[32:]))
	if block < 512 || block > 64<<20 || block&(block-1) != 0 || count*4 > maxMap || at < 0 {
		return nil, errors.New("disk: vhd: its table has no sound size")
	}
	bitmap := (block/512/8 + 511) / 512 * 512
	m := make([]byte, count*4)
	w := &View{block: block}
	w.reach(at + count*4)
	if err := full(r, m, at); err != nil {
		return nil, fmt.Errorf("disk: vhd: the table: %w", err)
	}
	for k := 0; k < len(m); k += 4 {
		if s := be.Uint32(m[k:]); s != 1<<32-1 {
			w.reach(int64(s)*512 + bitmap + block)
		}
	}
	if end := make([]byte, 8); size >= 512 && (full(r, end, size-512) != nil || be.Uint64(end) != vhdCookie) {
		v.Fault = "it does not end as it must, with a copy of its header: it is cut short"
	}
	w.find = func(n int64) (place, error) {
		if n >= count || be.Uint32(m[n*4:]) == 1<<32-1 {
			return place{}, nil
		}
		return place{in: r, at: int64(be.Uint32(m[n*4:]))*512 + bitmap}, nil
	}
	return w, nil
}

var vhdxBlocks = [16]byte{
	0x66,
	0x77,
	0xc2,
	0x2d,
	0x23,
	0xf6,
	0x00,
	0x42,
	0x9d,
	0x64,
	0x11,
	0x5e,
	0x9b,
	0xfd,
	0x4a,
	0x08,
}

// openVHDX follows the table of blocks.
func openVHDX(r io.ReaderAt, _ int64, v *Virtual) (*View, error) {
	if v.table == 0 || v.block < 1<<20 || v.block > 256<<20 || v.block&(v.block-1) != 0 ||
		v.sector != 512 && v.sector != 4096 {
		return nil, errors.New("disk: vhdx: its table has no sound size")
	}
	le := binary.LittleEndian
	ratio := (int64(1) << 23 * v.sector) / v.block
	blocks := (v.Size + v.block - 1) / v.block
	count := blocks + (blocks-1)/ratio
	if blocks < 1 || count*8 > maxMap {
		return nil, errors.New("disk: vhdx: its table has no sound size")
	}
	m := make([]byte, count*8)
	w := &View{block: v.block}
	w.reach(v.table + count*8)
	if err := full(r, m, v.table); err != nil {
		return nil, fmt.Errorf("disk: vhdx: the table: %w", err)
	}
	for k := 0; k < len(m); k += 8 {
		if !vhdxEntry(le.Uint64(m[k:])) {
			return nil, errors.New("disk: vhdx: its table of blocks is damaged")
		}
	}
	if damaged := vhdxTwice(r); damaged != "" {
		v.Fault = "its " + damaged + " is damaged; its copy was used"
	}
	entry := func(n int64) (state uint64, at int64) {
		k := n + n/ratio
		if k >= count {
			return 0, 0
		}
		e := le.Uint64(m[k*8:])
		return e & 7, int64(e>>20) << 20
	}
	for n := range blocks {
		if state, at := entry(n); state == 6 || state == 7 {
			w.reach(at + v.block)
		}
	}
	w.find = func(n int64) (place, error) {
		switch state, at := entry(n); state {
		case 6, 7:
			return place{in: r, at: at}, nil
		case 2:
			return place{zero: true}, nil
		default:
			return place{}, nil
		}
	}
	return w, nil
}
