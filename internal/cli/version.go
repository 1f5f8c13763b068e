package cli

import (
	"runtime"

	"openbastion/internal/api"

	"github.com/spf13/cobra"
)

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Show the version", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(
					api.Version{
						Schema:  api.VersionSchema,
						Version: Version,
						Go:      runtime.Version(),
						System:  runtime.GOOS + "/" + runtime.GOARCH,
					},
				)
			}
			a.screen().line("bastion ", Version, " ", runtime.GOOS, "/", runtime.GOARCH)
			return nil
		},
	}
}
