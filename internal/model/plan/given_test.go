package plan

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
)

// Where the file gives no subnet, the addresses that it gives decide, and nothing that is given is
// outside what is planned; only what is silent is chosen.
func TestTheUsersAddressesDecide(t *testing.T) {
	for _, c := range []struct{ port, guest, segment, want, by string }{
		{"address: 192.168.1.254/24", "", "", "192.168.1.0/24", "gate.lan has 192.168.1.254/24"},
		{"address: 192.168.1.254/25", "", "", "192.168.1.128/25", "gate.lan has 192.168.1.254/25"},
		{"", "static: 10.5.5.9/24", "", "10.5.5.0/24", "heron has 10.5.5.9/24"},
		{"address: 10.7.7.1/24", "static: 10.5.5.9/24", "", "10.7.7.0/24", "gate.lan has 10.7.7.1/24"},
		{"", "", "host-address: 10.6.6.1/24, reach: host", "10.6.6.0/24", "the host has 10.6.6.1/24"},
		{"dhcp: {pool: 10.8.8.50-10.8.8.99}", "", "", "10.8.8.0/24", ""},
		{"dhcp: {pool: 10.8.8.50-10.8.9.99}", "", "", "10.8.8.0/23", ""},
		{"", "reserve: 10.9.9.9", "", "10.9.9.0/24", ""},
		{"address: 192.168.1.254/24", "", "subnet: 10.1.1.0/24", "10.1.1.0/24", ""},
	} {
		with := func(text, more string) string {
			if more != "" {
				return text + ", " + more
			}
			return text
		}
		reach := "reach: isolated"
		if c.segment != "" && c.segment[0] == 'h' {
			reach = c.segment
		} else {
			reach = with(reach, c.segment)
		}
		text := fmt.Sprintf(
			"bastion: 1\nlab: l\nsegments:\n  up: {reach: upstream}\n  in: {%s}\n  other: {reach: isolated}\nappliances:\n  gate:\n    ports:\n"+
				"      - {role: wan, segment: up}\n      - {%s}\n      - {role: dmz, segment: other}\nguests:\n  heron: {%s}\n",
			reach,
			with("role: lan, segment: in", c.port),
			with("segment: in", c.guest),
		)
		l, err := lab.Read("lab.yaml", []byte(text))
		require.NoError(t, err, text)
		p, err := Build(l)
		require.NoError(t, err, text)
		s := p.Segment("in")
		assert.Equal(t, []string{c.want, c.by}, []string{s.Subnet.String(), s.By}, text)
		assert.Equal(t, c.by == "" && c.segment == "", s.Planned, "a star where the length is chosen: %s", text)
		assert.False(t, s.Subnet.Overlaps(p.Segment("other").Subnet), "what is chosen keeps clear: %s", text)
	}
}
