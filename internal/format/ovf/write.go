package ovf

import (
	"encoding/xml"
	"fmt"
)

// The namespaces of a descriptor that is written.
const (
	nsEnvelope = "http://schemas.dmtf.org/ovf/envelope/1"
	nsRASD     = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
	nsVSSD     = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"
)

type envelopeXML struct {
	XMLName    xml.Name       `xml:"Envelope"`
	NS         string         `xml:"xmlns,attr"`
	OVF        string         `xml:"xmlns:ovf,attr"`
	RASD       string         `xml:"xmlns:rasd,attr"`
	VSSD       string         `xml:"xmlns:vssd,attr"`
	References referencesXML  `xml:"References"`
	Disks      disksXML       `xml:"DiskSection"`
	Networks   networksXML    `xml:"NetworkSection"`
	One        *systemXML     `xml:"VirtualSystem,omitempty"`
	Many       *collectionXML `xml:"VirtualSystemCollection,omitempty"`
}

type fileXML struct {
	ID   string `xml:"ovf:id,attr"`
	Name string `xml:"ovf:href,attr"`
	Size int64  `xml:"ovf:size,attr,omitempty"`
}

type referencesXML struct {
	Files []fileXML `xml:"File"`
}

type diskXML struct {
	ID       string `xml:"ovf:diskId,attr"`
	File     string `xml:"ovf:fileRef,attr,omitempty"`
	Capacity int64  `xml:"ovf:capacity,attr"`
	Units    string `xml:"ovf:capacityAllocationUnits,attr"`
	Format   string `xml:"ovf:format,attr,omitempty"`
}

type disksXML struct {
	Info  string    `xml:"Info"`
	Disks []diskXML `xml:"Disk"`
}

type networkXML struct {
	Name        string `xml:"ovf:name,attr"`
	Description string `xml:"Description,omitempty"`
}

type networksXML struct {
	Info     string       `xml:"Info"`
	Networks []networkXML `xml:"Network"`
}

type collectionXML struct {
	ID      string      `xml:"ovf:id,attr"`
	Info    string      `xml:"Info"`
	Name    string      `xml:"Name"`
	Startup *startupXML `xml:"StartupSection,omitempty"`
	Systems []systemXML `xml:"VirtualSystem"`
}

type startupXML struct {
	Info  string     `xml:"Info"`
	Items []startXML `xml:"Item"`
}

type startXML struct {
	ID    string `xml:"ovf:id,attr"`
	Order int    `xml:"ovf:order,attr"`
	Delay int    `xml:"ovf:startDelay,attr"`
}

type systemXML struct {
	ID       string      `xml:"ovf:id,attr"`
	Info     string      `xml:"Info"`
	Name     string      `xml:"Name"`
	About    *aboutXML   `xml:"AnnotationSection"`
	OS       *osXML      `xml:"OperatingSystemSection"`
	Hardware hardwareXML `xml:"VirtualHardwareSection"`
}

type aboutXML struct {
	Info string `xml:"Info"`
	Text string `xml:"Annotation"`
}

// osXML is the machine's operating system; its number is CIM_OperatingSystem.OSType.
type osXML struct {
	ID          int    `xml:"ovf:id,attr"`
	Info        string `xml:"Info"`
	Description string `xml:"Description"`
}

// families are systems of 64 bits by what a machine's family is called.
var families = map[string]osXML{
	"linux": {101, "Operating system", "Linux, 64 bits"},
	"bsd":   {78, "Operating system", "BSD, 64 bits"},
}

type hardwareXML struct {
	Info   string    `xml:"Info"`
	System vssdXML   `xml:"System"`
	Items  []itemXML `xml:"Item"`
}

type vssdXML struct {
	Name     string `xml:"vssd:ElementName"`
	Instance int    `xml:"vssd:InstanceID"`
	ID       string `xml:"vssd:VirtualSystemIdentifier"`
}

// itemXML is a resource; the schema wants its elements by the alphabet.
type itemXML struct {
	Address     string `xml:"rasd:Address,omitempty"`
	OnParent    string `xml:"rasd:AddressOnParent,omitempty"`
	Units       string `xml:"rasd:AllocationUnits,omitempty"`
	Automatic   string `xml:"rasd:AutomaticAllocation,omitempty"`
	Connection  string `xml:"rasd:Connection,omitempty"`
	Description string `xml:"rasd:Description,omitempty"`
	Name        string `xml:"rasd:ElementName"`
	Host        string `xml:"rasd:HostResource,omitempty"`
	Instance    int    `xml:"rasd:InstanceID"`
	Parent      string `xml:"rasd:Parent,omitempty"`
	SubType     string `xml:"rasd:ResourceSubType,omitempty"`
	Type        int    `xml:"rasd:ResourceType"`
	Quantity    int64  `xml:"rasd:VirtualQuantity,omitempty"`
}

// Write returns the descriptor (version 1.1 of the format) of a package: one
// system, or several as a collection that starts in their order.
func Write(p *Package, name string) ([]byte, error) {
	e := envelopeXML{NS: nsEnvelope, OVF: nsEnvelope, RASD: nsRASD, VSSD: nsVSSD, Disks: disksXML{Info: "Disks"},
		Networks: networksXML{Info: "Networks"}}
	for _, f := range p.Files {
		e.References.Files = append(e.References.Files, fileXML{f.ID, f.Name, f.Size})
	}
	ref := map[string]string{}
	for _, f := range p.Files {
		ref[f.Name] = f.ID
	}
	for _, d := range p.Disks {
		e.Disks.Disks = append(e.Disks.Disks, diskXML{d.ID, ref[d.File], d.Capacity, "byte", d.Format})
	}
	for _, n := range p.Networks {
		e.Networks.Networks = append(e.Networks.Networks, networkXML(n))
	}
	var systems []systemXML
	for i := range p.Systems {
		systems = append(systems, system(&p.Systems[i], ref))
	}
	switch len(systems) {
	case 0:
		return nil, fmt.Errorf("ovf: a package without a machine")
	case 1:
		e.One = &systems[0]
	default:
		e.Many = &collectionXML{ID: name, Info: "The machines of " + name, Name: name, Systems: systems,
			Startup: &startupXML{Info: "Which starts when"}}
		for i, s := range systems {
			e.Many.Startup.Items = append(e.Many.Startup.Items, startXML{s.ID, i + 1, 5})
		}
	}
	data, err := xml.MarshalIndent(e, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("ovf: %w", err)
	}
	return append([]byte(xml.Header), append(data, '\n')...), nil
}

func system(s *System, ref map[string]string) systemXML {
	out := systemXML{ID: s.ID, Info: "Machine " + s.Name, Name: s.Name}
	if s.About != "" {
		out.About = &aboutXML{"About " + s.Name, s.About}
	}
	if f, ok := families[s.Family]; ok {
		out.OS = &f
	}
	out.Hardware = hardwareXML{Info: "Hardware of " + s.Name, System: vssdXML{s.Name, 0, s.ID}}
	next := 0
	add := func(i itemXML) int {
		next++
		i.Instance = next
		out.Hardware.Items = append(out.Hardware.Items, i)
		return next
	}
	add(
		itemXML{
			Name:     fmt.Sprintf("%d processors", s.CPUs),
			Type:     processor,
			Units:    "hertz * 10^6",
			Quantity: int64(s.CPUs),
		},
	)
	add(
		itemXML{
			Name:     fmt.Sprintf("%d MiB of memory", s.Memory>>20),
			Type:     memory,
			Units:    "byte * 2^20",
			Quantity: s.Memory >> 20,
		},
	)
	controllers := map[string]int{}
	places := map[string]int{}
	for _, d := range s.Drives {
		bus := d.Bus
		if d.Optical {
			bus = "ide"
		}
		if controllers[bus] == 0 {
			c := itemXML{Name: bus + " controller", Type: otherBus, SubType: bus, Address: "0"}
			switch bus {
			case "ide":
				c.Type, c.SubType = ideBus, ""
			case "scsi":
				c.Type, c.SubType = scsiBus, ""
			case "sata":
				c.SubType = "AHCI"
			}
			controllers[bus] = add(c)
		}
		i := itemXML{
			Parent:   fmt.Sprint(controllers[bus]),
			OnParent: fmt.Sprint(places[bus]),
			Name:     "disk",
			Type:     diskDrive,
			Host:     "ovf:/disk/" + d.Disk,
		}
		places[bus]++
		if d.Optical {
			i.Name, i.Type, i.Host, i.Automatic = "optical drive", opticalCD, "", "true"
			if id := ref[d.File]; id != "" {
				i.Host = "ovf:/file/" + id
			}
		}
		add(i)
	}
	for _, a := range s.Adapters {
		plugged := "true"
		if !a.Plugged {
			plugged = "false"
		}
		add(
			itemXML{
				Name:        fmt.Sprintf("adapter %d", a.Number),
				Description: a.Name,
				Type:        ethernet,
				SubType:     a.Model,
				Address:     a.MAC,
				OnParent:    fmt.Sprint(a.Number - 1),
				Automatic:   plugged,
				Connection:  a.Network,
			},
		)
	}
	return out
}
