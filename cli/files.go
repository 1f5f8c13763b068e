package cli

import (
	"fmt"
	"os"

	"openbastion/export/bundle"
)

// deliver writes a result to a file, where one is named, else to standard
// output. what is what the file then holds.
func (a *app) deliver(to, what string, data []byte, replace bool) error {
	if to == "" {
		_, err := a.out.Write(data)
		return err
	}
	if err := writeNew(to, data, replace); err != nil {
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

// writeNew writes a whole file or none. A file that is there stays, unless
// replace is set.
func writeNew(path string, data []byte, replace bool) error {
	if _, err := os.Lstat(path); err == nil && !replace {
		return failure{exitUsage, path + " is there already and stays as it is",
			"choose another place, or say --replace where the command has it"}
	}
	cannot := func(err error) error {
		return failure{exitUsage, fmt.Sprintf("cannot write %s: %v", path, cause(err)), ""}
	}
	name, err := bundle.Beside(path, data)
	if name != "" {
		defer os.Remove(name) // gone already when all went well
	}
	if err == nil {
		err = os.Rename(name, path)
	}
	if err != nil {
		return cannot(err)
	}
	return nil
}
