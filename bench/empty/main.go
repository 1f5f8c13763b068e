// Command empty is what a program with the command library costs to start when
// it does nothing: the measure for the start of bastion.
package main

import (
	"fmt"

	"github.com/spf13/cobra"
)

func main() {
	root := &cobra.Command{Use: "empty"}
	root.AddCommand(&cobra.Command{Use: "version", Run: func(*cobra.Command, []string) { fmt.Println("empty") }})
	_ = root.Execute()
}
