package examples_test

import (
	"net/netip"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/draft"
)

// drafts are the labs of each kind as `bastion new` writes them.
var drafts = map[string]draft.Options{
	"desktop": {Shape: "one-lan", Hypervisor: "desktop", NAT: true, LANAddress: netip.MustParsePrefix("10.83.16.1/24"),
		Pool: "10.83.16.50-10.83.16.199"},
	"server-sockets":  {Shape: "sockets", Hypervisor: "server", Uplink: "enp1"},
	"successor":       {Shape: "replace", Hypervisor: "server", Uplink: "enp1", Profile: "wan-first"},
	"package":         {Shape: "four-sided", Hypervisor: "desktop", Uplink: "enp1"},
	"slim":            {Shape: "later-server", Hypervisor: "server", Uplink: "enp1"},
	"bridge":          {Shape: "transparent", Hypervisor: "server", Uplink: "enp1"},
	"one-arm":         {Shape: "one-armed", Hypervisor: "desktop", Uplink: "enp1"},
	"campus":          {Shape: "lines-and-tags", Hypervisor: "server", Uplink: "enp1"},
	"closed-range":    {Shape: "closed", Hypervisor: "desktop"},
	"linux-router":    {Shape: "one-lan", Hypervisor: "kernel", Uplink: "enp1", Profile: "plain-linux"},
	"class-of-twelve": {Shape: "classroom", Hypervisor: "server", Uplink: "enp1", Benches: 12},
}

// The example labs are what `bastion new` writes; UPDATE=1 writes them.
func TestExamplesAreDrafts(t *testing.T) {
	for name, o := range drafts {
		o.Lab = name
		want, err := draft.Write(o)
		require.NoError(t, err, name)
		if os.Getenv("UPDATE") != "" {
			require.NoError(t, os.WriteFile(name+".yaml", want, 0o600))
			continue
		}
		have, err := examples.Labs.ReadFile(name + ".yaml")
		require.NoError(t, err, name)
		assert.Equal(t, string(want), string(have), "%s: run UPDATE=1 go test ./examples", name)
	}
}
