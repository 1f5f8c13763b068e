package adopt

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
)

func paste(name, text string) Source {
	l := listing.Read(text)
	return Source{File: name + ".txt", Name: name, Shown: &l}
}

func export(name string, networks ...string) Source {
	b := &identify.Built{Name: name, CPUs: 2}
	for i, n := range networks {
		b.Adapters = append(b.Adapters, identify.BuiltAdapter{Number: i + 1, Network: n, Plugged: n != "spare"})
	}
	return Source{File: name + ".ovf", Built: b}
}

const gateShows = "wan -> eth0 -> v4: 172.29.64.7/24\nlan -> eth1 -> v4: 10.83.16.1/24\ndefault via 172.29.64.1 dev eth0\n"

// What is told of who stands where, and by what.
func TestDeduced(t *testing.T) {
	for _, c := range []struct {
		name    string
		sources []Source
		want    []string
		not     []string
	}{
		{"next hops tell the appliance, whatever it is called", []Source{paste("xyz",
			"eth0 172.29.64.7/24\neth1 10.83.16.1/24\ndefault via 172.29.64.1 dev eth0\n"),
			paste("heron", "eth0 10.83.16.60/24\ndefault via 10.83.16.1 dev eth0\n")},
			[]string{"  xyz:   # from xyz.txt\n    ports:", "role: wan, segment: outer, address: 172.29.64.7/24, gateway: 172.29.64.1",
				"role: lan"}, nil},
		{"words tell sides where nobody is behind", []Source{export("box", "WAN net", "LAN net", "spare")},
			[]string{"role: wan, segment: wan-net", "role: lan, segment: lan-net", "known-as: WAN net", "reach: upstream"}, nil},
		{"another spelling is another network", []Source{export("box", "WAN", "SW_LAN"), export("heron", "SW-LAN")},
			[]string{"known-as: SW_LAN", "known-as: SW-LAN", "segment: sw-lan2"}, nil},
		{"one name is one network without an address", []Source{export("box", "WAN", "in"), export("heron", "in"), export("otter", "in")},
			[]string{"{segment: in}"}, []string{"in2"}},
		{"DHCP from someone unknown is said", []Source{paste("gate", gateShows),
			paste("heron", "2: eth0: <UP> mtu 1500\n    inet 10.83.16.60/24 scope global dynamic eth0\nDHCP server: 10.83.16.254\n")},
			[]string{"segment: lan"}, nil},
		{"what the host shows is the host's", []Source{paste("gate", gateShows), paste(Host,
			"3: br0    inet 10.83.16.254/24 scope global br0\n")},
			[]string{"reach: host             # the host showed 10.83.16.254/24 there", "host-address: 10.83.16.254/24"}, []string{"  host:"}},
		{"and without it isolation is open", []Source{paste("gate", gateShows)}, []string{"reach: later            # isolated, unless"}, nil},
		{"rules are never seen", []Source{paste("gate", gateShows)}, []string{"rules: later"}, nil},
	} {
		text, _, err := Write("found", c.sources)
		require.NoError(t, err, c.name)
		for _, want := range c.want {
			assert.Contains(t, string(text), want, c.name)
		}
		for _, not := range c.not {
			assert.NotContains(t, string(text), not, c.name)
		}
	}
	_, _, err := Write("found", []Source{paste(Host, "eth0 172.29.64.9/24")})
	assert.ErrorContains(t, err, "nothing of a machine")
}

// Notes say what was taken for granted, and what could not be told apart.
func TestNotes(t *testing.T) {
	_, notes, err := Write(
		"found",
		[]Source{export("box", "a", "b"), paste("box", "eth0 10.83.16.1/24\neth1 10.83.17.1/24\n")},
	)
	require.NoError(t, err)
	all := strings.Join(notes, "\n")
	assert.Contains(t, all, "box shows eth0 with 10.83.16.1/24, but not on which of its adapters")
	assert.Contains(t, all, "box is taken for the appliance, as it has the most adapters")
	_, notes, err = Write("found", []Source{paste("gate", gateShows), paste("heron",
		"eth0 10.83.16.60/24\ndefault via 10.83.16.1 dev eth0\n")})
	require.NoError(t, err)
	assert.Equal(t, []string{"heron has 10.83.16.60: by DHCP, as in the file, or static?"}, notes)
}

func TestSides(t *testing.T) {
	for text, want := range map[string]string{
		"WAN": "wan", "Outside": "wan", "LAN net": "lan", "inside_1": "lan", "DMZ-2": "dmz", "mgmt": "manage", "wan lan": "", "vlan48": "",
		"eth0": "", "": "",
		"lan-wan-trunk": "", "plan": "", "Internal": "lan", "external network": "wan",
	} {
		assert.Equal(t, want, side(text), text)
	}
	for text, want := range map[string]string{"SW_LAN 2": "sw-lan-2", "host": "host-net", "later": "later-net", "": "", "___": "", "9": "",
		"Büro": "b-ro",
		"any":  "any-net", strings.Repeat("x", 80): ""} {
		assert.Equal(t, want, letters(text), text)
	}
	assert.Equal(t, "gate", nameOf("", "", "/tmp/gate.txt"))
	assert.Equal(t, "gate", nameOf("", "", `C:\pastes\gate.txt`))
	assert.Equal(t, "machine", nameOf("", "", "-"))
	taken := map[string]bool{}
	assert.Equal(t, []string{"a", "a2", "a3"}, []string{unused(taken, "a"), unused(taken, "a"), unused(taken, "a")})
}
