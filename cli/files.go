package cli

import (
	"fmt"
	"os"
	"path/filepath"
)

// writeNew writes a whole file or none. A file that is there stays, unless
// replace is set.
func writeNew(path string, data []byte, replace bool) error {
	if _, err := os.Lstat(path); err == nil && !replace {
		return failure{exitUsage, path + " is there already and stays as it is", "choose another place, or say --replace where the command has it"}
	}
	cannot := func(err error) error {
		return failure{exitUsage, fmt.Sprintf("cannot write %s: %v", path, cause(err)), ""}
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return cannot(err)
	}
	defer os.Remove(f.Name()) // gone already when all went well
	if _, err = f.Write(data); err == nil {
		err = f.Chmod(0o644)
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return cannot(err)
	}
	return nil
}
