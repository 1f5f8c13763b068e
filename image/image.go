// Package image looks into the files that an appliance comes in: what they are
// by content and not by name, whether they are whole, what is inside without
// unpacking to disk, and how to go on with them.
package image

import (
	"openbastion/format/disk"
	"openbastion/format/iso"
	"openbastion/format/ovf"
)

// Kind is what a file is.
type Kind string

// The kinds. Compressed streams have the names that package stream gives them.
const (
	Unknown    Kind = "unknown"
	Empty      Kind = "empty"
	Optical    Kind = "optical image"
	RawDisk    Kind = "disk image"
	VirtDisk   Kind = "virtual disk"
	Zip        Kind = "zip"
	Tar        Kind = "tar"
	Descriptor Kind = "package descriptor"
	Archive    Kind = "package archive"
	List       Kind = "checksum list"
)

// Content is what a file or a member of an archive is.
type Content struct {
	Name     string        `json:"name"`
	Kind     Kind          `json:"kind"`
	Size     int64         `json:"size"` // bytes; -1 when it cannot be told without reading all
	Agrees   bool          `json:"agrees"`
	Mismatch string        `json:"mismatch,omitempty"` // how name and content disagree
	Optical  *iso.Image    `json:"optical,omitempty"`
	Table    *disk.Table   `json:"table,omitempty"` // of a raw disk, or of an optical image made for sticks too
	Virtual  *disk.Virtual `json:"virtual,omitempty"`
	Package  *ovf.Package  `json:"package,omitempty"`
	Manifest []Promise     `json:"manifest,omitempty"`
	Inside   []*Content    `json:"inside,omitempty"`
	Faults   []string      `json:"faults"` // what is broken
	Notes    []string      `json:"notes"`  // what could not be seen, or is worth knowing
	Next     string        `json:"next"`   // how to go on
}

// Promise is what became of one line of a package's manifest.
type Promise struct {
	File      string `json:"file"`
	Algorithm string `json:"algorithm"`
	Holds     bool   `json:"holds"`
	Saw       string `json:"saw,omitempty"` // what was found instead
}

// Broken tells whether anything in it, or inside of it, is broken.
func (c *Content) Broken() bool {
	if len(c.Faults) > 0 {
		return true
	}
	for _, x := range c.Inside {
		if x.Broken() {
			return true
		}
	}
	return false
}

// Unknown tells content that is nothing known here: not an image, and nothing
// that holds one.
func (c *Content) Unknown() bool {
	return c.Kind == Unknown || compressed(c.Kind) && len(c.Inside) == 1 && c.Inside[0].Unknown()
}

// Bootable tells how an image starts a machine: bios, uefi, both or neither.
func (c *Content) Bootable() string {
	bios, uefi := false, false
	if c.Optical != nil {
		for _, e := range c.Optical.Boot {
			bios = bios || e.Bootable && e.Firmware == "bios"
			uefi = uefi || e.Bootable && e.Firmware == "uefi"
		}
	} else if c.Table != nil {
		return c.Table.Boots
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

// processors names what the loaders of UEFI are made for.
var processors = map[string]string{
	"BOOTX64.EFI": "x86, 64 bits", "BOOTIA32.EFI": "x86, 32 bits", "BOOTAA64.EFI": "ARM, 64 bits", "BOOTARM.EFI": "ARM, 32 bits",
	"BOOTRISCV64.EFI": "RISC-V, 64 bits", "BOOTRIS.EFI": "RISC-V, 64 bits", "BOOTLOONGARCH64.EFI": "LoongArch, 64 bits",
}

// Processors tells which processors an image is made for, by its loaders.
func (c *Content) Processors() []string {
	var out []string
	if c.Optical != nil {
		for _, l := range c.Optical.Loaders {
			if p := processors[l]; p != "" {
				out = append(out, p)
			}
		}
	}
	return out
}
