package boot

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"io"

	"github.com/cavaliergopher/cpio"
)

// Where the initial file system has what its first process needs.
const (
	Init    = "init"
	Folder  = "modules"
	pattern = Folder + "/%03d-%s.ko"
)

// Alone refuses a program that needs libraries, which are not in a machine.
func Alone(program []byte) error {
	f, err := elf.NewFile(bytes.NewReader(program))
	if err != nil {
		return fmt.Errorf("not a Linux program: %w", err)
	}
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP {
			return errors.New(
				"this build needs libraries of this machine; use one that is linked statically (CGO_ENABLED=0)",
			)
		}
	}
	return nil
}

// Write writes the initial file system: a program as its first process, and the modules in
// the order in which they are to be loaded.
func Write(w io.Writer, program []byte, modules []Module) error {
	out := cpio.NewWriter(w)
	add := func(name string, mode cpio.FileMode, data []byte) error {
		if err := out.WriteHeader(&cpio.Header{Name: name, Mode: mode, Size: int64(len(data)), Links: 1}); err != nil {
			return fmt.Errorf("initial file system: %s: %w", name, err)
		}
		_, err := out.Write(data)
		return err
	}
	for _, folder := range []string{"dev", "proc", "sys", "tmp", "etc", Folder} {
		if err := add(folder, cpio.TypeDir|0o755, nil); err != nil {
			return err
		}
	}
	if err := add(Init, cpio.TypeReg|0o755, program); err != nil {
		return err
	}
	for i, m := range modules {
		if err := add(fmt.Sprintf(pattern, i, m.Name), cpio.TypeReg|0o644, m.Data); err != nil {
			return err
		}
	}
	return out.Close()
}
