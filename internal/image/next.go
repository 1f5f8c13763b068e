package image

import (
	"fmt"
	"strings"
)

// next returns how to go on with a file.
func (c *Content) next() string {
	switch {
	case c.Kind == Empty:
		return "download it again: it is empty"
	case c.Unsupported != "":
		return c.Unsupported
	case c.lacks():
		return "put the missing file into its folder, with that name"
	case len(c.Faults) > 0 && c.Kind != Descriptor && c.Kind != Archive:
		return "fetch it again and check it against its maker's list: bastion image verify"
	case compressed(c.Kind):
		what := "file"
		if len(c.Inside) > 0 && c.Inside[0].Kind != Unknown {
			what = string(c.Inside[0].Kind)
		}
		return fmt.Sprintf(
			"a compressed %s: unpack it first, no machine starts from it as it is: bastion image unpack",
			what,
		)
	case c.Kind == Zip, c.Kind == Tar:
		return "an archive: unpack the image in it first: bastion image unpack"
	case c.Kind == Optical && c.Bootable() == "":
		return "an optical image that starts no machine: attach it to one that runs, as a drive with files"
	case c.Kind == Optical:
		return "attach it to the machine's optical drive as it is; put the disk before the drive in the boot order"
	case c.Kind == RawDisk && c.Boots == "":
		return "a disk image that starts no machine by itself: attach it as a second disk"
	case c.Kind == RawDisk:
		return "a disk image, made for a stick or to be a machine's disk: attach it as a disk, not to the optical drive; where the maker has an optical image too, that one installs in a virtual machine"
	case c.what != "":
		return c.what
	case c.Kind == VirtDisk && c.Virtual != nil && c.Virtual.Backing != "":
		return "a virtual disk with differences only: keep " + c.Virtual.Backing + " in its folder"
	case c.Kind == VirtDisk && c.Virtual != nil && c.Virtual.Layout == "streamed":
		return "a virtual disk packed for transport: import it (the hypervisor unpacks it) rather than attach it"
	case c.Kind == VirtDisk && c.Boots == "" && c.Size >= 0 && c.seen():
		return "a virtual disk that starts no machine: attach it as an empty or second disk"
	case c.Kind == VirtDisk:
		return "a virtual disk that is ready: attach it as the machine's first disk; nothing is installed from it"
	case c.Kind == Archive, c.Kind == Descriptor:
		return "a package: read what it needs into the lab with bastion image needs, then import it"
	case c.Kind == List:
		return "a list of checksums: pass it to bastion image verify with --sums"
	}
	if says, _ := Promised(c.Name); says == List || strings.HasSuffix(c.Name, ".txt") {
		return "nothing to do with it"
	}
	return "no image that is known here: look at its maker's page for an optical image, a virtual disk or a package"
}

// lacks reports whether a file beside it is missing, and nothing else is wrong.
func (c *Content) lacks() bool {
	n := 0
	for _, x := range c.Companions {
		if !x.There {
			n++
		}
	}
	return n > 0 && len(c.Faults) <= n
}

// seen reports whether a virtual disk's content was looked at.
func (c *Content) seen() bool {
	for _, n := range c.Notes {
		if strings.Contains(n, "was not looked") {
			return false
		}
	}
	return true
}
