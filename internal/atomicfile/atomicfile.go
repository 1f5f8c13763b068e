// Package wholefile writes files whole or not at all: the one way in which the
// program writes. What is there already stays, unless it is said that it may be
// replaced; what a call read is never written over; a device, a pipe and a
// symbolic link are written to, not replaced.
package atomicfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Options say what a file that is written may replace.
type Options struct {
	Replace bool     // a regular file that is there
	Inputs  []string // files that are never written over, whatever else is said
	Private bool     // a new file is for its owner only
}

// The reasons for which nothing is written.
var (
	ErrThere  = errors.New("exists already and is unchanged")
	ErrInput  = errors.New("is an input of this command and is not overwritten")
	ErrFolder = errors.New("is a folder")
)

// mode is what a new file has, but for what the process leaves out.
const mode fs.FileMode = 0o644

// File is a file in the making. It appears under its name with Commit, and
// leaves nothing with Abort; one of them must be called.
type File struct {
	path     string // as it was named
	target   string // with symbolic links followed
	temp     *os.File
	finished bool     // temp is whole, and closed
	direct   *os.File // a device or pipe, written to at once
	replace  bool
	private  bool
	was      fs.FileInfo // the file that is there, or nil
}

// temporary names what a file is until it is whole. Leftovers of a run that was
// killed have names that no other run takes.
func temporary(target string) string { return "." + filepath.Base(target) + ".bastion-*" }

// Create begins a file. The error says which path and why.
func Create(path string, o Options) (*File, error) {
	fail := func(err error) (*File, error) { return nil, fmt.Errorf("%s %w", path, err) }
	target, err := follow(path)
	if err != nil {
		return fail(err)
	}
	f := &File{path: path, target: target, replace: o.Replace, private: o.Private}
	info, err := os.Stat(target)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return fail(cause(err))
	case info.IsDir():
		return fail(ErrFolder)
	case !info.Mode().IsRegular():
		if f.direct, err = os.OpenFile(target, os.O_WRONLY, 0); err != nil {
			return fail(cause(err))
		}
		return f, nil
	default:
		for _, input := range o.Inputs {
			if other, err := os.Stat(input); err == nil && os.SameFile(info, other) {
				return fail(ErrInput)
			}
		}
		if !o.Replace {
			return fail(ErrThere)
		}
		f.was = info
	}
	if f.temp, err = os.CreateTemp(filepath.Dir(target), temporary(target)); err != nil {
		return fail(cause(err))
	}
	return f, nil
}

// follow returns where symbolic links lead, also when nothing is there yet.
func follow(path string) (string, error) {
	for range 40 {
		info, err := os.Lstat(path)
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return path, nil
		}
		to, err := os.Readlink(path)
		if err != nil {
			return "", cause(err)
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(path), to)
		}
		path = to
	}
	return "", errors.New("is a symbolic link that points back to itself")
}

// Write adds to the file.
func (f *File) Write(b []byte) (int, error) {
	if f.direct != nil {
		return f.direct.Write(b)
	}
	return f.temp.Write(b)
}

// Inner returns the file that is filled, for who must seek in it; nil for a device
// or a pipe.
func (f *File) Inner() *os.File { return f.temp }

// Finish writes what was added to the disk and closes it, for who makes many files before any is put
// in its place: nothing can be added any more. [File.Commit] does it where it was not done.
func (f *File) Finish() error {
	if f.finished || f.direct != nil {
		return nil
	}
	f.finished = true
	err := f.temp.Sync()
	if e := f.adopt(); err == nil {
		err = e
	}
	if e := f.temp.Close(); err == nil {
		err = e
	}
	return f.said(err)
}

// Commit puts the file in its place. It keeps the mode of one that was there,
// and, where it may, the owner; a file with several names keeps them all.
func (f *File) Commit() error {
	if f.direct != nil {
		return f.said(f.direct.Close())
	}
	name := f.temp.Name()
	defer os.Remove(name) // gone already when all went well
	if err := f.Finish(); err != nil {
		return err
	}
	var err error
	switch {
	case f.was != nil && links(f.was) > 1:
		err = pour(name, f.target)
	case f.replace:
		err = os.Rename(name, f.target)
	default:
		err = place(name, f.target)
	}
	return f.said(err)
}

// adopt gives the new file the mode and owner of the one that it replaces.
func (f *File) adopt() error {
	if f.was == nil {
		if f.private {
			return nil // as temporary files are
		}
		return f.temp.Chmod(mode &^ umask())
	}
	own(f.temp, f.was)
	return f.temp.Chmod(f.was.Mode().Perm())
}

// place gives a file its name, and fails when something has come to be there.
func place(from, to string) error {
	err := os.Link(from, to)
	if err == nil || errors.Is(err, fs.ErrExist) {
		if err != nil {
			return ErrThere
		}
		return nil
	}
	if _, there := os.Lstat(to); there == nil { // a file system without hard links
		return ErrThere
	}
	return os.Rename(from, to)
}

// pour writes a file's content into another that keeps its names. What it holds
// is on the disk beside it until that is done.
func pour(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_TRUNC, 0)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if e := out.Sync(); err == nil {
		err = e
	}
	if e := out.Close(); err == nil {
		err = e
	}
	return err
}

// Abort leaves nothing of the file. After Commit it does nothing.
func (f *File) Abort() {
	if f.direct != nil {
		_ = f.direct.Close()
		return
	}
	_ = f.temp.Close()
	_ = os.Remove(f.temp.Name())
}

func (f *File) said(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s %w", f.path, cause(err))
}

// cause takes the operation and the path off an error of the file system, and
// reads as what is said of a file.
func cause(err error) error {
	var p *os.PathError
	var l *os.LinkError
	switch {
	case errors.As(err, &p):
		err = p.Err
	case errors.As(err, &l):
		err = l.Err
	}
	if errors.Is(err, ErrThere) || errors.Is(err, ErrInput) || errors.Is(err, ErrFolder) ||
		strings.HasPrefix(err.Error(), "is a ") {
		return err
	}
	return fmt.Errorf("cannot be written: %w", err)
}

// Write writes a whole file.
func Write(path string, data []byte, o Options) error {
	f, err := Create(path, o)
	if err != nil {
		return err
	}
	defer f.Abort()
	if _, err := f.Write(data); err != nil {
		return f.said(err)
	}
	return f.Commit()
}
