// Package ovf reads packages of virtual machines: the descriptor of the Open
// Virtualization Format (DMTF DSP0243, versions 1.0 to 2.1) with its hardware
// after the CIM resource classes (DSP1041).
package ovf

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"math"
	"path"
	"strconv"
	"strings"
)

// MaxSize bounds a descriptor, in bytes.
const MaxSize = 8 << 20

// maxItems bounds the lists of a descriptor.
const maxItems = 10_000

// Package is what a descriptor says.
type Package struct {
	Version  string    `json:"version,omitempty"`
	Files    []File    `json:"files,omitempty"`
	Disks    []Disk    `json:"disks,omitempty"`
	Networks []Network `json:"networks,omitempty"`
	Options  []Option  `json:"options,omitempty"` // deployment choices
	Systems  []System  `json:"systems,omitempty"`
}

// File is a file that belongs to the package.
type File struct {
	ID          string `json:"id,omitempty"`
	Name        string `json:"name,omitempty"`
	Size        int64  `json:"size"`                  // bytes; 0 when not said
	Compression string `json:"compression,omitempty"` // gzip, or empty
	Chunk       int64  `json:"chunk,omitempty"`       // bytes of each piece that it comes in; 0: it is whole
}

// Disk is a virtual disk of the package.
type Disk struct {
	ID       string `json:"id,omitempty"`
	File     string `json:"file,omitempty"`   // its file's name; empty for a disk that starts empty
	Capacity int64  `json:"capacity"`         // bytes, as a guest sees it
	Format   string `json:"format,omitempty"` // the end of the format's identifier
}

// Network is a network that adapters name.
type Network struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
}

// Option is a deployment choice.
type Option struct {
	ID          string `json:"id,omitempty"`
	Label       string `json:"label,omitempty"`
	Description string `json:"description,omitempty"`
	Default     bool   `json:"default"`
}

// System is one virtual machine.
type System struct {
	ID          string    `json:"id,omitempty"`
	Name        string    `json:"name,omitempty"`
	Product     string    `json:"product,omitempty"`
	Vendor      string    `json:"vendor,omitempty"`
	Release     string    `json:"release,omitempty"` // version
	Licence     bool      `json:"licence"`           // comes with a licence text to accept
	Guest       string    `json:"guest,omitempty"`   // operating system, as described
	Family      string    `json:"-"`                 // linux or bsd, to be written; empty: nothing is said
	About       string    `json:"-"`                 // what it is for, to be written
	CPUs        int       `json:"cpus"`
	Memory      int64     `json:"memory"` // bytes
	Floor       Floor     `json:"floor"`
	Adapters    []Adapter `json:"adapters,omitempty"`
	Drives      []Drive   `json:"drives,omitempty"`
	Firmware    string    `json:"firmware,omitempty"` // bios | uefi; empty when not said
	Boot        []string  `json:"boot,omitempty"`     // disk | media | network, in order; empty when not said
	Unread      []string  `json:"unread,omitempty"`   // parts that are its maker's own and were not read
	controllers map[string]controller
}

// Floor is the least of each, where the package says so; else zero.
type Floor struct {
	CPUs   int   `json:"cpus"`
	Memory int64 `json:"memory"`
}

// Adapter is a network adapter, in the order of the package.
type Adapter struct {
	Number  int    `json:"number"` // from 1
	Name    string `json:"name,omitempty"`
	Network string `json:"network,omitempty"`
	Model   string `json:"model,omitempty"`
	MAC     string `json:"mac,omitempty"`
	Plugged bool   `json:"plugged"`
}

// Drive is a disk or an optical drive.
type Drive struct {
	Optical bool   `json:"optical"`
	Disk    string `json:"disk,omitempty"` // the disk's identifier
	Size    int64  `json:"size"`           // bytes
	File    string `json:"file,omitempty"` // of the medium or disk
	Bus     string `json:"bus,omitempty"`  // ide | sata | scsi | nvme | virtio, or as the package has it
}

type controller struct{ bus, sub string }

// Read reads a descriptor.
func Read(data []byte) (*Package, error) {
	if len(data) > MaxSize {
		return nil, fmt.Errorf("ovf: a descriptor of more than %d bytes", MaxSize)
	}
	var e xmlEnvelope
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = true
	if err := d.Decode(&e); err != nil {
		return nil, fmt.Errorf("ovf: %w", err)
	}
	if e.XMLName.Local != "Envelope" {
		return nil, fmt.Errorf("ovf: the document is a %s, and a descriptor is an Envelope", e.XMLName.Local)
	}
	p := &Package{Version: strings.TrimPrefix(path.Base(strings.TrimRight(e.XMLName.Space, "/")), "envelope")}
	for _, f := range e.References.File[:min(len(e.References.File), maxItems)] {
		size, _ := strconv.ParseInt(f.Size, 10, 64)
		if f.Compression == "identity" {
			f.Compression = ""
		}
		chunk, _ := strconv.ParseInt(f.Chunk, 10, 64)
		p.Files = append(p.Files, File{f.ID, f.Href, size, f.Compression, max(chunk, 0)})
	}
	for _, x := range e.DiskSection.Disk[:min(len(e.DiskSection.Disk), maxItems)] {
		size, err := quantity(x.Capacity, x.Units, 1)
		if err != nil {
			return nil, fmt.Errorf("ovf: disk %s: %w", x.DiskID, err)
		}
		disk := Disk{ID: x.DiskID, Capacity: size, Format: x.Format[strings.LastIndexAny(x.Format, "#/")+1:]}
		for _, f := range p.Files {
			if f.ID == x.FileRef && x.FileRef != "" {
				disk.File = f.Name
			}
		}
		p.Disks = append(p.Disks, disk)
	}
	for _, n := range e.NetworkSection.Network[:min(len(e.NetworkSection.Network), maxItems)] {
		p.Networks = append(p.Networks, Network{n.Name, strings.Join(strings.Fields(n.Description), " ")})
	}
	standard := ""
	for k, o := range e.DeploymentOptionSection.Configuration[:min(len(e.DeploymentOptionSection.Configuration), maxItems)] {
		p.Options = append(p.Options, Option{o.ID, o.Label, o.Description, o.Default == "true"})
		if o.Default == "true" || k == 0 {
			standard = o.ID
		}
	}
	systems := e.VirtualSystem
	for list := e.VirtualSystemCollection; len(list) > 0 && len(systems) < maxItems; list = list[1:] {
		systems = append(systems, list[0].VirtualSystem...)
		list = append(list, list[0].VirtualSystemCollection...)
	}
	for _, x := range systems[:min(len(systems), maxItems)] {
		s, err := p.system(x, standard)
		if err != nil {
			return nil, err
		}
		p.Systems = append(p.Systems, *s)
	}
	if len(p.Systems) == 0 {
		return nil, errors.New("ovf: the descriptor contains no virtual system")
	}
	return p, nil
}

// quantity reads a count with its unit, in bytes. The unit is programmatic
// ("byte * 2^20", DSP0004, annex C.1) or a word as older packages have it.
func quantity(text, unit string, one int64) (int64, error) {
	text = strings.TrimSpace(text)
	if text == "" || strings.HasPrefix(text, "${") { // left to whoever deploys it
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%q is not a count", text)
	}
	unit = strings.ToLower(strings.ReplaceAll(unit, " ", ""))
	factor := one
	switch {
	case strings.HasPrefix(unit, "byte*2^"):
		power, err := strconv.Atoi(unit[len("byte*2^"):])
		if err != nil || power < 0 || power > 60 {
			return 0, fmt.Errorf("%q is not a unit", unit)
		}
		factor = 1 << power
	case strings.HasPrefix(unit, "byte*10^"):
		power, err := strconv.Atoi(unit[len("byte*10^"):])
		if err != nil || power < 0 || power > 18 {
			return 0, fmt.Errorf("%q is not a unit", unit)
		}
		factor = int64(math.Pow10(power))
	case strings.HasPrefix(unit, "kilobyte"):
		factor = 1 << 10
	case strings.HasPrefix(unit, "megabyte"):
		factor = 1 << 20
	case strings.HasPrefix(unit, "gigabyte"):
		factor = 1 << 30
	case unit == "byte" || unit == "bytes":
		factor = 1
	}
	if n > math.MaxInt64/factor {
		return 0, fmt.Errorf("%s in units of %d bytes is beyond any machine", text, factor)
	}
	return n * factor, nil
}

// oneOf reports whether an item belongs to a deployment choice.
func (i xmlItem) in(option string) bool {
	if i.Configuration == "" || option == "" {
		return i.Configuration == ""
	}
	for c := range strings.FieldsSeq(i.Configuration) {
		if c == option {
			return true
		}
	}
	return false
}

// The kinds of resource (CIM_ResourceAllocationSettingData.ResourceType).
const (
	processor  = 3
	memory     = 4
	ideBus     = 5
	scsiBus    = 6
	ethernet   = 10
	opticalCD  = 15
	opticalDVD = 16
	diskDrive  = 17
	otherBus   = 20
)

func (p *Package) system(x xmlSystem, option string) (*System, error) {
	s := &System{
		ID:          x.ID,
		Name:        x.Name,
		Guest:       strings.TrimSpace(x.OS.Description),
		controllers: map[string]controller{},
	}
	for _, v := range x.ProductSection {
		if s.Product == "" {
			s.Product, s.Vendor, s.Release = v.Product, v.Vendor, v.FullVersion
			if s.Release == "" {
				s.Release = v.Version
			}
		}
	}
	for _, l := range x.EulaSection {
		s.Licence = s.Licence || strings.TrimSpace(l.License) != ""
	}
	for _, b := range x.Boot {
		for _, c := range b.CIMBootConfigSetting {
			for _, o := range c.CIMBootSourceSetting {
				if kind := bootKind(o.StructuredBootID + " " + o.BootString); kind != "" {
					s.Boot = append(s.Boot, kind)
				}
			}
		}
	}
	s.unread(x.Other)
	for _, h := range x.Hardware {
		s.unread(h.Other)
		for _, c := range h.Config {
			if c.name() == "firmware" {
				s.Firmware = strings.ToLower(c.Value)
				if s.Firmware == "efi" {
					s.Firmware = "uefi"
				}
			}
		}
		items := append(append(append([]xmlItem{}, h.Item...), h.StorageItem...), h.EthernetPortItem...)
		// A choice's own items stand in for the common ones of their kind.
		own := map[int]bool{}
		for _, i := range items {
			if i.Configuration != "" && i.in(option) {
				own[i.ResourceType] = true
			}
		}
		for _, i := range items[:min(len(items), maxItems)] {
			single := i.ResourceType == processor || i.ResourceType == memory
			if !i.in(option) || i.Configuration == "" && own[i.ResourceType] && single && i.Bound == "" {
				continue
			}
			if err := p.item(s, i); err != nil {
				return nil, fmt.Errorf("ovf: %s: %s: %w", s.Title(), i.ElementName, err)
			}
		}
	}
	return s, nil
}

// Title returns the machine's name, or what stands for one.
func (s *System) Title() string {
	if s.Name != "" {
		return s.Name
	}
	return s.ID
}

func bootKind(text string) string {
	switch t := strings.ToLower(text); {
	case strings.Contains(t, "cd"), strings.Contains(t, "dvd"), strings.Contains(t, "optical"):
		return "media"
	case strings.Contains(t, "net"), strings.Contains(t, "pxe"), strings.Contains(t, "eth"):
		return "network"
	case strings.Contains(t, "disk"), strings.Contains(t, "hard"), strings.Contains(t, "hd"):
		return "disk"
	}
	return ""
}

// isFalse reads a truth value (XML Schema part 2, section 3.2.2).
func isFalse(text string) bool {
	text = strings.ToLower(strings.TrimSpace(text))
	return text == "false" || text == "0"
}

func (p *Package) item(s *System, i xmlItem) error {
	s.unread(i.Other)
	switch i.ResourceType {
	case processor:
		n, err := quantity(i.VirtualQuantity, "", 1)
		if err != nil || n > 1<<16 {
			return fmt.Errorf("%s processors", i.VirtualQuantity)
		}
		switch i.Bound {
		case "min":
			s.Floor.CPUs = int(n)
		case "":
			s.CPUs = int(n)
		}
	case memory:
		n, err := quantity(i.VirtualQuantity, i.AllocationUnits, 1<<20)
		if err != nil {
			return err
		}
		switch i.Bound {
		case "min":
			s.Floor.Memory = n
		case "":
			s.Memory = n
		}
	case ideBus:
		s.controllers[i.InstanceID] = controller{"ide", i.ResourceSubType}
	case scsiBus:
		s.controllers[i.InstanceID] = controller{"scsi", i.ResourceSubType}
	case otherBus:
		s.controllers[i.InstanceID] = controller{"sata", i.ResourceSubType}
	case ethernet:
		network := ""
		if len(i.Connection) > 0 {
			network = i.Connection[0]
		}
		plugged := !isFalse(i.AutomaticAllocation)
		for _, c := range i.Config {
			if name := c.name(); name == "connected" || name == "startconnected" {
				plugged = plugged && !isFalse(c.Value)
			}
		}
		s.Adapters = append(s.Adapters, Adapter{Number: len(s.Adapters) + 1, Name: i.ElementName, Network: network,
			Model: strings.ToLower(strings.TrimSpace(i.ResourceSubType)), MAC: i.Address, Plugged: plugged})
	case diskDrive, opticalCD, opticalDVD:
		d := Drive{Optical: i.ResourceType != diskDrive, Bus: s.bus(i.Parent)}
		for _, h := range i.HostResource {
			h = strings.TrimPrefix(h, "ovf:")
			switch kind, id := path.Split(h); kind {
			case "/disk/":
				for _, x := range p.Disks {
					if x.ID == id {
						d.Disk, d.Size, d.File = id, x.Capacity, x.File
					}
				}
			case "/file/":
				for _, f := range p.Files {
					if f.ID == id {
						d.File = f.Name
					}
				}
			}
		}
		s.Drives = append(s.Drives, d)
	}
	return nil
}

// bus names what a drive hangs on, by the controller's kind and its model.
func (s *System) bus(parent string) string {
	c := s.controllers[parent]
	sub := strings.ToLower(c.sub)
	switch {
	case strings.Contains(sub, "virtio"):
		return "virtio"
	case strings.Contains(sub, "nvme"):
		return "nvme"
	case strings.Contains(sub, "ahci"), strings.Contains(sub, "sata"):
		return "sata"
	}
	return c.bus
}
