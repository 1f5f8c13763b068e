// Package seed writes NoCloud seeds: what a plain Debian cloud machine reads on
// its first start to become one of the lab's machines. Each is user-data,
// meta-data and network-config (version 2), as a folder and as an ISO 9660
// image labelled cidata.
//
// Adapters are told apart by hardware address. An appliance gets forwarding,
// the packet filter, a lease server and a resolver from what such a machine
// has on board; no seed holds a password or key.
package seed

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"

	"go.yaml.in/yaml/v3"

	"openbastion/internal/export/fileset"
	"openbastion/internal/export/nft"
	"openbastion/internal/export/zone"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// Files returns the seeds of all machines, each in a folder of its name, and as
// NAME.iso.
func Files(p *plan.Plan) ([]fileset.File, error) { return FilesWith(p, nil) }

// Carried is where a machine finds the plan for its probe.
const Carried = "/etc/bastion/plan.txt"

// FilesWith returns the seeds with the plan that each machine's probe is to be given, by its
// name; a line in it is a secret of the machine's bench.
func FilesWith(p *plan.Plan, carried map[string]string) ([]fileset.File, error) {
	var out []fileset.File
	for _, m := range p.Made() {
		files, err := Machine(p, m, carried[m.Name])
		if err != nil {
			return nil, fmt.Errorf("seed: %s: %w", m.Name, err)
		}
		image, err := image(files)
		if err != nil {
			return nil, fmt.Errorf("seed: %s: %w", m.Name, err)
		}
		for _, f := range files {
			out = append(out, fileset.File{Name: m.Name + "/" + f.Name, Data: f.Data})
		}
		out = append(out, fileset.File{Name: m.Name + ".iso", Data: image})
	}
	return out, nil
}

// Machine returns a machine's three files; carried is the plan for its probe, or empty.
func Machine(p *plan.Plan, m *plan.Machine, carried string) ([]fileset.File, error) {
	if err := session(m); err != nil {
		return nil, err
	}
	network, err := yaml.Marshal(networkConfig(m))
	if err != nil {
		return nil, err
	}
	config := userData(p, m)
	if carried != "" {
		config.Files = append(config.Files, written{Carried, "0600", carried + "\n"})
	}
	user, err := yaml.Marshal(config)
	if err != nil {
		return nil, err
	}
	meta, err := yaml.Marshal(map[string]string{"instance-id": p.Name + "-" + m.Name, "local-hostname": m.Name})
	if err != nil {
		return nil, err
	}
	return []fileset.File{
		{Name: "user-data", Data: append([]byte("#cloud-config\n"), user...)},
		{Name: "meta-data", Data: meta},
		{Name: "network-config", Data: append([]byte(plan.ChosenComment(m.Adapters, "#")), network...)},
	}, nil
}

// Device returns the name that a seed gives an adapter: an appliance's port has
// its own, tagged ones with the tag behind that of the port they ride on.
func Device(a *plan.Adapter) string {
	switch {
	case a.Over != nil:
		return fmt.Sprintf("%s.%d", Device(a.Over), a.Segment.Tag)
	case a.Machine.Appliance == nil:
		return fmt.Sprintf("lab%d", a.Number)
	}
	name := a.Name
	if len(name) > 9 { // what a tag leaves of the fifteen that the kernel takes
		name = fmt.Sprintf("port%d", a.Number)
	}
	return name
}

type match struct {
	MAC string `yaml:"macaddress"`
}

type route struct {
	To     string `yaml:"to"`
	Via    string `yaml:"via"`
	Metric int    `yaml:"metric,omitempty"`
}

// overrides are what of a lease is taken otherwise than it says.
type overrides struct {
	Metric int `yaml:"route-metric"`
}

type resolvers struct {
	Addresses []string `yaml:"addresses"`
	Search    []string `yaml:"search,omitempty"`
}

type device struct {
	Match       *match     `yaml:"match,omitempty"`
	Name        string     `yaml:"set-name,omitempty"`
	Optional    bool       `yaml:"optional,omitempty"` // nobody waits for it at the start
	DHCP4       bool       `yaml:"dhcp4"`
	Lease       *overrides `yaml:"dhcp4-overrides,omitempty"`
	Addresses   []string   `yaml:"addresses,omitempty"`
	Routes      []route    `yaml:"routes,omitempty"`
	Nameservers *resolvers `yaml:"nameservers,omitempty"`
	ID          int        `yaml:"id,omitempty"`
	Link        string     `yaml:"link,omitempty"`
	Interfaces  []string   `yaml:"interfaces,omitempty"`
}

type netplan struct {
	Version   int               `yaml:"version"`
	Renderer  string            `yaml:"renderer,omitempty"`
	Ethernets map[string]device `yaml:"ethernets"`
	VLANs     map[string]device `yaml:"vlans,omitempty"`
	Bridges   map[string]device `yaml:"bridges,omitempty"`
}

// metric is how far the ways out of a machine are apart.
const metric = 100

func networkConfig(m *plan.Machine) netplan {
	n := netplan{Version: 2, Ethernets: map[string]device{}}
	var pair []string
	ways := 0 // out: each has a metric of its own, so that the first counts while it is up
	for _, a := range m.Adapters {
		if a.Segment.Nowhere() && a.Over != nil {
			continue
		}
		d := device{
			Optional: !a.Plugged,
			DHCP4:    a.How == plan.Lease || a.How == plan.Reservation || a.How == plan.FromAbove,
		}
		if a.How == plan.Static && a.Address.IsValid() {
			d.Addresses = append(d.Addresses, a.Address.String())
			if a.Gateway.IsValid() {
				ways++
				d.Routes = append(d.Routes, route{"0.0.0.0/0", a.Gateway.String(), metric * ways})
			}
			if len(a.DNS) > 0 {
				d.Nameservers = &resolvers{Addresses: subnet.Texts(a.DNS)}
			}
		}
		if d.DHCP4 {
			ways++
			d.Lease = &overrides{metric * ways}
		}
		if a.Address6.IsValid() && m.Appliance != nil {
			d.Addresses = append(d.Addresses, a.Address6.String())
		}
		for _, o := range m.OneToOne {
			if a.Role == lab.WAN && a.Segment.Subnet.Contains(o.Outside) {
				d.Addresses = append(d.Addresses, o.Outside.String()+"/32")
			}
		}
		if m.Transparent() && a.Role != lab.Manage {
			pair = append(pair, Device(a))
		}
		if a.Over != nil {
			if n.VLANs == nil {
				n.VLANs = map[string]device{}
			}
			d.ID, d.Link = a.Segment.Tag, Device(a.Over)
			n.VLANs[Device(a)] = d
			continue
		}
		d.Match, d.Name = &match{a.MAC.String()}, Device(a)
		n.Ethernets[Device(a)] = d
	}
	if pair != nil {
		n.Bridges = map[string]device{"pair": {Interfaces: pair}}
	}
	return n
}

type written struct {
	Path        string `yaml:"path"`
	Permissions string `yaml:"permissions"`
	Content     string `yaml:"content"`
}

type cloudConfig struct {
	Hostname  string     `yaml:"hostname"`
	ManageEtc bool       `yaml:"manage_etc_hosts"`
	Packages  []string   `yaml:"packages,omitempty"`
	Files     []written  `yaml:"write_files,omitempty"`
	Run       [][]string `yaml:"runcmd,omitempty"`
}

func userData(p *plan.Plan, m *plan.Machine) cloudConfig {
	c := cloudConfig{Hostname: m.Name, ManageEtc: true}
	add := func(path string, data string) { c.Files = append(c.Files, written{path, "0644", data}) }
	for _, a := range m.Adapters {
		if a.Leases != nil {
			add(fmt.Sprintf("/etc/systemd/network/10-netplan-%s.network.d/leases.conf", Device(a)), leases(a))
		}
		if a.Announces() {
			add(fmt.Sprintf("/etc/systemd/network/10-netplan-%s.network.d/announce.conf", Device(a)), announce(a))
		}
	}
	if m.Appliance == nil {
		if m.Guest.Forwards {
			add("/etc/sysctl.d/90-lab.conf", "net.ipv4.ip_forward = 1\n")
			c.Run = append(c.Run, []string{"sysctl", "--system"})
		}
		if len(c.Files) > 0 {
			c.Run = append(c.Run, []string{"networkctl", "reload"})
		}
		return c
	}
	add("/etc/nftables.conf", string(nft.Rules(m, Device)))
	add("/etc/sysctl.d/90-lab.conf", string(nft.Settings(m, Device)))
	c.ManageEtc = false
	add("/etc/hosts", "127.0.0.1\tlocalhost\n::1\tlocalhost ip6-localhost\n"+string(zone.Hosts(p).Data))
	if text := resolver(m); text != "" {
		add("/etc/systemd/resolved.conf.d/lab.conf", text)
	}
	c.Packages = []string{"nftables"}
	c.Run = append(c.Run, []string{"sysctl", "--system"}, []string{"systemctl", "enable", "--now", "nftables"},
		[]string{"networkctl", "reload"}, []string{"systemctl", "restart", "systemd-networkd", "systemd-resolved"})
	return c
}

// leases writes what the machine's network service hands out on a port.
func leases(a *plan.Adapter) string {
	v := a.Leases
	var b bytes.Buffer
	offset, size := subnet.Distance(a.Segment.Subnet.Addr(), v.Pool.From), subnet.Distance(v.Pool.From, v.Pool.To)+1
	fmt.Fprintf(
		&b,
		"[Network]\nDHCPServer=yes\n\n[DHCPServer]\nPoolOffset=%d\nPoolSize=%d\nDefaultLeaseTimeSec=%d\nMaxLeaseTimeSec=%d\n",
		offset,
		size,
		int(v.Time.Seconds()),
		int(v.Time.Seconds()),
	)
	if len(v.DNS) > 0 {
		fmt.Fprintf(&b, "EmitDNS=yes\nDNS=%s\n", strings.Join(subnet.Texts(v.DNS), " "))
	}
	if v.Router.IsValid() {
		fmt.Fprintf(&b, "EmitRouter=yes\nRouter=%s\n", v.Router)
	} else {
		b.WriteString("EmitRouter=no\n")
	}
	if v.Domain != "" {
		fmt.Fprintf(&b, "SendOption=15:string:%s\n", v.Domain)
	}
	for _, r := range v.Reservations {
		fmt.Fprintf(
			&b,
			"\n# %s\n[DHCPServerStaticLease]\nMACAddress=%s\nAddress=%s\n",
			r.Machine.Name,
			r.MAC,
			r.Address.Addr(),
		)
	}
	return b.String()
}

// announce writes what a port says of itself as an IPv6 router.
func announce(a *plan.Adapter) string {
	return fmt.Sprintf(
		"[Network]\nIPv6SendRA=yes\n\n[IPv6SendRA]\nDNS=%s\n\n[IPv6Prefix]\nPrefix=%s\n",
		a.Address6.Addr(),
		a.Segment.Subnet6,
	)
}

// resolver lets the machine's resolver answer on the inside addresses. It reads
// the lab's names from the hosts file.
func resolver(m *plan.Machine) string {
	var b bytes.Buffer
	for _, a := range m.Adapters {
		if a.Role == lab.WAN {
			continue
		}
		for _, own := range []netip.Prefix{a.Address, a.Address6} {
			if own.IsValid() {
				fmt.Fprintf(&b, "DNSStubListenerExtra=%s\n", own.Addr())
			}
		}
	}
	if b.Len() == 0 {
		return ""
	}
	return "[Resolve]\n" + b.String()
}
