package image

import (
	"archive/tar"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"openbastion/format/sums"
)

// maxManifest bounds a manifest, in bytes.
const maxManifest = 1 << 20

// archiveManifest proves the manifest of a package in one tar: a first pass
// finds it, a second takes the digests of what it names.
func (c *Content) archiveManifest(file *io.SectionReader) {
	var list []sums.Sum
	err := members(file, func(h *tar.Header, r io.Reader) error {
		if !strings.EqualFold(path.Ext(h.Name), ".mf") || list != nil {
			return nil
		}
		var err error
		list, err = readManifest(r)
		return err
	})
	if err == nil && len(list) == 0 {
		c.note("it has no manifest: nothing proves that its files are as they left their maker")
		return
	}
	saw := map[string]string{}
	if err == nil {
		err = members(file, func(h *tar.Header, r io.Reader) error {
			for _, s := range list {
				if s.Name == h.Name {
					got, err := Digest(s.Algorithm, r)
					saw[s.Name] = got
					return err
				}
			}
			return nil
		})
	}
	if err != nil {
		c.fault("its manifest could not be proven: %s", plainly(err))
	}
	c.judge(list, saw)
	if c.Package == nil { // its descriptor is broken, which was said
		return
	}
	for _, f := range c.Package.Files {
		if !slices.ContainsFunc(c.Inside, func(x *Content) bool { return x.Name == f.Name }) {
			c.fault("its descriptor names %s, which is not in it", f.Name)
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
			c.fault("%s is not what the manifest promises: %s is %s… and should be %s…", s.Name, s.Algorithm, d.Saw[:12], s.Digest[:12])
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
	for _, f := range c.Package.Files {
		if !fs.ValidPath(f.Name) {
			c.fault("its descriptor names a file outside its folder: %s", f.Name)
			continue
		}
		info, err := fs.Stat(dir, f.Name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			c.fault("%s belongs to it and is not beside it", f.Name)
		case err != nil:
			c.fault("%s belongs to it and cannot be read: %v", f.Name, err)
		case f.Size > 0 && info.Size() != f.Size:
			c.fault("%s has %d bytes, and the descriptor says %d", f.Name, info.Size(), f.Size)
		}
	}
	name := strings.TrimSuffix(c.Name, path.Ext(c.Name)) + ".mf"
	m, err := dir.Open(name)
	if err != nil {
		c.note("there is no manifest (%s) beside it: nothing proves that its files are as they left their maker", name)
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
}
