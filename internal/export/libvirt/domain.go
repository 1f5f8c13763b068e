package libvirt

import (
	"encoding/xml"
	"fmt"

	"openbastion/internal/model/plan"
)

type domain struct {
	XMLName  xml.Name `xml:"domain"`
	Type     string   `xml:"type,attr"`
	Name     string   `xml:"name"`
	UUID     string   `xml:"uuid"`
	Metadata metadata `xml:"metadata"`
	Memory   amount   `xml:"memory"`
	CPUs     int      `xml:"vcpu"`
	OS       system   `xml:"os"`
	Features struct {
		ACPI struct{} `xml:"acpi"`
	} `xml:"features"`
	CPU struct {
		Mode string `xml:"mode,attr"`
	} `xml:"cpu"`
	Devices devices `xml:"devices"`
}

type amount struct {
	Unit  string `xml:"unit,attr"`
	Value int64  `xml:",chardata"`
}

type system struct {
	Firmware string `xml:"firmware,attr,omitempty"`
	Type     struct {
		Arch    string `xml:"arch,attr"`
		Machine string `xml:"machine,attr"`
		Kind    string `xml:",chardata"`
	} `xml:"type"`
	Boot []boot `xml:"boot"`
}

type boot struct {
	Device string `xml:"dev,attr"`
}

type devices struct {
	Disks      []disk  `xml:"disk"`
	Interfaces []iface `xml:"interface"`
	Serial     serial  `xml:"serial"`
	Graphics   []named `xml:"graphics"`
	Video      video   `xml:"video"`
	Balloon    model   `xml:"memballoon"`
}

type disk struct {
	Type   string `xml:"type,attr"`
	Device string `xml:"device,attr"`
	Driver *struct {
		Name string `xml:"name,attr"`
		Type string `xml:"type,attr"`
	} `xml:"driver"`
	Source *struct {
		Pool   string `xml:"pool,attr"`
		Volume string `xml:"volume,attr"`
	} `xml:"source"`
	Target struct {
		Device string `xml:"dev,attr"`
		Bus    string `xml:"bus,attr"`
	} `xml:"target"`
	ReadOnly *struct{} `xml:"readonly"`
}

type iface struct {
	Type   string `xml:"type,attr"`
	MAC    mac    `xml:"mac"`
	Source struct {
		Network string `xml:"network,attr"`
	} `xml:"source"`
	Model  model `xml:"model"`
	Driver *struct {
		Queues int `xml:"queues,attr"`
	} `xml:"driver"`
	Link  link  `xml:"link"`
	Alias named `xml:"alias"`
}

type mac struct {
	Address string `xml:"address,attr"`
}

type link struct {
	State string `xml:"state,attr"`
}

type model struct {
	Model string `xml:"model,attr,omitempty"`
	Type  string `xml:"type,attr,omitempty"`
}

type video struct {
	Model model `xml:"model"`
}

type named struct {
	Name string `xml:"name,attr,omitempty"`
	Type string `xml:"type,attr,omitempty"`
}

type serial struct {
	Type string `xml:"type,attr"`
}

// buses are the names of the letters by which a disk's bus is told.
var buses = map[string][2]string{
	"virtio": {"virtio", "vda"},
	"sata":   {"sata", "sda"},
	"ide":    {"ide", "hda"},
	"scsi":   {"scsi", "sda"},
}

// domainOf returns the domain of a machine: its adapters in the order of the plan, each with its MAC address.
func domainOf(p *plan.Plan, m *plan.Machine) (domain, error) {
	d := domain{Type: "kvm", Name: p.Name + "-" + m.Name, UUID: id(p, "domain", m.Name), Metadata: madeFrom(p, m.Name),
		Memory: amount{"MiB", int64(m.Spec.Memory) >> 20}, CPUs: m.Spec.CPUs}
	d.CPU.Mode = "host-passthrough"
	d.OS.Type.Arch, d.OS.Type.Machine, d.OS.Type.Kind = "x86_64", "q35", "hvm"
	if m.Spec.Firmware == "uefi" {
		d.OS.Firmware = "efi"
	}
	for _, from := range m.Spec.Boot {
		switch from {
		case "disk":
			d.OS.Boot = append(d.OS.Boot, boot{"hd"})
		case "media":
			d.OS.Boot = append(d.OS.Boot, boot{"cdrom"})
		case "network":
			d.OS.Boot = append(d.OS.Boot, boot{"network"})
		}
	}
	bus, ok := buses[m.Spec.DiskBus]
	if !ok {
		return d, fmt.Errorf("%s: no disk on the bus %q there", m.Name, m.Spec.DiskBus)
	}
	hard := disk{Type: "volume", Device: "disk"}
	hard.Driver = &struct {
		Name string `xml:"name,attr"`
		Type string `xml:"type,attr"`
	}{"qemu", "qcow2"}
	hard.Source = &struct {
		Pool   string `xml:"pool,attr"`
		Volume string `xml:"volume,attr"`
	}{"default", d.Name + ".qcow2"}
	hard.Target.Bus, hard.Target.Device = bus[0], bus[1]
	medium := disk{Type: "file", Device: "cdrom", ReadOnly: &struct{}{}}
	medium.Target.Bus, medium.Target.Device = "sata", "sdz"
	d.Devices.Disks = []disk{hard, medium}
	for _, a := range m.Own() {
		x, err := interfaceOf(p, a)
		if err != nil {
			return d, err
		}
		d.Devices.Interfaces = append(d.Devices.Interfaces, x)
	}
	d.Devices.Serial.Type = "pty"
	d.Devices.Graphics = []named{{Type: "vnc"}}
	d.Devices.Video.Model.Type = "vga"
	d.Devices.Balloon.Model = "none" // what an appliance holds stays its own
	return d, nil
}

// interfaceOf returns an adapter. A bridge there gives no port an access tag.
func interfaceOf(p *plan.Plan, a *plan.Adapter) (x iface, err error) {
	s := a.Segment
	if s.Tag > 0 && a.Over == nil {
		return x, fmt.Errorf(
			"%s of %s is on %s, VLAN %d, and a Linux bridge gives no port a VLAN: give %s a network of its own "+
				"(no tag: in the lab file, and an adapter of the appliance), or keep the tag on an Open vSwitch bridge, in a port group of a network "+
				"that you define",
			a.Name,
			a.Machine.Name,
			s.Name,
			s.Tag,
			s.Name,
		)
	}
	x.Type, x.MAC.Address, x.Source.Network = "network", a.MAC.String(), called(p, s)
	x.Model.Type, x.Link.State, x.Alias.Name = a.NIC, "up", fmt.Sprintf("ua-adapter%d", a.Number)
	if q := a.Machine.Spec.Queues; q > 1 && a.NIC == "virtio" {
		x.Driver = &struct {
			Queues int `xml:"queues,attr"`
		}{q}
	}
	if !a.Plugged || a.Later() {
		x.Link.State = "down"
	}
	return x, nil
}
