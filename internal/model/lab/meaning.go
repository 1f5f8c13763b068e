package lab

import (
	"slices"
	"strings"
	"sync"
)

// meanings is what words of the trade that lab files do not use most likely mean here,
// for keys and for values; the first that fits a place counts.
var meanings = sync.OnceValue(func() map[string][]string {
	return map[string][]string{
		"external": {
			"wan",
			"upstream",
		}, "outside": {"wan", "upstream"}, "internet": {"wan", "upstream"}, "public": {"wan", "upstream"},
		"untrusted": {"wan", "upstream"}, "bridged": {"upstream"}, "nat": {"upstream"}, "translated": {"nat"},
		"internal": {
			"lan",
			"isolated",
		}, "inside": {"lan", "isolated"}, "private": {"lan", "isolated"}, "trusted": {"lan", "isolated"},
		"closed": {"isolated"}, "none": {"isolated"}, "intranet": {"lan", "isolated"},
		"perimeter": {"dmz"}, "servers": {"dmz"}, "screened": {"dmz"},
		"management": {"manage"}, "mgmt": {"manage"}, "admin": {"manage"},
		"hostonly": {"host"}, "host-only": {"host"},
		"lease": {
			"dhcp",
		}, "leases": {"dhcp"}, "auto": {"dhcp"}, "automatic": {"dhcp"}, "dynamic": {"dhcp"}, "fixed": {"static"}, "manual": {"static"},
		"ip": {
			"address",
			"static",
		}, "ipaddress": {"address", "static"}, "ip-address": {"address", "static"}, "addr": {"address", "static"},
		"mask": {
			"address",
			"static",
			"subnet",
		}, "netmask": {"address", "static", "subnet"}, "subnet-mask": {"address", "static", "subnet"},
		"gw": {
			"gateway",
		}, "router": {"gateway"}, "default-gateway": {"gateway"}, "nexthop": {"gateway"}, "next-hop": {"gateway"},
		"nameserver": {"dns"}, "nameservers": {"dns"}, "resolver": {"dns"}, "resolvers": {"dns"},
		"network": {
			"segment",
			"subnet",
		}, "net": {"segment", "subnet"}, "switch": {"segment", "segments"}, "vswitch": {"segment", "segments"},
		"networks": {
			"segments",
		}, "switches": {"segments"}, "vms": {"guests"}, "clients": {"guests"}, "hosts": {"guests"},
		"firewall": {"appliances"}, "firewalls": {"appliances"}, "routers": {"appliances"}, "gateways": {"appliances"},
		"interfaces": {"ports", "adapters"}, "nics": {"ports", "adapters"}, "interface": {"device", "segment"},
		"zone": {"role"}, "type": {"role", "kind", "reach"},
		"vlan-id": {
			"vlan",
		}, "vid": {"vlan"}, "tag": {"vlan"}, "mac-address": {"mac"}, "hwaddr": {"mac"}, "hardware-address": {"mac"},
		"ram": {"memory"}, "cores": {"cpus"}, "cpu": {"cpus"}, "vcpus": {"cpus"}, "storage": {"disk"}, "hdd": {"disk"},
		"range": {
			"pool",
		}, "dhcp-range": {"pool"}, "lease-time": {"time"}, "reservation": {"reserve"}, "reserved": {"reserve"},
		"port-forward": {
			"publish",
		}, "forward": {"publish"}, "forwards": {"publish"}, "masquerading": {"masquerade"}, "snat": {"masquerade"},
		"connected": {"plugged"}, "enabled": {"plugged"}, "uplinks": {"uplink"}, "rule": {"rules"},
		"firewall-rules": {"rules"}, "expectations": {"expect"},
		"drop": {
			"deny",
		}, "block": {"deny"}, "reject": {"refuse"}, "accept": {"allow"}, "permit": {"allow"}, "pass": {"allow"},
	}
})

// meaning returns the known word that a word of the trade most likely means, else the
// closest by its letters, or "" when there is none.
func meaning(word string, known []string) string {
	for _, m := range meanings()[strings.ToLower(strings.ReplaceAll(word, "_", "-"))] {
		if slices.Contains(known, m) {
			return m
		}
	}
	return Nearest(word, known)
}
