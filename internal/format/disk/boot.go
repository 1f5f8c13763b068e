package disk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"

	"openbastion/internal/format/fat"
)

// starters are texts in boot code that starts a system by itself: it knows where the rest
// of it lies.
var starters = []string{
	"GRUB",
	"LILO",
	"SYSLINUX",
	"EXTLINUX",
	"ISOLINUX",
	"BOOTMGR",
	"NTLDR",
	"iPXE",
	"BTX",
	"Boot loader too large",
	"FreeBSD",
	"OpenBSD",
}

// chains are texts in boot code that goes on to the active partition's first sector.
var chains = []string{"Missing operating system", "Operating system load error", "Invalid partition table",
	"Error loading operating system",
	"No active partition", "No bootable partition", "Boot error", "isolinux.bin missing", "Read error", "F1"}

// refusals are texts in boot code whose one work is to say that nothing is there.
var refusals = []string{"not a bootable disk", "Non-System disk", "non system disk", "Remove disks or other media"}

func holds(b []byte, texts []string) bool {
	return slices.ContainsFunc(texts, func(t string) bool { return bytes.Contains(b, []byte(t)) })
}

// startsItself reports whether a first sector holds code that starts a system.
func startsItself(sector []byte) bool {
	return len(sector) >= 512 && sector[510] == 0x55 && sector[511] == 0xaa && holds(sector, starters) &&
		!holds(sector, refusals)
}

// codeOf returns what is known of the code in a record: whether there is any, whether it
// starts a system by itself, and whether it goes on to the active partition.
func codeOf(record []byte) (there, starts, goesOn bool) {
	code := record[:440]
	if bytes.Count(code, []byte{0}) == len(code) {
		return false, false, false
	}
	return true, holds(code, starters), holds(code, chains)
}

// judge finds what starts the disk, by evidence: loaders in its EFI system partitions, and
// boot code that is known and leads somewhere. Of what can only be read forward (a size
// under 0) what a table promises is believed.
func (t *Table) judge(r io.ReaderAt, size int64, record []byte) {
	uefi := false
	for _, p := range t.Partitions {
		if p.Kind != efiSystem && !strings.HasPrefix(p.Kind, "FAT") && p.Kind != "plain data" {
			continue
		}
		if size < 0 {
			uefi = uefi || p.Kind == efiSystem
			continue
		}
		v, err := fat.Open(io.NewSectionReader(r, p.Start, p.Size))
		if err != nil {
			if p.Kind == efiSystem {
				t.Remark = fmt.Sprintf(
					"partition %d is an EFI system partition without a readable FAT volume",
					p.Number,
				)
			}
			continue
		}
		if fault := v.Check(); fault != nil && t.Fault == "" {
			t.Fault = fmt.Sprintf(
				"the volume of partition %d is damaged: %s",
				p.Number,
				strings.TrimPrefix(fault.Error(), "fat: "),
			)
		}
		for _, l := range v.Loaders() {
			uefi = true
			if !slices.Contains(t.Loaders, l) {
				t.Loaders = append(t.Loaders, l)
			}
		}
	}
	there, starts, goesOn := codeOf(record)
	bios := starts
	if there && size < 0 {
		bios = true
	}
	if there && !bios {
		for _, p := range t.Partitions {
			first := make([]byte, 512)
			if p.Active && (goesOn || !starts) {
				if _, err := r.ReadAt(first, p.Start); err == nil && startsItself(first) {
					bios = true
				}
			}
		}
		if !bios && !goesOn {
			t.Remark = "its boot record contains unknown code: whether it starts is unknown"
		}
	}
	switch {
	case bios && uefi:
		t.Boots = "bios and uefi"
	case bios:
		t.Boots = "bios"
	case uefi:
		t.Boots = "uefi"
	}
}

// logical adds the partitions within an extended one: each has a record of its own that
// leads to the next (bounded: a chain can be crafted to never end).
func (t *Table) logical(r io.ReaderAt, base int64) {
	b := make([]byte, 512)
	at := base
	for n := 5; n < 5+128; n++ {
		if _, err := r.ReadAt(b, at*512); err != nil || b[510] != 0x55 || b[511] != 0xaa {
			return
		}
		if start, size := int64(binary.LittleEndian.Uint32(b[446+8:])), int64(binary.LittleEndian.Uint32(b[446+12:])); b[446+4] != 0 &&
			size > 0 {
			t.Partitions = append(
				t.Partitions,
				Partition{Number: n, Kind: kindOf(b[446+4]), Start: (at + start) * 512, Size: size * 512,
					Active: b[446] == 0x80},
			)
			t.End = max(t.End, (at+start+size)*512)
		}
		next := int64(binary.LittleEndian.Uint32(b[462+8:]))
		if b[462+4] == 0 || next == 0 || base+next <= at {
			return
		}
		at = base + next
	}
}
