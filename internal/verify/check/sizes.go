package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// sizing are the findings about sizes, and about what a kind of appliance and its
// licence ask for.
func sizing() []Entry {
	return []Entry{
		{
			Code: "underpowered", Severity: Warning, Title: "Too small for its services",
			See:    "It works, but slows down or drops connections under load.",
			Why:    "The services and the throughput need processors, memory and disk.",
			Remedy: "Omit the size so that the plan chooses one, or reduce the services.",
			Old:    "    needs: {",
			Bad:    "    throughput: 2Gbit\n    needs: {",
			find:   (*checker).underpowered,
		},
		{
			Code: "oversized", Severity: Note, Title: "Much larger than needed",
			See:    "Nothing: the host has less left for guests.",
			Why:    "A lab's appliance seldom needs more than its services require.",
			Remedy: "Leave the size out so that the plan chooses one.",
			Old:    "memory: 2GiB, disk: 16GiB",
			Bad:    "memory: 13GiB, disk: 16GiB",
			find:   (*checker).oversized,
		},
		{
			Code: "odd-size", Severity: Warning, Title: "An unusual size",
			See:    "The machine has another size than meant.",
			Why:    "Memory comes in steps of 64 MiB; 1,000 is not 1,024, and MiB is not GiB.",
			Remedy: "Use the round size.",
			Old:    "memory: 2GiB, disk: 16GiB",
			Bad:    "memory: 2030MiB, disk: 16GiB",
			find:   (*checker).oddSize,
		},
		{
			Code: "too-many-queues", Severity: Warning, Title: "More queues than processors",
			See:    "Connections share one processor, and are slower than with fewer queues.",
			Why:    "Each queue is served by a processor; more queues than processors compete.",
			Remedy: "Use as many queues as processors, or leave it out.",
			Old:    "nic: virtio, disk-bus: virtio,",
			Bad:    "nic: virtio, queues: 4, disk-bus: virtio,",
			find:   (*checker).manyQueues,
		},
		{
			Code: "over-licence", Severity: Warning, Title: "More than the licence allows",
			See:    "Throughput stays at the licensed limit, or the extra resources are ignored.",
			Why:    "A licence limits throughput, processors, memory, adapters or tunnels.",
			Remedy: "Stay within the licence, or get a larger one.",
			Old:    "    needs: {",
			Bad:    "    image: {allows: {adapters: 2}}\n    needs: {",
			find:   (*checker).overLicence,
		},
		{
			Code: "unexpected-nic-model", Severity: Warning, Title: "A device name that does not fit the adapter model",
			See:    "The name is not in the console's list, or the adapter is of another model than planned.",
			Why:    "Systems name interfaces after driver or slot; the name shows the model.",
			Remedy: "Check the list, and the adapter's model.",
			Old:    "device: eth1.64",
			Bad:    "device: eth1.46",
			find:   (*checker).oddDevice,
		},
		{
			Code: "odd-admin", Severity: Warning, Title: "An unusual admin port",
			See:    "The planned address opens nothing.",
			Why:    "This kind of appliance serves its page on another port or scheme.",
			Remedy: "Leave the port out, or change it on the appliance as well.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, admin: tcp/8443, address: 10.83.16.1/24,",
			find:   (*checker).oddAdmin,
		},
	}
}

func (c *checker) underpowered() {
	for _, m := range c.p.Running() {
		s, want, src := m.Spec, m.Spec.Wanted, &m.Appliance.Machine
		floor := m.Appliance.Needs // below that it is another finding
		tell := func(key string, has, needs any) {
			c.find(m.Name, src.At(key), "leave "+key+" out, or write "+fmt.Sprint(needs), "%s has %s %v, but its services need %v", m.Name,
				key, has, needs).
				set(src, key, fmt.Sprint(needs))
		}
		if src.Has("cpus") && s.CPUs < want.CPUs && s.CPUs >= floor.CPUs {
			tell("cpus", s.CPUs, want.CPUs)
		}
		if src.Has("memory") && s.Memory < want.Memory && s.Memory >= floor.Memory {
			tell("memory", s.Memory, want.Memory)
		}
		if src.Has("disk") && s.Disk < want.Disk && s.Disk >= floor.Disk {
			tell("disk", s.Disk, want.Disk)
		}
	}
}

// Bounds beyond which a size is more than an appliance of a lab has use for.
const (
	manyTimes = 8
	manyCPUs  = 4
)

func (c *checker) oversized() {
	for _, m := range c.p.Running() {
		s, want, src := m.Spec, m.Spec.Wanted, &m.Appliance.Machine
		if src.Has("memory") && want.Memory > 0 && s.Memory >= manyTimes*want.Memory {
			c.find(
				m.Name,
				src.At("memory"),
				"leave memory out",
				"%s has %s of memory, but its services need %s",
				m.Name,
				s.Memory,
				want.Memory,
			)
		}
		if src.Has("cpus") && s.CPUs > manyCPUs*max(want.CPUs, 1) {
			c.find(
				m.Name,
				src.At("cpus"),
				"leave cpus out",
				"%s has %d processors, but its services need %d",
				m.Name,
				s.CPUs,
				want.CPUs,
			)
		}
	}
}

// step is what memory comes in.
const step = 64 * lab.MiB

func (c *checker) oddSize() {
	for _, m := range c.p.Machines {
		var src *lab.Machine
		if m.Appliance != nil {
			src = &m.Appliance.Machine
		} else {
			src = &m.Guest.Machine
		}
		tell := func(key string, is lab.Bytes, why string, right lab.Bytes) {
			f := c.find(
				m.Name,
				src.At(key),
				"write "+key+": "+right.String(),
				"%s has %s of %s: %s",
				m.Name,
				is,
				key,
				why,
			)
			f.set(src, key, right.String())
		}
		switch v := src.Memory; {
		case v == 0:
		case v < step:
			tell("memory", v, "a MiB where a GiB was meant?", v*1024)
		case v >= 4*1024*lab.GiB:
			tell("memory", v, "a GiB where a MiB was meant?", v/1024)
		case v%step != 0:
			round := max((v+step/2)/step*step, step)
			if gib := (v + lab.GiB/2) / lab.GiB * lab.GiB; gib > 0 && max(v, gib)-min(v, gib) <= lab.GiB/20 {
				round = gib
			}
			tell("memory", v, "no step of 64 MiB", round)
		}
		switch v := src.Disk; {
		case v == 0:
		case v < step:
			tell("disk", v, "a MiB where a GiB was meant?", v*1024)
		case v >= 512*1024*lab.GiB:
			tell("disk", v, "a TiB where a GiB was meant?", v/1024)
		}
	}
}

func (c *checker) manyQueues() {
	for _, m := range c.p.Running() {
		if src := &m.Appliance.Machine; src.Queues > m.Spec.CPUs {
			c.find(m.Name, src.At("queues"), fmt.Sprintf("write queues: %d", m.Spec.CPUs),
				"each adapter of %s has %d queues, and it has %d processors",
				m.Name, src.Queues, m.Spec.CPUs).set(src, "queues", fmt.Sprint(m.Spec.CPUs))
		}
	}
}

func (c *checker) overLicence() {
	for _, m := range c.p.Running() {
		src, s := &m.Appliance.Image.Allows, m.Spec
		tell := func(key, has string, allowed any) {
			c.find(
				m.Name,
				src.At(key),
				"stay within it, or get a larger licence",
				"%s has %s, and its licence allows %v",
				m.Name,
				has,
				allowed,
			)
		}
		if src.CPUs > 0 && s.CPUs > src.CPUs {
			tell("cpus", fmt.Sprintf("%d processors", s.CPUs), src.CPUs)
		}
		if src.Memory > 0 && s.Memory > src.Memory {
			tell("memory", s.Memory.String()+" of memory", src.Memory)
		}
		if n := len(m.Own()); src.Adapters > 0 && n > src.Adapters {
			tell("adapters", fmt.Sprintf("%d adapters", n), src.Adapters)
		}
		if src.Mbits > 0 && m.Appliance.Mbits > src.Mbits {
			tell("throughput", fmt.Sprintf("to pass %d Mbit/s", m.Appliance.Mbits), fmt.Sprintf("%d Mbit/s", src.Mbits))
		}
		if src.Tunnels > 0 && m.Appliance.Tunnels > src.Tunnels {
			tell("tunnels", fmt.Sprintf("%d tunnels", m.Appliance.Tunnels), src.Tunnels)
		}
	}
}

// named reports whether a device's name is of a form: # and % stand for the adapter's
// number, %s for its slot.
func named(form, device string) bool {
	pattern := regexp.QuoteMeta(form)
	for _, mark := range []string{"%s", "%", "#"} {
		pattern = strings.ReplaceAll(pattern, mark, "[0-9]+")
	}
	ok, _ := regexp.MatchString("^"+pattern+"$", device)
	return ok
}

func (c *checker) oddDevice() {
	for _, m := range c.p.Running() {
		for _, a := range m.Adapters {
			device := a.Port.Device
			switch {
			case device == "":
			case a.Over != nil:
				if want := a.TaggedName(); a.Over.Port.Device != "" && want != device {
					c.find(portName(a), a.Port.At("device"), "write device: "+want, "port %s of %s is on %s with tag %d, so %s is not a valid name for it",
						a.Name, m.Name, a.Over.Port.Device, a.Segment.Tag, device).
						set(a.Port, "device", want)
				}
			default:
				if model := modelOf(m.Facts, device); model != "" &&
					!slices.Contains(strings.Split(model, " or "), a.NIC) {
					c.find(
						portName(a),
						a.Port.At("device"),
						"set the adapter's model to "+a.NIC+", or write nic: "+model,
						"%s of %s is what its system calls an adapter of model %s (planned: %s)",
						device,
						portName(a),
						model,
						a.NIC,
					)
				}
			}
		}
	}
}

// modelOf returns the adapter models whose interfaces a kind of appliance calls so.
func modelOf(p *lab.Profile, device string) string {
	var out []string
	for model, forms := range p.Devices {
		if slices.ContainsFunc(forms, func(f string) bool { return named(f, device) }) {
			out = append(out, model)
		}
	}
	slices.Sort(out)
	return strings.Join(out, " or ")
}

func (c *checker) oddAdmin() {
	for _, m := range c.p.Running() {
		kind := m.Facts.Factory
		if kind.AdminPort == 0 && kind.Scheme == "" {
			continue
		}
		for _, a := range m.Adapters {
			i := slices.IndexFunc(a.Admin, lab.AdminService.Page)
			if i < 0 || a.Role == lab.WAN || !a.Port.Has("admin") && len(m.Appliance.AdminServices) == 0 ||
				a.Admin[i].Plain() {
				continue // planned as its kind is; outside or in plain text is worse, and another finding
			}
			page := a.Admin[i]
			if kind.AdminPort != 0 && int(page.Port) != kind.AdminPort ||
				kind.Scheme != "" && page.Scheme != kind.Scheme {
				c.find(
					portName(a),
					adminAt(m, a),
					"leave the port out, or set it on the appliance as well",
					"the page of %s is planned at %s, and its kind has it at %s/%d",
					m.Name,
					page,
					kind.Scheme,
					kind.AdminPort,
				)
			}
		}
	}
}

// adminAt returns where the file says how an appliance is managed at a port.
func adminAt(m *plan.Machine, a *plan.Adapter) lab.Pos {
	if a.Port.Has("admin") {
		return a.Port.At("admin")
	}
	return m.Appliance.At("admin-services")
}
