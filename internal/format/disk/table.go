// Package disk reads the headers of disk images: the partition tables of raw
// disks (the classic boot record, and GUID partition tables of UEFI 2.10,
// chapter 5), and the containers of virtual disks. It reads headers only, in
// bounded memory.
package disk

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"sync"
	"unicode/utf16"

	"openbastion/internal/format/fat"
)

// ErrNot says that the bytes are nothing that this package knows.
var ErrNot = errors.New("disk: no partition table and no virtual disk's header")

// maxPartitions bounds the entries read of a table.
const maxPartitions = 1024

// Table is a raw disk's partition table.
type Table struct {
	Scheme     string      `json:"scheme,omitempty"` // mbr | gpt
	Partitions []Partition `json:"partitions,omitempty"`
	End        int64       `json:"end"`             // behind the last byte that the table speaks of, its own copy at the end included
	Boots      string      `json:"boots,omitempty"` // bios, uefi, bios and uefi, or nothing
	Fault      string      `json:"fault,omitempty"` // what is wrong with it; empty when nothing is

	Loaders []string `json:"loaders,omitempty"` // of UEFI, in its EFI system partitions, by file name
	Remark  string   `json:"remark,omitempty"`  // what is worth knowing
}

// Partition is one partition.
type Partition struct {
	Number int    `json:"number"`
	Kind   string `json:"kind,omitempty"` // in words, or the type as the table has it
	Name   string `json:"name,omitempty"`
	Start  int64  `json:"start"` // bytes
	Size   int64  `json:"size"`
	Active bool   `json:"active"`
}

// kinds names what is usual; one byte in a classic record.
var kinds = sync.OnceValue(func() map[byte]string {
	return map[byte]string{
		0x01: "FAT12", 0x04: "FAT16", 0x06: "FAT16", 0x07: "NTFS or exFAT", 0x0b: "FAT32", 0x0c: "FAT32", 0x0e: "FAT16",
		0x05: "extended", 0x0f: "extended", 0x82: "Linux swap", 0x83: "Linux", 0x8e: "Linux volumes", 0xa5: "BSD", 0xa6: "BSD", 0xa9: "BSD",
		0xcd: "optical image", 0x17: "optical image", 0xee: "GPT", 0xef: "EFI system", 0xfd: "Linux RAID", 0xeb: "BFS",
	}
})

// typeName names the usual GPT types by the first field of their identifier.
func typeName(id [16]byte) string {
	switch d := binary.LittleEndian.Uint32(id[:]); d {
	case 0xc12a7328:
		return efiSystem
	case 0x21686148:
		return biosBoot
	case 0x0fc63daf, 0x4f68bce3, 0x44479540, 0xb921b045, 0x933ac7e1:
		return "Linux"
	case 0x0657fd6d:
		return "Linux swap"
	case 0xe6d6d379:
		return "Linux volumes"
	case 0xebd0a0a2:
		return "plain data"
	case 0x83bd6b9d:
		return "BSD boot"
	case 0x516e7cb4, 0x516e7cb5, 0x516e7cb6, 0x516e7cba:
		return "BSD"
	default:
		return fmt.Sprintf(
			"%08x-%04x-%04x-%x-%x",
			d,
			binary.LittleEndian.Uint16(id[4:]),
			binary.LittleEndian.Uint16(id[6:]),
			id[8:10],
			id[10:],
		)
	}
}

const (
	efiSystem = "EFI system"
	biosBoot  = "BIOS boot"
)

// ReadTable reads the partition table of a disk of a size, and what starts it. A size
// under 0 is not known: then it is read forward, and less is looked at. No boot record
// gives ErrNot.
func ReadTable(r io.ReaderAt, size int64) (*Table, error) {
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, ErrNot
	}
	if b[510] != 0x55 || b[511] != 0xaa {
		return unprotected(r, size, b)
	}
	t := &Table{Scheme: "mbr"}
	for k := range 4 {
		e := b[446+16*k:]
		start, length := int64(binary.LittleEndian.Uint32(e[8:])), int64(binary.LittleEndian.Uint32(e[12:]))
		if e[0]&0x7f != 0 {
			return nil, ErrNot // a file system's boot sector ends in the same two bytes
		}
		if e[4] == 0 || length == 0 {
			continue
		}
		if e[4] == 0xee {
			return readGPT(r, size, b)
		}
		kind := kindOf(e[4])
		t.Partitions = append(
			t.Partitions,
			Partition{Number: k + 1, Kind: kind, Start: start * 512, Size: length * 512, Active: e[0] == 0x80},
		)
		t.End = max(t.End, (start+length)*512)
		if kind == "extended" && size >= 0 {
			t.logical(r, start)
		}
	}
	if len(t.Partitions) == 0 {
		if _, err := fat.Open(r); err == nil || bytes.Count(b[446:510], []byte{0}) != 64 {
			return nil, ErrNot // a volume, or nothing that has partitions
		}
		if there, starts, _ := codeOf(b); there && !starts {
			return nil, ErrNot
		}
	}
	t.judge(r, size, b)
	return t, nil
}

// unprotected reads a GUID partition table whose protective record is gone.
func unprotected(r io.ReaderAt, size int64, record []byte) (*Table, error) {
	sign := make([]byte, 8)
	if _, err := r.ReadAt(sign, 512); err != nil || string(sign) != "EFI PART" {
		return nil, ErrNot
	}
	t, err := readGPT(r, size, record)
	if t != nil && t.Fault == "" {
		t.Fault = "the record before its partition table is missing or damaged"
	}
	return t, err
}

// kindOf names a type of a classic record.
func kindOf(b byte) string {
	if kind := kinds()[b]; kind != "" {
		return kind
	}
	return fmt.Sprintf("type %02x", b)
}

// readGPT reads a GUID partition table (UEFI 2.10, section 5.3).
func readGPT(r io.ReaderAt, whole int64, record []byte) (*Table, error) {
	t := &Table{Scheme: "gpt"}
	sector := int64(512)
	h := make([]byte, 512)
	if _, err := r.ReadAt(h, sector); err != nil || string(h[:8]) != "EFI PART" {
		sector = 4096
		if _, err := r.ReadAt(h, sector); err != nil || string(h[:8]) != "EFI PART" {
			t.Fault = "the record promises a GUID partition table and none is there"
			return t, nil
		}
	}
	size := binary.LittleEndian.Uint32(h[12:])
	if size < 92 || size > 512 {
		t.Fault = fmt.Sprintf("the table's header claims %d bytes", size)
		return t, nil
	}
	want := binary.LittleEndian.Uint32(h[16:])
	plain := bytes.Clone(h[:size])
	clear(plain[16:20])
	if crc32.ChecksumIEEE(plain) != want {
		t.Fault = "the table header's checksum is wrong"
	}
	last, spare := int64(binary.LittleEndian.Uint64(h[48:])), int64(binary.LittleEndian.Uint64(h[32:]))
	if most := int64(1) << 50; last < 0 || spare < 0 || last > most || spare > most {
		t.Fault = "the table names sectors that no disk has"
		return t, nil
	}
	t.End = (max(last, spare) + 1) * sector
	count, each := int64(binary.LittleEndian.Uint32(h[80:])), int64(binary.LittleEndian.Uint32(h[84:]))
	if each < 128 || each > 4096 || count > 1<<16 {
		t.Fault = fmt.Sprintf("the table claims %d entries of %d bytes", count, each)
		return t, nil
	}
	at := int64(binary.LittleEndian.Uint64(h[72:])) * sector
	e := make([]byte, each)
	sum := crc32.NewIEEE()
	for k := range min(count, maxPartitions) {
		if _, err := r.ReadAt(e, at+k*each); err != nil {
			t.Fault = fmt.Sprintf("the table breaks off at entry %d", k+1)
			return t, nil
		}
		sum.Write(e)
		if bytes.Count(e[:16], []byte{0}) == 16 {
			continue
		}
		first, end := int64(binary.LittleEndian.Uint64(e[32:])), int64(binary.LittleEndian.Uint64(e[40:]))
		if first < 0 || end < first || end > 1<<50 {
			t.Fault = fmt.Sprintf("partition %d ends before it begins", k+1)
			continue
		}
		p := Partition{
			Number: int(k) + 1,
			Kind:   typeName([16]byte(e[:16])),
			Name:   utf16Text(e[56:128]),
			Start:  first * sector,
			Size:   (end - first + 1) * sector,
			Active: e[48]&4 != 0,
		}
		t.Partitions = append(t.Partitions, p)
	}
	if count <= maxPartitions && t.Fault == "" && sum.Sum32() != binary.LittleEndian.Uint32(h[88:]) {
		t.Fault = "the table's checksum is wrong"
	}
	if t.Fault == "" && whole >= t.End && !spareAt(r, spare*sector, sector) {
		t.Fault = "the table's copy at the end is missing or wrong"
	}
	t.judge(r, whole, record)
	return t, nil
}

// spareAt reports whether the copy of a table, whose header lies at a place in bytes, is
// there and whole.
func spareAt(r io.ReaderAt, at, sector int64) bool {
	h := make([]byte, 512)
	if _, err := r.ReadAt(h, at); err != nil || string(h[:8]) != "EFI PART" {
		return false
	}
	size := binary.LittleEndian.Uint32(h[12:])
	if size < 92 || size > 512 {
		return false
	}
	want := binary.LittleEndian.Uint32(h[16:])
	clear(h[16:20])
	if crc32.ChecksumIEEE(h[:size]) != want {
		return false
	}
	count, each := int64(binary.LittleEndian.Uint32(h[80:])), int64(binary.LittleEndian.Uint32(h[84:]))
	if each < 128 || each > 4096 || count > maxPartitions {
		return true // more than is looked at
	}
	entries := make([]byte, count*each)
	_, err := r.ReadAt(entries, int64(binary.LittleEndian.Uint64(h[72:]))*sector)
	return err == nil && crc32.ChecksumIEEE(entries) == binary.LittleEndian.Uint32(h[88:])
}

func utf16Text(b []byte) string {
	var units []uint16
	for k := 0; k+1 < len(b); k += 2 {
		u := binary.LittleEndian.Uint16(b[k:])
		if u == 0 {
			break
		}
		if u < ' ' {
			u = ' '
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}
