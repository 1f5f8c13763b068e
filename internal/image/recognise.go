package image

import (
	"bytes"
	"encoding/binary"
	"strings"
)

// others are what people take for images, by how they begin: what it is, and what to do.
var others = []struct {
	at   int
	mark string
	is   string
	next string
}{
	{
		0,
		"7z\xbc\xaf\x27\x1c",
		"7z",
		"packed by 7z, which is not unpacked here: unpack it with 7z, then inspect the result",
	},
	{
		0,
		"\x04\x22\x4d\x18",
		"lz4",
		"packed by lz4, which is not unpacked here: unpack it with lz4, then inspect the result",
	},
	{0, "LZIP", "lzip", "packed by lzip, which is not unpacked here: unpack it with lzip, then inspect the result"},
	{0, "Rar!\x1a\x07", "rar", "packed by rar, which is not unpacked here: unpack it, then inspect the result"},
	{
		0,
		"\x89LZO\x00",
		"lzop",
		"packed by lzop, which is not unpacked here: unpack it with lzop, then inspect the result",
	},
	{0, "070701", "cpio", "a cpio archive, as systems start from in memory: no machine starts from it alone"},
	{0, "070702", "cpio", "a cpio archive, as systems start from in memory: no machine starts from it alone"},
	{0, "070707", "cpio", "a cpio archive: no machine starts from it alone"},
	{0, "MSCF", "cabinet", "a cabinet archive, which is not unpacked here"},
	{0, "!<arch>\n", "package of a system", "a package that a running system installs: no machine starts from it"},
	{
		0,
		"\xed\xab\xee\xdb",
		"package of a system",
		"a package that a running system installs: no machine starts from it",
	},
	{514, "HdrS", "kernel", "a kernel: it needs a loader, or a machine that starts it directly"},
	{0, "\x7fELF", "program", "a program, no image"},
	{0, "%PDF", "document", "a document, no image: look at its maker's page for the image"},
	{0, "{\\rtf", "document", "a document, no image"},
	{0, "hsqs", "file system", fileSystem}, {0, "sqsh", "file system", fileSystem},
	{1024 + 56, "\x53\xef", "file system", fileSystem}, // ext2 to ext4
	{0, "XFSB", "file system", fileSystem},
	{64<<10 + 64, "_BHRfS_M", "file system", fileSystem}, // btrfs
	{3, "NTFS    ", "file system", fileSystem}, {3, "EXFAT   ", "file system", fileSystem},
	{0, "-rom1fs-", "file system", fileSystem},
	{0, "\x45\x3d\xcd\x28", "file system", fileSystem}, {0, "LUKS\xba\xbe", "encrypted volume",
		"an encrypted volume: its content cannot be read without the key"},
	{65536 + 1372, "\x19\x54\x01\x19", "file system", fileSystem}, // UFS2
	{0, "\xd0\x0d\xfe\xed", "device tree", "a description of hardware, no image"},
	{0, "SQLite format 3", "database", "a database, no image"},
	{
		0,
		"\x89PNG",
		"picture",
		"a picture, no image of a disk",
	}, {0, "\xff\xd8\xff", "picture", "a picture, no image of a disk"},
	{0, "\x55\xaa", "ROM", "a ROM for an adapter or for firmware: no machine starts from it as a disk"},
}

const fileSystem = "one file system without partitions and without a loader: no machine starts from it; attach it as a second disk"

// recognise names what is no image, by how it begins, and says what to do; empty when it
// is nothing that is known.
func recognise(head []byte) (is, next string) {
	text := strings.ToLower(strings.TrimSpace(strings.TrimPrefix(string(head[:min(len(head), 512)]), "\ufeff")))
	for _, tag := range []string{"<!doctype html", "<html", "<head", "<script"} {
		if strings.HasPrefix(text, tag) {
			return "web page",
				"a web page that was saved under the image's name: its link led to a page, not to the file; fetch it again by the page's own button"
		}
	}
	if len(head) > 64 && head[0] == 'M' && head[1] == 'Z' {
		if at := int(binary.LittleEndian.Uint32(head[60:])); at > 0 && at+96 < len(head) &&
			string(head[at:at+4]) == "PE\x00\x00" {
			if subsystem := binary.LittleEndian.Uint16(head[at+92:]); subsystem >= 10 && subsystem <= 13 {
				return "UEFI program",
					"a program that UEFI starts: it belongs on a FAT volume as \\EFI\\BOOT\\BOOTX64.EFI, or what its processor's name there is"
			}
			return "program", "a program, no image"
		}
	}
	for _, o := range others {
		if o.at+len(o.mark) <= len(head) && string(head[o.at:o.at+len(o.mark)]) == o.mark {
			return o.is, o.next
		}
	}
	switch {
	case lzma(head):
		return "lzma", "packed in the old lzma format, which is not unpacked here: unpack it with xz --format=lzma -d"
	case len(head) > 0 && bytes.Count(head, []byte{0}) == len(head):
		return "zeros", "it begins with zeros alone: an empty disk, or a file that was created and never filled; download it again"
	case len(head) > 0 && bytes.Count(head, []byte{0xff}) == len(head):
		return "", "one byte repeated: not an image; download it again"
	}
	return "", ""
}

// lzma reports whether it is the header of the format before xz: properties, a dictionary's size that is
// usual, and the length, or that it is unknown.
func lzma(h []byte) bool {
	if len(h) < 14 || h[0] != 0x5d || h[13] != 0 {
		return false
	}
	dictionary, length := binary.LittleEndian.Uint32(h[1:]), binary.LittleEndian.Uint64(h[5:])
	return dictionary >= 1<<12 && dictionary&(dictionary-1) == 0 && (length == 1<<64-1 || length < 1<<48)
}
