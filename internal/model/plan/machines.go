package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
)

// Spec is how a machine is made. Why says where each size comes from.
type Spec struct {
	CPUs        int
	Memory      lab.Bytes
	MemoryFloor lab.Bytes // what memory may shrink to; for appliances the same as Memory
	Disk        lab.Bytes
	DiskBus     string
	NIC         string
	Queues      int // of each adapter
	Firmware    string
	Boot        []string
	Media       string
	Autostart   bool
	Wanted      lab.Needs // of an appliance: what its duties and its image ask for
	Why         []string
}

// specs sizes every machine and fixes the order in which they start.
func (b *builder) specs() {
	for _, m := range b.plan.Machines {
		if m.Appliance != nil {
			b.applianceSpec(m)
		} else {
			b.guestSpec(m)
		}
		s := &m.Spec
		s.NIC, s.Firmware = cmp.Or(s.NIC, "virtio"), cmp.Or(s.Firmware, "bios")
		s.DiskBus = cmp.Or(s.DiskBus, "virtio")
		if len(s.Boot) == 0 {
			// The disk before the medium: the first start finds the disk empty and
			// installs, every later one starts the disk, and nothing need be removed.
			s.Boot = []string{"disk", "media"}
		}
		if s.Queues == 0 {
			s.Queues = 1
			if s.NIC == "virtio" {
				s.Queues = s.CPUs
			}
		}
	}
	b.order()
}

// given takes what the file says of a machine; what it leaves out is zero.
func given(m lab.Machine) Spec {
	return Spec{
		CPUs: m.CPUs, Memory: m.Memory, MemoryFloor: m.MemoryFloor, Disk: m.Disk, DiskBus: m.DiskBus, NIC: m.NIC, Queues: m.Queues,
		Firmware: m.Firmware, Boot: m.Boot, Media: m.Media,
	}
}

func (b *builder) guestSpec(m *Machine) {
	s := given(m.Guest.Machine)
	size := lab.Needs{CPUs: 1, Memory: lab.GiB, Disk: 10 * lab.GiB}
	if m.Guest.System == "desktop" {
		size = lab.Needs{CPUs: 2, Memory: 4 * lab.GiB, Disk: 40 * lab.GiB}
	}
	s.Why = append(s.Why, "a usual size for a "+cmp.Or(m.Guest.System, "linux")+" guest")
	s.CPUs, s.Memory, s.Disk = cmp.Or(s.CPUs, size.CPUs), cmp.Or(s.Memory, size.Memory), cmp.Or(s.Disk, size.Disk)
	s.MemoryFloor = cmp.Or(s.MemoryFloor, s.Memory)
	s.Autostart = m.Guest.Autostart
	m.Spec = s
}

// passThroughMbits is the throughput, in Mbit/s, from which a bridge's work on the host is
// felt.
const passThroughMbits = 5000

// sizes is what routing takes, and what each duty and each measure of work adds
// to it: a rule of thumb for a lab, not a maker's table.
var sizes = sync.OnceValue(func() map[string]lab.Needs {
	return map[string]lab.Needs{
		"base":                {CPUs: 1, Memory: 512 * lab.MiB, Disk: 8 * lab.GiB},
		"filter":              {Memory: 512 * lab.MiB},
		"intrusion-detection": {CPUs: 1, Memory: 3 * lab.GiB, Disk: 16 * lab.GiB},
		"proxy":               {CPUs: 1, Memory: lab.GiB, Disk: 24 * lab.GiB},
		"vpn":                 {CPUs: 1, Memory: 512 * lab.MiB},
		"per-100-guests":      {Memory: 128 * lab.MiB},
		"per-100-tunnels":     {CPUs: 1, Memory: 256 * lab.MiB},
		"per-gigabit":         {CPUs: 1, Memory: 256 * lab.MiB},
	}
})

func (b *builder) applianceSpec(m *Machine) {
	src, profile := m.Appliance, m.Profile
	want := sizes()["base"]
	why := []string{fmt.Sprintf("%s to route", sizeText(want))}
	add := func(name, what string, times int) {
		n := sizes()[name]
		if times == 0 {
			return
		}
		n.CPUs, n.Memory, n.Disk = n.CPUs*times, n.Memory*lab.Bytes(times), n.Disk*lab.Bytes(times)
		want.CPUs, want.Memory, want.Disk = want.CPUs+n.CPUs, want.Memory+n.Memory, want.Disk+n.Disk
		why = append(why, fmt.Sprintf("%s for %s", sizeText(n), what))
	}
	duties := src.Duties
	if len(duties) == 0 {
		duties = []string{"filter"}
	}
	for _, d := range duties {
		add(d, d, 1)
	}
	guests := 0
	for _, a := range m.Adapters {
		if a.Role.Inside() {
			guests += len(a.Segment.Adapters) - 1
		}
	}
	add("per-100-guests", fmt.Sprintf("%d guests", guests), guests/100)
	add("per-100-tunnels", fmt.Sprintf("%d tunnels", src.Tunnels), (src.Tunnels+99)/100)
	add("per-gigabit", fmt.Sprintf("%d Mbit/s", src.Mbits), (src.Mbits+500)/1000)
	if src.Mbits >= passThroughMbits {
		why = append(
			why,
			"at this rate consider pass-through of a physical adapter; otherwise bridge",
		)
	}
	for _, least := range []struct {
		needs lab.Needs
		whose string
	}{{profile.Needs, "this kind of appliance"}, {src.Needs, "the image"}} {
		if n := least.needs; want.CPUs < n.CPUs || want.Memory < n.Memory || want.Disk < n.Disk {
			want.CPUs = max(want.CPUs, n.CPUs)
			want.Memory = max(want.Memory, n.Memory)
			want.Disk = max(want.Disk, n.Disk)
			why = append(why, "not below what "+least.whose+" needs")
		}
	}
	wanted := want
	want.Memory = (want.Memory + 256*lab.MiB - 1) / (256 * lab.MiB) * (256 * lab.MiB)
	site := b.lab.Site
	if site.CPUs > 0 && want.CPUs > site.CPUs {
		want.CPUs = site.CPUs
		why = append(why, fmt.Sprintf("no more than the site's %d processors", site.CPUs))
	}
	if site.Memory > 0 && want.Memory > site.Memory {
		want.Memory = site.Memory
		why = append(why, "no more than the site's memory")
	}
	if site.Disk > 0 && want.Disk > site.Disk {
		want.Disk = site.Disk
		why = append(why, "no more than the site's disk")
	}
	s := given(src.Machine)
	s.Wanted = wanted
	s.CPUs, s.Memory, s.Disk = cmp.Or(s.CPUs, want.CPUs), cmp.Or(s.Memory, want.Memory), cmp.Or(s.Disk, want.Disk)
	s.NIC = cmp.Or(s.NIC, pick(src.Needs.NICs, profile.NICs))
	s.DiskBus = cmp.Or(s.DiskBus, pick(src.Needs.DiskBuses, profile.DiskBuses))
	if s.MemoryFloor == 0 {
		s.MemoryFloor = s.Memory
		why = append(why, "memory is fixed: an appliance that loses memory drops conversations")
	}
	s.Autostart = src.Autostart
	s.Why = why
	m.Spec = s
}

// pick returns the best model that the image has a driver for.
func pick(needs, profile []string) string {
	for _, want := range []string{"virtio"} {
		if len(needs) == 0 && (len(profile) == 0 || slices.Contains(profile, want)) || slices.Contains(needs, want) {
			return want
		}
	}
	for _, list := range [][]string{needs, profile} {
		if len(list) > 0 {
			return list[0]
		}
	}
	return ""
}

func sizeText(n lab.Needs) string {
	var parts []string
	if n.CPUs > 0 {
		parts = append(parts, fmt.Sprintf("%d CPU", n.CPUs))
	}
	if n.Memory > 0 {
		parts = append(parts, n.Memory.String())
	}
	if n.Disk > 0 {
		parts = append(parts, n.Disk.String()+" disk")
	}
	return strings.Join(parts, ", ")
}

// order fixes in which order machines start: appliances from the outside in,
// then guests that hand out leases, then the others.
func (b *builder) order() {
	depth := map[*Machine]int{}
	var deep func(m *Machine, seen int) int
	deep = func(m *Machine, seen int) int {
		d := 0
		for _, w := range m.WAN() {
			if p := w.Segment.Port; p != nil && p.Machine != m && seen < len(b.plan.Machines) {
				d = max(d, 1+deep(p.Machine, seen+1))
			}
		}
		return d
	}
	serves := map[string]bool{}
	for _, s := range b.lab.Segments {
		serves[s.Leases] = true
	}
	for _, m := range b.plan.Machines {
		switch {
		case m.Appliance != nil:
			depth[m] = deep(m, 0)
		case serves[m.Name]:
			depth[m] = 1 << 20
		default:
			depth[m] = 1 << 21
		}
	}
	b.plan.Order = slices.DeleteFunc(
		slices.Clone(b.plan.Machines),
		func(m *Machine) bool { return m.Off || m.Physical },
	)
	slices.SortStableFunc(b.plan.Order, func(x, y *Machine) int { return depth[x] - depth[y] })
}
