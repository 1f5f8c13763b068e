// Package draft writes lab files to start from: commented, in the order in
// which people think, and sound as they stand.
package draft

import (
	"fmt"
	"net/netip"
	"strings"
)

// Options are what a draft is made of. The zero value of each is replaced by
// the default that its comment names.
type Options struct {
	Lab       string
	Title     string         // left out when empty
	Appliance string         // gate
	WAN       string         // upstream
	LANs      []string       // one, lan
	Guests    int            // on each LAN: 1
	Networks  []netip.Prefix // that the host is on already
	Uplink    string         // left out when empty
}

func (o *Options) defaults() {
	if o.Appliance == "" {
		o.Appliance = "gate"
	}
	if o.WAN == "" {
		o.WAN = "outer"
	}
	if len(o.LANs) == 0 {
		o.LANs = []string{"inner"}
	}
	if o.Guests == 0 {
		o.Guests = 1
	}
}

// Write gives the lab file.
func Write(o Options) []byte {
	o.defaults()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# A lab behind a firewall. Look at the plan with `bastion plan`, and see what")
	line("# holds with `bastion rehearse`. Everything not said here is planned.")
	line("bastion: 1                  # version of this format")
	line("lab: %s", o.Lab)
	if o.Title != "" {
		line("title: %q", o.Title)
	}
	line("")
	if len(o.Networks) > 0 {
		var list []string
		for _, n := range o.Networks {
			list = append(list, n.String())
		}
		line("site:")
		line("  networks: [%s]   # what this machine is on already; the plan keeps clear of it", strings.Join(list, ", "))
	} else {
		line("# site:")
		line("#   networks: [192.0.2.0/24]   # networks this machine is on already; the plan keeps clear of them")
	}
	line("")
	line("segments:                   # each is one broadcast domain")
	line("  %s:", o.WAN)
	line("    reach: upstream         # leads outside: the house or site network")
	if o.Uplink != "" {
		line("    uplink: %s", o.Uplink)
	}
	for _, s := range o.LANs {
		line("  %s:", s)
		line("    reach: isolated         # nobody is here but those attached")
		line("    # subnet: 10.83.16.0/24 # planned when absent")
	}
	line("")
	line("appliances:")
	line("  %s:", o.Appliance)
	line("    ports:                  # in adapter order")
	line("      - {role: wan, segment: %s}", o.WAN)
	for _, s := range o.LANs {
		line("      - {role: lan, segment: %s}", s)
	}
	line("    # rules:                # without them each LAN may go outside, and nothing else")
	line("    #   - allow any from %s to outside", o.LANs[0])
	line("")
	line("guests:")
	n := 0
	for _, s := range o.LANs {
		for range o.Guests {
			n++
			line("  %s: %s", guestName(n), s)
		}
	}
	line("")
	line("# expect:                   # beside what every lab must hold")
	line("#   - %s reaches outside tcp/443", guestName(1))
	return []byte(b.String())
}

// guestName gives the n-th guest's name, from 1.
func guestName(n int) string { return fmt.Sprintf("guest%d", n) }
