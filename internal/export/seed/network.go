package seed

import (
	"fmt"

	"go.yaml.in/yaml/v3"

	"openbastion/internal/export/fileset"
	"openbastion/internal/export/nft"
	"openbastion/internal/model/plan"
)

// NetworkFiles returns, in a folder of its name, the network configuration of each machine that is
// an installed Linux: a netplan file with the addresses, tags, bridges and routes, and drop-ins of
// systemd-networkd for the DHCP server and the router advertisements. What filters is the kind nft.
func NetworkFiles(p *plan.Plan) ([]fileset.File, error) {
	var out []fileset.File
	for _, m := range p.Machines {
		if m.Off || !installed(m) {
			continue
		}
		if err := session(m); err != nil {
			return nil, err
		}
		config := struct {
			Network netplan `yaml:"network"`
		}{networkConfig(m)}
		config.Network.Renderer = "networkd"
		data, err := yaml.Marshal(config)
		if err != nil {
			return nil, fmt.Errorf("network: %s: %w", m.Name, err)
		}
		add := func(name string, data []byte) {
			out = append(out, fileset.File{Name: m.Name + "/etc/" + name, Data: data})
		}
		add("netplan/90-lab.yaml", append([]byte(plan.ChosenComment(m.Adapters, "#")), data...))
		for _, a := range m.Adapters {
			drop := fmt.Sprintf("systemd/network/10-netplan-%s.network.d/", Device(a))
			if a.Leases != nil {
				add(drop+"leases.conf", []byte(leases(a)))
			}
			if a.Address6.IsValid() && m.Appliance != nil {
				add(drop+"announce.conf", []byte(announce(a)))
			}
		}
		switch {
		case m.Appliance != nil:
			add("sysctl.d/90-lab.conf", nft.Settings(m, Device))
		case m.Guest.Forwards:
			add("sysctl.d/90-lab.conf", []byte("net.ipv4.ip_forward = 1\n"))
		}
	}
	return out, nil
}

// installed reports whether a machine may be an installed Linux whose files a person writes: a guest
// that is not said to be something else, and an appliance that is set up in files.
func installed(m *plan.Machine) bool {
	if m.Appliance != nil {
		return m.Facts.InFiles() && m.Facts.System != "bsd"
	}
	return m.Guest.System == "" || m.Guest.System == "linux"
}

// session refuses a machine whose WAN is a PPPoE session: netplan has none, and DHCP in its place
// would be another network.
func session(m *plan.Machine) error {
	for _, a := range m.Adapters {
		if a.Port != nil && a.Port.Address.How == "pppoe" {
			return fmt.Errorf("port %s of %s uses PPPoE, which netplan cannot configure: set the session up on the machine", a.Name,
				m.Name)
		}
	}
	return nil
}
