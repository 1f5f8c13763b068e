// Command manual writes a manual page for each command of bastion into a
// folder: manual FOLDER VERSION DATE, the date as YEAR-MONTH-DAY.
package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra/doc"

	"openbastion/internal/cli"
)

func main() {
	if err := write(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(2)
	}
}

func write(args []string) error {
	if len(args) != 3 {
		return fmt.Errorf("say FOLDER VERSION DATE")
	}
	date, err := time.Parse(time.DateOnly, args[2])
	if err != nil {
		return err
	}
	root := cli.Commands()
	root.DisableAutoGenTag = true
	return doc.GenManTree(
		root,
		&doc.GenManHeader{Section: "1", Date: &date, Source: "bastion " + args[1], Manual: "Open Bastion"},
		args[0],
	)
}
