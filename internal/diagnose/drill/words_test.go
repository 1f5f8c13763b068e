package drill

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// phrasings are sentences in which people name a mistake of the sample lab.
var phrasings = map[string][]string{
	"guest-unplugged:heron": {
		"heron's cable is out", "heron is disconnected", "the NIC of heron has no link", "no cable on heron", "heron: link down",
		"heron is not connected to any network", "virtual NIC of heron detached", "heron not plugged in", "heron is unplugged",
		"heron: no carrier", "the adapter of heron isn't attached, no link", "cable pulled at heron", "heron - link is down",
		"Heron has lost its link (cable out)", "heron adapter disconnected", "someone disconnected heron", "heron NIC not connected",
		"no link on heron", "heron's network cable is unplugged", "loose cable at heron",
	},
	"leases-off:sluice.lan": {
		"sluice's dhcp is disabled on lan", "DHCP server on sluice.lan is not running", "dhcp is switched off on sluice.lan",
		"no DHCP service on sluice.lan, it is turned off", "sluice.lan does not hand out leases, dhcp server is off",
		"the dhcp server of sluice.lan is stopped", "dhcp off on sluice.lan", "sluice.lan dhcp dead", "the DHCP daemon of sluice.lan is down",
		"leases are not being served by sluice.lan", "DHCP was never enabled on sluice.lan: it is off",
		"sluice.lan: DHCP disabled", "DHCP not started on sluice.lan", "lease server on sluice.lan off", "dhcp scope off on sluice.lan",
		"sluice.lan hands out no leases", "DHCP server crashed on sluice.lan", "sluice.lan doesn't serve DHCP", "sluice.lan no dhcp",
		"on sluice.lan the DHCP server does not run",
	},
	"guest-second-door:otter,causeway": {
		"otter has two NICs", "otter is dual-homed", "otter is dual homed to causeway", "otter has an extra nic on causeway",
		"second interface on otter", "otter: additional adapter on the causeway", "two network cards in otter",
		"otter has a second nic in causeway", "otter is multihomed", "otter with second network card on causeway",
		"extra adapter on otter", "otter has two interfaces", "otter has two adapters", "an additional nic of otter is on causeway",
		"second network card of otter goes to causeway", "second adapter otter", "otter dual-homed on WAN",
		"otter has additional interface to causeway", "extra nic otter causeway", "there is a second NIC in otter",
	},
	"masquerade-off:sluice": {
		"NAT is off on sluice", "no nat on sluice", "sluice does not masquerade", "masquerading disabled on sluice", "sluice: SNAT missing",
		"source NAT is not set on sluice", "no translation on sluice", "sluice isn't translating", "outbound nat missing on sluice",
		"sluice has no NAT rule", "sluice nat disabled", "nat was forgotten on sluice", "missing masquerade on sluice",
		"sluice does no address translation", "sluice nat off", "sluice forgot snat", "sluice lacks NAT", "sluice without nat",
		"PAT is missing on sluice", "no overload NAT on sluice",
	},
	"guest-without-gateway:ferry": {
		"ferry has no default route", "ferry: no default gateway", "ferry is missing its gateway", "gateway not set on ferry",
		"ferry lacks a default route", "the gateway of ferry is empty", "no next hop on ferry", "ferry has no router set",
		"default gateway missing on ferry", "ferry without gw", "no gw on ferry", "ferry has no way out set, gateway missing",
		"ferry: default route absent", "ferry forgot gateway", "ferry's default gateway is not set", "ferry has no default router",
		"no route: ferry has no gateway", "ferry has an empty default gateway", "missing default route ferry", "ferry gateway none",
	},
	"ports-swapped:sluice.wan,sluice.lan": {
		"wan and lan of sluice are crossed", "sluice lan and wan are mixed up", "sluice.wan and sluice.lan exchanged",
		"sluice: wan/lan reversed", "sluice.lan and sluice.wan are the wrong way round", "lan and wan interchanged on sluice",
		"interfaces of sluice are switched around", "sluice.wan swapped with sluice.lan", "crossed ports wan lan at sluice",
		"sluice: the adapters for wan and lan are swapped", "sluice wan lan swapped", "sluice wan and lan the other way round",
	},
	"second-server:reedbed": {
		"rogue dhcp on reedbed", "there is another DHCP server on reedbed", "two dhcp servers on reedbed",
		"an unauthorized dhcp server answers on reedbed", "a second dhcp server in reedbed", "competing DHCP server on reedbed",
		"unknown dhcp server on reedbed", "unplanned dhcp on reedbed", "a stranger serves dhcp on reedbed",
		"other dhcp server in reedbed", "rogue lease server on reedbed",
	},
	"host-leg:boathouse": {
		"the hypervisor has an interface on boathouse", "the host is connected to boathouse", "host adapter in boathouse",
		"host has an address on boathouse", "hypervisor is attached to boathouse", "host nic on boathouse", "the host sits on boathouse",
	},
	"appliance-off:sluice": {
		"sluice is down", "sluice crashed", "sluice is not running", "sluice hangs", "sluice was turned off", "sluice is dead",
		"sluice is stopped", "the firewall sluice is switched off", "sluice off", "sluice is disabled",
	},
	"mtu-small-outside:causeway": {
		"MTU problem on causeway", "causeway has a small mtu", "large packets are lost on causeway", "causeway: mtu black hole",
		"mtu too small on causeway", "fragmentation problem on causeway", "large frames dropped on causeway", "mtu causeway",
		"mss/mtu on causeway", "causeway drops large packets",
	},
}

// What people say of a mistake in words of their own leads to it, alone or among a few to choose from.
func TestOtherWords(t *testing.T) {
	s := study(t)
	d, err := New(s, 1, 1, nil)
	require.NoError(t, err)
	said, alone := 0, 0
	for id, list := range phrasings {
		for _, text := range list {
			var got []string
			for _, m := range d.Find(text) {
				got = append(got, m.ID())
			}
			said++
			if len(got) == 1 {
				alone++
			}
			if assert.Contains(t, got, id, "%q", text) {
				assert.LessOrEqual(t, len(got), 12, "%q: %s", text, strings.Join(got, " "))
			}
		}
	}
	t.Logf("%d sentences, %d of them mean one mistake", said, alone)
	for _, nothing := range []string{"", "hello", "it does not work", "the moon is full of cheese"} {
		assert.Empty(t, d.mean(meant(nothing), d.named(nothing)), nothing)
	}
}
