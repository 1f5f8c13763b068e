package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/testbed/supervisor"
)

// snapshot takes snapshots of the virtual machines of a lab, and puts them back.
func (a *app) snapshot() *cobra.Command {
	c := &cobra.Command{
		Use: "snapshot LAB take|list|back [NAME]", Short: "Take and restore snapshots",
		Long: `Takes a snapshot of every virtual machine of a lab, memory and disk, while all of them
stand still: so that they fit together. Back puts all of them back to it. Snapshots end
with the lab.`,
		Args: cobra.RangeArgs(2, 3),
		RunE: func(_ *cobra.Command, args []string) error {
			name := ""
			if len(args) > 2 {
				name = args[2]
			}
			switch {
			case args[1] == "list" && name == "":
				return a.listSnapshots(args[0])
			case args[1] == "take" && name != "":
				return a.done(
					args[0],
					supervisor.Operation{Verb: "take", Args: []string{name}},
					"snapshot "+name+" taken",
				)
			case args[1] == "back" && name != "":
				return a.done(
					args[0],
					supervisor.Operation{Verb: "back", Args: []string{name}},
					"all machines are back at "+name,
				)
			}
			return usage("usage: snapshot LAB take NAME, snapshot LAB back NAME, or snapshot LAB list")
		},
	}
	return c
}

func (a *app) listSnapshots(named string) error {
	if err := a.wantFormat("text", "json"); err != nil {
		return err
	}
	said, err := a.operate(named, supervisor.Operation{Verb: "snapshots"})
	if err != nil {
		return err
	}
	list := []api.Snapshot{}
	if err := json.Unmarshal([]byte(said), &list); err != nil {
		return err
	}
	if a.format == "json" {
		return a.json(api.Snapshots{Schema: api.SnapshotsSchema, Snapshots: list})
	}
	s := a.screen()
	if len(list) == 0 {
		s.line("No snapshot was taken. Next: bastion snapshot " + named + " take NAME")
		return nil
	}
	t := table{head: []string{"snapshot", "taken"}}
	for _, r := range list {
		t.add(r.Name, r.At.Local().Format("2006-01-02 15:04:05"))
	}
	s.table(t)
	return nil
}
