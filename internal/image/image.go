// Package image looks into the files that an appliance comes in: what they are
// by content and not by name, whether they are whole, what is inside without
// unpacking to disk, and how to go on with them.
package image

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/format/disk"
	"openbastion/internal/format/iso"
	"openbastion/internal/format/ovf"
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
	Is       string        `json:"is,omitempty"`     // what it is where that is no image: web page, kernel, 7z …
	Boots    string        `json:"boots"`            // bios, uefi, bios and uefi; empty when nothing starts
	Made     []string      `json:"processors"`       // that its loaders are made for
	System   string        `json:"system,omitempty"` // the family of systems that its partitions are of: linux, bsd, desktop

	Companions  []Companion `json:"companions,omitempty"`
	Unsupported string      `json:"unsupported,omitempty"` // why what is in it was not looked at

	Faults []string `json:"faults"` // what is broken
	Notes  []string `json:"notes"`  // what could not be seen, or is worth knowing
	Next   string   `json:"next"`   // how to go on

	what    string   // what to do with what is no image
	boots   string   // what was found to start it
	loaders []string // of UEFI, by file name
}

// Promise is what became of one line of a package's manifest.
type Promise struct {
	File      string `json:"file"`
	Algorithm string `json:"algorithm"`
	Holds     bool   `json:"holds"`
	Saw       string `json:"observed,omitempty"` // what was found instead
}

// Broken reports whether anything in it, or inside of it, is broken.
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
	return c.Kind == Unknown || c.Unsupported != "" || compressed(c.Kind) && len(c.Inside) == 1 && c.Inside[0].Unknown()
}

// Bootable returns how an image starts a machine: bios, uefi, both or neither, by what was
// found in it: loaders where firmware looks for them, and boot code that is known.
func (c *Content) Bootable() string { return c.boots }

// processors names what the loaders of UEFI are made for.
var processors = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"BOOTX64.EFI": "x86, 64 bits", "BOOTIA32.EFI": "x86, 32 bits", "BOOTAA64.EFI": "ARM, 64 bits", "BOOTARM.EFI": "ARM, 32 bits",
		"BOOTRISCV64.EFI": "RISC-V, 64 bits", "BOOTRIS.EFI": "RISC-V, 64 bits", "BOOTLOONGARCH64.EFI": "LoongArch, 64 bits",
	}
})

// family returns the systems that a disk's partitions are of; empty when they tell none, or
// several.
func (c *Content) family() string {
	out := ""
	if c.Table == nil || c.Optical != nil {
		return ""
	}
	for _, p := range c.Table.Partitions {
		of := ""
		switch {
		case strings.HasPrefix(p.Kind, "Linux"):
			of = "linux"
		case strings.HasPrefix(p.Kind, "BSD"):
			of = "bsd"
		case strings.HasPrefix(p.Kind, "NTFS"):
			of = "desktop"
		}
		if of != "" && out != "" && of != out {
			return ""
		}
		out = cmp.Or(out, of)
	}
	return out
}

// Processors returns which processors an image is made for, by its loaders; by BIOS alone
// only a PC starts.
func (c *Content) Processors() []string {
	out := []string{}
	for _, l := range c.loaders {
		if p := processors()[l]; p != "" && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	if len(out) == 0 && c.boots == "bios" {
		out = append(out, "x86")
	}
	return out
}
