package hostnet

import (
	"net/netip"
	"os"
	"strings"
)

// Resolvers returns who this machine asks for names, in order (resolv.conf(5)).
func Resolvers() (list []netip.Addr) {
	data, err := os.ReadFile("/etc/resolv.conf")
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		if len(f) < 2 || f[0] != "nameserver" {
			continue
		}
		if a, err := netip.ParseAddr(f[1]); err == nil {
			list = append(list, a)
		}
	}
	return list
}
