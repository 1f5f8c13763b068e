package identify

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
)

// A profile is begun from what a console shows, and from nothing else.
func TestFactory(t *testing.T) {
	f := ReadFactory(" WAN (vtnet0)    -> v4/DHCP4: 172.23.88.71/24\n LAN (vtnet1)    -> v4: 10.118.40.1/24\n" +
		" DMZ (vtnet2)    -> v4: 10.118.41.1/24\n\n pool 10.118.40.120 - 10.118.40.180\n pool 10.118.41.9 - 10.118.41.20\n")
	assert.Equal(t, []lab.Role{lab.WAN, lab.LAN, lab.DMZ}, f.Roles)
	assert.Equal(t, "10.118.40.1/24", f.LAN.String())
	assert.Equal(t, "10.118.40.120", f.Pool[0].String())
	empty := "# factory:\n#   lan: ADDRESS/LENGTH         # its own\n#   pool: FIRST-LAST            # there\n# roles: [wan, lan, dmz]\n"
	filled := string(f.Fill([]byte("bastion-profile: 1\nname: mine\n" + empty)))
	p, err := lab.ReadProfile("mine.yaml", []byte(filled))
	require.NoError(t, err, filled)
	assert.Equal(t, f.LAN, p.Factory.LAN)
	assert.Equal(t, f.Roles, p.Roles)

	two := ReadFactory("lan eth0 192.168.80.1/24\nlan eth1 192.168.81.1/24\n")
	assert.False(t, two.LAN.IsValid(), "which of the two is unknown")
	assert.Empty(t, ReadFactory("nothing here").Roles)
}
