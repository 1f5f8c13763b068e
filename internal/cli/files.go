package cli

import (
	"errors"
	"os"
	"path/filepath"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/lab"
)

// deliver writes a result to a file, where one is named, else to standard
// output. what is what the file then holds.
func (a *app) deliver(to, what string, data []byte, replace bool) error {
	if to == "" {
		_, err := a.out.Write(data)
		return err
	}
	if err := a.writeNew(to, data, replace); err != nil {
		return err
	}
	a.note(what + " is in " + to)
	return nil
}

// lineWidth is how wide a text is set: as the terminal that shows it, up to a
// hundred columns, and eighty for a file.
func (a *app) lineWidth(to string) int {
	if s := a.screen(); to == "" && s.width > 0 {
		return min(s.width, 100)
	}
	return 80
}

// writeNew writes a whole file or none: never over one that is there, unless
// replace is set, and never over what this call has read.
func (a *app) writeNew(path string, data []byte, replace bool) error {
	return notWritten(atomicfile.Write(path, data, atomicfile.Options{Replace: replace, Inputs: a.inputs}))
}

// notWritten returns why a file was not written, and what to do.
func notWritten(err error) error {
	if err == nil {
		return nil
	}
	hint := ""
	switch {
	case errors.Is(err, atomicfile.ErrThere):
		hint = "choose another file, or use --replace where the command has it"
	case errors.Is(err, atomicfile.ErrInput), errors.Is(err, atomicfile.ErrFolder):
		hint = "choose another place"
	case errors.Is(err, atomicfile.ErrChanged):
		hint = "run the command again: it starts from the file as it is now"
	}
	return failure{exitUsage, err.Error(), hint}
}

// text returns what a lab file held when this call read it; a file that was not
// read yet is read now.
func (a *app) text(file string) ([]byte, error) {
	if data, ok := a.texts[file]; ok {
		return data, nil
	}
	return a.read(file, lab.MaxSize+1)
}

// fromHere returns a path as it is shortest from the working folder.
func fromHere(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if near, err := filepath.Rel(here, path); err == nil && len(near) < len(path) {
		return near
	}
	return path
}
