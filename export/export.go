// Package export turns a plan into files for other programs, each kind by the
// package of its format.
package export

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"path/filepath"
	"time"

	"openbastion/core/plan"
	"openbastion/export/bundle"
	"openbastion/export/dot"
	"openbastion/export/leases"
	"openbastion/export/nft"
	"openbastion/export/seed"
	"openbastion/export/sheet"
	"openbastion/export/yang"
	"openbastion/export/zone"
	"openbastion/format/ovf"
)

// Kind is what a plan can be turned into.
type Kind struct {
	Name  string
	About string
	Files func(*plan.Plan) ([]bundle.File, error)
}

// Kinds gives all of them, in the order in which help lists them.
func Kinds() []Kind {
	one := func(make func(*plan.Plan) bundle.File) func(*plan.Plan) ([]bundle.File, error) {
		return func(p *plan.Plan) ([]bundle.File, error) { return []bundle.File{make(p)}, nil }
	}
	return []Kind{
		{"ovf", "descriptors of the machines for a hypervisor's import, one each and one for all", descriptors},
		{"ova", "the same as one archive for each", archives},
		{"nft", "packet filter, translation and kernel settings that make a Linux machine the appliance",
			func(p *plan.Plan) ([]bundle.File, error) { return nft.Files(p, nil), nil }},
		{"seed", "first-start seeds (NoCloud) that make plain Debian cloud machines the lab's", seed.Files},
		{"leases", "configuration of the two lease servers that Debian carries", leases.Files},
		{"zone", "master files of the lab's domains and the reverse of its networks",
			func(p *plan.Plan) ([]bundle.File, error) { return zone.Zones(p), nil }},
		{"hosts", "lines for a hosts file", one(zone.Hosts)},
		{"yang", "interfaces, translation and access lists as RFC 7951 JSON after the IETF models", yang.Files},
		{"sheet", "the address book as comma-separated values", one(sheet.Book)},
		{"diagram", "the lab as a graph in the DOT language", one(dot.Graph)},
	}
}

// machine gives a machine of the plan as a package's system.
func machine(m *plan.Machine) ovf.System {
	s := ovf.System{ID: m.Name, Name: m.Name, CPUs: m.Spec.CPUs, Memory: int64(m.Spec.Memory), Firmware: m.Spec.Firmware}
	for _, a := range m.Own() {
		s.Adapters = append(s.Adapters, ovf.Adapter{Number: a.Number, Name: a.Name + ": " + a.Attach, Network: a.Segment.Called(), Model: a.NIC,
			MAC: a.MAC.String(), Plugged: a.Plugged})
	}
	if m.Spec.Disk > 0 {
		s.Drives = append(s.Drives, ovf.Drive{Disk: "disk-" + m.Name, Size: int64(m.Spec.Disk), Bus: m.Spec.DiskBus})
	}
	s.Drives = append(s.Drives, ovf.Drive{Optical: true})
	return s
}

// pack gives a package of machines.
func pack(list []*plan.Machine) *ovf.Package {
	p := &ovf.Package{}
	seen := map[string]bool{}
	for _, m := range list {
		s := machine(m)
		if m.Spec.Disk > 0 {
			p.Disks = append(p.Disks, ovf.Disk{ID: "disk-" + m.Name, Capacity: int64(m.Spec.Disk)})
		}
		for _, a := range m.Own() {
			if seg := a.Segment; !seen[seg.Name] {
				seen[seg.Name] = true
				about := fmt.Sprintf("%s, %s", seg.Reach, seg.Subnet)
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

// packages gives what is described: each machine, and all in starting order.
func packages(p *plan.Plan) map[string][]*plan.Machine {
	out := map[string][]*plan.Machine{}
	for _, m := range p.Machines {
		out[m.Name] = []*plan.Machine{m}
	}
	if len(p.Machines) > 1 {
		out[p.Name+"-lab"] = p.Order
	}
	return out
}

// names gives the packages' names in a stable order.
func names(p *plan.Plan) []string {
	var out []string
	for _, m := range p.Machines {
		out = append(out, m.Name)
	}
	if len(p.Machines) > 1 {
		out = append(out, p.Name+"-lab")
	}
	return out
}

func descriptors(p *plan.Plan) ([]bundle.File, error) {
	var out []bundle.File
	of := packages(p)
	for _, name := range names(p) {
		data, err := ovf.Write(pack(of[name]), name)
		if err != nil {
			return nil, err
		}
		d := bundle.File{Name: name + ".ovf", Data: data}
		out = append(out, d, manifest(name, d))
	}
	return out, nil
}

// manifest gives the digests of a package's files (DSP0243, section 5.1).
func manifest(name string, files ...bundle.File) bundle.File {
	var b bytes.Buffer
	for _, f := range files {
		fmt.Fprintf(&b, "SHA256(%s)= %x\n", filepath.Base(f.Name), sha256.Sum256(f.Data))
	}
	return bundle.File{Name: name + ".mf", Data: b.Bytes()}
}

// archives gives each package as a tar archive, descriptor first (DSP0243,
// section 5.3).
func archives(p *plan.Plan) ([]bundle.File, error) {
	list, err := descriptors(p)
	if err != nil {
		return nil, err
	}
	var out []bundle.File
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
		out = append(out, bundle.File{Name: list[i].Name[:len(list[i].Name)-1] + "a", Data: b.Bytes()})
	}
	return out, nil
}
