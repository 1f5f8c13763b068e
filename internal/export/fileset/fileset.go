// Package bundle is files that belong together: made in memory, and written
// whole or not at all.
package fileset

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"openbastion/internal/atomicfile"
)

// File is one of them. Name may hold folders, with slashes.
type File struct {
	Name string
	Data []byte
}

// Write writes the files into a folder, which is made when it is not there.
// Unless replace is set, none is written when one of them is there; inputs are
// never written over. Each file appears whole; when one cannot be written, those
// that were new and the folders that were made are taken away again.
func Write(dir string, files []File, replace bool, inputs ...string) (err error) {
	var made []*atomicfile.File
	var folders, placed []string
	defer func() {
		for _, f := range made {
			f.Abort()
		}
		if err == nil {
			return
		}
		for _, p := range placed {
			_ = os.Remove(p)
		}
		for _, d := range slices.Backward(folders) { // those that were made here, and are empty
			_ = os.Remove(d)
		}
	}()
	for _, f := range files { // all of them first beside where they go
		if !filepath.IsLocal(filepath.FromSlash(f.Name)) {
			return fmt.Errorf("the name %q points outside its folder", f.Name)
		}
		path := filepath.Join(dir, filepath.FromSlash(f.Name))
		if folders, err = makeFolders(folders, filepath.Dir(path)); err != nil {
			return err
		}
		one, err := atomicfile.Create(path, atomicfile.Options{Replace: replace, Inputs: inputs})
		if err != nil {
			return err
		}
		made = append(made, one)
		if _, err := one.Write(f.Data); err != nil {
			return fmt.Errorf("%s cannot be written: %w", path, err)
		}
		if err := one.Finish(); err != nil { // however many they are, one is open
			return err
		}
	}
	for i, f := range files {
		path := filepath.Join(dir, filepath.FromSlash(f.Name))
		_, there := os.Lstat(path)
		if err := made[i].Commit(); err != nil {
			return err
		}
		if there != nil {
			placed = append(placed, path)
		}
	}
	return nil
}

// makeFolders makes a folder and those above it, and notes which were new.
func makeFolders(made []string, path string) ([]string, error) {
	var missing []string
	for at := path; ; at = filepath.Dir(at) {
		if _, err := os.Stat(at); err == nil || at == filepath.Dir(at) {
			break
		}
		missing = append(missing, at)
	}
	for _, p := range slices.Backward(missing) {
		if err := os.Mkdir(p, 0o755); err != nil {
			return made, fmt.Errorf("%s cannot be made: %w", p, err)
		}
		made = append(made, p)
	}
	return made, nil
}
