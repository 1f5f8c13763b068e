// Package fat reads folders of FAT12, FAT16 and FAT32 volumes (ECMA-107; the long names
// as the UEFI specification 2.10, section 13.3, asks for them). It reads what a volume
// says of its folders, never a file's content, and every crafted volume in bounded time
// and memory.
package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
)

// ErrNot says that the bytes are no FAT volume.
var ErrNot = errors.New("fat: no FAT boot sector")

// Bounds on what crafted volumes can make us read.
const (
	maxFolder  = 4 << 20 // bytes of one folder
	entrySize  = 32
	maxCluster = 64 << 10
)

// Volume is a FAT volume. Its zero value is not usable; see Open.
type Volume struct {
	Bits     int    // 12, 16 or 32
	Label    string // empty when it has none
	Size     int64  // bytes, as the volume says
	r        io.ReaderAt
	sector   int64
	cluster  int64 // bytes
	fat      int64 // where the first table starts
	root     int64 // where the top folder starts; of FAT32 its first cluster
	rootSize int64 // bytes; 0 of FAT32
	data     int64 // where cluster 2 starts
	table    int64 // bytes of one table
	tables   int64
	media    byte // what the first entry of each table repeats
	clusters int64
}

// Open reads a volume's boot sector. What is no FAT volume gives ErrNot.
func Open(r io.ReaderAt) (*Volume, error) {
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, ErrNot
	}
	if b[510] != 0x55 || b[511] != 0xaa || b[0] != 0xeb && b[0] != 0xe9 {
		return nil, ErrNot
	}
	le := binary.LittleEndian
	v := &Volume{r: r, sector: int64(le.Uint16(b[11:]))}
	per, reserved, tables := int64(b[13]), int64(le.Uint16(b[14:])), int64(b[16])
	entries, total, each := int64(le.Uint16(b[17:])), int64(le.Uint16(b[19:])), int64(le.Uint16(b[22:]))
	if total == 0 {
		total = int64(le.Uint32(b[32:]))
	}
	wide := each == 0
	if wide {
		each = int64(le.Uint32(b[36:]))
	}
	if v.sector < 512 || v.sector > 4096 || v.sector&(v.sector-1) != 0 || per == 0 || per&(per-1) != 0 || reserved == 0 ||
		tables == 0 || tables > 2 || total == 0 || each == 0 ||
		b[21] < 0xf0 && b[21] != 0 {
		return nil, ErrNot
	}
	v.cluster, v.tables, v.table, v.media = per*v.sector, tables, each*v.sector, b[21]
	v.fat, v.rootSize, v.Size = reserved*v.sector, entries*entrySize, total*v.sector
	v.root = v.fat + tables*each*v.sector
	v.data = v.root + (v.rootSize+v.sector-1)/v.sector*v.sector
	if v.cluster > maxCluster || v.data >= v.Size {
		return nil, ErrNot
	}
	v.clusters = (v.Size - v.data) / v.cluster
	label := b[43:54]
	switch {
	case wide:
		v.Bits, v.root, label = 32, int64(le.Uint32(b[44:])), b[71:82]
	case v.clusters < 4085:
		v.Bits = 12
	default:
		v.Bits = 16
	}
	if v.Label = strings.TrimRight(printable(label), " "); v.Label == "NO NAME" {
		v.Label = ""
	}
	return v, nil
}

func printable(b []byte) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c > '~' {
			return ' '
		}
		return c
	}, string(b))
}

// Entry is a file or folder.
type Entry struct {
	Name   string // long where there is one
	Folder bool
	Size   int64 // bytes; 0 of a folder
	first  int64 // its first cluster
}

// Folder lists the folder at a path of names, in any letter case; "" is the top.
// A path that leads nowhere gives an error.
func (v *Volume) Folder(names ...string) ([]Entry, error) {
	list, err := v.top()
	for _, name := range names {
		if err != nil {
			return nil, err
		}
		found := false
		for _, e := range list {
			if e.Folder && strings.EqualFold(e.Name, name) {
				list, err = v.chain(e.first)
				found = true
				break
			}
		}
		if !found {
			return nil, fmt.Errorf("fat: no folder %s", name)
		}
	}
	return list, err
}

func (v *Volume) top() ([]Entry, error) {
	if v.Bits == 32 {
		return v.chain(v.root)
	}
	b := make([]byte, min(v.rootSize, maxFolder))
	if _, err := v.r.ReadAt(b, v.root); err != nil {
		return nil, fmt.Errorf("fat: the top folder: %w", err)
	}
	return entries(b), nil
}

// chain reads a folder that lies in clusters.
func (v *Volume) chain(first int64) ([]Entry, error) {
	var b []byte
	seen := map[int64]bool{}
	for c := first; c >= 2 && c < v.clusters+2; {
		if seen[c] || int64(len(b))+v.cluster > maxFolder {
			return entries(b), errors.New("fat: a folder with a loop")
		}
		seen[c] = true
		part := make([]byte, v.cluster)
		if _, err := v.r.ReadAt(part, v.data+(c-2)*v.cluster); err != nil {
			return entries(b), fmt.Errorf("fat: a folder: %w", err)
		}
		b = append(b, part...)
		if ended(part) {
			break
		}
		next, err := v.next(c)
		if err != nil {
			return entries(b), err
		}
		c = next
	}
	return entries(b), nil
}

// ended reports whether a folder ends in these entries.
func ended(b []byte) bool {
	for k := 0; k+entrySize <= len(b); k += entrySize {
		if b[k] == 0 {
			return true
		}
	}
	return false
}

// next returns the cluster behind one; 0 when it is the last.
func (v *Volume) next(c int64) (int64, error) {
	b := make([]byte, 4)
	read := func(at int64, n int) error {
		if _, err := v.r.ReadAt(b[:n], v.fat+at); err != nil {
			return fmt.Errorf("fat: its table: %w", err)
		}
		return nil
	}
	var to, end int64
	switch v.Bits {
	case 12:
		if err := read(c*3/2, 2); err != nil {
			return 0, err
		}
		to, end = int64(binary.LittleEndian.Uint16(b)), 0xff8
		if c%2 == 0 {
			to &= 0xfff
		} else {
			to >>= 4
		}
	case 16:
		if err := read(c*2, 2); err != nil {
			return 0, err
		}
		to, end = int64(binary.LittleEndian.Uint16(b)), 0xfff8
	default:
		if err := read(c*4, 4); err != nil {
			return 0, err
		}
		to, end = int64(binary.LittleEndian.Uint32(b)&0x0fffffff), 0x0ffffff8
	}
	if to >= end {
		return 0, nil
	}
	return to, nil
}

// entries reads a folder's entries: deleted ones, labels and the folder itself are left
// out.
func entries(b []byte) []Entry {
	var out []Entry
	var long []uint16
	for k := 0; k+entrySize <= len(b) && b[k] != 0; k += entrySize {
		e := b[k : k+entrySize]
		attributes := e[11]
		switch {
		case e[0] == 0xe5:
			long = nil
		case attributes&0x3f == 0x0f: // a part of a long name, the last part first
			var part []uint16
			for _, at := range []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
				u := binary.LittleEndian.Uint16(e[at:])
				if u == 0 || u == 0xffff {
					break
				}
				part = append(part, u)
			}
			if e[0]&0x40 != 0 {
				long = nil
			}
			if len(long) < 256 {
				long = append(part, long...)
			}
		case attributes&8 != 0: // the volume's label
			long = nil
		default:
			x := Entry{Name: short(e), Folder: attributes&0x10 != 0, Size: int64(binary.LittleEndian.Uint32(e[28:])),
				first: int64(binary.LittleEndian.Uint16(e[26:])) | int64(binary.LittleEndian.Uint16(e[20:]))<<16}
			if long != nil {
				x.Name = string(utf16.Decode(long))
			}
			if long = nil; x.Name != "." && x.Name != ".." {
				out = append(out, x)
			}
		}
	}
	return out
}

// short returns a name of eight and three characters.
func short(e []byte) string {
	name, kind := strings.TrimRight(printable(e[:8]), " "), strings.TrimRight(printable(e[8:11]), " ")
	if kind != "" {
		name += "." + kind
	}
	return name
}

// Loaders returns the names of the UEFI loaders that firmware looks for by itself: files
// \EFI\BOOT\BOOT*.EFI that are not empty (UEFI 2.10, section 3.5.1.1), in capitals.
func (v *Volume) Loaders() []string {
	list, err := v.Folder("EFI", "BOOT")
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range list {
		if name := strings.ToUpper(e.Name); !e.Folder && e.Size > 0 && strings.HasPrefix(name, "BOOT") &&
			strings.HasSuffix(name, ".EFI") {
			out = append(out, name)
		}
	}
	return out
}
