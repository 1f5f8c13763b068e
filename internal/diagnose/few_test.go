package diagnose

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// A large lab is diagnosed by a few of those that are alike, and what is left has the addresses,
// numbers and names that it has in the whole one. The true cause is found as in the whole.
func TestFew(t *testing.T) {
	var text strings.Builder
	fmt.Fprint(&text, "bastion: 1\nlab: big\nspace: 10.0.0.0/8\nsegments:\n  road: {reach: upstream, subnet: 172.20.0.0/16}\n")
	ports := "[{role: wan, segment: road}"
	guests := ""
	for s := range 6 {
		fmt.Fprintf(&text, "  s%d: {reach: isolated}\n", s)
		ports += fmt.Sprintf(", {role: lan, name: p%d, segment: s%d}", s, s)
		for g := range 12 {
			guests += fmt.Sprintf("  g%d-%d: s%d\n", s, g, s)
		}
	}
	fmt.Fprintf(&text, "appliances: {gate: {ports: %s]}}\nguests:\n%s", ports, guests)
	l, err := lab.Read("big", []byte(text.String()))
	require.NoError(t, err)
	whole, err := plan.Build(l)
	require.NoError(t, err)
	same, left := Few(whole, func(string) bool { return true })
	require.Zero(t, left)
	require.Same(t, whole, same)

	few, left := Few(whole, func(name string) bool { return name == "g5-5" })
	assert.Equal(t, 6*12, left+len(few.Guests()))
	assert.Less(t, len(few.Guests()), 40)
	require.NotNil(t, few.Machine("g5-5"))
	for _, a := range few.Adapters {
		var of *plan.Adapter
		for _, x := range whole.Adapters {
			if x.Machine.Name == a.Machine.Name && x.Name == a.Name {
				of = x
			}
		}
		assert.Equal(t, fmt.Sprint(of.Number, of.MAC, of.Address, of.Segment.Name, of.Segment.Subnet),
			fmt.Sprint(a.Number, a.MAC, a.Address, a.Segment.Name, a.Segment.Subnet), "%s %s", a.Machine.Name, a.Name)
	}
	s := NewStudy(few)
	s.Run()
	var seen []Seen
	for _, text := range []string{"g5-5.router=none", "g5-5.dhcp=holds"} {
		x, err := s.ParseSeen(text)
		require.NoError(t, err)
		seen = append(seen, x)
	}
	first := s.Causes(seen)[0]
	require.NotEmpty(t, first.Mistakes)
	assert.Contains(t, first.Mistakes[0].ID(), "5")
}
