package draft

import (
	"fmt"
	"strings"
)

// Shape is a lab to start from.
type Shape struct {
	Name string
	What string // in a few words
	Why  string // when one wants it
	body func(o *Options, w *writer)
}

// Shapes are all shapes, the simplest first.
var Shapes = []Shape{
	{
		"one-lan",
		"a WAN and one LAN behind one appliance",
		"The usual first lab: a few guests that reach outside only through the appliance.",
		oneLAN,
	},
	{"quarantine", "two LANs, one of which never reaches outside",
		"For guests that must not be let out: malware, untrusted appliances, evidence.", quarantine},
	{"dmz", "a LAN and a DMZ with a published server",
		"For a server that may be reached from outside on one port and must not reach the LAN.", dmz},
	{"trunk", "three tagged segments on one wire",
		"When the hypervisor has few networks, or to practise VLANs: one adapter carries them all.", trunk},
	{
		"two-uplinks",
		"two WANs, primary and backup, before one LAN",
		"When the lab should live on while one line is down.",
		twoUplinks,
	},
	{"transparent", "an appliance that bridges and filters, without addresses of its own",
		"To put a filter into a network that must not be renumbered.", transparent},
	{"one-armed", "an appliance next to the router, on one adapter",
		"To try an appliance without rewiring; guests use it as gateway, and can bypass it.", oneArmed},
	{"chain", "a firewall behind a firewall", "To practise two appliances in a row, with a zone between them.", chain},
	{"sockets", "a server with two sockets: the WAN on one, a switch with tags and real computers on the other",
		"When the LAN goes beyond the host, to real machines.", sockets},
	{"replace", "an appliance in the place of one that is there",
		"To build the successor in parallel to the old firewall, switch over, and be able to go back.",
		replace},
	{"four-sided", "a packaged appliance with a management side and an adapter to spare",
		"For a package that brings its own adapters; the host manages it on a side of its own.", fourSided},
	{"later-server", "a LAN whose DHCP server is set up later",
		"When a directory server will serve DHCP and names, and guests must work until then.", laterServer},
	{
		"lines-and-tags",
		"two WANs and seven networks behind one adapter",
		"To practise many VLANs and a second line in one lab.",
		linesAndTags,
	},
	{
		"closed",
		"a range without any path outside of the host",
		"For attacks and malware: a segment simulates the internet, and nothing connects to the real one.",
		closed,
	},
	{"classroom", "many identical benches behind one appliance",
		"For a course: each bench is its own segment, and none reaches another.", classroom},
}

// ShapeNamed returns a shape by its name.
func ShapeNamed(name string) (Shape, bool) {
	for _, s := range Shapes {
		if s.Name == name {
			return s, true
		}
	}
	return Shape{}, false
}

// writer gathers lines.
type writer struct{ strings.Builder }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// wan writes the WAN segment.
func (w *writer) wan(o *Options, name string) {
	w.line("  %s:", name)
	w.line("    reach: upstream         # the local network or site network")
	if o.NAT {
		w.line("    join: nat               # the host translates; bridging would not work here")
	} else if o.Uplink != "" && name == o.WAN {
		w.line("    join: bridged")
		w.line("    uplink: %s", o.Uplink)
	}
}

// subnet writes the network of the LAN whose address was chosen.
func (w *writer) subnet(o *Options) {
	if o.LANAddress.IsValid() {
		w.line("    subnet: %s", o.LANAddress.Masked())
	}
}

func (w *writer) isolated(name, comment string) {
	w.line("  %s:", name)
	w.line("    reach: isolated         # %s", comment)
}

// profile writes what kind of appliance it is, where that was said.
func (w *writer) profile(o *Options) {
	if o.Profile != "" {
		w.line("    profile: %s", o.Profile)
	}
}

// gate starts the appliance and writes its WAN port; comment stands behind
// ports.
func (w *writer) gate(o *Options, comment string) {
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.profile(o)
	w.line("    ports:                  # %s", comment)
	w.line("      - {role: wan, segment: %s}", o.WAN)
}

// guests writes n guests on each of the segments and gives the first's name.
func (w *writer) guests(o *Options, segments ...string) {
	w.line("")
	w.line("guests:")
	n := 0
	for _, s := range segments {
		for range o.Guests {
			n++
			w.line("  %s: %s", guestName(n), s)
		}
	}
}

func oneLAN(o *Options, w *writer) {
	w.line("segments:                   # each is one broadcast domain")
	w.wan(o, o.WAN)
	for i, s := range o.LANs {
		w.isolated(s, "attached machines only")
		if i == 0 && o.LANAddress.IsValid() {
			w.subnet(o)
		} else {
			w.line("    # subnet: 10.83.16.0/24 # (default: planned)")
		}
	}
	w.gate(o, "in adapter order")
	for i, s := range o.LANs {
		if i == 0 {
			w.line("      - %s", o.inside("lan", "", s))
		} else {
			w.line("      - {role: lan, segment: %s}", s)
		}
	}
	w.line("    # rules:                # without them each LAN may go outside, and nothing else")
	w.line("    #   - allow any from %s to outside", o.LANs[0])
	w.guests(o, o.LANs...)
	w.line("")
	w.line("# expect:                   # in addition to the standard checks")
	w.line("#   - %s reaches outside tcp/443", guestName(1))
}

func quarantine(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated("desks", "may go outside through the appliance")
	w.subnet(o)
	w.isolated("quarantine", "never outside")
	w.gate(o, "in adapter order")
	w.line("      - %s", o.inside("lan", "", "desks"))
	w.line("      - {role: lan, name: sealed, segment: quarantine}")
	w.line("    rules:                  # the first that matches decides; what none matches is denied")
	w.line("      - deny any from quarantine to any")
	w.line("      - allow any from desks to outside,quarantine")
	w.guests(o, "desks", "quarantine")
	w.line("")
	w.line("expect:")
	w.line("  - quarantine never reaches outside")
	w.line("  - quarantine never reaches desks")
	w.line("  - desks reaches quarantine")
}

func dmz(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated("desks", "may go outside through the appliance")
	w.subnet(o)
	w.isolated("servers", "what the outside may reach, at one port")
	w.line("    subnet: 10.83.32.0/24   # given, as the server's address is static")
	w.gate(o, "in adapter order")
	w.line("      - %s", o.inside("lan", "", "desks"))
	w.line("      - {role: dmz, segment: servers}")
	w.line("    nat:")
	w.line("      publish:              # a port outside, the server, its port")
	w.line("        - {port: tcp/8443, to: web, at: tcp/443}")
	w.line("    rules:")
	w.line("      - allow any from desks to outside,servers")
	w.line("      - allow udp/53,udp/123,tcp/80,tcp/443 from servers to outside")
	w.guests(o, "desks")
	w.line("  web: {segment: servers, static: 10.83.32.10/24}")
	w.line("")
	w.line("expect:")
	w.line("  - outside reaches web tcp/8443")
	w.line("  - desks reaches web tcp/443")
	w.line("  - web never reaches desks")
}

func trunk(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated("desks", "untagged on the shared wire")
	w.subnet(o)
	for i, s := range []string{"phones", "cameras"} {
		w.line("  %s:", s)
		w.line("    reach: isolated")
		w.line("    within: desks           # carried on desks' wire,")
		w.line("    vlan: %d                # with this tag", 20+10*i)
	}
	w.gate(o, "in adapter order; one adapter carries all three")
	w.line("      - %s", o.inside("lan", "", "desks"))
	w.line("      - {role: lan, name: phones, segment: phones, over: lan}")
	w.line("      - {role: lan, name: cameras, segment: cameras, over: lan}")
	w.line("    rules:")
	w.line("      - allow any from desks to any")
	w.line("      - allow any from phones to outside")
	w.line("      - deny any from cameras to any")
	w.guests(o, "desks", "phones", "cameras")
	w.line("")
	w.line("expect:")
	w.line("  - cameras never reaches outside")
}

func twoUplinks(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.line("  backup:")
	w.line("    reach: upstream         # the second line")
	w.isolated(o.LANs[0], "attached machines only")
	w.subnet(o)
	w.gate(o, "the first WAN is the primary, the second the backup")
	w.line("      - {role: wan, name: backup, segment: backup}")
	w.line("      - %s", o.inside("lan", "", o.LANs[0]))
	w.guests(o, o.LANs[0])
}

func transparent(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.line("    foreign-macs: allow     # the bridge sends with the guests' MAC addresses")
	w.isolated("behind", "the same network as before it, with the filter between")
	w.line("    foreign-macs: allow")
	w.line("  service:")
	w.line("    reach: host             # where the appliance is managed from")
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.line("    kind: transparent       # bridges its WAN and LAN port; neither has an address")
	w.profile(o)
	w.line("    ports:")
	w.line("      - {role: wan, segment: %s}", o.WAN)
	w.line("      - {role: lan, segment: behind}")
	w.line("      - {role: manage, segment: service}")
	w.guests(o, "behind")
}

func oneArmed(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.line("    dhcp: none            # the router's DHCP server is off: the appliance's points guests at itself")
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.line("    kind: one-armed         # next to the router; a guest that uses the router as gateway bypasses it")
	w.profile(o)
	w.line("    ports:")
	w.line("      - {role: lan, segment: %s}", o.WAN)
	w.guests(o, o.WAN)
}

func chain(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated("between", "the zone between the two")
	w.isolated("inner", "behind both")
	w.line("")
	w.line("appliances:")
	w.line("  outer-gate:")
	w.profile(o)
	w.line("    ports:")
	w.line("      - {role: wan, segment: %s}", o.WAN)
	w.line("      - {role: lan, segment: between}")
	w.line("  inner-gate:")
	w.profile(o)
	w.line("    ports:")
	w.line("      - {role: wan, segment: between}")
	w.line("      - {role: lan, segment: inner}")
	w.guests(o, "between", "inner")
}

func classroom(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	var benches []string
	for i := range o.Benches {
		name := fmt.Sprintf("bench%d", i+1)
		benches = append(benches, name)
		w.line("  %s: {reach: isolated}", name)
	}
	w.gate(o, "in adapter order")
	for _, s := range benches {
		w.line("      - {role: lan, name: %s, segment: %s}", s, s)
	}
	w.line("    # without rules each bench may go outside, and none reaches another")
	w.guests(o, benches...)
}
