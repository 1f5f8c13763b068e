package image

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"openbastion/internal/format/disk"
	"openbastion/internal/format/fat"
	"openbastion/internal/format/iso"
)

// Companion is a file beside another without which that one is not whole.
type Companion struct {
	File  string `json:"file"`
	What  string `json:"what"` // extent, data file or base
	There bool   `json:"there"`
}

// errNoFolder says that nothing beside a file can be looked at.
var errNoFolder = errors.New("nothing else in its folder was read")

// beside opens files that lie beside a virtual disk, as extents and bases do: names in
// other folders are looked for by their last part.
func (o Options) beside(opened *[]io.Closer) disk.Opener {
	return func(name string) (io.ReaderAt, int64, error) {
		if o.Siblings == nil {
			return nil, 0, errNoFolder
		}
		name = path.Base(strings.ReplaceAll(name, `\`, "/"))
		if !fs.ValidPath(name) {
			return nil, 0, fs.ErrInvalid
		}
		f, err := o.Siblings.Open(name)
		if err != nil {
			return nil, 0, err
		}
		*opened = append(*opened, f)
		info, err := f.Stat()
		r, ok := f.(io.ReaderAt)
		if err != nil || !ok || !info.Mode().IsRegular() {
			return nil, 0, ErrNotPlain
		}
		return r, info.Size(), nil
	}
}

// lookInto follows a virtual disk's tables to what a guest sees of it, and on to its
// partitions.
func (c *Content) lookInto(r io.ReaderAt, o Options) {
	v := c.Virtual
	if v.Encrypted {
		c.Unsupported = "it is encrypted: its content cannot be read without the key"
		return
	}
	if _, forward := r.(*window); forward || c.Size < 0 {
		c.note("its content was not read: unpack it first")
		return
	}
	var opened []io.Closer
	defer func() {
		for _, f := range opened {
			f.Close()
		}
	}()
	w, err := v.Open(r, c.Size, o.beside(&opened))
	if v.Fault != "" {
		c.fault("%s", v.Fault)
	}
	if v.Remark != "" {
		c.note("%s", v.Remark)
	}
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		c.fault(
			"it is cut short: %s",
			strings.TrimSuffix(plainly(err), ": "+io.ErrUnexpectedEOF.Error())+" lies beyond its end",
		)
		return
	case err != nil && known(v.Format):
		c.fault("%s", plainly(err))
		return
	case err != nil:
		c.Unsupported = fmt.Sprintf(
			"a virtual disk of the format %s is not looked into here: convert it, as with qemu-img convert",
			v.Format,
		)
		return
	}
	c.companions(v, w, o)
	if v.End = max(v.End, w.End); v.End > c.Size {
		c.fault("it is cut short: its tables promise %d bytes, and %d are here", v.End, c.Size)
		return
	}
	if len(w.Missing) > 0 {
		return
	}
	c.lookAtDisk(w, v.Size)
}

// known reports whether it is the formats whose tables are followed.
func known(format string) bool {
	switch format {
	case "qcow2", "vmdk", "vdi", "vhd", "vhdx":
		return true
	}
	return false
}

// companions lists what must lie beside a virtual disk, and faults what does not.
func (c *Content) companions(v *disk.Virtual, w *disk.View, o Options) {
	missing := map[string]bool{}
	for _, m := range w.Missing {
		missing[m] = true
	}
	add := func(file, what string) {
		if file == "" {
			return
		}
		c.Companions = append(c.Companions, Companion{file, what, !missing[file]})
		if !missing[file] {
			return
		}
		if o.Siblings == nil {
			c.note("%s, the %s, was not looked for", file, what)
			return
		}
		c.fault("%s, the %s that it needs, is missing from its folder", file, what)
	}
	add(v.Data, "data file")
	for _, x := range v.Extents {
		add(x.File, "extent")
	}
	add(v.Backing, "base")
	for m := range missing {
		if m != v.Data && m != v.Backing && !strings.Contains(fmt.Sprint(v.Extents), m) {
			add(m, "base of its base")
		}
	}
}

// lookAtDisk finds what starts a disk, or that nothing is on it.
func (c *Content) lookAtDisk(r io.ReaderAt, size int64) {
	t, err := disk.ReadTable(r, size)
	if err == nil {
		c.Table, c.boots, c.loaders = t, t.Boots, t.Loaders
		if t.Remark != "" {
			c.note("%s", t.Remark)
		}
		return
	}
	if v, err := fat.Open(r); err == nil {
		c.loaders = v.Loaders()
		if len(c.loaders) > 0 {
			c.boots = "uefi"
		}
		c.note("a FAT volume fills it, without partitions")
		return
	}
	if i, err := iso.Read(r, size); err == nil {
		c.boots, c.loaders = i.Boots(), i.Loaders
		c.note("it contains an optical image, not a disk: a machine can start it only from a drive")
		return
	}
	head := make([]byte, 128<<10)
	n, _ := r.ReadAt(head, 0)
	switch is, _ := recognise(head[:n]); {
	case bytes.Count(head[:n], []byte{0}) == n:
		c.note("it is empty: nothing is installed on it")
	case is != "":
		c.note("it contains %s, without partitions", article(is))
	default:
		c.note("its first sectors are nothing that is known here")
	}
}
