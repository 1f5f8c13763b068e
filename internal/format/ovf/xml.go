package ovf

import (
	"encoding/xml"
	"slices"
	"strings"
)

// The parts of a descriptor as XML has them.
type xmlEnvelope struct {
	XMLName    xml.Name
	References struct {
		File []struct {
			ID          string `xml:"id,attr"`
			Href        string `xml:"href,attr"`
			Size        string `xml:"size,attr"`
			Compression string `xml:"compression,attr"`
			Chunk       string `xml:"chunkSize,attr"`
		}
	}
	DiskSection struct {
		Disk []struct {
			DiskID   string `xml:"diskId,attr"`
			Capacity string `xml:"capacity,attr"`
			Units    string `xml:"capacityAllocationUnits,attr"`
			FileRef  string `xml:"fileRef,attr"`
			Format   string `xml:"format,attr"`
		}
	}
	NetworkSection struct {
		Network []struct {
			Name        string `xml:"name,attr"`
			Description string
		}
	}
	DeploymentOptionSection struct {
		Configuration []struct {
			ID          string `xml:"id,attr"`
			Default     string `xml:"default,attr"`
			Label       string
			Description string
		}
	}
	VirtualSystem           []xmlSystem
	VirtualSystemCollection []xmlCollection
}

type xmlCollection struct {
	VirtualSystem           []xmlSystem
	VirtualSystemCollection []xmlCollection
}

type xmlSystem struct {
	ID             string `xml:"id,attr"`
	Name           string
	ProductSection []struct{ Product, Vendor, Version, FullVersion string }
	EulaSection    []struct{ License string }
	OS             struct {
		Description string
	} `xml:"OperatingSystemSection"`
	Boot []struct {
		CIMBootConfigSetting []struct {
			CIMBootSourceSetting []struct {
				InstanceID       string
				StructuredBootID string `xml:"StructuredBootString"`
				BootString       string
			} `xml:"CIM_BootSourceSetting"`
			Caption string
		} `xml:"CIM_BootConfigSetting"`
	} `xml:"BootDeviceSection"`
	Hardware []struct {
		Item             []xmlItem
		StorageItem      []xmlItem
		EthernetPortItem []xmlItem
		Config           []xmlConfig
		Other            []xmlOther `xml:",any"`
	} `xml:"VirtualHardwareSection"`
	Other []xmlOther `xml:",any"`
}

// xmlConfig is a setting by key and value, as extensions of the format have them.
type xmlConfig struct {
	Key   string `xml:"key,attr"`
	Value string `xml:"value,attr"`
}

// name returns the last word of the key, in lower case.
func (c xmlConfig) name() string {
	return strings.ToLower(c.Key[strings.LastIndexAny(c.Key, ".:/")+1:])
}

// xmlOther is a part that no standard names.
type xmlOther struct {
	XMLName  xml.Name
	Required string `xml:"required,attr"`
}

// standard reports whether it is the namespaces of the format and of the classes it builds on.
func standard(space string) bool {
	return space == "" || strings.HasPrefix(space, "http://schemas.dmtf.org/") ||
		strings.HasPrefix(space, "http://www.w3.org/")
}

// unread names the parts that are of a maker's own.
func (s *System) unread(list []xmlOther) {
	for _, o := range list {
		name := o.XMLName.Local
		if standard(o.XMLName.Space) {
			continue
		}
		if o.Required == "true" || o.Required == "1" { // clause 8.4: who does not know it must refuse the package
			name += ", which it requires"
		}
		if len(s.Unread) < maxUnread && !slices.Contains(s.Unread, name) {
			s.Unread = append(s.Unread, name)
		}
	}
}

// maxUnread bounds how many are named.
const maxUnread = 20

type xmlItem struct {
	Configuration       string `xml:"configuration,attr"`
	Bound               string `xml:"bound,attr"`
	Config              []xmlConfig
	Other               []xmlOther `xml:",any"`
	Address             string
	AddressOnParent     string
	AllocationUnits     string
	AutomaticAllocation string
	Connection          []string
	ElementName         string
	HostResource        []string
	InstanceID          string
	Parent              string
	ResourceSubType     string
	ResourceType        int
	VirtualQuantity     string
}
