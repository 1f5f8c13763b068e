package cli

import (
	"runtime"

	"github.com/spf13/cobra"
)

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Say which version this is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(struct {
					Schema  string  `json:"schema"`
					Lab     *string `json:"lab"`
					Version string  `json:"version"`
					Go      string  `json:"go"`
					System  string  `json:"system"`
				}{"openbastion.version/1", nil, Version, runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH})
			}
			a.screen().line("bastion ", Version, " ", runtime.GOOS, "/", runtime.GOARCH)
			return nil
		},
	}
}
