// Command bastion plans a lab behind a firewall, rehearses it, and checks it.
package main

import (
	"os"

	"openbastion/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
