package identify

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"openbastion/core/listing"
)

func TestCompare(t *testing.T) {
	p := sample(t)
	const hop, names = "its next hop is not shown; the next hop 10.83.16.1 is planned", "its resolver is not shown; 10.83.16.1 is planned"
	for _, c := range []struct {
		what, as, text string
		want           []string // parts of each message that is not as planned, in order
	}{
		{"as planned, Linux", "heron", "2: enp1s0: <BROADCAST,UP,LOWER_UP>\n    link/ether 02:5b:ac:3f:e7:01 brd ff:ff:ff:ff:ff:ff\n    inet 10.83.16.50/24 brd 10.83.16.255 scope global dynamic enp1s0\ndefault via 10.83.16.1 dev enp1s0\n10.83.16.0/24 dev enp1s0\nnameserver 10.83.16.1\n", nil},
		{"BSD, no resolver shown", "heron", "vtnet0: flags=8843<UP> metric 0 mtu 1500\n\tether 02:5b:ac:3f:e7:01\n\tinet 10.83.16.51 netmask 0xffffff00 broadcast 10.83.16.255\n\tstatus: active\ndefault            10.83.16.1         UGS      vtnet0\n", []string{names}},
		{"as planned, desktop", "heron", "Ethernet adapter Ethernet:\n\n   Physical Address. . . . . . . . . : 02-5B-AC-3F-E7-01\n   IPv4 Address. . . . . . . . . . . : 10.83.16.52(Preferred)\n   Subnet Mask . . . . . . . . . . . : 255.255.255.0\n   Default Gateway . . . . . . . . . : 10.83.16.1\n   DHCP Server . . . . . . . . . . . : 10.83.16.1\n   DNS Servers . . . . . . . . . . . : 10.83.16.1\n", nil},
		{"a desktop without a gateway", "heron", "Ethernet adapter Ethernet:\n\n   IPv4 Address. . . . . . . . . . . : 10.83.16.52(Preferred)\n   Subnet Mask . . . . . . . . . . . : 255.255.255.0\n   Default Gateway . . . . . . . . . : \n   DNS Servers . . . . . . . . . . . : 10.83.16.1\n",
			[]string{"it has no way out, and the next hop 10.83.16.1 is planned"}},
		{"nobody answered", "heron", "2: eth0: <UP>\n    inet 169.254.7.9/16 scope link eth0\n", []string{"169.254.7.9, which it gave itself", hop, names}},
		{"on another segment", "heron", "2: eth0: <UP>\n    inet 172.29.64.140/24\ndefault via 172.29.64.1\n",
			[]string{"it is really on causeway", "its next hop is 172.29.64.1, and 10.83.16.1 is planned: that leads past the appliance", names}},
		{"on none", "heron", "2: eth0: <UP>\n    inet 192.0.2.5/24\n", []string{"on no segment of the lab", hop, names}},
		{"another lease server", "heron", "Ethernet adapter Ethernet:\n   IPv4 Address. . . : 10.83.16.60\n   Subnet Mask . . . : 255.255.255.0\n   DHCP Server . . . : 10.83.16.254\n", []string{"its lease from 10.83.16.254, and 10.83.16.1 is planned", hop, names}},
		{"outside the pool", "heron", "2: eth0: <UP>\n    inet 10.83.16.201/24\n", []string{"outside the pool 10.83.16.50-10.83.16.199", hop, names}},
		{"another's address", "heron", "2: eth0: <UP>\n    inet 10.83.16.1/24\n", []string{"which is another machine's", hop, names}},
		{"not its reservation", "otter", "2: eth0: <UP>\n    inet 10.83.16.60/24\n", []string{"10.83.16.20 is planned", hop, names}},
		{"a wrong mask", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/16\n", []string{"/16 (255.255.0.0), and boathouse has /24", "next hop 10.83.32.1 is planned", "resolver is not shown"}},
		{"all its bits", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/32\ndefault via 10.83.32.1\nnameserver 10.83.32.1", []string{"the mask /32"}},
		{"no mask", "ferry", "address 10.83.32.10\ngateway 10.83.32.1\ndns 10.83.32.1\n", []string{"its mask is not shown"}},
		{"a lease where a static address is planned", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/24 scope global dynamic eth0\ndefault via 10.83.32.1\nnameserver 10.83.32.1", []string{"has a lease, and a static address is planned"}},
		{"typed where a lease is planned", "heron", "iface eth0 inet static\n address 10.83.16.60\n netmask 255.255.255.0\n gateway 10.83.16.1\n dns-nameservers 10.83.16.1", []string{"set by hand, and a lease is planned"}},
		{"two ways out", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\n3: eth1: <UP>\n    inet 172.29.64.141/24\ndefault via 10.83.16.1 dev eth0\ndefault via 172.29.64.1 dev eth1\n", []string{"an adapter on causeway that is in no plan", "next hop is 172.29.64.1", "2 ways out", names}},
		{"another resolver", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\ndefault via 10.83.16.1\nnameserver 198.51.100.53\n",
			[]string{"its resolver is 198.51.100.53"}},
		{"a resolver of its own", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\ndefault via 10.83.16.1\nnameserver 127.0.0.53\n",
			[]string{"it asks itself for names"}},
		{"the appliance, WAN still waiting", "sluice",
			"2: eth1: <UP>\n    inet 10.83.16.1/24\n3: eth2: <UP>\n    inet 10.83.32.1/24\n4: eth1.48@eth1: <UP>\n    inet 10.83.48.1/24\n",
			[]string{"adapter 1 (wan on causeway) is not shown; a lease from upstream is planned", "its next hop is not shown"}},
		{"the appliance as planned", "sluice", "WAN (wan) -> em0 -> v4/DHCP4: 172.29.64.130/24\nLAN (lan) -> em1 -> v4: 10.83.16.1/24\nDMZ (dmz) -> em2 -> v4: 10.83.32.1/24\nQUARANTINE -> em1.48 -> v4: 10.83.48.1/24\ndefault via 172.29.64.1 dev em0\n", nil},
		{"the appliance the wrong way round", "sluice", "WAN (wan) -> em0 -> v4: 10.83.16.1/24\nLAN (lan) -> em1 -> v4/DHCP4: 172.29.64.130/24\n",
			[]string{"they are the wrong way round", "next hop"}},
		{"an inside gateway", "sluice", "lan 10.83.16.1/24 gateway 10.83.16.254\n", []string{"an inside port, has the gateway 10.83.16.254", "adapter 1", "adapter 3", "quarantine"}},
		{"what was typed", "sluice", "Enter the LAN IPv4 address: 10.83.61.1\nEnter the LAN bit count: 16\n",
			[]string{`"10.83.61.1" was typed`, `"16" was typed`, "adapter 1", "adapter 2", "adapter 3", "quarantine", "next hop"}},
		{"a slip", "ferry", "2: eth0: <UP>\n    inet 10.83.32.1O/24\ndefault via 10.83.32.1\nnameserver 10.83.32.1", []string{"line 2 says 10.83.32.1O/24; is that 10.83.32.10?", "if line 2 was read rightly"}},
	} {
		list := Compare(p, p.Machine(c.as), listing.Read(c.text))
		var told []string
		for _, d := range list {
			if d.Sight == AsPlanned || d.Sight == Remark {
				continue
			}
			told = append(told, d.Message)
			assert.NotEmpty(t, d.Remedy, c.what)
		}
		if !assert.Len(t, told, len(c.want), "%s: %s", c.what, strings.Join(told, " | ")) {
			continue
		}
		for i, w := range c.want {
			assert.Contains(t, told[i], w, c.what)
		}
	}
}

func FuzzCompare(f *testing.F) {
	f.Add("Ethernet adapter x:\n IPv4 Address : 1.2.3.4\n Subnet Mask : 255.0.0.0\n Default Gateway : 1.2.3.1")
	f.Add("2: eth0: <UP>\n    inet 10.83.16.60/24\ndefault via 10.83.16.1\nnameserver 1.1.1.1")
	p := build(f, "bastion: 1\nlab: f\nsegments: {u: {reach: upstream}, i: {reach: isolated}}\nappliances: {g: {ports: [{role: wan, segment: u}, {role: lan, segment: i}]}}\nguests: {h: i}")
	f.Fuzz(func(t *testing.T, text string) {
		for _, m := range p.Machines {
			Compare(p, m, listing.Read(text))
		}
	})
}
