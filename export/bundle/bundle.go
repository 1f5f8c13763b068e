// Package bundle is files that belong together: made in memory, and written
// whole or not at all.
package bundle

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// File is one of them. Name may hold folders, with slashes.
type File struct {
	Name string
	Data []byte
}

// ErrThere says that a file is there already.
var ErrThere = errors.New("is there already and stays as it is")

// Write writes the files into a folder, which is made when it is not there.
// Unless replace is set, none is written when one of them is there. Each file
// appears whole; when one cannot be written those that were new are taken away
// again.
func Write(dir string, files []File, replace bool) (err error) {
	for _, f := range files {
		if !filepath.IsLocal(filepath.FromSlash(f.Name)) {
			return fmt.Errorf("bundle: the name %q leads out of its folder", f.Name)
		}
		path := filepath.Join(dir, filepath.FromSlash(f.Name))
		if _, err := os.Lstat(path); err == nil && !replace {
			return fmt.Errorf("bundle: %s %w", path, ErrThere)
		} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("bundle: %w", err)
		}
	}
	temporary := make([]string, len(files))
	defer func() {
		for _, t := range temporary {
			if t != "" {
				_ = os.Remove(t)
			}
		}
	}()
	for i, f := range files { // all of them first beside where they go
		path := filepath.Join(dir, filepath.FromSlash(f.Name))
		if err = os.MkdirAll(filepath.Dir(path), 0o755); err == nil {
			temporary[i], err = Beside(path, f.Data)
		}
		if err != nil {
			return fmt.Errorf("bundle: %w", err)
		}
	}
	for i, f := range files {
		if err := os.Rename(temporary[i], filepath.Join(dir, filepath.FromSlash(f.Name))); err != nil {
			return fmt.Errorf("bundle: %w", err)
		}
		temporary[i] = ""
	}
	return nil
}

// Beside writes data into a file of another name beside path, to be renamed or
// removed, and gives that name, on an error too where there is a file.
func Beside(path string, data []byte) (string, error) {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	if e := f.Chmod(0o644); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	return f.Name(), err
}
