package cli

import (
	"github.com/spf13/cobra"

	"openbastion/core/lab"
)

func (a *app) schema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the lab file",
		Long: "Prints the JSON Schema (2020-12) of the lab file, for editors that complete and check YAML.",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return a.json(lab.Schema()) },
	}
}
