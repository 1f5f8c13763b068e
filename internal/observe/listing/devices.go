package listing

import (
	"strconv"
	"strings"
)

// isDeviceAlone reports whether it is a line of a device that bears a number, not of an adapter's
// number.
func isDeviceAlone(words []word) bool {
	w := words[0].text
	if !isDevice(w) || keyOfAdapter.MatchString(w) {
		return false
	}
	stem := strings.ToLower(strings.TrimRight(w, "0123456789"))
	switch stem {
	case "net", "ethernet", "nic", "vnic", "adapter":
		return !words[0].label && (len(words) < 2 || !strings.Contains(words[0].text, "."))
	}
	return true
}

// isRole tells words that name what an interface is for.
func isRole(text string) bool {
	t := strings.ToLower(strings.Trim(text, ":"))
	switch strings.TrimRight(t, "0123456789") {
	case "wan",
		"lan",
		"dmz",
		"opt",
		"mgmt",
		"management",
		"manage",
		"admin",
		"outside",
		"inside",
		"internal",
		"external":
		return true
	}
	return false
}

var (
	deviceForm = form(`^[A-Za-z][A-Za-z_-]*\d[\w./@-]*$`)
	keyInside  = form(
		`(?i)(addr|adress|gateway|mask|dns|server|method|route|origin|prefix|connected|present|network|adapter|driver|cable|router)`,
	)
	noDevices = form(
		`(?i)^(ipv?|v|inet|dhcpv?|dhcp|dns|route|ip|tcp|udp|icmp|http|https|ssh|sha|md|x|utf|rfc|ntp|nd|link#|step|version|line|port#|option|opt|wan|lan|dmz|` +
			`mgmt|answer|vlan|tag|mtu|qlen|metric|uptime|build|release|page|day|week|section|note|tab|fig|table|item|id|no|num|nr|win|bit|cpu|disk|mem|ram|slot|pci)\d[\d.]*$`,
	)
)

// isDevice reports whether it is a word that has the form of an interface's name: letters, then
// digits, and not a key word with a number.
func isDevice(w string) bool {
	if w == "lo" || isRiding(w) {
		return true
	}
	if len(w) < 2 || len(w) > 32 || !deviceForm.MatchString(w) || noDevices.MatchString(w) || keyInside.MatchString(w) {
		return false
	}
	low := strings.ToLower(w)
	return (!isHex(w) || len(w) < 4) && !strings.HasPrefix(low, "lft") && !strings.HasSuffix(low, "ms") &&
		tailDigits(w) == ""
}

// isRiding tells vlan48 and the like beside a parent's name.
func isRiding(w string) bool {
	_, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(w), "vlan"))
	return err == nil && strings.HasPrefix(strings.ToLower(w), "vlan")
}

func hasState(words []word) bool {
	for _, w := range words[1:] {
		if w.is("up", "down", "unknown", "lowerlayerdown", "dormant", "active", "connected", "disconnected", "unavailable", "no-carrier") ||
			strings.HasPrefix(w.text, "flags") || w.is("encap") ||
			strings.HasPrefix(w.text, "mtu") ||
			w.label && fieldOf(w.text) == link {
			return true
		}
	}
	const few = 5
	return len(words) <= few && downWords.MatchString(joined(words[1:]))
}

// Virtual reports whether a device's name is one that a system gives to a bridge, a tunnel or another
// interface of its own making, which no adapter stands behind.
func Virtual(device string) bool {
	low := strings.ToLower(device)
	for _, stem := range []string{"br-", "virbr", "docker", "veth", "tun", "tap", "wg", "dummy", "cni", "podman", "lxc", "lxd",
		"vmnet", "gre", "sit", "ip6tnl", "bond", "team", "ifb", "flannel", "cali", "vxlan", "macvlan", "ipvlan", "zt", "utun", "bridge"} {
		if strings.HasPrefix(low, stem) {
			return true
		}
	}
	return false
}
