package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/render/runbook"
	"openbastion/profiles"
)

// job is one of the ways in which people build a lab at a console: on a desktop, on a
// server, with a packaged appliance, with a plain Linux system.
type job struct {
	name, profile, wording string
	devices                func(a *plan.Adapter) string
	page                   func(m *plan.Machine) string                                    // where adapters are attached
	list                   func(m *plan.Machine, device func(*plan.Adapter) string) string // the console's interfaces
	status                 func(m *plan.Machine, device func(*plan.Adapter) string) string // its addresses
	guest                  func(a *plan.Adapter, address string) string
}

// leased returns an address that an adapter has once all is well.
func leased(a *plan.Adapter) string {
	switch {
	case a.Address.IsValid():
		return a.Address.Addr().String()
	case a.How == plan.FromAbove:
		return a.Segment.Gateway.Next().String()
	}
	_, service := a.Segment.LeaseService()
	return service.Pool.From.String()
}

func hop(a *plan.Adapter) string { return a.Gate().Address.Addr().String() }

var walkJobs = []job{
	{
		name: "desktop", profile: "wan-first", wording: "desktop",
		devices: func(a *plan.Adapter) string { return fmt.Sprintf("vtnet%d", a.Number-1) },
		page: func(m *plan.Machine) (out string) {
			for _, a := range m.Own() {
				out += fmt.Sprintf(
					"Adapter %d:\n  Attached to:     %s '%s'\n  MAC address:     %s\n  Plugged in:      yes\n",
					a.Number,
					map[bool]string{true: "bridged network", false: "isolated network"}[a.Segment.Reach == lab.Upstream],
					a.Segment.Name,
					strings.ToUpper(strings.ReplaceAll(a.MAC.String(), ":", "")),
				)
			}
			return out
		},
		list: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			for _, a := range m.Own() {
				out = fmt.Sprintf("%s   %s   (up)\n", device(a), a.MAC) + out
			}
			return "Devices found:\n" + out
		},
		status: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			for _, a := range m.Adapters {
				out += fmt.Sprintf(
					" %s => %s => IPv4 %s/%d\n",
					strings.ToUpper(a.Name),
					device(a),
					leased(a),
					a.Segment.Subnet.Bits(),
				)
			}
			return out + "default            172.29.64.1        UGS      vtnet0\n"
		},
		guest: func(a *plan.Adapter, address string) string {
			return fmt.Sprintf(
				"Ethernet-Adapter Ethernet:\n   IPv4-Adresse  . . . . : %s(Bevorzugt)\n   Subnetzmaske  . . . . : 255.255.255.0\n"+
					"   Standardgateway . . . : %s\n   DNS-Server  . . . . . : %s\n",
				address,
				hop(a),
				hop(a),
			)
		},
	},
	{
		name: "server", profile: "inside-first", wording: "server",
		devices: func(a *plan.Adapter) string { return fmt.Sprintf("eth%d", a.Number-1) },
		page: func(m *plan.Machine) (out string) {
			for _, a := range m.Own() {
				out += fmt.Sprintf("Network adapter %d     %s     Connected      %s\n", a.Number, a.Segment.Name, a.MAC)
			}
			return out
		},
		list: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			out = "| Name | Link | MAC               |\n|------|------|-------------------|\n"
			for _, a := range m.Own() {
				out += fmt.Sprintf("| %s | up   | %s |\n", device(a), a.MAC)
			}
			return out
		},
		status: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			out = "Device      Role        Address\n"
			for _, a := range m.Adapters {
				out += fmt.Sprintf("%-10s  %-10s  %s/%d\n", device(a), a.Name, leased(a), a.Segment.Subnet.Bits())
			}
			return out + "\nDefault gateway: 172.29.64.1\n"
		},
		guest: func(a *plan.Adapter, address string) string {
			return fmt.Sprintf(
				"IPAddress         : %s\nInterfaceAlias    : Ethernet\nPrefixLength      : 24\nIPv4DefaultGateway   : %s\nDNSServer            : %s\n",
				address,
				hop(a),
				hop(a),
			)
		},
	},
	{
		name: "packaged", profile: "service-first", wording: "server",
		devices: func(a *plan.Adapter) string { return fmt.Sprintf("port%d", a.Number) },
		page: func(m *plan.Machine) (out string) {
			for _, a := range m.Own() {
				out += fmt.Sprintf(
					"nic%d.network = \"%s\"\nnic%d.mac = \"%s\"\n",
					a.Number-1,
					a.Segment.Name,
					a.Number-1,
					a.MAC,
				)
			}
			return out
		},
		list: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			for _, a := range m.Own() {
				out += fmt.Sprintf("Device %s is up\n  MAC address is %s\n", device(a),
					strings.ReplaceAll(a.MAC.String(), ":", "-"))
			}
			return out
		},
		status: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			for _, a := range m.Adapters {
				out += fmt.Sprintf("%s [%s]: %s/255.255.255.0\n", strings.ToUpper(a.Name), device(a), leased(a))
			}
			return out + "S     0.0.0.0/0 via 172.29.64.1\n"
		},
		guest: func(a *plan.Adapter, address string) string {
			return fmt.Sprintf(
				"GENERAL.DEVICE:    enp1s0\nIP4.ADDRESS[1]:    %s/24\nIP4.GATEWAY:       %s\nIP4.DNS[1]:        %s\n",
				address,
				hop(a),
				hop(a),
			)
		},
	},
	{
		name: "plain", profile: "plain-linux", wording: "kernel",
		devices: func(a *plan.Adapter) string { return fmt.Sprintf("ens%d", a.Number+2) },
		page: func(m *plan.Machine) (out string) {
			for _, a := range m.Own() {
				out += fmt.Sprintf(
					"<interface type='network'><mac address='%s'/><source network='%s'/></interface>",
					a.MAC,
					a.Segment.Name,
				)
			}
			return "<domain><name>" + m.Name + "</name><devices>" + out + "</devices></domain>\n"
		},
		list: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			for i, a := range m.Own() {
				out += fmt.Sprintf(
					"%d: %s: <BROADCAST,UP,LOWER_UP> mtu 1500\n    link/ether %s brd ff:ff:ff:ff:ff:ff\n",
					i+2,
					device(a),
					a.MAC,
				)
			}
			return out
		},
		status: func(m *plan.Machine, device func(*plan.Adapter) string) (out string) {
			for _, a := range m.Adapters {
				out += fmt.Sprintf(
					"%-16s UP             %s/%d fe80::1/64\n",
					device(a),
					leased(a),
					a.Segment.Subnet.Bits(),
				)
			}
			return out + "default via 172.29.64.1 dev ens3\n"
		},
		guest: func(a *plan.Adapter, address string) string {
			return fmt.Sprintf(
				"2: eth0: <BROADCAST,UP,LOWER_UP> mtu 1500\n    inet %s/24 scope global eth0\ndefault via %s dev eth0\nnameserver %s\n",
				address,
				hop(a),
				hop(a),
			)
		},
	},
}

// device returns what the console of a job calls an adapter.
func (j job) device(a *plan.Adapter) string {
	if a.Over != nil {
		return fmt.Sprintf("%s.%d", j.devices(a.Over), a.Segment.Tag)
	}
	return j.devices(a)
}

// write makes the lab file of a job and what somebody types who walks through its
// runbook with pastes alone.
func (j job) write(folder string) error {
	sample, err := os.ReadFile("../../examples/saltmarsh.yaml")
	if err != nil {
		return err
	}
	text := regexp.MustCompile(`profile: reference .*`).ReplaceAllString(string(sample), "profile: "+j.profile)
	l, err := lab.Read("lab.yaml", []byte(text))
	if err != nil {
		return err
	}
	data, _ := profiles.Profile(j.profile)
	profile, err := lab.ReadProfile(j.profile, data)
	if err != nil {
		return err
	}
	l.Profiles = map[string]*lab.Profile{j.profile: profile}
	p, err := plan.Build(l)
	if err != nil {
		return err
	}
	data, _ = profiles.Wording(j.wording)
	words, err := lab.ReadWording(j.wording, data)
	if err != nil {
		return err
	}
	var keys strings.Builder
	for _, s := range runbook.Of(p, words).Steps() {
		m := p.Machine(s.Machine)
		paste := ""
		switch kind, _, _ := strings.Cut(s.ID, "."); {
		case s.Check == runbook.NoCheck:
		case kind == "adapters":
			paste = j.page(m)
		case kind == "which":
			paste = j.list(m, j.device)
		case m.Appliance != nil:
			paste = j.status(m, j.device)
		default:
			paste = j.guest(m.Adapters[0], leased(m.Adapters[0]))
		}
		if paste == "" {
			keys.WriteString("\n")
			continue
		}
		keys.WriteString(
			"p\n" + paste + map[bool]string{true: "\x04", false: ".\n"}[j.wording == "desktop"],
		) // Ctrl-D, or a dot
	}
	for name, data := range map[string]string{"lab-" + j.name + ".yaml": text, "keys-" + j.name + ".txt": keys.String()} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(data), 0o644); err != nil {
			return err
		}
	}
	return nil
}
