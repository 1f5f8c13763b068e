package listing

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What machines show of themselves, in the writings of several systems: the
// same answer each time.
func TestReadShown(t *testing.T) {
	const want = "10.83.16.50/24 by 10.83.16.1, names by 10.83.16.1"
	for what, text := range map[string]string{
		"ip addr, ip route, resolv.conf": "2: eth0: <UP>\n    inet 10.83.16.50/24 brd 10.83.16.255 scope global eth0\ndefault via 10.83.16.1 dev eth0 proto dhcp\n10.83.16.0/24 dev eth0 scope link\nnameserver 10.83.16.1\n",
		"ip -br addr":                    "lo     UNKNOWN  127.0.0.1/8 ::1/128\neth0   UP       10.83.16.50/24 fe80::1/64\ndefault via 10.83.16.1 dev eth0\nnameserver 10.83.16.1",
		"ip -j addr":                     `[{"ifname":"lo","addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8}]},{"ifname":"eth0","operstate":"UP","addr_info":[{"family":"inet","local":"10.83.16.50","prefixlen":24}]}]` + "\x00",
		"BSD":                            "em0: flags=8843<UP,BROADCAST,RUNNING> mtu 1500\n\tether 02:5b:ac:3f:e7:01\n\tinet 10.83.16.50 netmask 0xffffff00 broadcast 10.83.16.255\n\tstatus: active\nRouting tables\n\nInternet:\nDestination        Gateway            Flags     Netif Expire\ndefault            10.83.16.1         UGS         em0\n10.83.16.0/24      link#1             U           em0\nnameserver 10.83.16.1\n",
		"the old ifconfig, route -n":     "eth0      Link encap:Ethernet  HWaddr 02:5B:AC:3F:E7:01\n          inet addr:10.83.16.50  Bcast:10.83.16.255  Mask:255.255.255.0\nKernel IP routing table\nDestination     Gateway         Genmask         Flags Metric Ref    Use Iface\n0.0.0.0         10.83.16.1      0.0.0.0         UG    0      0        0 eth0\nnameserver 10.83.16.1",
		"a desktop":                      "Ethernet adapter Ethernet:\n\n   Connection-specific DNS Suffix  . : saltmarsh.example\n   IPv4 Address. . . . . . . . . . . : 10.83.16.50(Preferred)\n   Subnet Mask . . . . . . . . . . . : 255.255.255.0\n   Default Gateway . . . . . . . . . : 10.83.16.1\n   DNS Servers . . . . . . . . . . . : 10.83.16.1\n",
		"typed by hand":                  "eth0: 10.83.16.50/24\ndefault gateway: 10.83.16.1\nDNS server: 10.83.16.1\n",
	} {
		if strings.HasSuffix(text, "\x00") { // addresses alone
			text = strings.TrimSuffix(text, "\x00")
			i := Read(text)
			if assert.Len(t, i, 1, what) {
				assert.Equal(t, "10.83.16.50/24", i[0].Addresses[0].String(), what)
			}
			continue
		}
		s := ReadShown(text)
		if !assert.Len(t, s.Interfaces, 1, "%s: %v", what, s) {
			continue
		}
		got := fmt.Sprintf("%v by %v, names by %v", s.Interfaces[0].Addresses, s.Gateways, s.Resolvers)
		assert.Equal(t, want, strings.NewReplacer("[", "", "]", "").Replace(got), what)
	}
}

// What a person mistypes is named with its line, and with what was meant where
// that can be told; what systems print is never taken for a slip.
func TestSlip(t *testing.T) {
	for text, want := range map[string]string{
		"eth0 10.83.16.50\nmask 255.255.255.0.0": `line 2: the mask "255.255.255.0.0" has 5 parts and a mask has 4; did you mean 255.255.255.0?`,
		"Subnet Mask: 255.255.253.128":           "did you mean",
		"mask 255.0.255.0":                       "has a gap in it; the nearest whole mask is 255.0.0.0",
		"inet 10.83.16.500/24":                   "the part 500 is over 255",
		"gateway 10.83.16.1.1":                   "has 5 parts",
		"inet 10.83.16.5/33":                     "/33 is no prefix length",
		"address 192.168.010.5":                  "starts with a zero",
		"eth0 255.255.255.255":                   "",
		"inet 10.83.16.5/24 brd 10.83.16.255":    "",
		"Linux heron 6.1.0.25.3 #1 SMP":          "",
		"RX packets 10.5.3 bytes 840.2.1.9.8":    "",
		"0.0.0.0 10.83.16.1 0.0.0.0 UG":          "",
		"netmask 0xffffff00":                     "",
	} {
		got := Slip(text)
		if want == "" {
			assert.Empty(t, got, text)
		} else if strings.Contains(text, "253.128") {
			assert.Contains(t, got, "gap", text)
		} else {
			assert.Contains(t, got, want, text)
		}
	}
}

// No text, however long and strange, makes the readers fail or find more than
// their bounds.
func TestReadersAreBounded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.SampledFrom([]string{"eth0", "02:5b:ac:50:c2:01", "inet", "10.83.16.5/24", "default", "via", "\n", "\n\t",
			":", "[{", `"ifname"`, "UP", "c2:01", "ether", "Physical Address. . . :", "adapter x:"}), 0, 200).Draw(t, "words")
		text := strings.Join(words, " ")
		for _, i := range Read(text) {
			if i.Device == "" || len(i.Tail) > 12 {
				t.Fatalf("%+v", i)
			}
		}
		ReadShown(text)
		Slip(text)
	})
	many := strings.Repeat("eth0 02:5b:ac:50:c2:01\n", 100_000)
	assert.LessOrEqual(t, len(Read(many)), maxInterfaces)
}
