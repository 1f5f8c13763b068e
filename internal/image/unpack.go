package image

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/klauspost/compress/flate"

	"openbastion/internal/atomicfile"
	"openbastion/internal/format/stream"
)

// Counted notes how far a file has been read, so that progress can be told of
// a stream whose unpacked length nobody knows.
type Counted struct {
	io.ReaderAt
	high atomic.Int64
}

// maxJump is how far ahead a reading may be and still count as progress: an
// index at the file's end does not.
const maxJump = 64 << 20

// ReadAt reads and notes how far.
func (c *Counted) ReadAt(b []byte, at int64) (int, error) {
	n, err := c.ReaderAt.ReadAt(b, at)
	for {
		high := c.high.Load()
		if at > high+maxJump || at+int64(n) <= high || c.high.CompareAndSwap(high, at+int64(n)) {
			return n, err
		}
	}
}

// Count returns how far the file has been read; safe from other goroutines.
func (c *Counted) Count() int64 { return c.high.Load() }

// Choice is a member that may be what the person wants.
type Choice struct {
	Path    []*Content // from the file to the image within, streams included
	Content *Content   // the last of Path
}

// Name returns the name that the unpacked file gets: the member's own, without
// its folders.
func (c Choice) Name() string { return path.Base(strings.ReplaceAll(c.Content.Name, `\`, "/")) }

// Choices returns what unpacking a file can mean: the images in it, else the
// only file in it, whatever that is.
func (c *Content) Choices() []Choice {
	var images, all []Choice
	var walk func(x *Content, above []*Content)
	walk = func(x *Content, above []*Content) {
		above = append(slices.Clip(above), x)
		if len(x.Inside) > 0 && (x.Kind != Archive || len(above) == 1) { // a package within something stays whole
			for _, y := range x.Inside {
				walk(y, above)
			}
			return
		}
		if len(above) < 2 {
			return
		}
		all = append(all, Choice{above, x})
		switch x.Kind {
		case Optical, RawDisk, VirtDisk, Archive:
			images = append(images, Choice{above, x})
		}
	}
	walk(c, nil)
	if len(images) > 0 {
		return images
	}
	return all
}

// Pick returns the one thing to unpack: the member named, or the only choice.
func (c *Content) Pick(member string) (Choice, error) {
	list := c.Choices()
	var names []string
	var meant []Choice
	for _, x := range list {
		names = append(names, x.Content.Name)
		if member == "" || x.Content.Name == member || x.Name() == member {
			meant = append(meant, x)
		}
	}
	if exact := slices.IndexFunc(meant, func(x Choice) bool { return x.Content.Name == member }); exact >= 0 {
		meant = slices.DeleteFunc(meant, func(x Choice) bool { return x.Content.Name != member })
	}
	switch {
	case slices.ContainsFunc(c.Companions, func(x Companion) bool { return x.What == "part" }):
		return Choice{}, errors.New(c.Next)
	case len(meant) == 1:
		return meant[0], meant[0].refuse()
	case len(meant) > 1 && member != "":
		return Choice{}, fmt.Errorf("it has more than one member %s: which one is meant is unclear", member)
	case len(list) == 0 && c.Unsupported != "":
		return Choice{}, errors.New(c.Unsupported)
	case len(list) == 0 && len(c.Faults) > 0:
		return Choice{}, errors.New(c.Faults[0])
	case len(list) == 0:
		return Choice{}, fmt.Errorf("there is nothing to unpack: it is %s", article(string(c.Kind)))
	case member != "":
		return Choice{}, fmt.Errorf("no member %s; members: %s", member, strings.Join(names, ", "))
	}
	return Choice{}, fmt.Errorf("there is more than one to choose from: %s", strings.Join(names, ", "))
}

// refuse returns an error for names that would lead out of the folder they are put in, and for streams that do not unpack.
func (c Choice) refuse() error {
	if compressed(c.Content.Kind) && len(c.Content.Faults) > 0 {
		return errors.New(c.Content.Faults[0])
	}
	for _, x := range c.Path[1:] {
		name := strings.ReplaceAll(x.Name, `\`, "/")
		if path.IsAbs(name) || slices.Contains(strings.Split(name, "/"), "..") || len(name) > 1 && name[1] == ':' {
			return fmt.Errorf("its member %q points outside the folder: do not trust this archive", x.Name)
		}
	}
	if n := c.Name(); n == "." || n == "/" || strings.ContainsRune(n, 0) {
		return fmt.Errorf("its member %q has no name to write to", c.Content.Name)
	}
	return nil
}

// Open opens the chosen content as one stream. Without guard, no ratio is
// refused. Closing ends what still works; errors of checksums come when the
// stream is read to its end.
func (c Choice) Open(file io.ReaderAt, size int64, guarded bool) (io.ReadCloser, error) {
	var now io.Reader
	var shut closers
	at, known := file, size // a plain file, while there is one
	for k := range len(c.Path) - 1 {
		outer, inner := c.Path[k], c.Path[k+1]
		packed := size // no part of a file is larger than the file
		var err error
		switch {
		case compressed(outer.Kind) && at != nil:
			var r io.ReadCloser
			if r, err = stream.Open(stream.Kind(outer.Kind), at, known); err == nil {
				shut, now = append(shut, r), r
			}
		case compressed(outer.Kind):
			now, err = stream.Peek(stream.Kind(outer.Kind), bufio.NewReaderSize(now, 1<<18))
		case outer.Kind == Zip && at != nil:
			var r io.ReadCloser
			if r, packed, err = openMember(at, known, inner.Name); err == nil {
				shut, now, packed = append(shut, r), r, min(packed, size)
			}
		case outer.Kind == Tar, outer.Kind == Archive:
			if at != nil {
				now = io.NewSectionReader(at, 0, known)
			}
			now, err = findMember(tar.NewReader(now), inner.Name)
		default:
			err = fmt.Errorf("%s within a stream: unpack that stream first", article(string(outer.Kind)))
		}
		if err != nil {
			shut.Close()
			return nil, err
		}
		if guarded {
			now = Guard(now, packed)
		}
		at = nil
	}
	return struct {
		io.Reader
		io.Closer
	}{now, &shut}, nil
}

type closers []io.Closer

// Close closes all, the last opened first.
func (c *closers) Close() error {
	for k := len(*c) - 1; k >= 0; k-- {
		(*c)[k].Close()
	}
	return nil
}

// regular reports whether it is a member that is a file: with holes too, which come back as zeros.
func regular(h *tar.Header) bool { return h.Typeflag == tar.TypeReg || h.Typeflag == tar.TypeGNUSparse }

func findMember(t *tar.Reader, name string) (io.Reader, error) {
	for {
		h, err := t.Next()
		if err != nil {
			return nil, fmt.Errorf("its member %s: %w", name, err)
		}
		if h.Name == name && regular(h) {
			return t, nil
		}
	}
}

func openMember(file io.ReaderAt, size int64, name string) (io.ReadCloser, int64, error) {
	z, err := newZip(file, size)
	if err != nil {
		return nil, 0, err
	}
	for _, f := range z.File {
		if f.Name == name {
			r, err := f.Open()
			return r, int64(min(f.CompressedSize64, math.MaxInt64)), err
		}
	}
	return nil, 0, fmt.Errorf("no member %s", name)
}

// newZip reads a zip's directory, with the faster of the unpackers.
func newZip(file io.ReaderAt, size int64) (*zip.Reader, error) {
	z, err := zip.NewReader(file, size)
	if err == nil {
		z.RegisterDecompressor(zip.Deflate, flate.NewReader)
	}
	return z, err
}

// hole is the length of zeros that are not written: the file system keeps them
// as nothing.
const hole = 64 << 10

// Write unpacks into a file in the making and puts it in its place. n is how much
// was unpacked, on an error too.
func Write(to *atomicfile.File, r io.Reader) (n int64, err error) {
	f := to.Inner()
	if f == nil { // a device or a pipe takes everything in turn
		n, err = io.Copy(to, r)
	} else if n, err = copyAhead(f, r); err == nil {
		err = f.Truncate(n)
	}
	if err != nil {
		return n, err
	}
	return n, to.Commit()
}

// copyAhead unpacks in one goroutine and writes in another.
func copyAhead(f *os.File, r io.Reader) (int64, error) {
	type chunk struct {
		data []byte
		err  error
	}
	full, free, quit := make(chan chunk, 2), make(chan []byte, 3), make(chan struct{})
	for range cap(free) {
		free <- make([]byte, 4*hole)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			var b []byte
			select {
			case b = <-free:
			case <-quit:
				return
			}
			n := 0
			var err error
			for n < len(b) && err == nil {
				var m int
				m, err = r.Read(b[n:])
				n += m
			}
			select {
			case full <- chunk{b[:n], err}:
			case <-quit:
				return
			}
			if err != nil {
				return
			}
		}
	}()
	defer func() {
		close(quit)
		<-done
	}()
	var at int64
	for c := range full {
		for k := 0; k < len(c.data); k += hole {
			piece := c.data[k:min(k+hole, len(c.data))]
			if !zeros(piece) {
				if _, err := f.WriteAt(piece, at); err != nil {
					return at, err
				}
			}
			at += int64(len(piece))
		}
		if c.err == io.EOF {
			return at, nil
		}
		if c.err != nil {
			return at, fmt.Errorf("it breaks off after %d bytes: %w", at, c.err)
		}
		free <- c.data[:cap(c.data)]
	}
	return at, nil
}

var nothing [hole]byte

func zeros(b []byte) bool { return string(b) == string(nothing[:len(b)]) }
