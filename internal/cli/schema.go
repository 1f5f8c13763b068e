package cli

import (
	"encoding/json"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
)

// fileSchemas are the schemas of files that people write, by name.
var fileSchemas = map[string]func() any{
	"lab":     func() any { return lab.Schema() },
	"profile": func() any { return lab.ProfileSchema() },
	"wording": func() any { return lab.WordingSchema() },
	"rubric":  func() any { return lab.RubricSchema() },
	"hosts":   func() any { return lab.HostsSchema() },
	"class":   func() any { return lab.ClassSchema() },
}

func (a *app) schema() *cobra.Command {
	var of string
	c := &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of a file or document",
		Long: `Prints a JSON Schema (2020-12). Of the files that people write, for editors that
complete and check YAML: lab, profile, wording, class, hosts,
rubric. Of what commands print
with --format json:

  ` + strings.Join(foldWords(api.Names(), 76), "\n  "),
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if make := fileSchemas[of]; make != nil {
				return a.json(make())
			}
			if !slices.Contains(api.Names(), of) {
				return usage("--of: no file or document is called %q; see bastion schema --help", of)
			}
			data, err := api.Schema(of)
			if err != nil {
				return err
			}
			return a.json(json.RawMessage(data))
		},
	}
	c.Flags().StringVar(&of, "of", "lab", "of what, see above (default lab)")
	return c
}

// foldWords joins words with blanks into lines of at most so many columns.
func foldWords(words []string, columns int) []string { return fold(strings.Join(words, ", "), columns) }
