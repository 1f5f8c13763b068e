package identify

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/observe/listing"
)

func TestCompare(t *testing.T) {
	p := sample(t)
	const hop, names = "its next hop is not shown (planned: the next hop 10.83.16.1)", "its DNS server is not shown (planned: 10.83.16.1)"
	for _, c := range []struct {
		what, as, text string
		want           []string // parts of each message that is not as planned, in order
	}{
		{"as planned, Linux", "heron", "2: enp1s0: <BROADCAST,UP,LOWER_UP>\n    link/ether 02:5b:ac:3f:e7:01 brd ff:ff:ff:ff:ff:ff\n    inet 10.83.16.50/24 brd 10.83.16.255 scope global dynamic enp1s0\ndefault via 10.83.16.1 dev enp1s0\n10.83.16.0/24 dev enp1s0\nnameserver 10.83.16.1\n", nil},
		{"BSD, no DNS server shown", "heron", "vtnet0: flags=8843<UP> metric 0 mtu 1500\n\tether 02:5b:ac:3f:e7:01\n\tinet 10.83.16.51 netmask 0xffffff00 broadcast 10.83.16.255\n\tstatus: active\ndefault            10.83.16.1         UGS      vtnet0\n", []string{names}},
		{"as planned, desktop", "heron", "Ethernet adapter Ethernet:\n\n   Physical Address. . . . . . . . . : 02-5B-AC-3F-E7-01\n   IPv4 Address. . . . . . . . . . . : 10.83.16.52(Preferred)\n   Subnet Mask . . . . . . . . . . . : 255.255.255.0\n   Default Gateway . . . . . . . . . : 10.83.16.1\n   DHCP Server . . . . . . . . . . . : 10.83.16.1\n   DNS Servers . . . . . . . . . . . : 10.83.16.1\n", nil},
		{"a desktop without a gateway", "heron", "Ethernet adapter Ethernet:\n\n   IPv4 Address. . . . . . . . . . . : 10.83.16.52(Preferred)\n   Subnet Mask . . . . . . . . . . . : 255.255.255.0\n   Default Gateway . . . . . . . . . : \n   DNS Servers . . . . . . . . . . . : 10.83.16.1\n",
			[]string{"it has no path outside (planned: the next hop 10.83.16.1)"}},
		{"nobody answered", "heron", "2: eth0: <UP>\n    inet 169.254.7.9/16 scope link eth0\n", []string{"169.254.7.9, a link-local address", hop, names}},
		{"on another segment", "heron", "2: eth0: <UP>\n    inet 172.29.64.140/24\ndefault via 172.29.64.1\n",
			[]string{"it is really on causeway", "its next hop is 172.29.64.1 (planned: 10.83.16.1): that bypasses the appliance", names}},
		{"on none", "heron", "2: eth0: <UP>\n    inet 192.0.2.5/24\n", []string{"on no segment of the lab", hop, names}},
		{"another DHCP server", "heron", "Ethernet adapter Ethernet:\n   IPv4 Address. . . : 10.83.16.60\n   Subnet Mask . . . : 255.255.255.0\n   DHCP Server . . . : 10.83.16.254\n", []string{"its lease from 10.83.16.254 (planned: 10.83.16.1)", hop, names}},
		{"outside the pool", "heron", "2: eth0: <UP>\n    inet 10.83.16.201/24\n", []string{"outside the pool 10.83.16.50-10.83.16.199", hop, names}},
		{"another's address", "heron", "2: eth0: <UP>\n    inet 10.83.16.1/24\n", []string{"which is another machine's", hop, names}},
		{"not its reservation", "otter", "2: eth0: <UP>\n    inet 10.83.16.60/24\n", []string{"10.83.16.20)", hop, names}},
		{"a wrong mask", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/16\n", []string{"/16 (255.255.0.0), and boathouse has /24", "next hop 10.83.32.1)", "DNS server is not shown"}},
		{"all its bits", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/32\ndefault via 10.83.32.1\nnameserver 10.83.32.1", []string{"the mask /32"}},
		{"no mask", "ferry", "address 10.83.32.10\ngateway 10.83.32.1\ndns 10.83.32.1\n", []string{"its mask is not shown"}},
		{"a lease where a static address ", "ferry", "2: eth0: <UP>\n    inet 10.83.32.10/24 scope global dynamic eth0\ndefault via 10.83.32.1\nnameserver 10.83.32.1", []string{"uses DHCP (planned: static)"}},
		{"typed where a lease ", "heron", "iface eth0 inet static\n address 10.83.16.60\n netmask 255.255.255.0\n gateway 10.83.16.1\n dns-nameservers 10.83.16.1", []string{"is static (planned: DHCP)"}},
		{"two paths outside", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\n3: eth1: <UP>\n    inet 172.29.64.141/24\ndefault via 10.83.16.1 dev eth0\ndefault via 172.29.64.1 dev eth1\n", []string{"an adapter on causeway that is in no plan", "next hop is 172.29.64.1", "2 paths outside", names}},
		{"another DNS server", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\ndefault via 10.83.16.1\nnameserver 198.51.100.53\n",
			[]string{"its DNS server is 198.51.100.53"}},
		{"a DNS server of its own", "heron", "2: eth0: <UP>\n    inet 10.83.16.50/24\ndefault via 10.83.16.1\nnameserver 127.0.0.53\n",
			[]string{"it is its own DNS server"}},
		{"the appliance, WAN still waiting", "sluice",
			"2: eth1: <UP>\n    inet 10.83.16.1/24\n3: eth2: <UP>\n    inet 10.83.32.1/24\n4: eth1.48@eth1: <UP>\n    inet 10.83.48.1/24\n",
			[]string{"adapter 1 (wan on causeway) is not shown (planned: DHCP from upstream)", "which adapter", "its next hop is not shown"}},
		{"the appliance as planned", "sluice", "WAN (wan) -> em0 -> IPv4 by DHCP: 172.29.64.130/24\nLAN (lan) -> em1 -> v4: 10.83.16.1/24\nDMZ (dmz) -> em2 -> v4: 10.83.32.1/24\nQUARANTINE -> em1.48 -> v4: 10.83.48.1/24\ndefault via 172.29.64.1 dev em0\n",
			[]string{"which adapter each interface is, is not shown"}},
		{"the appliance the wrong way round", "sluice", "WAN (wan) -> em0 -> v4: 10.83.16.1/24\nLAN (lan) -> em1 -> IPv4 by DHCP: 172.29.64.130/24\n",
			[]string{"they are the wrong way round", "next hop"}},
		{"an inside gateway", "sluice", "lan 10.83.16.1/24 gateway 10.83.16.254\n", []string{"an inside port, has the gateway 10.83.16.254", "adapter 1", "adapter 3", "quarantine"}},
		{"what was typed", "sluice", "Type the LAN IPv4 address: 10.83.61.1\nType the LAN bit count: 16\n",
			[]string{`"10.83.61.1" was typed`, `"16" was typed`, "adapter 1", "adapter 2", "adapter 3", "quarantine", "next hop"}},
		{"a slip", "ferry", "2: eth0: <UP>\n    inet 10.83.32.1O/24\ndefault via 10.83.32.1\nnameserver 10.83.32.1", []string{"line 2: 10.83.32.1O/24; is that 10.83.32.10?", "if line 2 was read correctly"}},
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
	p := build(
		f,
		"bastion: 1\nlab: f\nsegments: {u: {reach: upstream}, i: {reach: isolated}}\nappliances: {g: {ports: [{role: wan, segment: u}, {role: lan, segment: i}]}}\nguests: {h: i}",
	)
	f.Fuzz(func(t *testing.T, text string) {
		for _, m := range p.Machines {
			Compare(p, m, listing.Read(text))
		}
	})
}

// guestStyle writes what a guest shows of itself in one system's way; what is empty is
// left out.
type guestStyle struct {
	name                  string
	address, bits         string // with %[1]s the address, %[2]d the bits, %[3]s the mask
	hop, names, head, end string
}

var guestStyles = []guestStyle{
	{
		"ip",
		"    inet %[1]s",
		"/%[2]d",
		"default via %s dev eth0\n",
		"nameserver %s\n",
		"2: eth0: <BROADCAST,UP,LOWER_UP> mtu 1500\n",
		" scope global eth0\n",
	},
	{
		"ifconfig",
		"        inet %[1]s",
		"  netmask %[3]s",
		"0.0.0.0         %s      0.0.0.0         UG    0      0        0 eth0\n",
		"nameserver %s\n",
		"eth0: flags=4163<UP,BROADCAST,RUNNING>  mtu 1500\n",
		"  broadcast 10.255.255.255\n",
	},
	{
		"English",
		"   IPv4 Address. . . . . . . . . . . : %[1]s(Preferred)\n",
		"   Subnet Mask . . . . . . . . . . . : %[3]s\n",
		"   Default Gateway . . . . . . . . . : %s\n",
		"   DNS Servers . . . . . . . . . . . : %s\n",
		"Ethernet adapter Ethernet:\n\n",
		"",
	},
	{
		"German",
		"   IPv4-Adresse  . . . . . . . . . . : %[1]s(Bevorzugt)\n",
		"   Subnetzmaske  . . . . . . . . . . : %[3]s\n",
		"   Standardgateway . . . . . . . . . : %s\n",
		"   DNS-Server  . . . . . . . . . . . : %s\n",
		"Ethernet-Adapter LAN-Verbindung:\n\n",
		"",
	},
	{
		"French",
		"   Adresse IPv4. . . . . . . . . . . . . .: %[1]s(préféré)\n",
		"   Masque de sous-réseau. . . . . . . . . : %[3]s\n",
		"   Passerelle par défaut. . . . . . . . . : %s\n",
		"   Serveurs DNS. . .  . . . . . . . . . . : %s\n",
		"Carte Ethernet Ethernet :\n\n",
		"",
	},
	{
		"Spanish",
		"   Dirección IPv4. . . . . . . . . . . . . . : %[1]s(Preferido)\n",
		"   Máscara de subred . . . . . . . . . . . . : %[3]s\n",
		"   Puerta de enlace predeterminada . . . . . : %s\n",
		"   Servidores DNS. . . . . . . . . . . . . . : %s\n",
		"Adaptador de Ethernet Ethernet:\n\n",
		"",
	},
	{
		"Portuguese",
		"   Endereço IPv4. . . . . . . .  . . . . . . . : %[1]s(Preferencial)\n",
		"   Máscara de Sub-rede . . . . . . . . . . . . : %[3]s\n",
		"   Gateway Padrão. . . . . . . . . . . . . . . : %s\n",
		"   Servidores DNS. . . . . . . . . . . . . . . : %s\n",
		"Adaptador Ethernet Ethernet:\n\n",
		"",
	},
	{
		"Italian",
		"   Indirizzo IPv4. . . . . . . . . . . . : %[1]s(Preferenziale)\n",
		"   Subnet mask . . . . . . . . . . . . . : %[3]s\n",
		"   Gateway predefinito . . . . . . . . . : %s\n",
		"   Server DNS . . . . . . . . . . . . .  : %s\n",
		"Scheda Ethernet Ethernet:\n\n",
		"",
	},
	{
		"Dutch",
		"   IPv4-adres. . . . . . . . . . . . : %[1]s(voorkeur)\n",
		"   Subnetmasker. . . . . . . . . . . : %[3]s\n",
		"   Standaardgateway. . . . . . . . . : %s\n",
		"   DNS-servers . . . . . . . . . . . : %s\n",
		"Ethernet-adapter Ethernet:\n\n",
		"",
	},
	{
		"the network manager",
		"IP4.ADDRESS[1]:                         %[1]s",
		"/%[2]d",
		"IP4.GATEWAY:                            %s\n",
		"IP4.DNS[1]:                             %s\n",
		"GENERAL.DEVICE:                         enp1s0\n",
		"\n",
	},
	{
		"a list of keys",
		"IPAddress         : %[1]s\n",
		"PrefixLength      : %[2]d\n",
		"IPv4DefaultGateway   : %s\n",
		"DNSServer            : %s\n",
		"InterfaceAlias    : Ethernet\n",
		"",
	},
	{
		"a file of interfaces",
		"    address %[1]s\n",
		"    netmask %[3]s\n",
		"    gateway %s\n",
		"    dns-nameservers %s\n",
		"iface eth0 inet\n",
		"",
	},
	{"a state file", "ADDRESS=%[1]s\n", "NETMASK=%[3]s\n", "ROUTER=%s\n", "DNS=%s\n", "", ""},
	{"by hand", "address %[1]s", " mask %[3]s", "gw %s\n", "dns %s\n", "", "\n"},
	{
		"a page",
		"IP address\n%[1]s\n",
		"Subnet mask\n%[3]s\n",
		"Default gateway\n%s\n",
		"Preferred DNS\n%s\n",
		"Edit settings\n",
		"",
	},
	{
		"a lease's file",
		"  fixed-address %[1]s;\n",
		"  option subnet-mask %[3]s;\n",
		"  option routers %s;\n",
		"  option domain-name-servers %s;\n",
		"lease {\n  interface \"eth0\";\n",
		"}\n",
	},
}

// write leaves out what is empty: an address, its mask, a next hop, a resolver.
func (g guestStyle) write(address string, bits int, hop, names string) string {
	mask := fmt.Sprintf("255.255.255.%d", 256-1<<(32-max(bits, 25)))
	if bits <= 24 {
		mask = fmt.Sprintf("255.255.%d.0", 256-1<<(24-max(bits, 17)))
	}
	var b strings.Builder
	b.WriteString(g.head)
	if address != "" {
		b.WriteString(strings.ReplaceAll(g.address, "%[1]s", address))
		if bits > 0 {
			b.WriteString(strings.NewReplacer("%[2]d", fmt.Sprint(bits), "%[3]s", mask).Replace(g.bits))
		}
	}
	b.WriteString(g.end)
	if hop != "" {
		fmt.Fprintf(&b, g.hop, hop)
	}
	if names != "" {
		fmt.Fprintf(&b, g.names, names)
	}
	return b.String()
}

// In every system's way a whole listing is as planned; with any fact left out it never
// is; with any fact wrong it is told to be.
func TestNoTickForWhatIsNotSeen(t *testing.T) {
	p := sample(t)
	for _, g := range guestStyles {
		for _, c := range []struct{ guest, address, hop string }{
			{"heron", "10.83.16.60", "10.83.16.1"}, {"otter", "10.83.16.20", "10.83.16.1"}, {"ferry", "10.83.32.10", "10.83.32.1"}, {"newt", "10.83.48.77", "10.83.48.1"},
		} {
			m := p.Machine(c.guest)
			verdict := func(address string, bits int, hop, names string) (string, string) {
				text := g.write(address, bits, hop, names)
				facts := Compare(p, m, listing.Read(text))
				return Verdict(facts), fmt.Sprintf("%s, %s\n%s\n%+v", g.name, c.guest, text, facts)
			}
			v, why := verdict(c.address, 24, c.hop, c.hop)
			assert.Equal(t, "holds", v, why)
			for left := range 15 {
				address, bits, hop, names := c.address, 24, c.hop, c.hop
				if left&1 == 0 {
					address = ""
				}
				if left&2 == 0 {
					bits = 0
				}
				if left&4 == 0 {
					hop = ""
				}
				if left&8 == 0 {
					names = ""
				}
				v, why := verdict(address, bits, hop, names)
				assert.NotEqual(t, "holds", v, why)
			}
			for _, wrong := range []struct {
				address    string
				bits       int
				hop, names string
			}{
				{"172.29.64.77", 24, c.hop, c.hop}, {"10.83.99.4", 24, c.hop, c.hop}, {c.address, 25, c.hop, c.hop}, {c.address, 23, c.hop, c.hop}, {c.address, 32, c.hop, c.hop},
				{c.address, 24, "172.29.64.1", c.hop}, {c.address, 24, c.hop, "198.51.100.53"}, {"169.254.8.9", 16, c.hop, c.hop}, {c.hop, 24, c.hop, c.hop},
			} {
				v, why := verdict(wrong.address, wrong.bits, wrong.hop, wrong.names)
				assert.Equal(t, "broken", v, why)
			}
		}
	}
}

// Judgements on what people have in front of them, with hardware addresses written
// into the lab file: each paste with its verdict and what must be said.
func TestJudgements(t *testing.T) {
	text, err := os.ReadFile("../../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	pinned, _ := sample(t).Pin(text)
	p := build(t, string(pinned))
	const ways, names = "default via 10.83.16.1 dev eth0\n", "nameserver 10.83.16.1\n"
	const rest = "eth2: 10.83.32.1/24\neth1.48: 10.83.48.1/24\n"
	for _, c := range []struct{ what, as, text, verdict, says string }{
		{"swapped on pinned adapters", "sluice", "eth0 02:5b:ac:50:c2:01 10.83.16.1/24\neth1 02:5b:ac:50:c2:02 172.29.64.130/24\n" + rest, "broken", "wrong way round"},
		{"the console has the roles the other way round", "sluice", "WAN eth1 02:5b:ac:50:c2:02\nLAN eth0 02:5b:ac:50:c2:01\n", "broken", "the console has eth1 as WAN"},
		{"one digit", "heron", "2: eth0: <UP>\n    link/ether 02:5b:ac:3f:e7:02 brd ff:ff:ff:ff:ff:ff\n    inet 10.83.16.60/24\n" + ways + names, "broken", "one digit differs"},
		{"another address of hardware", "heron", "2: eth0: <UP>\n    link/ether 08:11:22:33:44:55 brd ff:ff:ff:ff:ff:ff\n    inet 10.83.16.60/24\n" + ways + names, "broken", "is in no plan"},
		{"the appliance as planned", "sluice", "eth0: 172.29.64.130/24\neth1: 10.83.16.1/24\n" + rest + "default via 172.29.64.1 dev eth0\n", "unknown", "which adapter each interface is"},
		{"the appliance without a path outside", "sluice", "eth0: 172.29.64.130/24\neth1: 10.83.16.1/24\n" + rest + "10.83.16.0/24 dev eth1 proto kernel scope link src 10.83.16.1\n", "broken", "it has no path outside"},
		{"its path outside leads inside", "sluice", "eth0: 172.29.64.130/24\neth1: 10.83.16.1/24\n" + rest + "default via 10.83.16.254 dev eth1\n", "broken", "lan, an inside port, has the gateway"},
		{"two paths outside of it", "sluice", "eth0: 172.29.64.130/24\neth1: 10.83.16.1/24\n" + rest + "default via 172.29.64.1 dev eth0\ndefault via 10.83.32.9 dev eth2\n", "broken", "2 paths outside"},
		{"a port with all its bits", "sluice", "eth0: 172.29.64.130/24\neth1: inet 10.83.16.1 netmask 0xffffffff\n" + rest + "default via 172.29.64.1 dev eth0\n", "broken", "the mask /32"},
		{"a wrong neighbor", "heron", "2: eth0: <UP>\n    inet 10.83.16.60/24\n" + ways + names + "10.83.16.1 dev eth0 lladdr 02:99:88:77:66:55 REACHABLE\n", "broken", "is answered for by 02:99:88:77:66:55"},
		{"the right neighbor", "heron", "2: eth0: <UP>\n    inet 10.83.16.60/24\n" + ways + names + "10.83.16.1 dev eth0 lladdr 02:5b:ac:50:c2:02 REACHABLE\n", "holds", "sluice answers for 10.83.16.1"},
		{"another server's lease", "heron", "DHCPREQUEST for 10.83.16.60 on eth0 to 255.255.255.255 port 67\nDHCPACK of 10.83.16.60 from 10.83.16.200\nbound to 10.83.16.60 -- renewal in 1700 seconds.\n", "broken", "its lease from 10.83.16.200"},
		{"nobody answered", "heron", "udhcpc: broadcasting discover\nudhcpc: no lease, failing\n", "broken", "no answer"},
		{"no medium", "heron", "Ethernet-Adapter Ethernet:\n\n   Medienstatus. . . . . . . . . . . : Medium getrennt\n", "broken", "has no link"},
		{"static", "heron", "Carte Ethernet Ethernet0 :\n\n   DHCP activé. . . . . . : Non\n   Adresse IPv4. . . . . .: 10.83.16.60(préféré)\n   Masque de sous-réseau. : 255.255.255.0\n   Passerelle par défaut. : 10.83.16.1\n   Serveurs DNS. . .  . . : 10.83.16.1\n", "broken", "is static (planned: DHCP)"},
		{"a lease where none ", "ferry", "Adaptador Ethernet Ethernet0:\n\n   DHCP Habilitado . . . . : Sim\n   Endereço IPv4. . . . .  : 10.83.32.10(Preferencial)\n   Máscara de Sub-rede . . : 255.255.255.0\n   Gateway Padrão. . . . . : 10.83.32.1\n   Servidores DNS. . . . . : 10.83.32.1\n", "broken", "uses DHCP (planned: static)"},
		{"an adapter on another network", "sluice", "Network adapter 1   causeway   Connected\nNetwork adapter 2   boathouse  Connected\nNetwork adapter 3   boathouse  Connected\n", "broken", "is on boathouse (planned: isolated network reedbed)"},
		{"a network with another spelling", "sluice", "Network adapter 1   causeway   Connected\nNetwork adapter 2   Reed bed   Connected\nNetwork adapter 3   boathouse  Connected\n", "broken", "the segment is called reedbed"},
		{"an unplugged adapter", "sluice", "Network adapter 1   causeway   Connected\nNetwork adapter 2   reedbed   Disconnected\nNetwork adapter 3   boathouse  Connected\n", "broken", "has no link"},
		{"all on their networks", "sluice", "Network adapter 1   causeway   Connected\nNetwork adapter 2   reedbed   Connected\nNetwork adapter 3   boathouse  Connected\n", "holds", "adapter 2 is on reedbed"},
		{"part of a page", "sluice", "Network adapter 1   causeway   Connected\nNetwork adapter 2   reedbed   Connected\n", "unknown", "adapter 3 (dmz on boathouse) is not shown"},
		{"the wrong device typed", "sluice", "em0 02:5b:ac:50:c2:02\nem1 02:5b:ac:50:c2:01\nem2 02:5b:ac:50:c2:03\nWhich device is the WAN? em0\n", "broken", "wan is em1, by mac"},
		{"one device typed twice", "sluice", "Which device is the WAN? em0\nWhich device is the LAN? em0\n", "broken", "typed for wan and for lan"},
		{"no leases typed", "sluice", "Do you want leases (DHCP) on the LAN? n\n", "broken", "lan "},
		{"a typed address with five parts", "sluice", "Type the address of the LAN: 10.83.16.16.1\n", "broken", "did you mean 10.83.16.1?"},
		{"a pool's end", "sluice", "Type the last address of the LAN's pool: 10.83.16.254\n", "broken", "ends at 10.83.16.199"},
		{"what was typed is right, and no more is seen", "sluice", "Type the address of the LAN: 10.83.16.1\n", "unknown", "the answer 10.83.16.1 is as planned"},
		{"two machines, the other one is wrong", "heron", "user@heron:~$ ip -br a\neth0 UP 10.83.16.60/24\nuser@heron:~$ ip r\n" + ways + "user@heron:~$ cat /etc/resolv.conf\n" + names + "root@ferry:~# ip -br a\neth0 UP 169.254.9.9/16\n", "holds", "it shows ferry too"},
		{"a second adapter without a plan", "otter", "eth0 UP 10.83.16.20/24\neth1 UP 172.29.64.99/24\n" + ways + names, "broken", "an adapter on causeway that is in no plan"},
		{"no DNS server", "heron", "2: eth0: <UP>\n    inet 10.83.16.60/24\n" + ways + "DNS servers: none\n", "broken", "it has no DNS server"},
		{"an address in front of the pool", "newt", "eth0 UP 10.83.48.20/24\ndefault via 10.83.48.1 dev eth0\nnameserver 10.83.48.1\n", "broken", "outside the pool"},
		{"a path past the appliance", "heron", "heron$ mtr -n -r 203.0.113.80\n  1.|-- 172.29.64.1  0.0%\n", "broken", "is 172.29.64.1 (planned: 10.83.16.1)"},
		{"a path by the appliance", "heron", "Tracing route to 203.0.113.80 over a maximum of 30 hops\n\n  1    <1 ms    <1 ms    <1 ms  10.83.16.1\n", "unknown", "first hop to 203.0.113.80 is 10.83.16.1"},
		{"it answers where the rules deny it", "newt", "newt$ ping -c1 10.83.16.55\n1 packets transmitted, 1 received, 0% packet loss\n", "broken", "answers, but the plan denies it"},
		{"disabled by its system", "heron", "2: eth0: <BROADCAST,MULTICAST> mtu 1500 qdisc noop state DOWN\n    link/ether 02:5b:ac:3f:e7:01 brd ff:ff:ff:ff:ff:ff\n", "broken", "eth0 is disabled"},
		{"nothing about it", "heron", "eth0 UP\n", "unknown", "shows no address yet"},
	} {
		facts := Compare(p, p.Machine(c.as), listing.Read(c.text))
		assert.Equal(t, c.verdict, Verdict(facts), "%s\n%s\n%+v", c.what, c.text, facts)
		found := false
		for _, f := range facts {
			found = found || strings.Contains(f.Message, c.says)
		}
		assert.True(t, found, "%s: nothing says %q\n%s\n%+v", c.what, c.says, c.text, facts)
	}
}

// The host stands where the plan has it, with one way out, and that not through the lab.
func TestCompareHost(t *testing.T) {
	p := build(t, `bastion: 1
lab: h
segments:
  out: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  bench: {reach: host, subnet: 10.83.18.0/24, host-address: 10.83.18.254/24}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
appliances: {gate: {ports: [{role: wan, segment: out}, {role: lan, name: bench, segment: bench}, {role: lan, name: fen, segment: fen}]}}
`)
	const own = "3: vbr0: <UP>\n    inet 10.83.18.254/24 scope global vbr0\n"
	for _, c := range []struct{ what, text, verdict, says string }{
		{"as planned", own + "default via 172.29.70.1 dev enp1\n", "holds", "one path outside, by 172.29.70.1"},
		{"its path outside is not shown", own, "unknown", "path outside is not shown"},
		{"its leg is not shown", "default via 172.29.70.1 dev enp1\n", "unknown", "leg on bench is not shown"},
		{"another address", "3: vbr0: <UP>\n    inet 10.83.18.9/24\ndefault via 172.29.70.1\n", "broken", "10.83.18.9 on bench (planned: 10.83.18.254)"},
		{"a leg too many", own + "4: vbr1: <UP>\n    inet 10.83.17.9/24\ndefault via 172.29.70.1\n", "broken", "it is on fen"},
		{"a wrong mask", "3: vbr0: <UP>\n    inet 10.83.18.254/16\ndefault via 172.29.70.1\n", "broken", "/16 (planned: /24)"},
		{"two paths outside", own + "default via 172.29.70.1 dev enp1\ndefault via 192.0.2.1 dev wlp2\n", "broken", "2 paths outside at once"},
		{"through the lab", own + "default via 10.83.18.1 dev vbr0\n", "broken", "through the lab"},
	} {
		facts := CompareHost(p, listing.Read(c.text))
		assert.Equal(t, c.verdict, Verdict(facts), "%s: %+v", c.what, facts)
		assert.Contains(t, fmt.Sprintf("%+v", facts), c.says, c.what)
	}
}
