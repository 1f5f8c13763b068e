package simulator

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// What is handed to those alone that it matters to gives the same verdicts, claim by claim and word by
// word, as what everybody gets: over drawn labs with tags, static guests, second servers, twins and
// broken wires.
func TestCrowdedWiresAreExact(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var text strings.Builder
		pick := func(list ...string) string { return rapid.SampledFrom(list).Draw(t, "pick") }
		fmt.Fprintf(&text, "bastion: 1\nlab: crowd\nsegments:\n  road: {reach: upstream, subnet: 172.20.0.0/24, gateway: 172.20.0.1}\n"+
			"  desks: {reach: %s, subnet: 10.1.0.0/22%s}\n  tills: {reach: isolated, within: desks, vlan: 40, subnet: 10.2.0.0/24}\n",
			pick("isolated", "isolated", "host"), pick("", ", dhcp: none", ", router-advertisements: true"))
		fmt.Fprintf(&text, "appliances:\n  gate: {ports: [{role: wan, segment: road}, {role: lan, segment: desks, address: 10.1.0.1/22%s},"+
			" {role: lan, name: tills, segment: tills, over: lan}]%s}\nguests:\n",
			pick("", ", dhcp: {pool: 10.1.0.50-10.1.0.90}", ", dhcp: none"), pick("", ", rules: [allow any from desks to tills]"))
		for i := range rapid.IntRange(4, 40).Draw(t, "guests") {
			fmt.Fprintf(&text, "  g%d: %s\n", i, pick("desks", "desks", "desks", "tills",
				fmt.Sprintf("{segment: desks, static: 10.1.1.%d/22, gateway: 10.1.0.1}", i%20),
				"{adapters: [{segment: desks}, {segment: road}]}", "{segment: desks, plugged: false}",
				"{segment: desks, mac: '02:00:00:00:00:09'}"))
		}
		l, err := lab.Read("crowd", []byte(text.String()))
		require.NoError(t, err, text.String())
		p, err := plan.Build(l)
		if err != nil {
			return
		}
		defer func(was int) { crowded = was }(crowded)
		crowded = 1 << 30
		want := New(p).Outcome()
		crowded = 3
		got := New(p).Outcome()
		require.Equal(t, len(want.Claims), len(got.Claims))
		for i := range want.Claims {
			a, b := want.Claims[i], got.Claims[i]
			assert.Equal(t, a.ID+" "+string(a.Verdict)+" "+a.Observed, b.ID+" "+string(b.Verdict)+" "+b.Observed, text.String())
		}
	})
}
