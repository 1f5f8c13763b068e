package image

import (
	"slices"
	"strings"

	"openbastion/internal/format/ovf"
	"openbastion/internal/model/lab"
	"openbastion/internal/observe/identify"
)

// Built turns a package's virtual system into what is compared with a plan.
func Built(s ovf.System) identify.Built {
	b := identify.Built{Name: s.Name, CPUs: s.CPUs, Memory: lab.Bytes(s.Memory), Firmware: s.Firmware, Boot: s.Boot}
	if b.Name == "" {
		b.Name = s.ID
	}
	for _, d := range s.Drives {
		if d.Optical {
			if b.Media == "" {
				b.Media = d.File
			}
			continue
		}
		b.Disk += lab.Bytes(d.Size)
		if d.Bus != "" && !slices.Contains(b.Buses, d.Bus) {
			b.Buses = append(b.Buses, d.Bus)
		}
	}
	for _, a := range s.Adapters {
		b.Adapters = append(b.Adapters, identify.BuiltAdapter{Number: a.Number, Name: a.Name, Network: a.Network,
			Models: strings.Fields(a.Model), MAC: a.MAC, Plugged: a.Plugged})
	}
	return b
}

// Needs turns what a package gives its machine into what the image needs: the
// least where the package says one, else what it gives.
func Needs(s ovf.System) lab.Needs {
	b := Built(s)
	n := lab.Needs{CPUs: b.CPUs, Memory: b.Memory, Disk: b.Disk, DiskBuses: b.Buses}
	if s.Floor.CPUs > 0 {
		n.CPUs = s.Floor.CPUs
	}
	if s.Floor.Memory > 0 {
		n.Memory = lab.Bytes(s.Floor.Memory)
	}
	for _, a := range b.Adapters {
		for _, m := range a.Models {
			if !slices.Contains(n.NICs, m) {
				n.NICs = append(n.NICs, m)
			}
		}
	}
	return n
}
