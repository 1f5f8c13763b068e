package cli

import (
	"github.com/spf13/cobra"

	"openbastion/internal/model/lab"
)

func (a *app) schema() *cobra.Command {
	var of string
	c := &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the lab file",
		Long: "Prints the JSON Schema (2020-12) of the lab file, of profiles, of wordings, hosts files or rubrics, for editors that complete and check YAML.",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			switch of {
			case "lab":
				return a.json(lab.Schema())
			case "profile":
				return a.json(lab.ProfileSchema())
			case "wording":
				return a.json(lab.WordingSchema())
			case "rubric":
				return a.json(lab.RubricSchema())
			case "hosts":
				return a.json(lab.ClassSchema())
			}
			return usage("--of is lab, profile, wording, hosts or rubric, not %q", of)
		},
	}
	c.Flags().StringVar(&of, "of", "lab", "of which file: lab, profile, wording, hosts or rubric")
	return c
}
