// Package export turns a plan into files for other programs, each kind by the
// package of its format.
package export

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"openbastion/internal/export/batch"
	"openbastion/internal/export/dot"
	"openbastion/internal/export/fileset"
	"openbastion/internal/export/leases"
	"openbastion/internal/export/libvirt"
	"openbastion/internal/export/nft"
	"openbastion/internal/export/seed"
	"openbastion/internal/export/sheet"
	"openbastion/internal/export/yang"
	"openbastion/internal/export/zone"
	"openbastion/internal/format/ovf"
	"openbastion/internal/model/plan"
)

// Kind is what a plan can be turned into.
type Kind struct {
	Name  string
	About string
	Files func(*plan.Plan) ([]fileset.File, error)
}

// Addressed reports whether files of the kind set addresses on a machine.
func (k Kind) Addressed() bool {
	return slices.Contains([]string{"nft", "seed", "network", "leases", "zone", "hosts", "yang"}, k.Name)
}

// Kinds returns all of them, in the order in which help lists them.
func Kinds() []Kind {
	one := func(make func(*plan.Plan) fileset.File) func(*plan.Plan) ([]fileset.File, error) {
		return func(p *plan.Plan) ([]fileset.File, error) { return []fileset.File{make(p)}, nil }
	}
	return []Kind{
		{"ovf", "machine descriptors for a hypervisor's import, one per machine and one for all", descriptors},
		{"ova", "the same as one archive each", archives},
		{"nft", "packet filter, NAT and kernel settings for a Linux appliance",
			func(p *plan.Plan) ([]fileset.File, error) { return nft.Files(p, nil), nil }},
		{"seed", "first-start seeds (NoCloud) that make plain Debian cloud machines the lab's", seed.Files},
		{"network", "network configuration (netplan) of installed Linux machines, with DHCP server and forwarding", seed.NetworkFiles},
		{"leases", "configuration of the two DHCP servers in Debian", leases.Files},
		{"zone", "zone files of the lab's domains and reverse networks",
			func(p *plan.Plan) ([]fileset.File, error) { return zone.Zones(p), nil }},
		{"hosts", "lines for a hosts file", one(zone.Hosts)},
		{"yang", "interfaces, NAT and access lists as RFC 7951 JSON after the IETF models", yang.Files},
		{"job", "the benches of a class as an array job of Slurm, and as units of systemd", batch.Files},
		{"libvirt", "networks and domains for the machine manager libvirt", libvirt.Files},
		{"sheet", "the address book as comma-separated values", one(sheet.Book)},
		{"diagram", "the lab as a graph in the DOT language", one(dot.Graph)},
	}
}

// machine returns a machine of the plan as a package's system.
func machine(m *plan.Machine) ovf.System {
	s := ovf.System{
		ID:       m.Name,
		Name:     m.Name,
		CPUs:     m.Spec.CPUs,
		Memory:   int64(m.Spec.Memory),
		Firmware: m.Spec.Firmware,
		About:    about(m),
	}
	if m.Appliance != nil {
		s.Family = m.Profile.System
	} else if s.Family = m.Guest.System; s.Family == "" {
		s.Family = "linux"
	}
	for _, a := range m.Own() {
		network := a.Segment.Called()
		if a.Segment.Nowhere() {
			network = ""
		}
		s.Adapters = append(
			s.Adapters,
			ovf.Adapter{Number: a.Number, Name: a.Name + ": " + a.Attach, Network: network, Model: a.NIC,
				MAC: a.MAC.String(), Plugged: a.Plugged && !a.Later()},
		)
	}
	if m.Spec.Disk > 0 {
		s.Drives = append(s.Drives, ovf.Drive{Disk: "disk-" + m.Name, Size: int64(m.Spec.Disk), Bus: m.Spec.DiskBus})
	}
	s.Drives = append(s.Drives, ovf.Drive{Optical: true})
	return s
}

// about says in a sentence what a package cannot.
func about(m *plan.Machine) string {
	text := "A guest of the lab."
	if m.Appliance != nil {
		text = fmt.Sprintf("The lab's %s appliance; its memory is reserved.", m.Appliance.Kind)
	}
	text += fmt.Sprintf(" Starts from %s.", strings.Join(m.Spec.Boot, ", then "))
	if m.Spec.Autostart {
		text += " Starts with the host."
	}
	if slices.ContainsFunc(m.Own(), (*plan.Adapter).Later) {
		text += " Adapters that are not connected at start are connected once it is set up."
	}
	return text
}

// pack returns a package of machines.
func pack(list []*plan.Machine) *ovf.Package {
	p := &ovf.Package{}
	seen := map[string]bool{}
	for _, m := range list {
		s := machine(m)
		if m.Spec.Disk > 0 {
			p.Disks = append(p.Disks, ovf.Disk{ID: "disk-" + m.Name, Capacity: int64(m.Spec.Disk)})
		}
		for _, a := range m.Own() {
			if seg := a.Segment; !seen[seg.Name] && !seg.Nowhere() {
				seen[seg.Name] = true
				about := fmt.Sprintf("%s, %s", seg.Reach, seg.SubnetText())
				if seg.Tag != 0 {
					about += fmt.Sprintf(", tag %d on %s", seg.Tag, seg.Wire.Name)
				}
				p.Networks = append(p.Networks, ovf.Network{Name: seg.Called(), Description: about})
			}
		}
		p.Systems = append(p.Systems, s)
	}
	return p
}

// packages returns what is described: each machine, and all in starting order.
func packages(p *plan.Plan) map[string][]*plan.Machine {
	out := map[string][]*plan.Machine{}
	for _, m := range p.Made() {
		out[m.Name] = []*plan.Machine{m}
	}
	if len(p.Order) > 1 {
		out[p.Name+"-lab"] = p.Order
	}
	return out
}

// names returns the packages' names in a stable order.
func names(p *plan.Plan) []string {
	var out []string
	for _, m := range p.Made() {
		out = append(out, m.Name)
	}
	if len(p.Order) > 1 {
		out = append(out, p.Name+"-lab")
	}
	return out
}

func descriptors(p *plan.Plan) ([]fileset.File, error) {
	var out []fileset.File
	of := packages(p)
	for _, name := range names(p) {
		data, err := ovf.Write(pack(of[name]), name)
		if err != nil {
			return nil, err
		}
		d := fileset.File{Name: name + ".ovf", Data: data}
		out = append(out, d, manifest(name, d))
	}
	return out, nil
}

// manifest returns the digests of a package's files (DSP0243, section 5.1).
func manifest(name string, files ...fileset.File) fileset.File {
	var b bytes.Buffer
	for _, f := range files {
		fmt.Fprintf(&b, "SHA256(%s)= %x\n", filepath.Base(f.Name), sha256.Sum256(f.Data))
	}
	return fileset.File{Name: name + ".mf", Data: b.Bytes()}
}

// archives returns each package as a tar archive, descriptor first (DSP0243,
// section 5.3).
func archives(p *plan.Plan) ([]fileset.File, error) {
	list, err := descriptors(p)
	if err != nil {
		return nil, err
	}
	var out []fileset.File
	for i := 0; i < len(list); i += 2 {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, f := range list[i : i+2] {
			if err := w.WriteHeader(&tar.Header{Name: f.Name, Mode: 0o644, Size: int64(len(f.Data)), ModTime: time.Unix(0, 0),
				Format: tar.FormatUSTAR}); err != nil {
				return nil, fmt.Errorf("export: %s: %w", f.Name, err)
			}
			if _, err := w.Write(f.Data); err != nil {
				return nil, fmt.Errorf("export: %s: %w", f.Name, err)
			}
		}
		if err := w.Close(); err != nil {
			return nil, fmt.Errorf("export: %w", err)
		}
		out = append(out, fileset.File{Name: list[i].Name[:len(list[i].Name)-1] + "a", Data: b.Bytes()})
	}
	return out, nil
}
