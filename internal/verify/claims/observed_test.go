package claims

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/mac"
)

// In a lab that something else made, what a machine shows of itself decides what it is attached to: what is not in the plan
// never holds, a path by it is a bypass, and nobody who was not looked at is known to stand behind an appliance. A MAC address
// that the file does not give is no evidence.
func TestMachinesOfOthersShowThemselves(t *testing.T) {
	field := facts
	field.Name = FieldStage
	second := Unplanned{Kind: "adapter", Name: "eth1", Addresses: []netip.Prefix{netip.MustParsePrefix("172.29.64.78/24")}, Attempts: 8}
	past := second
	past.Source, past.Bypass = netip.MustParseAddr("172.29.64.78"), true
	other := mac.Address{0x52, 0x54, 0, 1, 2, 3}
	moved := func(what Asking, a *Answer) {
		switch g := a.Got.(type) {
		case GotNeighbor:
			g.Hardware = []mac.Address{other}
			a.Got = g
		case GotLease:
			g.Lease.ServerMAC = other
		case GotServers:
			g.Offers[0].ServerMAC = other
		}
	}
	for name, c := range map[string]struct {
		seen   []Observed
		change func(Asking, *Answer)
		want   map[string]Verdict
	}{
		"looked at":        {[]Observed{{Machine: "heron"}}, nil, map[string]Verdict{"heron.behind": Holds, "heron.no-bypass": Holds}},
		"nobody looked":    {nil, nil, map[string]Verdict{"heron.behind": Unknown, "heron.no-bypass": Holds}},
		"another was":      {[]Observed{{Machine: "otter"}}, nil, map[string]Verdict{"heron.behind": Unknown}},
		"a second adapter": {[]Observed{{"heron", []Unplanned{second}}}, nil, map[string]Verdict{"heron.behind": Unknown, "heron.no-bypass": Unknown}},
		"a path by it":     {[]Observed{{"heron", []Unplanned{second, past}}}, nil, map[string]Verdict{"heron.behind": Broken, "heron.no-bypass": Broken}},
		"the port's MAC":   {[]Observed{{Machine: "heron"}}, moved, map[string]Verdict{"heron.gateway": Unknown, "heron.dhcp": Holds, "reedbed.one-dhcp": Holds}},
	} {
		t.Run(name, func(t *testing.T) {
			p, of := sample(t), field
			of.Observed = c.seen
			_, answers := run(t, &fake{change: c.change})
			got := map[string]Verdict{}
			for _, r := range Judge(p, of, answers.Answers).Claims {
				got[r.ID] = r.Verdict
			}
			require.NotEmpty(t, got)
			for id, want := range c.want {
				assert.Equal(t, want, got[id], id)
			}
		})
	}
}
