package draft

import "fmt"

// sockets is a server with two sockets: one outward, one with a switch and real
// machines on it.
func sockets(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.line("  desks:")
	w.line("    reach: isolated         # the host has no address there; for a switch and physical computers")
	w.line("    uplink: %s", o.LANUplink)
	w.line("    native: 10              # what the switch calls the untagged network on that cable")
	w.subnet(o)
	tagged(w, "desks", "phones", "cameras")
	w.gate(o, "in adapter order; the second carries the tags")
	w.line("      - %s", o.inside("lan", "", "desks"))
	w.line("      - {role: lan, name: phones, segment: phones, over: lan}")
	w.line("      - {role: lan, name: cameras, segment: cameras, over: lan}")
	w.line("    rules:")
	w.line("      - allow any from desks to any")
	w.line("      - allow any from phones to outside")
	w.line("      - deny any from cameras to any")
	w.guests(o, "desks", "phones", "cameras")
	w.line("  desk: {segment: desks, physical: true}   # a real computer on the switch")
	w.line("")
	w.line("expect:")
	w.line("  - cameras never reaches outside")
}

// tagged writes segments that ride on another's wire, each with its tag.
func tagged(w *writer, on string, names ...string) {
	for i, s := range names {
		w.line("  %s: {reach: isolated, within: %s, vlan: %d}", s, on, 20+10*i)
	}
}

// replace builds an appliance in the place of one that is there.
func replace(o *Options, w *writer) {
	lan := o.LANs[0]
	if !o.LANAddress.IsValid() {
		o.LANAddress = usualLAN
	}
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated(lan, "attached machines only")
	w.subnet(o)
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.profile(o)
	w.line("    ports:                  # connected only when the old one is off")
	w.line("      - {role: wan, segment: %s, connect: later}", o.WAN)
	w.line("      - %s", o.inside("lan", "connect: later", lan))
	w.line("  old:")
	w.line("    running: false          # after the switch-over; the runbook has the steps, and the way back")
	w.line("    ports:")
	w.line("      - {role: wan, segment: %s}", o.WAN)
	w.line("      - {role: lan, segment: %s, address: %s}", lan, o.LANAddress)
	w.guests(o, lan)
}

// fourSided is a packaged appliance with an adapter of its own for management, and one
// to spare.
func fourSided(o *Options, w *writer) {
	lan := o.LANs[0]
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated(lan, "attached machines only")
	w.subnet(o)
	w.line("  service:")
	w.line("    reach: host             # where the host manages it from; no guest is there")
	if o.Profile == "" {
		o.Profile = "service-first"
	}
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.profile(o)
	w.line("    image: {file: %s.ova}   # a package: imported whole", o.Appliance)
	w.line("    admin-services: [https, ssh]")
	w.line("    ports:                  # in the package's adapter order")
	w.line("      - {role: manage, segment: service, admin: true}")
	w.line("      - {role: wan, segment: %s, connect: later}   # once the inside is set up", o.WAN)
	w.line("      - %s", o.inside("lan", "", lan))
	w.line("      - {role: unused}      # the package has four")
	w.guests(o, lan)
}

// laterServer is a slim machine whose LAN gets its leases from a server that comes
// later.
func laterServer(o *Options, w *writer) {
	lan := o.LANs[0]
	if !o.LANAddress.IsValid() {
		o.LANAddress = usualLAN
	}
	host := func(n byte) string {
		a := o.LANAddress.Masked().Addr().As4()
		return fmt.Sprintf("%d.%d.%d.%d/%d", a[0], a[1], a[2], n, o.LANAddress.Bits())
	}
	w.line("segments:")
	w.wan(o, o.WAN)
	w.isolated(lan, "attached machines only")
	w.line("    dhcp: server            # which DHCP server is here, once it runs")
	w.subnet(o)
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.profile(o)
	w.line("    machine: {cpus: 1, memory: 1GiB, disk: 8GiB}   # small: it routes and filters, without services")
	w.line("    ports:")
	w.line("      - {role: wan, segment: %s}", o.WAN)
	w.line("      - {role: lan, segment: %s, address: %s}", lan, o.LANAddress)
	w.line("")
	w.line("guests:")
	w.line("  server: {segment: %s, static: %s, running: false}   # DHCP and DNS, later", lan, host(5))
	for n := range o.Guests {
		w.line(
			"  %s: {segment: %s, static: %s}   # static until the server runs; then: %s",
			guestName(n+1),
			lan,
			host(byte(20+n)),
			lan,
		)
	}
}

// linesAndTags is an appliance with two lines out and many tags behind one adapter.
func linesAndTags(o *Options, w *writer) {
	w.line("segments:")
	w.wan(o, o.WAN)
	w.line("  backup:")
	w.line("    reach: upstream         # the second line: another router, another cable")
	w.line("    uplink: %s", o.LANUplink)
	w.isolated("desks", "untagged on the shared wire")
	w.subnet(o)
	names := []string{"phones", "cameras", "printers", "lab", "visitors", "sealed"}
	tagged(w, "desks", names...)
	w.gate(o, "the first WAN is the primary, the second the backup")
	w.line("      - {role: wan, name: backup, segment: backup}")
	w.line("      - %s", o.inside("lan", "", "desks"))
	for _, n := range names {
		w.line("      - {role: lan, name: %s, segment: %s, over: lan}", n, n)
	}
	w.line("    rules:")
	w.line("      - deny any from sealed to any")
	w.line("      - allow any from desks to any")
	w.line("      - allow any from phones,cameras,printers,lab,visitors to outside")
	w.guests(o, append([]string{"desks"}, names...)...)
	w.line("")
	w.line("expect:")
	w.line("  - sealed never reaches outside")
	w.line("  - visitors never reaches desks")
}

// closed is a range that has no way out of the host: a segment of it plays the world.
func closed(o *Options, w *writer) {
	lan := o.LANs[0]
	w.line("segments:")
	w.line("  arena:")
	w.line("    reach: isolated         # simulates the internet; nothing connects it to the real one")
	w.line("    subnet: 198.18.0.0/24   # reserved for tests (RFC 2544)")
	w.isolated(lan, "attached machines only")
	w.subnet(o)
	w.line("")
	w.line("appliances:")
	w.line("  %s:", o.Appliance)
	w.profile(o)
	w.line("    ports:")
	w.line("      - {role: wan, segment: arena, address: 198.18.0.2/24, gateway: 198.18.0.66}")
	w.line("      - %s", o.inside("lan", "", lan))
	w.guests(o, lan)
	w.line("  rogue: {segment: arena, static: 198.18.0.66/24, outside: true}   # plays whoever is out there")
	w.line("")
	w.line("expect:")
	w.line("  - %s reaches rogue tcp/80", guestName(1))
	w.line("  - rogue never reaches %s", lan)
}
