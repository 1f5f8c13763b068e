package identify

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

func build(t require.TestingT, text string) *plan.Plan {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

func sample(t *testing.T) *plan.Plan {
	data, err := os.ReadFile("../../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	return build(t, string(data))
}

// told writes a result as device=number(how), with conflicts.
func told(r Result) string {
	var parts []string
	for _, row := range r.Rows {
		text := fmt.Sprintf("%s=%d(%s)", row.Device, row.Number, row.How)
		if row.Conflict != "" {
			text += "!" + row.Conflict
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " | ")
}

// Listings in many hands, each with what must come of it: the whole answer, or
// the conflict that must be named.
func TestListings(t *testing.T) {
	p := sample(t)
	for _, c := range []struct{ what, text, want string }{
		{"ip link", "1: lo: <LOOPBACK,UP> mtu 65536\n    link/loopback 00:00:00:00:00:00 brd 00:00:00:00:00:00\n2: enp1s0: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    link/ether 02:5b:ac:50:c2:02 brd ff:ff:ff:ff:ff:ff\n3: enp2s0: <UP,LOWER_UP>\n    link/ether 02:5b:ac:50:c2:01 brd ff:ff:ff:ff:ff:ff\n", "enp1s0=2(mac) | enp2s0=1(mac)"},
		{"ip -br link", "lo               UNKNOWN        00:00:00:00:00:00 <LOOPBACK,UP,LOWER_UP>\neth0             UP             02:5b:ac:50:c2:03 <BROADCAST,MULTICAST,UP,LOWER_UP>\n", "eth0=3(mac)"},
		{"a tagged one", "5: eth1.48@eth1: <BROADCAST,UP>\n    link/ether 02:5b:ac:50:c2:02\n6: eth1: <UP>\n    link/ether 02:5b:ac:50:c2:02",
			"eth1.48=2(mac) | eth1=2(mac)"},
		{"ifconfig of Linux", "eth0: flags=4163<UP,BROADCAST,RUNNING,MULTICAST>  mtu 1500\n        inet 10.83.16.1  netmask 255.255.255.0  broadcast 10.83.16.255\n        ether 02:5b:ac:50:c2:02  txqueuelen 1000  (Ethernet)\n        RX packets 10  bytes 840 (840.0 B)\n", "eth0=2(mac)"},
		{"the old one", "eth0      Link encap:Ethernet  HWaddr 02:5B:AC:50:C2:01  \n          inet addr:172.29.64.130  Bcast:172.29.64.255  Mask:255.255.255.0\n", "eth0=1(mac)"},
		{"ifconfig of BSD", "vtnet0: flags=8843<UP,BROADCAST,RUNNING> metric 0 mtu 1500\n\toptions=80028<VLAN_MTU>\n\tether 02:5b:ac:50:c2:01\n\tinet 172.29.64.130 netmask 0xffffff00 broadcast 172.29.64.255\n\tmedia: Ethernet autoselect\n\tstatus: active\nlo0: flags=8049<UP,LOOPBACK>\n\tinet 127.0.0.1 netmask 0xff000000\n", "vtnet0=1(mac)"},
		{"an installer", "Devices found:\n\nvtnet0   02:5b:ac:50:c2:01   (up) VirtIO Networking Adapter\nvtnet1   02:5b:ac:50:c2:03   (up) VirtIO Networking Adapter\n", "vtnet0=1(mac) | vtnet1=3(mac)"},
		{"with counts", "1) em0 025bac50c201\n2) em1 025bac50c202\n", "em0=1(mac) | em1=2(mac)"},
		{"with dots and noise", "~~ login: \x1b[1mport0\x1b[0m - 025b.ac50.c203 ~~\n", "port0=3(mac)"},
		{"tails by hand", "eth0 c2:01\neth1 C2-03\n eth2 = c202\n", "eth0=1(tail) | eth1=3(tail) | eth2=2(tail)"},
		{"ip -o link", "2: eth0    inet 10.83.16.1/24 brd 10.83.16.255 scope global eth0\\ valid_lft forever\n3: eth1: <BROADCAST,UP,LOWER_UP> mtu 1500 qdisc fq state UP mode DEFAULT group default qlen 1000\\    link/ether 02:5b:ac:50:c2:03 brd ff:ff:ff:ff:ff:ff\n", "eth0=2(address) | eth1=3(mac)"},
		{"ip addr", "2: ens3: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc fq_codel state UP group default qlen 1000\n    link/ether 02:5b:ac:50:c2:01 brd ff:ff:ff:ff:ff:ff\n    altname enp0s3\n    inet 172.29.64.131/24 brd 172.29.64.255 scope global dynamic ens3\n       valid_lft 7100sec preferred_lft 7100sec\n    inet6 fe80::5b:acff:fe50:c201/64 scope link\n", "ens3=1(mac)"},
		{"ip -j link", `[{"ifindex":1,"ifname":"lo","link_type":"loopback","address":"00:00:00:00:00:00"},{"ifindex":2,"ifname":"eth0","flags":["UP"],"operstate":"UP","address":"02:5b:ac:50:c2:02","broadcast":"ff:ff:ff:ff:ff:ff"},{"ifindex":3,"ifname":"eth1","operstate":"DOWN","address":"02:5b:ac:50:c2:01"}]`, "eth0=2(mac) | eth1=1(mac)!it has no link: check whether its adapter is connected"},
		{"ifconfig with lladdr", "em0: flags=8843<UP,BROADCAST,RUNNING,SIMPLEX,MULTICAST> mtu 1500\n\tlladdr 02:5b:ac:50:c2:01\n\tindex 1 priority 0 llprio 3\n\tmedia: Ethernet autoselect (1000baseT full-duplex)\n\tstatus: active\nenc0: flags=0<>\n\tindex 3 priority 0 llprio 3\npflog0: flags=141<UP,RUNNING,PROMISC> mtu 33136\n", "em0=1(mac)"},
		{"ifconfig with address:", "wm0: flags=0x8843<UP,BROADCAST,RUNNING,SIMPLEX,MULTICAST> mtu 1500\n\tec_capabilities=7<VLAN_MTU,VLAN_HWTAGGING,JUMBO_MTU>\n\taddress: 02:5b:ac:50:c2:03\n\tmedia: Ethernet autoselect\n", "wm0=3(mac)"},
		{"at start-up", "em0: <Network Connection> port 0xd020-0xd027 mem 0xf1200000-0xf121ffff irq 19 at device 3.0 on pci0\nem0: Ethernet address: 02:5b:ac:50:c2:02\nem1: Ethernet address: 02:5b:ac:50:c2:01\n", "em0=2(mac) | em1=1(mac)"},
		{"in a frame", "+-------+-------------------+------+\n| name  | address           | link |\n| port1 | 02:5B:AC:50:C2:01 | up   |\n| port2 | 02:5B:AC:50:C2:02 | up   |\n+-------+-------------------+------+\n", "port1=1(mac) | port2=2(mac)"},
		{"a menu", " [1] vtnet0 (02:5b:ac:50:c2:01) link up\n [2] vtnet1 (02:5b:ac:50:c2:02) link up\n [q] quit\n",
			"vtnet0=1(mac) | vtnet1=2(mac)"},
		{"in words", "Interface ens18, MAC address 02-5b-ac-50-c2-03, not configured.\n", "ens18=3(mac)"},
		{"the address first", "02:5b:ac:50:c2:01  eth0\n02:5b:ac:50:c2:02  eth1\n", "eth0=1(mac) | eth1=2(mac)"},
		{"upper case, no separators, by hand", "WAN0: 025BAC50C201\nLAN0: 025BAC50C202\n", "WAN0=1(mac) | LAN0=2(mac)"},
		{"tails of three bytes, with dots before them", "eth0 ...50:c2:01\neth1 …50:c2:03\n", "eth0=1(tail) | eth1=3(tail)"},
		{"tails in brackets, the port's own name", "wan (C2:01)\nlan (C2:02)\n", "wan=1(tail) | lan=2(tail)"},
		{"an arrow", "igb0 -> 02:5b:ac:50:c2:03\nigb1 -> 02:5b:ac:50:c2:01\n", "igb0=3(mac) | igb1=1(mac)"},
		{"without leading zeros", "eth0 2:5b:ac:50:c2:1\n", "eth0=1(mac)"},
		{"no address at all", "eth0\nvtnet0 (up)\nvtnet1 (up)\n", "vtnet0=1(order) | vtnet1=2(order)"},
		{"an ambiguous tail", "eth0 5b:ac\n", "eth0=0()!its MAC address is in no plan"},
		{"a slip of a digit", "eth0 02:5b:ac:50:c2:0a\n",
			"eth0=0()!it is in no plan; one digit differs from adapter 1 (02:5b:ac:50:c2:01): read it again"},
		{"another machine's", "ens3 02:5b:ac:3f:e7:01\n", "ens3=0()!that is adapter 1 of heron: is this the console of heron?"},
		{"twice the same", "eth0 02:5b:ac:50:c2:01\neth1 02:5b:ac:50:c2:01\n",
			"eth0=1(mac)!eth0 and eth1 both look like adapter 1 | eth1=1(mac)!eth0 and eth1 both look like adapter 1"},
		{"swapped", "2: eth0: <UP>\n    link/ether 02:5b:ac:50:c2:01\n    inet 10.83.16.1/24\n",
			"eth0=1(mac)!it has 10.83.16.1, which is on reedbed: the roles look swapped"},
		{"no link", "vtnet0: flags=8843<UP>\n\tether 02:5b:ac:50:c2:01\n\tstatus: no carrier\n",
			"vtnet0=1(mac)!it has no link: check whether its adapter is connected"},
		{"nothing", "Welcome.\nPlease choose:\n", ""},
	} {
		assert.Equal(t, c.want, told(Listed(p, p.Machine("sluice"), listing.Read(c.text))), c.what)
	}
	r := Listed(p, p.Machine("sluice"), listing.Read("eth7 02:5b:ac:50:c2:01\n"))
	require.Len(t, r.Missing, 2)
	assert.Contains(t, fmt.Sprint(len(r.Rows)), "1")
	assert.False(t, r.Sound())
}

// Any plan's listing, in any style, in any order, with addresses cut short,
// maps back exactly or is called ambiguous; never wrong.
func TestNeverWrong(t *testing.T) {
	styles := []func(device, mac string) string{
		func(d, m string) string {
			return fmt.Sprintf(
				"2: %s: <BROADCAST,UP,LOWER_UP> mtu 1500\n    link/ether %s brd ff:ff:ff:ff:ff:ff\n",
				d,
				m,
			)
		},
		func(d, m string) string { return fmt.Sprintf("%-16s UP             %s <BROADCAST>\n", d, m) },
		func(d, m string) string {
			return fmt.Sprintf("%s: flags=8843<UP> metric 0 mtu 1500\n\tether %s\n\tstatus: active\n", d, m)
		},
		func(d, m string) string { return fmt.Sprintf("%s   %s   (up)\n", d, m) },
		func(d, m string) string { return fmt.Sprintf("%s %s\n", d, strings.ReplaceAll(m, ":", "")) },
		func(d, m string) string {
			return fmt.Sprintf("%s - %s\n", d, strings.ToUpper(strings.ReplaceAll(m, ":", "-")))
		},
	}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 8).Draw(t, "adapters")
		text := "bastion: 1\nlab: " + rapid.StringMatching(`x[a-z]{1,6}`).
			Draw(t, "lab") +
			"\nsegments:\n  up: {reach: upstream}\n"
		ports := "      - {role: wan, segment: up}\n"
		for i := 1; i < n; i++ {
			text += fmt.Sprintf("  s%d: {reach: isolated}\n", i)
			ports += fmt.Sprintf("      - {role: lan, segment: s%d}\n", i)
		}
		p := build(t, text+"appliances:\n  gate:\n    ports:\n"+ports)
		gate := p.Machine("gate")
		style := rapid.SampledFrom(styles).Draw(t, "style")
		cut := rapid.SampledFrom([]int{6, 6, 4, 3, 2}).Draw(t, "bytes")
		order := rapid.Permutation(gate.Adapters).Draw(t, "order")
		want := map[string]int{}
		var out strings.Builder
		out.WriteString("some noise before\n\n")
		for i, a := range order {
			device := fmt.Sprintf("vtnet%d", i)
			want[device] = a.Number
			out.WriteString(style(device, a.MAC.Tail(cut)))
		}
		r := Listed(p, gate, listing.Read(out.String()))
		found := 0
		for _, row := range r.Rows {
			if row.Number != 0 {
				require.Equal(t, want[row.Device], row.Number, "%s\n%s", out.String(), told(r))
				found++
			}
		}
		require.True(t, found == n || !r.Sound(), "what is left out is said")
		if cut == 6 {
			require.Equal(t, n, found, "%s\n%s", out.String(), told(r))
		}
	})
}

func FuzzListing(f *testing.F) {
	f.Add("2: eth0: <UP>\n    link/ether 02:5b:ac:50:c2:01\n    inet 10.83.16.1/24\n")
	f.Add("eth0 c2:01\n\x1b[1m")
	f.Add("eth0      Link encap:Ethernet  HWaddr 02:5B:AC:50:C2:01\n inet addr:1.2.3.4 Mask:255.0.0.0")
	p := build(
		f,
		"bastion: 1\nlab: f\nsegments: {u: {reach: upstream}, i: {reach: isolated}}\nappliances: {g: {ports: [{role: wan, segment: u}, {role: lan, segment: i}]}}",
	)
	f.Fuzz(func(t *testing.T, text string) {
		r := Listed(p, p.Machine("g"), listing.Read(text))
		r.Answers(p, p.Machine("g"))
	})
}

func TestByLink(t *testing.T) {
	p := sample(t)
	state := func(down ...string) []listing.Interface {
		text := ""
		for _, d := range []string{"em0", "em1", "em2"} {
			link := "active"
			for _, x := range down {
				if x == d {
					link = "no carrier"
				}
			}
			text += fmt.Sprintf("%s: flags=8843<UP>\n\tstatus: %s\n", d, link)
		}
		return listing.Read(text).Named()
	}
	for _, c := range []struct {
		what string
		one  [][]listing.Interface
		want string
	}{
		{"one after another", [][]listing.Interface{state("em2"), state("em0"), state("em1")}, "em0=2(link) | em1=3(link) | em2=1(link)"},
		{"nothing changed", [][]listing.Interface{state(), state("em0"), state("em1")},
			"em0=2(link) | em1=3(link) | em2=0()!its link never changed"},
		{"two at once", [][]listing.Interface{state("em0", "em1"), state("em0"), state("em2")},
			"em0=2(link)!2 interfaces lost their link when adapter 1 was unplugged: plug the others in and copy the list again | em1=0()!2 interfaces lost their link when adapter 1 was unplugged: plug the others in and copy the list again | em2=3(link)"},
		{"the same twice", [][]listing.Interface{state("em0"), state("em0")},
			"em0=1(link)!it lost its link for adapters 1 and 2: unplug one at a time | em1=0()!its link never changed | em2=0()!its link never changed"},
	} {
		assert.Equal(t, c.want, told(ByLink(p.Machine("sluice"), state(), c.one)), c.what)
	}
}

// Whose a listing is: by what it shows, and never by a guess between two.
func TestWhose(t *testing.T) {
	p := sample(t)
	for text, want := range map[string]string{
		"user@heron:~$ ip -br a\neth0 UP 192.0.2.9/24\n":                                "heron",
		"   Host Name . . . . . . . . . . . . : newt\n\nEthernet adapter Ethernet:\n\n": "newt",
		"eth0: 02:5b:ac:c7:eb:01\n":                                                     "ferry",
		"2: eth0: <UP>\n    inet 10.83.32.10/24\n":                                      "ferry",
		"2: eth0: <UP>\n    inet 10.83.16.20/24\n":                                      "otter",
		"2: eth0: <UP>\n    inet 10.83.48.61/24\ndefault via 10.83.48.1 dev eth0\n":     "newt",
		"eth1: 10.83.16.1/24\n":                                                         "sluice",
		"WAN -> em0\nLAN -> em1\n":                                                      "sluice",
		"eth0 c2:01\neth1 c2:02\n":                                                      "sluice",
		"em0 08:3c:11:22:33:44\nem1 08:3c:11:22:33:45\n":                                "sluice",
		"2: eth0: <UP>\n    inet 192.0.2.9/24\n":                                        "!",
		"Type the LAN IPv4 address: 10.0.0.1\n":                                         "sluice",
	} {
		owner, err := Whose(p, listing.Read(text))
		if want == "!" {
			assert.Error(t, err, text)
			continue
		}
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, owner.Machine.Name, "%s (%s)", text, owner.Why)
			assert.NotEmpty(t, owner.Why)
		}
	}
}

// Every paste of the corpus can be held against every machine of the sample, and what
// it says as planned it can point to.
func TestPastesAgainstThePlan(t *testing.T) {
	p := sample(t)
	files, err := filepath.Glob("../listing/testdata/pastes/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		l := listing.Read(string(data))
		for _, m := range p.Machines {
			r := Listed(p, m, l)
			taken := map[*plan.Adapter]bool{}
			for _, row := range r.Rows {
				if a := row.Adapter(); a != nil && !row.clash {
					assert.False(t, taken[a], "%s: two are adapter %d of %s", file, a.Number, m.Name)
					taken[a] = true
				}
			}
			facts := Compare(p, m, l)
			if Verdict(facts) == "holds" {
				assert.NotEmpty(t, l.Interfaces, "%s: as planned for %s without an interface", file, m.Name)
			}
			for _, f := range facts {
				assert.True(
					t,
					f.Sight == AsPlanned || f.Sight == Remark || f.Remedy != "",
					"%s: nothing to do about: %s",
					file,
					f.Message,
				)
			}
		}
	}
}

// Which interface is which port, by what evidence, where the lab file says no hardware
// address: the usual case. Order is told as what it is, and two that fit are neither.
func TestMappingsWithoutAddresses(t *testing.T) {
	p := sample(t)
	sluice := p.Machine("sluice")
	for _, c := range []struct{ what, text, want string }{
		{"roles in front", "WAN em2 08:3c:11:22:33:46\nLAN em0 08:3c:11:22:33:44\nDMZ em1 08:3c:11:22:33:45\n", "em2=1(name) | em0=2(name) | em1=3(name)"},
		{"roles behind arrows", "em0 -> LAN\nem1 -> DMZ\nem2 -> WAN\n", "em0=2(name) | em1=3(name) | em2=1(name)"},
		{"planned addresses", "em0 10.83.32.1/24\nem1 10.83.16.1/24\nem2 172.29.64.140/24\n", "em0=3(address) | em1=2(address) | em2=1(address)"},
		{"segments of a page", "nic0.network = \"boathouse\"\nnic1.network = \"causeway\"\nnic2.network = \"reedbed\"\n",
			"adapter 1=1(number)!it is attached to boathouse (planned: causeway) | adapter 2=2(number)!it is attached to causeway (planned: reedbed) | adapter 3=3(number)!it is attached to reedbed (planned: boathouse)"},
		{"MAC addresses alone", "em0 08:3c:11:22:33:44\nem1 08:3c:11:22:33:45\nem2 08:3c:11:22:33:46\n", "em0=1(order) | em1=2(order) | em2=3(order)"},
		{"too few to go by order", "em0 08:3c:11:22:33:44\nem1 08:3c:11:22:33:45\n",
			"em0=0()!there is no evidence which adapter it is: use a command that shows MAC addresses | em1=0()!there is no evidence which adapter it is: use a command that shows MAC addresses"},
		{"a table of all machines", "VMName  Adapter            SwitchName  MacAddress\nheron   network adapter 1  reedbed     08:3c:11:22:33:99\nsluice  network adapter 1  causeway    08:3c:11:22:33:45\nsluice  network adapter 2  reedbed     08:3c:11:22:33:44\nsluice  network adapter 3  boathouse   08:3c:11:22:33:46\n",
			"adapter 1=1(number) | adapter 2=2(number) | adapter 3=3(number)"},
		{"two with one role", "WAN em0\nWAN em1\nLAN em2\n", "em0=0()!em0 and em1 fit adapter 1 (wan) equally | em1=0()!em0 and em1 fit adapter 1 (wan) equally | em2=2(name)"},
		{"a tag on its carrier", "em1: 08:3c:11:22:33:45 10.83.16.1/24\nem1.48: 08:3c:11:22:33:45 10.83.48.1/24\nem0: 08:3c:11:22:33:44 172.29.64.140/24\nem2: 08:3c:11:22:33:46 10.83.32.1/24\n",
			"em1=2(address) | em1.48=2(address) | em0=1(address) | em2=3(address)"},
		{"another machine's address among them", "em0 02:5b:ac:3f:e7:01\nem1 08:3c:11:22:33:45\nem2 08:3c:11:22:33:46\n",
			"em0=0()!that is adapter 1 of heron: is this the console of heron? | em1=0()!there is no evidence which adapter it is: use a command that shows MAC addresses | em2=0()!there is no evidence which adapter it is: use a command that shows MAC addresses"},
	} {
		r := Listed(p, sluice, listing.Read(c.text))
		assert.Equal(t, c.want, told(r), "%s\n%s", c.what, c.text)
		byOrder := strings.Contains(c.want, "(order)")
		assert.Equal(t, byOrder, r.Risk != "", "%s: order is chance, and is said to be", c.what)
		adoption, err := Adopt(p, sluice, listing.Read(c.text))
		if strings.Contains(c.want, "!") {
			assert.Error(t, err, c.what)
		} else if assert.NoError(t, err, c.what) {
			assert.Equal(t, byOrder, adoption.ByOrder, c.what)
			assert.NotEmpty(t, adoption.By, c.what)
		}
	}
}
