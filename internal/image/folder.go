package image

import (
	"io/fs"
	"os"
)

// Folder returns the plain files of a folder: a pipe or a device that stands there
// under the name of a manifest would never come to an end.
func Folder(dir string) fs.FS { return folder{os.DirFS(dir)} }

type folder struct{ fs.FS }

// Open opens a plain file or the folder.
func (f folder) Open(name string) (fs.File, error) {
	info, err := fs.Stat(f.FS, name)
	if err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrNotPlain}
	}
	if err != nil {
		return nil, err
	}
	return f.FS.Open(name)
}

// Stat looks at a file without opening it.
func (f folder) Stat(name string) (fs.FileInfo, error) { return fs.Stat(f.FS, name) }
