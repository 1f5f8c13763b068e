package image

import (
	"archive/tar"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"openbastion/internal/format/ovf"
	"openbastion/internal/format/sums"
)

// maxManifest bounds a manifest, in bytes.
const maxManifest = 1 << 20

// inspectPackage takes an archive with a descriptor at its top as a package, and
// proves it where the archive can be read anywhere. In one with several
// descriptors nothing tells which is meant.
func (c *Content) inspectPackage(file *io.SectionReader, anywhere bool) {
	var descriptor *Content
	for _, x := range c.Inside {
		if x.Kind == Descriptor && strings.EqualFold(path.Ext(x.Name), ".ovf") &&
			!strings.Contains(within(x.Name), "/") {
			if descriptor != nil {
				return
			}
			descriptor = x
		}
	}
	if descriptor == nil {
		return
	}
	c.Kind, c.Package = Archive, descriptor.Package
	if descriptor != c.Inside[0] {
		c.note(
			"its descriptor %s is not its first member, as the standard wants: some importers refuse that; unpack it and import the descriptor",
			descriptor.Name,
		)
	}
	if !anywhere {
		c.note("the manifest is proven when the package is unpacked")
		return
	}
	c.archiveManifest(file, descriptor)
}

// within returns a member's name without what leads to where it is anyway.
func within(name string) string { return path.Clean(strings.ReplaceAll(name, `\`, "/")) }

// archiveManifest proves the manifest of a package in one tar: a first pass
// finds it, a second takes the digests of what it names.
func (c *Content) archiveManifest(file *io.SectionReader, descriptor *Content) {
	var list []sums.Sum
	err := members(file, func(h *tar.Header, r io.Reader) error {
		if !strings.EqualFold(path.Ext(h.Name), ".mf") || list != nil {
			return nil
		}
		var err error
		list, err = readManifest(r)
		return err
	})
	saw := map[string]string{}
	if err == nil && len(list) > 0 {
		err = members(file, func(h *tar.Header, r io.Reader) error {
			for _, s := range list {
				if s.Name == within(h.Name) {
					got, err := Digest(s.Algorithm, r)
					saw[s.Name] = got
					return err
				}
			}
			return nil
		})
	}
	switch {
	case err != nil:
		c.fault("its manifest could not be proven: %s", plainly(err))
	case len(list) == 0:
		c.note("it has no manifest: nothing proves that its files are as they left their maker")
	}
	c.judge(list, saw)
	if c.Package == nil { // its descriptor is broken, which was said
		return
	}
	c.judgeFiles("in it", func(name string) (int64, *Content, error) {
		for _, x := range c.Inside {
			if within(x.Name) == within(name) {
				return x.Size, x, nil
			}
		}
		return 0, nil, fs.ErrNotExist
	})
	c.uncovered(list, within(descriptor.Name))
}

// judgeFiles holds the files that a descriptor names against those that are
// there: their sizes, their pieces, and what their disks hold.
func (c *Content) judgeFiles(where string, find func(name string) (size int64, content *Content, err error)) {
	for _, f := range c.Package.Files {
		var size int64
		var content *Content
		var err error
		if f.Chunk > 0 {
			size, err = chunks(f, find)
		} else {
			size, content, err = find(f.Name)
		}
		var missing chunkError
		switch {
		case errors.As(err, &missing):
			c.fault("%s comes in pieces of %d bytes, and the piece %s is not %s", f.Name, f.Chunk, missing.name, where)
			continue
		case errors.Is(err, fs.ErrNotExist) && where == "in it":
			c.fault("its descriptor names %s, which is not in it", f.Name)
			continue
		case errors.Is(err, fs.ErrNotExist):
			c.fault("%s belongs to it and is not %s", f.Name, where)
			continue
		case err != nil:
			c.fault("%s belongs to it and cannot be read: %v", f.Name, err)
			continue
		case f.Size > 0 && size != f.Size:
			c.fault("%s has %d bytes, but the descriptor says %d", f.Name, size, f.Size)
		}
		if content != nil && content.Virtual != nil {
			c.judgeCapacity(f.Name, content.Virtual.Size)
		}
	}
}

// judgeCapacity holds what a disk offers against what its descriptor says.
func (c *Content) judgeCapacity(file string, size int64) {
	for _, d := range c.Package.Disks {
		if d.File == file && d.Capacity > 0 && d.Capacity>>20 != size>>20 { // descriptors count in whole units
			c.fault("%s is a disk of %d bytes, but the descriptor says %d", file, size, d.Capacity)
		}
	}
}

// chunkError says which piece of a file is missing.
type chunkError struct{ name string }

func (e chunkError) Error() string { return e.name + " is missing" }

// chunks adds up the pieces of a file, which are numbered with nine digits behind
// its name (DSP0243, clause 7.1).
func chunks(f ovf.File, find func(string) (int64, *Content, error)) (int64, error) {
	count := (f.Size + f.Chunk - 1) / f.Chunk
	var sum int64
	for k := int64(0); k < max(count, 1) && k < maxMembers; k++ {
		name := fmt.Sprintf("%s.%09d", f.Name, k)
		size, _, err := find(name)
		if errors.Is(err, fs.ErrNotExist) {
			return 0, chunkError{name}
		}
		if err != nil {
			return 0, err
		}
		sum += size
	}
	return sum, nil
}

// uncovered returns which files a manifest leaves out.
func (c *Content) uncovered(list []sums.Sum, descriptor string) {
	if len(list) == 0 {
		return
	}
	names := []string{descriptor}
	for _, f := range c.Package.Files {
		if f.Chunk == 0 {
			names = append(names, f.Name)
		}
	}
	for _, name := range names {
		if !slices.ContainsFunc(list, func(s sums.Sum) bool { return within(s.Name) == within(name) }) {
			c.note("its manifest omits %s: its integrity cannot be verified", name)
		}
	}
}

func members(file *io.SectionReader, each func(*tar.Header, io.Reader) error) error {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	t := tar.NewReader(file)
	for range maxMembers {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = each(h, Guard(t, min(h.Size, file.Size()))) // a sparse member may say any size
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func readManifest(r io.Reader) ([]sums.Sum, error) {
	data, err := io.ReadAll(io.LimitReader(r, maxManifest))
	if err != nil {
		return nil, err
	}
	list, err := sums.Read("", data)
	return list.Sums, err
}

// Digest takes a file's digest in constant memory, as hexadecimal digits.
func Digest(algorithm string, r io.Reader) (string, error) {
	h, err := sums.New(algorithm)
	if err != nil {
		return "", err
	}
	if err := hashAll(r, h); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// hashAll reads to the end into digests.
func hashAll(r io.Reader, into ...hash.Hash) error {
	b := make([]byte, 1<<18)
	for {
		n, err := r.Read(b)
		for _, h := range into {
			h.Write(b[:n])
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// judge holds what was seen against the manifest.
func (c *Content) judge(list []sums.Sum, saw map[string]string) {
	for _, s := range list {
		d := Promise{File: s.Name, Algorithm: s.Algorithm, Holds: saw[s.Name] == s.Digest}
		switch {
		case saw[s.Name] == "":
			d.Saw = "no such file"
			c.fault("its manifest names %s, which is not there", s.Name)
		case !d.Holds:
			d.Saw = saw[s.Name]
			c.fault(
				"%s does not match the manifest: its %s is %s…, expected %s…",
				s.Name,
				s.Algorithm,
				d.Saw[:12],
				s.Digest[:12],
			)
		}
		c.Manifest = append(c.Manifest, d)
	}
}

// siblings looks for a package's other files beside its descriptor, and proves
// its manifest.
func (c *Content) siblings(dir fs.FS) {
	if c.Package == nil {
		return
	}
	c.judgeFiles("in its folder", func(name string) (int64, *Content, error) {
		if name = path.Clean(name); !fs.ValidPath(name) {
			return 0, nil, errors.New("its name points outside the folder")
		}
		info, err := fs.Stat(dir, name)
		if err != nil {
			return 0, nil, err
		}
		return info.Size(), c.disk(dir, name, info.Size()), nil
	})
	name := strings.TrimSuffix(c.Name, path.Ext(c.Name)) + ".mf"
	m, err := dir.Open(name)
	if err != nil {
		c.note("no manifest (%s) in its folder: its integrity cannot be verified", name)
		return
	}
	defer m.Close()
	list, err := readManifest(m)
	saw := map[string]string{}
	for _, s := range list {
		if err != nil || !fs.ValidPath(s.Name) {
			continue
		}
		f, e := dir.Open(s.Name)
		if e != nil {
			continue
		}
		saw[s.Name], err = Digest(s.Algorithm, f)
		f.Close()
	}
	if err != nil {
		c.fault("its manifest could not be proven: %s", plainly(err))
	}
	c.judge(list, saw)
	c.uncovered(list, c.Name)
}

// disk looks into a package's file beside it; nil when it cannot be.
func (c *Content) disk(dir fs.FS, name string, size int64) *Content {
	f, err := dir.Open(name)
	if err != nil {
		return nil
	}
	defer f.Close()
	r, ok := f.(io.ReaderAt)
	if !ok {
		return nil
	}
	x := &Content{Name: name, Size: size}
	inspect(x, r, Options{}, 1)
	return x
}
