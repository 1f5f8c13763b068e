package identify

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"openbastion/core/listing"
)

func TestCompare(t *testing.T) {
	p := sample(t)
	for _, c := range []struct {
		what, as, text string
		want           []string // parts of each message, in order
	}{
		{"as planned, Linux", "heron", "2: enp1s0: <BROADCAST,UP,LOWER_UP>\n    link/ether 02:5b:ac:3f:e7:01 brd ff:ff:ff:ff:ff:ff\n    inet 10.83.16.50/24 brd 10.83.16.255 scope global dynamic enp1s0\ndefault via 10.83.16.1 dev enp1s0\n10.83.16.0/24 dev enp1s0\nnameserver 10.83.16.1\n", nil},
		{"as planned, BSD", "heron", "vtnet0: flags=8843<UP> metric 0 mtu 1500\n\tether 02:5b:ac:3f:e7:01\n\tinet 10.83.16.51 netmask 0xffffff00 broadcast 10.83.16.255\n\tstatus: active\ndefault            10.83.16.1         UGS      vtnet0\n", nil},
		{"as planned, desktop", "heron", "Ethernet adapter Ethernet:\n\n   Physical Address. . . . . . . . . : 02-5B-AC-3F-E7-01\n   IPv4 Address. . . . . . . . . . . : 10.83.16.52(Preferred)\n   Subnet Mask . . . . . . . . . . . : 255.255.255.0\n   Default Gateway . . . . . . . . . : 10.83.16.1\n   DHCP Server . . . . . . . . . . . : 10.83.16.1\n   DNS Servers . . . . . . . . . . . : 10.83.16.1\n", nil},
		{"nobody answered", "heron", "2: eth0: <UP>\n    inet 169.254.7.9/16 scope link eth0\n", []string{"169.254.7.9, which it gave itself"}},
		{"on another segment", "heron", "2: eth0: <UP>\n    inet 172.29.64.140/24\ndefault via 172.29.64.1\n",
			[]string{"it is really on causeway", "its next hop is 172.29.64.1"}},
		{"on none", "heron", "2: eth0: <UP>\n    inet 192.0.2.5/24\n", []string{"on no segment of the lab"}},
		{"another lease server", "heron", "Ethernet adapter Ethernet:\n   IPv4 Address. . . : 10.83.16.201\n   Subnet Mask . . . : 255.255.255.0\n   DHCP Server . . . : 10.83.16.254\n", []string{"outside the pool 10.83.16.50-10.83.16.199", "its lease came from 10.83.16.254"}},
		{"not its reservation", "otter", "2: eth0: <UP>\n    inet 10.83.16.60/24\n", []string{"10.83.16.20 is planned"}},
		{"a wrong mask", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/16\n", []string{"/16 (255.255.0.0), and boathouse has /24"}},
		{"two ways out", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\n3: eth1: <UP>\n    inet 172.29.64.141/24\ndefault via 10.83.16.1 dev eth0\ndefault via 172.29.64.1 dev eth1\n", []string{"really on causeway", "next hop is 172.29.64.1", "2 ways out"}},
		{"another resolver", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\ndefault via 10.83.16.1\nnameserver 198.51.100.53\n",
			[]string{"its resolver is 198.51.100.53"}},
		{"the appliance, WAN still waiting", "sluice",
			"2: eth1: <UP>\n    inet 10.83.16.1/24\n3: eth2: <UP>\n    inet 10.83.32.1/24\n4: eth1.48@eth1: <UP>\n    inet 10.83.48.1/24\n",
			[]string{"adapter 1 of sluice should have a lease from upstream and shows no address"}},
	} {
		list := Compare(p, p.Machine(c.as), listing.ReadShown(c.text))
		var told []string
		for _, d := range list {
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
			Compare(p, m, listing.ReadShown(text))
		}
	})
}
