package simulator

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Each flow of a lab tells what is named of its way, in this order, and how it
// ends.
func TestTrace(t *testing.T) {
	sample := string(example(t, "saltmarsh.yaml"))
	for _, c := range []struct {
		from, to, service string
		old, new          string
		steps             []string // machine, kind and a part of the text
		ends              string   // a part of what is told at the end
		change            string
	}{
		{"heron", "outside", "tcp/443", "", "", []string{
			"heron name queries buoy.example", "sluice arp who has 172.29.64.1?", "sluice name answers for buoy.example",
			"heron route goes by adapter 1 to the next hop 10.83.16.1", "heron packet tcp",
			"sluice rule the rule `allow any from reedbed to outside,boathouse` decides",
			"sluice translation source 10.83.16.50", "buoy packet SYN,ACK", "sluice translation becomes 203.0.113.80:443 > 10.83.16.50",
			"sluice packet SYN,ACK"}, "buoy saw 172.29.64.128", ""},
		{"outside", "ferry", "tcp/8443", "", "", []string{"buoy packet SYN",
			"sluice translation published: destination 172.29.64.128:8443 becomes 10.83.32.10:443", "sluice rule let through",
			"ferry packet SYN,ACK"}, "ferry saw 203.0.113.80", ""},
		{"newt", "heron", "icmp", "", "", []string{"newt arp who has 10.83.48.1", "sluice arp tag 48",
			"sluice lost the rule `deny any from tidepool to any` decides"}, "at sluice: the rule",
			"write `allow icmp from newt to heron` before line"},
		{"heron", "newt", "tcp/80", "", "", []string{"sluice lost no rule matches"}, "no rule matches",
			"write `allow tcp/80 from heron to newt` at the end"},
		{"outside", "heron", "tcp/22", "", "", []string{"lighthouse lost no route to 10.83.16.50", "lighthouse error unreachable"}, "no route",
			"give heron a fixed address (`reserve: 10.83.16.50`), and publish it"},
		{"outside", "ferry", "tcp/80", "", "", []string{"lighthouse lost no route"}, "no route", "publish it: `{port: tcp/80, to: ferry}`"},
		{"heron", "ferry", "udp/53", "", "", []string{"heron packet udp", "ferry packet udp"}, "ferry saw 10.83.16.50", ""},
		{"ferry", "outside", "icmp", "gateway: 10.83.32.1,", "gateway: 10.83.32.9,",
			[]string{"ferry arp who has 10.83.32.9", "ferry lost nothing answers for 10.83.32.9"}, "at ferry: nothing answers for 10.83.32.9", ""},
		{"heron", "outside", "udp/7", "- role: lan", "- plugged: false\n        role: lan", nil, "heron has no address", ""},
		{"heron", "sluice", "tcp/22", "", "", []string{"sluice lost port lan of sluice does not answer tcp there"}, "does not answer", ""},
	} {
		what := c.from + " to " + c.to + " by " + c.service
		text := strings.Replace(sample, c.old, c.new, 1)
		require.Equal(t, c.old == "", text == sample, what)
		l := build(t, []byte(text))
		party := func(name string) *plan.Adapter {
			if name == "outside" {
				return nil
			}
			for _, a := range l.plan.Machine(name).Adapters {
				if a.Segment.Inside() {
					return a
				}
			}
			return nil
		}
		service, err := lab.ParseService(c.service)
		require.NoError(t, err)
		got := l.Trace(party(c.from), party(c.to), service)
		at := 0
		for _, want := range c.steps {
			parts := strings.SplitN(want, " ", 3)
			found := false
			for ; at < len(got.Steps) && !found; at++ {
				s := got.Steps[at]
				found = s.Machine == parts[0] && s.Kind == parts[1] && strings.Contains(s.Text, parts[2])
			}
			if !assert.True(t, found, "%s: %s is not in %s", what, want, fmt.Sprint(got.Steps)) {
				break
			}
		}
		assert.Contains(t, got.Observed+got.Died, c.ends, what)
		assert.Contains(t, got.Change, c.change, what)
		assert.Equal(t, c.change != "", got.Tried, "%s: what lets it pass was tried", what)
		assert.Equal(t, got.Died == "", got.Passed, what)
	}
}
