package cli

import "github.com/spf13/cobra"

// insideName is the hidden command that the first process of a reference machine is.
const insideName = "inside"

func (a *app) firstProcess() *cobra.Command {
	return &cobra.Command{
		Use:    insideName,
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE:   func(*cobra.Command, []string) error { return runInside() },
	}
}
