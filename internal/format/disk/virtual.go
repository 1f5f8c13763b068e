package disk

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Virtual is what a virtual disk's container says of it.
type Virtual struct {
	Format     string `json:"format,omitempty"` // qcow2 | vmdk | vhd | vhdx | vdi
	Version    string `json:"version,omitempty"`
	Layout     string `json:"layout,omitempty"`  // fixed | growing | streamed | differencing | split: whether the file holds all of it
	Size       int64  `json:"size"`              // bytes, as a guest sees the disk
	Backing    string `json:"backing,omitempty"` // the file that holds the rest of it; empty when there is none
	Compressed bool   `json:"compressed"`
	Encrypted  bool   `json:"encrypted"`
	End        int64  `json:"end"` // the file is at least this long, in bytes; 0 when the header does not say

	Data    string   `json:"data,omitempty"`    // the file that holds its content, when that is not this one
	Extents []Extent `json:"extents,omitempty"` // the files that hold it, where a descriptor says so
	Fault   string   `json:"fault,omitempty"`   // what is wrong with it
	Remark  string   `json:"remark,omitempty"`  // what is worth knowing

	wide, zstd           bool  // of a qcow2: entries of two words; how clusters are packed
	table, block, sector int64 // of a vhdx: where its table lies, and sizes in bytes
}

// maxSize is larger than any disk: a header that claims more is crafted.
const maxSize = 1 << 56

// ReadVirtual reads the header of a virtual disk's container; size is the
// file's, or negative when it is not known (then what stands at a file's end is
// not looked for). What is no known container gives ErrNot.
func ReadVirtual(r io.ReaderAt, size int64) (*Virtual, error) {
	h := make([]byte, 1024)
	n, err := r.ReadAt(h, 0)
	if n == 0 && err != nil {
		return nil, ErrNot
	}
	h = h[:n]
	var v *Virtual
	switch {
	case len(h) >= 104 && string(h[:4]) == "QFI\xfb":
		v, err = readQcow2(r, h)
	case len(h) >= 64 && string(h[:4]) == "QED\x00":
		v = &Virtual{Format: "qed", Layout: "growing", Size: int64(binary.LittleEndian.Uint64(h[48:]))}
	case len(h) >= 64 && (string(h[:16]) == "WithoutFreeSpace" || string(h[:16]) == "WithouFreSpacExt"):
		v = &Virtual{Format: "parallels", Layout: "growing", Size: int64(binary.LittleEndian.Uint64(h[36:])) * 512}
	case len(h) >= 4 && string(h[:4]) == "COWD":
		v = &Virtual{Format: "cowd", Layout: "growing"}
	case len(h) >= 512 && string(h[:4]) == "KDMV":
		v, err = readVMDK(r, h)
	case bytes.HasPrefix(h, []byte("# Disk DescriptorFile")):
		v, err = readDescriptor(r, 0, 64<<10)
	case len(h) >= 512 && string(h[:8]) == "vhdxfile":
		v, err = readVHDX(r)
	case len(h) >= 512 && binary.LittleEndian.Uint32(h[64:]) == 0xbeda107f:
		v, err = readVDI(h)
	case len(h) >= 512 && binary.BigEndian.Uint64(h) == vhdCookie:
		v, err = readVHD(h[:512])
	case size >= 512 && size%512 == 0: // a fixed one has its header at the end
		foot := make([]byte, 512)
		if _, e := r.ReadAt(foot, size-512); e != nil && e != io.EOF || binary.BigEndian.Uint64(foot) != vhdCookie {
			return nil, ErrNot
		}
		v, err = readVHD(foot)
	default:
		return nil, ErrNot
	}
	if err == nil && (v.Size < 0 || v.Size > maxSize) {
		err = fmt.Errorf("disk: %s: a disk of %d bytes", v.Format, v.Size)
	}
	return v, err
}

// readQcow2 reads versions 2 and 3.
func readQcow2(r io.ReaderAt, h []byte) (*Virtual, error) {
	version := binary.BigEndian.Uint32(h[4:])
	v := &Virtual{
		Format:    "qcow2",
		Version:   strconv.Itoa(int(version)),
		Layout:    "growing",
		Size:      int64(binary.BigEndian.Uint64(h[24:])),
		Encrypted: binary.BigEndian.Uint32(h[32:]) != 0,
	}
	if version == 1 {
		return &Virtual{Format: "qcow", Version: "1", Layout: "growing", Size: int64(binary.BigEndian.Uint64(h[24:])),
			Encrypted: binary.BigEndian.Uint32(h[36:]) != 0}, nil
	}
	if version < 2 || version > 3 {
		return nil, fmt.Errorf("disk: qcow2: version %d is not known", version)
	}
	if version == 3 && len(h) >= 112 {
		if err := v.features(r, h); err != nil {
			return nil, err
		}
	}
	bits := binary.BigEndian.Uint32(h[20:])
	if bits < 9 || bits > 22 {
		return nil, fmt.Errorf("disk: qcow2: clusters of 2^%d bytes", bits)
	}
	if at, length := int64(binary.BigEndian.Uint64(h[8:])), binary.BigEndian.Uint32(h[16:]); at != 0 {
		if length > 1023 || at < 0 {
			return nil, fmt.Errorf("disk: qcow2: a backing file's name of %d bytes", length)
		}
		name := make([]byte, length)
		if _, err := r.ReadAt(name, at); err != nil {
			return nil, fmt.Errorf("disk: qcow2: the backing file's name: %w", err)
		}
		v.Backing, v.Layout = strings.ToValidUTF8(string(name), "?"), "differencing"
	}
	entries, at := binary.BigEndian.Uint32(h[36:]), int64(binary.BigEndian.Uint64(h[40:]))
	if v.Size > maxSize || int64(entries) > 32<<20/8 || at < 0 {
		return nil, fmt.Errorf("disk: qcow2: a first table of %d entries", entries)
	}
	v.End = at + int64(entries)*8
	if v.wide || v.Data != "" {
		return v, nil // its tables are followed when it is opened
	}
	// A cluster's own entry says whether it is compressed; the first tables tell.
	table, clusters := make([]byte, 8*min(entries, 64)), make([]byte, 1<<bits)
	if _, err := r.ReadAt(table, at); err != nil {
		return v, nil // a stream that cannot go back, or a file cut short: End tells
	}
	for k := 0; k < len(table) && !v.Compressed; k += 8 {
		l2 := int64(binary.BigEndian.Uint64(table[k:]) & 0x00fffffffffffe00)
		if l2 == 0 {
			continue
		}
		v.End = max(v.End, l2+1<<bits)
		if _, err := r.ReadAt(clusters, l2); err != nil {
			break
		}
		for c := 0; c < len(clusters); c += 8 {
			e := binary.BigEndian.Uint64(clusters[c:])
			if e&(1<<62) != 0 {
				v.Compressed = true
			} else if data := int64(e & 0x00fffffffffffe00); data != 0 && data < maxSize {
				v.End = max(v.End, data+1<<9) // the last cluster may be cut short
			}
		}
	}
	return v, nil
}

// readVMDK reads a sparse extent with its embedded descriptor.
func readVMDK(r io.ReaderAt, h []byte) (*Virtual, error) {
	flags := binary.LittleEndian.Uint32(h[8:])
	v := &Virtual{Format: "vmdk", Version: strconv.Itoa(int(binary.LittleEndian.Uint32(h[4:]))), Layout: "growing",
		Compressed: flags&(1<<16) != 0}
	sectors := int64(binary.LittleEndian.Uint64(h[12:]))
	if sectors < 0 || sectors > maxSize/512 {
		return nil, fmt.Errorf("disk: vmdk: a disk of %d sectors", sectors)
	}
	v.Size = sectors * 512
	at, length := int64(binary.LittleEndian.Uint64(h[28:])), int64(binary.LittleEndian.Uint64(h[36:]))
	if at > 0 && at < 1<<20 && length > 0 {
		if d, err := readDescriptor(r, at*512, min(length, 128)*512); err == nil {
			v.Layout, v.Backing = d.Layout, d.Backing
		}
	}
	if over := int64(binary.LittleEndian.Uint64(h[64:])); over > 0 && over < 1<<40 {
		v.End = over * 512 // the tables lie before the data
	}
	return v, nil
}

// readDescriptor reads the descriptor: lines of KEY=VALUE, then the extents.
func readDescriptor(r io.ReaderAt, at, most int64) (*Virtual, error) {
	b := make([]byte, most)
	n, err := r.ReadAt(b, at)
	if n == 0 {
		return nil, fmt.Errorf("disk: vmdk: descriptor: %w", err)
	}
	v := &Virtual{Format: "vmdk", Layout: "growing"}
	if at == 0 && !bytes.Contains(b[:n], []byte("ddb.adapterType")) { // it follows the geometry
		v.Fault = "its last lines, on the disk's geometry and adapter, are missing: it is cut short"
	} else if last := b[n-1]; at == 0 && last != '\n' && last != 0 {
		v.Fault = "its last line breaks off: it is cut short"
	}
	for line := range strings.SplitSeq(strings.ToValidUTF8(string(bytes.TrimRight(b[:n], "\x00")), "?"), "\n") {
		line = strings.TrimSpace(line)
		if f := strings.Fields(line); len(f) >= 4 && (f[0] == "RW" || f[0] == "RDONLY") {
			if sectors, err := strconv.ParseInt(f[1], 10, 64); err == nil && sectors >= 0 && sectors < maxSize/512 {
				v.Size = min(v.Size+sectors*512, maxSize)
				v.extent(line, f, sectors)
			}
			continue
		}
		key, value, _ := strings.Cut(line, "=")
		value = strings.Trim(strings.TrimSpace(value), `"`)
		switch strings.TrimSpace(key) {
		case "version":
			v.Version = value
		case "createType":
			switch {
			case strings.EqualFold(value, "streamOptimized"):
				v.Layout = "streamed"
			case strings.HasPrefix(value, "twoGb"):
				v.Layout = "split"
			case strings.Contains(value, "Flat"):
				v.Layout = "fixed"
			}
		case "parentFileNameHint":
			v.Backing, v.Layout = value, "differencing"
		}
	}
	return v, nil
}

// extent notes a descriptor's line on one of its files.
func (v *Virtual) extent(line string, fields []string, sectors int64) {
	if len(v.Extents) >= 1024 {
		return
	}
	x := Extent{Sectors: sectors}
	switch kind := strings.ToUpper(fields[2]); kind {
	case "SPARSE", "VMFSSPARSE", "SESPARSE":
		x.Kind = "sparse"
	case "ZERO":
		x.Kind = "zero"
	default:
		x.Kind = "flat"
	}
	if _, rest, ok := strings.Cut(line, `"`); ok {
		name, after, _ := strings.Cut(rest, `"`)
		x.File = name
		if at, err := strconv.ParseInt(strings.TrimSpace(after), 10, 64); err == nil && at >= 0 && at < maxSize/512 {
			x.Offset = at
		}
	}
	v.Extents = append(v.Extents, x)
}

// vhdCookie starts a VHD footer.
const vhdCookie = 0x636f6e6563746978

func readVHD(f []byte) (*Virtual, error) {
	var sum uint32
	for k, b := range f {
		if k < 64 || k >= 68 {
			sum += uint32(b)
		}
	}
	if ^sum != binary.BigEndian.Uint32(f[64:]) {
		return nil, errors.New("disk: vhd: the header's checksum is wrong")
	}
	v := &Virtual{
		Format:  "vhd",
		Version: fmt.Sprintf("%d.%d", binary.BigEndian.Uint16(f[12:]), binary.BigEndian.Uint16(f[14:])),
		Size:    int64(binary.BigEndian.Uint64(f[48:])),
	}
	switch kind := binary.BigEndian.Uint32(f[60:]); kind {
	case 2:
		v.Layout, v.End = "fixed", v.Size+512
	case 3:
		v.Layout = "growing"
	case 4:
		v.Layout = "differencing"
	default:
		return nil, fmt.Errorf("disk: vhd: disk type %d", kind)
	}
	return v, nil
}

func readVDI(h []byte) (*Virtual, error) {
	v := &Virtual{
		Format:  "vdi",
		Version: fmt.Sprintf("%d.%d", binary.LittleEndian.Uint16(h[70:]), binary.LittleEndian.Uint16(h[68:])),
		Size:    int64(binary.LittleEndian.Uint64(h[368:])),
	}
	switch kind := binary.LittleEndian.Uint32(h[76:]); kind {
	case 1:
		v.Layout = "growing"
	case 2:
		v.Layout = "fixed"
	case 3, 4:
		v.Layout = "differencing"
	default:
		return nil, fmt.Errorf("disk: vdi: image type %d", kind)
	}
	block, used := int64(binary.LittleEndian.Uint32(h[376:])), int64(binary.LittleEndian.Uint32(h[388:]))
	if data := int64(binary.LittleEndian.Uint32(h[344:])); block <= 64<<20 {
		v.End = data + block*used
	}
	return v, nil
}

// The identifiers of VHDX regions and metadata, as they lie in the file.
var (
	vhdxMetadata = [16]byte{
		0x06,
		0xa2,
		0x7c,
		0x8b,
		0x90,
		0x47,
		0x9a,
		0x4b,
		0xb8,
		0xfe,
		0x57,
		0x5f,
		0x05,
		0x0f,
		0x88,
		0x6e,
	}
	vhdxSize = [16]byte{
		0x24,
		0x42,
		0xa5,
		0x2f,
		0x1b,
		0xcd,
		0x76,
		0x48,
		0xb2,
		0x11,
		0x5d,
		0xbe,
		0xd8,
		0x3b,
		0xf4,
		0xb8,
	}
	vhdxSector = [16]byte{
		0x1d,
		0xbf,
		0x41,
		0x81,
		0x6f,
		0xa9,
		0x09,
		0x47,
		0xba,
		0x47,
		0xf2,
		0x33,
		0xa8,
		0xfa,
		0xab,
		0x5f,
	}
	vhdxFile = [16]byte{
		0x37,
		0x67,
		0xa1,
		0xca,
		0x36,
		0xfa,
		0x43,
		0x4d,
		0xb3,
		0xb6,
		0x33,
		0xf0,
		0xaa,
		0x44,
		0xe7,
		0x6b,
	}
)

// readVHDX finds the metadata region and the disk's size in it.
func readVHDX(r io.ReaderAt) (*Virtual, error) {
	v := &Virtual{Format: "vhdx", Layout: "growing"}
	region := make([]byte, 64<<10)
	if _, err := r.ReadAt(region, 192<<10); err != nil || string(region[:4]) != "regi" {
		return nil, errors.New("disk: vhdx: no region table")
	}
	var at int64
	for k := range min(binary.LittleEndian.Uint32(region[8:]), 2047) {
		e := region[16+32*k:]
		start, length := int64(binary.LittleEndian.Uint64(e[16:])), int64(binary.LittleEndian.Uint32(e[24:]))
		if start < 0 || start > maxSize {
			return nil, errors.New("disk: vhdx: a region beyond any file")
		}
		v.End = max(v.End, start+length)
		switch [16]byte(e[:16]) {
		case vhdxMetadata:
			at = start
		case vhdxBlocks:
			v.table = start
		}
	}
	table := make([]byte, 64<<10)
	if _, err := r.ReadAt(table, at); at == 0 || err != nil || string(table[:8]) != "metadata" {
		return nil, errors.New("disk: vhdx: no metadata")
	}
	for k := range min(binary.LittleEndian.Uint16(table[10:]), 2047) {
		e := table[32+32*int(k):]
		id := [16]byte(e[:16])
		if id != vhdxSize && id != vhdxFile && id != vhdxSector {
			continue
		}
		item := make([]byte, 8)
		if _, err := r.ReadAt(item, at+int64(binary.LittleEndian.Uint32(e[16:]))); err != nil {
			return nil, fmt.Errorf("disk: vhdx: metadata: %w", err)
		}
		switch id {
		case vhdxSize:
			v.Size = int64(binary.LittleEndian.Uint64(item))
		case vhdxSector:
			v.sector = int64(binary.LittleEndian.Uint32(item))
		default:
			v.block = int64(binary.LittleEndian.Uint32(item))
			if flags := binary.LittleEndian.Uint32(item[4:]); flags&2 != 0 {
				v.Layout = "differencing"
			} else if flags&1 != 0 {
				v.Layout = "fixed"
			}
		}
	}
	if v.Size == 0 {
		return nil, errors.New("disk: vhdx: its metadata has no size")
	}
	return v, nil
}
