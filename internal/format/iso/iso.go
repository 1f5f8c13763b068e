// Package iso reads what an ISO 9660 optical image says of itself (ECMA-119,
// 4th edition) and how it boots (El Torito, version 1.0). It reads headers and
// a few folders, never a file's content, and at most a few hundred kilobytes.
package iso

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"openbastion/internal/format/fat"
)

// Sector is the size of an optical sector, in bytes.
const Sector = 2048

// Bounds on what crafted headers can make us read.
const (
	maxDescriptors = 64
	maxFolder      = 256 << 10
	maxEntries     = 64
	maxLoaderImage = 4 << 20 // of a boot image that can only be read forward
)

// ErrNot says that the bytes are no ISO 9660 image.
var ErrNot = errors.New("iso: no ISO 9660 volume descriptor at sector 16")

// Image is what an optical image says of itself.
type Image struct {
	System      string   `json:"system,omitempty"`
	Volume      string   `json:"volume,omitempty"`
	Publisher   string   `json:"publisher,omitempty"`
	Preparer    string   `json:"preparer,omitempty"`
	Application string   `json:"application,omitempty"`
	Size        int64    `json:"size"`   // bytes of the volume, as declared
	Joliet      bool     `json:"joliet"` // has a second set of names in UCS-2
	Boot        []Entry  `json:"boot,omitempty"`
	Loaders     []string `json:"loaders,omitempty"` // UEFI loaders by file name, such as BOOTX64.EFI
	Names       []string `json:"names,omitempty"`   // of the top folder
	Partial     string   `json:"partial,omitempty"` // what could not be read, and why; empty when all was
	Fault       string   `json:"fault,omitempty"`   // what is damaged of its tables; empty when nothing is
}

// Entry is one way to boot (El Torito, section 2).
type Entry struct {
	Firmware  string `json:"firmware,omitempty"` // bios, uefi, or what the platform's number is
	Bootable  bool   `json:"bootable"`
	Emulation bool   `json:"emulation"` // pretends to be a floppy or a fixed disk
	At        int64  `json:"offset"`    // offset of its image, in bytes
	Size      int64  `json:"size"`      // bytes that the firmware loads
	Starts    bool   `json:"starts"`    // its image holds a loader, or boot code that is known
}

// Read reads an image's headers.
//
// Bytes that hold no volume descriptor give ErrNot. What lies behind the end
// of the readable bytes is named in Partial.
//
// size is the file's, in bytes; under 0 it is not known, and r is read forward: then boot
// images are believed to hold what the catalogue promises.
func Read(r io.ReaderAt, size int64) (*Image, error) {
	var image *Image
	var catalog, root, rootSize int64
	d, primary := make([]byte, Sector), make([]byte, Sector)
descriptors:
	for n := range int64(maxDescriptors) {
		if _, err := r.ReadAt(d, (16+n)*Sector); err != nil {
			if image == nil {
				return nil, ErrNot
			}
			image.Partial = "volume descriptors: " + err.Error()
			return image, nil
		}
		if string(d[1:6]) != "CD001" {
			if image != nil {
				image.Fault = fmt.Sprintf("its volume descriptors break off at sector %d, before their end", 16+n)
				break descriptors
			}
			if n == 0 && follows(r, d) {
				return nil, errors.New("iso: its first volume descriptor is damaged")
			}
			return nil, ErrNot
		}
		switch d[0] {
		case 0: // boot record
			if bytes.HasPrefix(d[7:39], []byte("EL TORITO SPECIFICATION")) {
				catalog = int64(binary.LittleEndian.Uint32(d[71:])) * Sector
			}
		case 1: // primary
			if image != nil {
				break
			}
			block := int64(binary.LittleEndian.Uint16(d[128:]))
			if block < 512 || block > 32768 || block&(block-1) != 0 {
				return nil, fmt.Errorf("iso: logical blocks of %d bytes", block)
			}
			if binary.BigEndian.Uint32(d[84:]) != binary.LittleEndian.Uint32(d[80:]) {
				return nil, errors.New("iso: the volume's size in its two byte orders differs")
			}
			image = &Image{
				System: field(d[8:40]), Volume: field(d[40:72]), Publisher: field(d[318:446]),
				Preparer: field(d[446:574]), Application: field(d[574:702]),
				Size: int64(binary.LittleEndian.Uint32(d[80:])) * block,
			}
			copy(primary, d)
			root = int64(binary.LittleEndian.Uint32(d[156+2:])) * block
			rootSize = int64(binary.LittleEndian.Uint32(d[156+10:]))
		case 2: // supplementary: Joliet by its escape sequences
			if e := string(d[88:91]); image != nil && (e == "%/@" || e == "%/C" || e == "%/E") {
				image.Joliet = true
			}
		}
		if d[0] == 255 { // the set's end
			break descriptors
		}
	}
	if image == nil {
		return nil, ErrNot
	}
	// In the order in which they lie: a stream can only be read forward.
	readCatalog := func() {
		if catalog != 0 {
			image.partial("boot catalogue", image.readCatalog(r, catalog))
		}
	}
	if catalog < root {
		readCatalog()
	}
	image.partial("folders", image.readFolders(r, root, rootSize))
	if catalog >= root {
		readCatalog()
	}
	inOrder := make([]*Entry, len(image.Boot))
	for k := range image.Boot {
		inOrder[k] = &image.Boot[k]
	}
	slices.SortStableFunc(inOrder, func(a, b *Entry) int { return cmp.Compare(a.At, b.At) })
	for _, e := range inOrder {
		image.judgeBoot(r, size, e)
	}
	if size >= image.Size && image.Fault == "" {
		if err := check(r, size, primary); err != nil {
			image.Fault = err.Error()
		}
	}
	slices.Sort(image.Loaders)
	image.Loaders = slices.Compact(image.Loaders)
	return image, nil
}

// follows reports whether a volume descriptor stands behind the first one's place.
func follows(r io.ReaderAt, d []byte) bool {
	_, err := r.ReadAt(d, 17*Sector)
	return err == nil && string(d[1:6]) == "CD001"
}

// partial remembers the first thing that could not be read.
func (i *Image) partial(what string, err error) {
	if err != nil && i.Partial == "" {
		i.Partial = what + ": " + err.Error()
	}
}

// field reads a padded text field (ECMA-119, section 7.4).
func field(b []byte) string {
	return strings.TrimRight(strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c == 0xfffd {
			return ' '
		}
		return c
	}, string(b)), " ")
}

var platforms = map[byte]string{0: "bios", 0xef: "uefi"}

// readCatalog reads the boot catalogue: a validation entry, a default entry,
// then sections (El Torito, sections 2.1 to 2.4).
func (i *Image) readCatalog(r io.ReaderAt, at int64) error {
	b := make([]byte, Sector)
	if _, err := r.ReadAt(b, at); err != nil {
		return err
	}
	var sum uint16
	for k := 0; k < 32; k += 2 {
		sum += binary.LittleEndian.Uint16(b[k:])
	}
	if b[0] != 1 || b[30] != 0x55 || b[31] != 0xaa || sum != 0 {
		return errors.New("its validation entry is wrong")
	}
	firmware := func(id byte) string {
		if name := platforms[id]; name != "" {
			return name
		}
		return fmt.Sprintf("platform %d", id)
	}
	entry := func(e []byte, on string) {
		if len(i.Boot) < maxEntries {
			i.Boot = append(i.Boot, Entry{
				Firmware: on, Bootable: e[0] == 0x88, Emulation: e[1]&15 != 0,
				At: int64(
					binary.LittleEndian.Uint32(e[8:]),
				) * Sector, Size: int64(binary.LittleEndian.Uint16(e[6:])) * 512,
			})
		}
	}
	entry(b[32:64], firmware(b[1]))
	for k := 64; k+32 <= len(b); {
		id := b[k]
		if id != 0x90 && id != 0x91 {
			break
		}
		on, count := firmware(b[k+1]), int(binary.LittleEndian.Uint16(b[k+2:]))
		k += 32
		for ; count > 0 && k+32 <= len(b); count-- {
			entry(b[k:k+32], on)
			k += 32
			for k+32 <= len(b) && b[k] == 0x44 { // extensions of the entry
				k += 32
			}
		}
		if id == 0x91 {
			break
		}
	}
	return nil
}

// record is a file or folder in a folder (ECMA-119, section 9.1).
type record struct {
	name     string
	at, size int64
	folder   bool
}

func readFolder(r io.ReaderAt, at, size int64) ([]record, error) {
	b := make([]byte, min(max(size, 0), maxFolder))
	if n, err := r.ReadAt(b, at); err != nil && n == 0 {
		return nil, err
	}
	var out []record
	for k := 0; k < len(b); {
		length := int(b[k])
		if length == 0 { // records do not cross sectors
			k = (k/Sector + 1) * Sector
			continue
		}
		if length < 34 || k+length > len(b) || 33+int(b[k+32]) > length {
			break
		}
		name := b[k+33 : k+33+int(b[k+32])]
		if len(name) != 1 || name[0] > 1 { // not the folder itself and its parent
			text, _, _ := strings.Cut(field(name), ";")
			out = append(out, record{strings.TrimSuffix(text, "."), int64(binary.LittleEndian.Uint32(b[k+2:])) * Sector,
				int64(binary.LittleEndian.Uint32(b[k+10:])), b[k+25]&2 != 0})
		}
		k += length
	}
	return out, nil
}

// readFolders lists the top folder and looks for loaders in EFI/BOOT.
func (i *Image) readFolders(r io.ReaderAt, at, size int64) error {
	top, err := readFolder(r, at, size)
	for _, e := range top {
		i.Names = append(i.Names, e.name)
	}
	for _, name := range []string{"EFI", "BOOT"} {
		k := slices.IndexFunc(top, func(e record) bool { return e.folder && strings.EqualFold(e.name, name) })
		if err != nil || k < 0 {
			return err
		}
		top, err = readFolder(r, top[k].at, top[k].size)
	}
	for _, e := range top {
		if name := strings.ToUpper(e.name); strings.HasPrefix(name, "BOOT") && strings.HasSuffix(name, ".EFI") {
			i.Loaders = append(i.Loaders, name)
		}
	}
	return err
}

// Boots returns how the image starts a machine: bios, uefi, both or neither.
func (i *Image) Boots() string {
	bios, uefi := false, false
	for _, e := range i.Boot {
		bios = bios || e.Starts && e.Firmware == "bios"
		uefi = uefi || e.Starts && e.Firmware == "uefi"
	}
	switch {
	case bios && uefi:
		return "bios and uefi"
	case bios:
		return "bios"
	case uefi:
		return "uefi"
	}
	return ""
}

// loaders are words that the code of boot images holds, in any letter case.
var loaders = []string{"linux", "grub", "ipxe", "bootmgr", "boot", "load", "memtest", "kernel"}

// maxCode bounds how much of a boot image is looked at for its code.
const maxCode = 256 << 10

// judgeBoot finds out whether a boot image starts something: for UEFI a FAT volume with a
// loader in EFI/BOOT, for BIOS code that is known. What cannot be read, in a file that is
// read forward, is believed.
func (i *Image) judgeBoot(r io.ReaderAt, size int64, e *Entry) {
	if !e.Bootable {
		return
	}
	if e.Firmware == "uefi" {
		i.judgeVolume(r, size, e)
		return
	}
	b := make([]byte, Sector)
	if n, _ := r.ReadAt(b, e.At); n < 64 {
		e.Starts = size < 0
		return
	}
	length := max(e.Size, Sector)
	if binary.LittleEndian.Uint32(b[8:]) == 16 && int64(binary.LittleEndian.Uint32(b[12:]))*Sector == e.At {
		length = int64(binary.LittleEndian.Uint32(b[16:])) // the table that mastering leaves in it says how long it is
	}
	if rest := min(length, maxCode) - Sector; rest > 0 {
		more := make([]byte, rest)
		n, _ := r.ReadAt(more, e.At+Sector)
		b = append(b, more[:n]...)
	}
	code := bytes.ToLower(b[64:])
	for _, word := range loaders {
		e.Starts = e.Starts || bytes.Contains(code, []byte(word))
	}
}

// judgeVolume looks for loaders in the volume that UEFI starts from.
func (i *Image) judgeVolume(r io.ReaderAt, size int64, e *Entry) {
	var volume io.ReaderAt = io.NewSectionReader(r, e.At, max(size-e.At, 0))
	seen := size - e.At
	if size < 0 {
		b := make([]byte, maxLoaderImage)
		n, _ := r.ReadAt(b, e.At)
		volume, seen = bytes.NewReader(b[:n]), int64(n)
	}
	v, err := fat.Open(volume)
	if err == nil && size >= 0 && v.Size <= seen && i.Fault == "" {
		if fault := v.Check(); fault != nil {
			i.Fault = "the volume that UEFI starts from is damaged: " + strings.TrimPrefix(fault.Error(), "fat: ")
		}
	}
	if err != nil {
		e.Starts = size < 0 && seen == 0
		return
	}
	found := v.Loaders()
	e.Starts = len(found) > 0 || size < 0 && seen < v.Size
	i.Loaders = append(i.Loaders, found...)
}
