package disk

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
)

// What a container keeps twice, or counts, is held against itself here: that tells
// damage of its tables which leads to no place beyond the file.

// maxShared bounds how often a cluster of a qcow2 can be counted: compressed ones
// share theirs, a snapshot shares all.
const maxShared = 4096

// counted reports whether the reference counts of a qcow2 are such as the format
// allows, at least in its first part: those of the header are one.
func (v *Virtual) counted(r io.ReaderAt, size int64, h []byte) bool {
	be := binary.BigEndian
	cluster := int64(1) << be.Uint32(h[20:])
	at, length := int64(be.Uint64(h[48:])), int64(be.Uint32(h[56:]))*cluster
	width := 16
	if v.Version == "3" && len(h) >= 100 {
		width = 1 << min(be.Uint32(h[96:]), 6)
	}
	snapshots := uint64(be.Uint32(h[60:]))
	table := make([]byte, min(length, tableBudget))
	if length <= 0 || full(r, table, at) != nil {
		return false
	}
	block := make([]byte, cluster)
	left := int64(tableBudget)
	for k := 0; k+8 <= len(table) && left > 0; k += 8 {
		e := int64(be.Uint64(table[k:]))
		switch {
		case e == 0 && k == 0:
			return false
		case e == 0:
			continue
		case e < 0 || e%cluster != 0 || size >= 0 && e >= size || full(r, block, e) != nil && size >= 0 && e+cluster <= size:
			return false
		}
		if left -= cluster; width < 16 {
			continue
		}
		for c := 0; c+width/8 <= len(block); c += width / 8 {
			n := count(block[c:], width)
			if n > maxShared+snapshots || k == 0 && c == 0 && n != 1 {
				return false
			}
		}
	}
	return true
}

func count(b []byte, width int) uint64 {
	switch width {
	case 16:
		return uint64(binary.BigEndian.Uint16(b))
	case 32:
		return uint64(binary.BigEndian.Uint32(b))
	}
	return binary.BigEndian.Uint64(b)
}

// twice reports whether the two copies of a sparse extent's tables are the same; an
// extent without a second one has nothing to differ.
func (s *sparse) twice(h []byte) bool {
	le := binary.LittleEndian
	other := int64(le.Uint64(h[48:])) * 512
	if le.Uint32(h[8:])&2 == 0 || other == 0 || other < 0 {
		return true
	}
	raw := make([]byte, len(s.gd)*4)
	if full(s.r, raw, other) != nil {
		return false
	}
	left := tableBudget
	a, b := make([]byte, s.per*4), make([]byte, s.per*4)
	for k, e := range s.gd {
		twin := le.Uint32(raw[k*4:])
		if (e == 0) != (twin == 0) {
			return false
		}
		if left -= len(a); e == 0 || left < 0 {
			continue
		}
		if full(s.r, a, int64(e)*512) != nil || full(s.r, b, int64(twin)*512) != nil || string(a) != string(b) {
			return false
		}
	}
	return true
}

// described reports whether a sparse extent's own descriptor is there, where it
// promises one.
func described(r io.ReaderAt, h []byte) bool {
	at, length := int64(binary.LittleEndian.Uint64(h[28:])), int64(binary.LittleEndian.Uint64(h[36:]))
	if at <= 0 || length <= 0 {
		return true
	}
	const mark = "# Disk DescriptorFile"
	b := make([]byte, len(mark))
	return full(r, b, at*512) == nil &&
		(string(b) == mark || bytes.Count(b, []byte{0}) == len(b)) // one of several extents has none
}

// vhdxTwice returns which of the two headers or region tables of a VHDX is damaged;
// empty when all are whole.
func vhdxTwice(r io.ReaderAt) string {
	for _, x := range []struct {
		at, size int64
		sign     string
		what     string
	}{{64 << 10, 4096, "head", "first header"}, {128 << 10, 4096, "head", "second header"},
		{192 << 10, 64 << 10, "regi", "first region table"},
		{256 << 10, 64 << 10, "regi", "second region table"}} {
		b := make([]byte, x.size)
		if full(r, b, x.at) != nil || string(b[:4]) != x.sign {
			return x.what
		}
		sum := binary.LittleEndian.Uint32(b[4:])
		clear(b[4:8])
		if crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)) != sum {
			return x.what
		}
	}
	return ""
}

// vhdxEntry reports whether an entry of the table of blocks is one that the format
// knows: its reserved bits are zero and its state is none of the unused ones.
func vhdxEntry(e uint64) bool {
	return e>>3&(1<<17-1) == 0 && e&7 != 4 && e&7 != 5
}
