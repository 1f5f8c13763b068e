package cli

import (
	"github.com/spf13/cobra"

	"openbastion/core/lab"
)

func (a *app) schema() *cobra.Command {
	var of string
	c := &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the lab file",
		Long: "Prints the JSON Schema (2020-12) of the lab file, of profiles, or of wordings, for editors that complete and check YAML.",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			switch of {
			case "lab":
				return a.json(lab.Schema())
			case "profile":
				return a.json(lab.ProfileSchema())
			case "wording":
				return a.json(lab.WordingSchema())
			}
			return usage("--of is lab, profile or wording, not %q", of)
		},
	}
	c.Flags().StringVar(&of, "of", "lab", "of which file: lab, profile or wording")
	return c
}
