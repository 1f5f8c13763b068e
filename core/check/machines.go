package check

import (
	"fmt"
	"slices"
	"time"

	"openbastion/core/lab"
)

// machines are the findings about machines and their host.
func machines() []Entry {
	return []Entry{
		{"boots-media", Warning, "It would install again", "After a restart the installer stands there again.", "The medium comes before the disk in the boot order.",
			"Put the disk first.", "boot: [disk, media]", "boot: [media, disk]", "", (*checker).bootsMedia},
		{"undersized", Error, "Smaller than the image needs", "The installer stops, or the appliance runs out of memory.", "The image says what it needs.",
			"Give it that.", "memory: 2GiB, disk: 16GiB", "memory: 512MiB, disk: 16GiB", "", (*checker).undersized},
		{"shrinking-memory", Warning, "Memory that may shrink", "Under load the appliance drops conversations.", "A host that takes memory back takes the table of conversations with it.",
			"Let the floor be the memory.", "memory: 2GiB, disk: 16GiB", "memory: 2GiB, memory-floor: 1GiB, disk: 16GiB", "", (*checker).shrinkingMemory},
		{"host-full", Error, "More than the host has", "The last machine does not start, or everything crawls.", "The machines together want more than there is.",
			"Make some smaller, or start fewer.", "memory: 16GiB\n", "memory: 4GiB\n", "", (*checker).hostFull},
		{"trial-ending", Error, "A trial that ends", "The appliance restarts by itself, or passes nothing any more.", "The evaluation is over soon.",
			"Take a restore point, and plan what comes after.", "    needs: {", "    image: {file: gate.iso, evaluation: {from: 2026-11-01, days: 15}}\n    needs: {", "2026-11-12", (*checker).trialEnding},
		{"late-appliance", Warning, "Guests before their appliance", "After the host starts, guests have no lease until somebody starts the appliance.", "The guests come up with the host and the appliance does not.",
			"Let the appliance start with the host.", "autostart: true", "autostart: false", "", (*checker).lateAppliance},
		{"wireless-bridge", Warning, "Bridged on a wireless uplink", "The WAN gets no lease.", "Most access points take frames from one hardware address only.",
			"Let the host translate: join: nat.", "uplinks: {enp1: wired}", "uplinks: {enp1: wireless}", "", (*checker).wirelessBridge},
		{"no-accelerator", Note, "No acceleration", "Everything in the machines takes several times as long.", "The host cannot accelerate virtual machines.",
			"Give waits more time; look whether it is switched off in the firmware.", "  cpus: 8", "  accelerated: false\n  cpus: 8", "", (*checker).noAccelerator},
	}
}

func (c *checker) bootsMedia() {
	for _, m := range c.p.Appliances() {
		boot := m.Spec.Boot
		disk, media := slices.Index(boot, "disk"), slices.Index(boot, "media")
		if media >= 0 && (disk < 0 || media < disk) {
			c.find(m.Name, m.Appliance.Machine.At("boot"), "write boot: [disk, media]", "%s starts from the medium before the disk", m.Name).set(&m.Appliance.Machine, "boot", "[disk, media]")
		}
	}
}

func (c *checker) undersized() {
	for _, m := range c.p.Appliances() {
		n, s, src := m.Appliance.Needs, m.Spec, &m.Appliance.Machine
		if s.CPUs < n.CPUs {
			c.find(m.Name, src.At("cpus"), fmt.Sprintf("write cpus: %d", n.CPUs), "%s has %d processors, and its image needs %d", m.Name, s.CPUs, n.CPUs).set(src, "cpus", fmt.Sprint(n.CPUs))
		}
		if s.Memory < n.Memory {
			c.find(m.Name, src.At("memory"), "write memory: "+n.Memory.String(), "%s has %s of memory, and its image needs %s", m.Name, s.Memory, n.Memory).set(src, "memory", n.Memory.String())
		}
		if s.Disk < n.Disk {
			c.find(m.Name, src.At("disk"), "write disk: "+n.Disk.String(), "%s has a disk of %s, and its image needs %s", m.Name, s.Disk, n.Disk).set(src, "disk", n.Disk.String())
		}
	}
}

func (c *checker) shrinkingMemory() {
	for _, m := range c.p.Appliances() {
		if s := m.Spec; s.MemoryFloor < s.Memory {
			src := &m.Appliance.Machine
			c.find(m.Name, src.At("memory-floor"), "write memory-floor: "+s.Memory.String(), "%s has %s of memory that may shrink to %s", m.Name, s.Memory, s.MemoryFloor).set(src, "memory-floor", s.Memory.String())
		}
	}
}

func (c *checker) hostFull() {
	site := &c.p.Lab.Site
	var cpus int
	var memory, disk lab.Bytes
	for _, m := range c.p.Machines {
		s := m.Spec
		cpus, memory, disk = max(cpus, s.CPUs), memory+s.Memory, disk+s.Disk
		pos := lab.Pos{}
		if m.Appliance != nil {
			pos = m.Appliance.Pos
		} else {
			pos = m.Guest.Pos
		}
		switch {
		case site.Memory > 0 && s.Memory > site.Memory:
			c.find(m.Name, pos, "make it smaller", "%s alone wants %s of memory, and the site has %s", m.Name, s.Memory, site.Memory)
		case site.Disk > 0 && s.Disk > site.Disk:
			c.find(m.Name, pos, "make it smaller", "%s alone wants %s of disk, and the site has %s", m.Name, s.Disk, site.Disk)
		case site.CPUs > 0 && s.CPUs > site.CPUs:
			c.find(m.Name, pos, "make it smaller", "%s alone wants %d processors, and the site has %d", m.Name, s.CPUs, site.CPUs)
		}
	}
	if site.Memory > 0 && memory > site.Memory {
		c.find("site", site.At("memory"), "make some smaller, or start fewer at a time", "the machines together want %s of memory, and the site has %s", memory, site.Memory).as(Warning)
	}
	if site.Disk > 0 && disk > site.Disk {
		c.find("site", site.At("disk"), "make some smaller", "the machines together want %s of disk, and the site has %s", disk, site.Disk).as(Warning)
	}
}

func (c *checker) trialEnding() {
	if c.on.IsZero() {
		return
	}
	for _, m := range c.p.Appliances() {
		e := &m.Appliance.Image.Evaluation
		if e.From.IsZero() || e.Days == 0 {
			continue
		}
		end := e.From.AddDate(0, 0, e.Days)
		left := int(end.Sub(c.on) / (24 * time.Hour))
		switch {
		case left <= 0:
			c.find(m.Name, e.Pos, "take a restore point from before, or a new image", "the evaluation of %s ended on %s", m.Name, end.Format(time.DateOnly))
		case left <= 7:
			c.find(m.Name, e.Pos, "take a restore point, and plan what comes after", "the evaluation of %s ends on %s, in %d days", m.Name, end.Format(time.DateOnly), left).as(Warning)
		}
	}
}

func (c *checker) lateAppliance() {
	told := map[string]bool{}
	for _, g := range c.p.Guests() {
		if !g.Spec.Autostart {
			continue
		}
		for _, a := range g.Adapters {
			if p := a.Segment.Port; p != nil && !p.Machine.Spec.Autostart && !told[p.Machine.Name] {
				told[p.Machine.Name] = true
				c.find(p.Machine.Name, p.Machine.Appliance.At("autostart"), "write autostart: true", "%s starts with the host, and %s before it does not", g.Name, p.Machine.Name).set(p.Machine.Appliance, "autostart", "true")
			}
		}
	}
}

func (c *checker) wirelessBridge() {
	for _, s := range c.p.Segments {
		if s.Reach == lab.Upstream && s.Lab.Join != "nat" && c.p.Lab.Site.Uplinks[s.Lab.Uplink] == "wireless" {
			c.find(s.Name, s.Lab.At("uplink"), "write join: nat", "%s is bridged to %s, which is wireless", s.Name, s.Lab.Uplink).set(s.Lab, "join", "nat")
		}
	}
}

func (c *checker) noAccelerator() {
	if !c.p.Lab.Site.Accelerated {
		c.find("site", c.p.Lab.Site.At("accelerated"), "give waits more time", "the site cannot accelerate virtual machines")
	}
}
