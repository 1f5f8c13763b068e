// Package nft writes an appliance for the packet filter of Linux: what turns a general-purpose
// machine into it. The rules are those of filter/ruleset, as text for nft(8).
package nft

import (
	"bytes"
	"fmt"
	"slices"

	"openbastion/internal/export/fileset"
	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/plan"
)

// Files returns, for every appliance, its rules and the kernel settings that go with them, in a
// folder of its name. device names an appliance's port on the machine; nil takes the likely names.
func Files(p *plan.Plan, device func(*plan.Adapter) string) []fileset.File {
	if device == nil {
		device = sessionDevice
	}
	var out []fileset.File
	for _, m := range p.Appliances() {
		out = append(out, fileset.File{Name: m.Name + "/nftables.conf", Data: Rules(m, device)},
			fileset.File{Name: m.Name + "/90-" + m.Name + ".conf", Data: Settings(m, device)})
	}
	return out
}

// sessionDevice returns the likely device of a port; a PPPoE session has one of its own, by which
// its packets come and go.
func sessionDevice(a *plan.Adapter) string {
	if a.Port != nil && a.Port.Address.How == "pppoe" {
		return "ppp0"
	}
	return a.Linux()
}

// Rules returns the rules, for nft -f, with the devices of the appliance's adapters.
func Rules(m *plan.Machine, device func(*plan.Adapter) string) []byte {
	text := ruleset.Of(m, device, ruleset.Planned).Text()
	first := bytes.IndexByte(text, '\n') + 1 // the line by which it is a program
	return slices.Concat(text[:first], []byte(plan.ChosenComment(m.Adapters, "#")), text[first:])
}

// Settings returns the kernel settings, for sysctl.
func Settings(m *plan.Machine, device func(*plan.Adapter) string) []byte {
	forward := 1
	if m.Transparent() {
		forward = 0
	}
	six := 0
	for _, a := range m.Adapters {
		if a.Address6.IsValid() {
			six = forward
		}
	}
	strict := 1
	if len(m.WAN()) > 1 {
		strict = 2 // replies come back by the WAN that they left by, whichever is in use now
	}
	out := fmt.Appendf(nil, "# Kernel settings of %s: load with sysctl --system.\n"+
		"net.ipv4.ip_forward = %d\nnet.ipv6.conf.all.forwarding = %d\n"+
		"net.ipv4.conf.all.rp_filter = %d\nnet.ipv4.conf.default.rp_filter = %d\n"+
		"net.ipv4.conf.all.accept_redirects = 0\nnet.ipv4.conf.all.send_redirects = 0\nnet.ipv4.conf.default.send_redirects = 0\n"+
		"net.ipv4.conf.all.arp_ignore = 1\nnet.ipv4.conf.all.arp_announce = 2\n"+
		"net.ipv4.conf.all.accept_source_route = 0\nnet.ipv6.conf.all.accept_redirects = 0\n"+
		"net.ipv6.conf.all.accept_source_route = 0\n", m.Name, forward, six, strict, strict)
	for _, a := range m.Adapters { // the kernel sends redirects when either says so, all or the device
		out = fmt.Appendf(out, "-net/ipv4/conf/%s/send_redirects = 0\n", device(a))
	}
	return out
}
