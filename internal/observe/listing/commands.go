package listing

import (
	"fmt"
	"sync"
)

// Commands are what one types in a system to see what this package reads, and to try
// what a machine reaches.
type Commands struct {
	Addresses, Routes, Resolvers, Renew string
	ping, large, name, hop, fetch       string // each with a place for what it goes to
}

// Ping returns the command that pings somebody.
func (c Commands) Ping(to string) string { return fmt.Sprintf(c.ping, to) }

// Large returns the command that pings somebody with a whole packet of 1,500 bytes, which
// nobody may cut.
func (c Commands) Large(to string) string { return fmt.Sprintf(c.large, to) }

// Name returns the command that asks for a name.
func (c Commands) Name(name string) string { return fmt.Sprintf(c.name, name) }

// Hop returns the command that shows the first hops on the way to somebody.
func (c Commands) Hop(to string) string { return fmt.Sprintf(c.hop, to) }

// Fetch returns the command that asks for a page of a number or a name.
func (c Commands) Fetch(from string) string { return fmt.Sprintf(c.fetch, from) }

var commands = sync.OnceValue(func() map[System]Commands {
	return map[System]Commands{
		Linux: {"ip -br address", "ip route", "resolvectl dns, or cat /etc/resolv.conf", "dhclient -r, then dhclient",
			"ping -c 3 %s", "ping -c 3 -M do -s 1472 %s", "getent hosts %s", "tracepath -n -m 2 %s", "curl -sSI %s/"},
		BSD: {"ifconfig", "netstat -rn", "cat /etc/resolv.conf", "dhclient DEVICE",
			"ping -c 3 %s", "ping -c 3 -D -s 1472 %s", "host %s", "traceroute -n -m 2 %s", "curl -sSI %s/"},
		Desktop: {"ipconfig /all", "route print", "ipconfig /all", "ipconfig /release, then ipconfig /renew",
			"ping %s", "ping -f -l 1472 %s", "nslookup %s", "tracert -d -h 2 %s", "curl -sSI %s/"},
	}
})

// CommandsOf returns the commands of a family of systems; of Linux where nobody says which.
func CommandsOf(s System) Commands {
	if c, ok := commands()[s]; ok {
		return c
	}
	return commands()[Linux]
}
