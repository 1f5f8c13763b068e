package check

import (
	"fmt"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// machines are the findings about machines and their host.
func machines() []Entry {
	return []Entry{
		{
			Code: "boots-media", Severity: Warning, Title: "It would install again",
			See:    "After a restart the installer appears again.",
			Why:    "The medium is before the disk in the boot order.",
			Remedy: "Put the disk first.",
			Old:    "boot: [disk, media]",
			Bad:    "boot: [media, disk]",
			find:   (*checker).bootsMedia,
		},
		{
			Code: "undersized", Severity: Error, Title: "Below the image's requirements",
			See:    "The installer stops, or the appliance runs out of memory.",
			Why:    "The image states what it needs.",
			Remedy: "Give it at least that.",
			Old:    "memory: 2GiB, disk: 16GiB",
			Bad:    "memory: 512MiB, disk: 16GiB",
			find:   (*checker).undersized,
		},
		{
			Code: "shrinking-memory", Severity: Warning, Title: "Memory that may shrink",
			See:    "Under load the appliance drops connections.",
			Why:    "A host that reclaims memory takes the connection table with it.",
			Remedy: "Set memory-floor to memory.",
			Old:    "memory: 2GiB, disk: 16GiB",
			Bad:    "memory: 2GiB, memory-floor: 1GiB, disk: 16GiB",
			find:   (*checker).shrinkingMemory,
		},
		{
			Code: "host-full", Severity: Error, Title: "More than the host has",
			See:    "The last machine does not start, or everything is slow.",
			Why:    "Together the machines need more than the host has.",
			Remedy: "Make some smaller, or start fewer.",
			Old:    "memory: 16GiB\n",
			Bad:    "memory: 4GiB\n",
			find:   (*checker).hostFull,
		},
		{
			Code: "licence-expiring", Severity: Error, Title: "An evaluation that ends",
			See:    "The appliance restarts without being asked, or passes no traffic.",
			Why:    "The evaluation period ends soon.",
			Remedy: "Take a snapshot, and plan what comes next.",
			Old:    "    needs: {",
			Bad:    "    image: {file: gate.iso, evaluation: {from: 2026-10-27, days: 20}}\n    needs: {",
			On:     "2026-11-12",
			find:   (*checker).trialEnding,
		},
		{
			Code: "late-appliance", Severity: Warning, Title: "Guests start before their appliance",
			See:    "After the host starts, guests have no address until the appliance is started.",
			Why:    "The guests start with the host but the appliance does not.",
			Remedy: "Start the appliance with the host: autostart: true.",
			Old:    "autostart: true",
			Bad:    "autostart: false",
			find:   (*checker).lateAppliance,
		},
		{
			Code: "wireless-bridge", Severity: Warning, Title: "Bridged on a wireless uplink",
			See:    "The WAN gets no address.",
			Why:    "Most access points accept frames from one MAC address only.",
			Remedy: "Use join: nat.",
			Old:    "uplinks: {enp1: wired}",
			Bad:    "uplinks: {enp1: wireless}",
			find:   (*checker).wirelessBridge,
		},
		{
			Code: "no-accelerator", Severity: Note, Title: "No acceleration",
			See:    "Everything in the machines takes several times as long.",
			Why:    "The host cannot accelerate virtual machines.",
			Remedy: "Allow longer waits; check whether it is disabled in the firmware.",
			Old:    "  cpus: 8",
			Bad:    "  accelerated: false\n  cpus: 8",
			find:   (*checker).noAccelerator,
		},
	}
}

func (c *checker) bootsMedia() {
	for _, m := range c.p.Running() {
		boot := m.Spec.Boot
		disk, media := slices.Index(boot, "disk"), slices.Index(boot, "media")
		if media >= 0 && (disk < 0 || media < disk) {
			c.find(m.Name, m.Appliance.Machine.At("boot"), "write boot: [disk, media]", "%s starts from the medium before the disk",
				m.Name).
				set(&m.Appliance.Machine, "boot", "[disk, media]")
		}
	}
}

// needs returns what asks for an appliance's size, and whose need it is: its image's,
// and that of its kind where it is more.
func needs(m *plan.Machine) map[string]lab.Needs {
	return map[string]lab.Needs{"its image": m.Appliance.Needs, "its kind": m.Facts.Needs}
}

func (c *checker) undersized() {
	for _, m := range c.p.Running() {
		s, src := m.Spec, &m.Appliance.Machine
		for _, whose := range []string{"its image", "its kind"} {
			n := needs(m)[whose]
			if whose == "its kind" { // what the image says counts more: its kind's newest may need more than it
				n.CPUs, n.Memory, n.Disk = orSaid(
					n.CPUs,
					m.Appliance.Needs.CPUs,
				), orSaid(
					n.Memory,
					m.Appliance.Needs.Memory,
				),
					orSaid(
						n.Disk,
						m.Appliance.Needs.Disk,
					)
			}
			if s.CPUs < n.CPUs {
				c.find(m.Name, src.At("cpus"), fmt.Sprintf("write cpus: %d", n.CPUs), "%s has %d processors, and %s needs %d", m.Name, s.CPUs,
					whose, n.CPUs).
					set(src, "cpus", fmt.Sprint(n.CPUs))
			}
			if s.Memory < n.Memory {
				c.find(m.Name, src.At("memory"), "write memory: "+n.Memory.String(), "%s has %s of memory, and %s needs %s", m.Name, s.Memory,
					whose, n.Memory).
					set(src, "memory", n.Memory.String())
			}
			if s.Disk < n.Disk {
				c.find(m.Name, src.At("disk"), "write disk: "+n.Disk.String(), "%s has a disk of %s, and %s needs %s", m.Name, s.Disk,
					whose, n.Disk).
					set(src, "disk", n.Disk.String())
			}
		}
	}
}

// orSaid returns a need of a kind of appliance, or nothing where the image says its own.
func orSaid[N int | lab.Bytes](kind, image N) N {
	if image > 0 {
		return 0
	}
	return kind
}

func (c *checker) shrinkingMemory() {
	for _, m := range c.p.Running() {
		if s := m.Spec; s.MemoryFloor < s.Memory {
			src := &m.Appliance.Machine
			c.find(m.Name, src.At("memory-floor"), "write memory-floor: "+s.Memory.String(), "%s has %s of memory that may shrink to %s", m.Name,
				s.Memory, s.MemoryFloor).
				set(src, "memory-floor", s.Memory.String())
		}
	}
}

func (c *checker) hostFull() {
	site := &c.p.Lab.Site
	var cpus int
	var memory, disk lab.Bytes
	for _, m := range c.p.Machines {
		if m.Off || m.Physical {
			continue
		}
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
			c.find(
				m.Name,
				pos,
				"make it smaller",
				"%s alone needs %s of memory, but the site has %s",
				m.Name,
				s.Memory,
				site.Memory,
			)
		case site.Disk > 0 && s.Disk > site.Disk:
			c.find(
				m.Name,
				pos,
				"make it smaller",
				"%s alone needs %s of disk, but the site has %s",
				m.Name,
				s.Disk,
				site.Disk,
			)
		case site.CPUs > 0 && s.CPUs > site.CPUs:
			c.find(
				m.Name,
				pos,
				"make it smaller",
				"%s alone needs %d processors, but the site has %d",
				m.Name,
				s.CPUs,
				site.CPUs,
			)
		}
	}
	if site.Memory > 0 && memory > site.Memory {
		c.find("site", site.At("memory"), "make some smaller, or start fewer at a time",
			"the machines need %s of memory together, but the site has %s", memory, site.Memory).as(Warning)
	}
	if site.Disk > 0 && disk > site.Disk {
		c.find("site", site.At("disk"), "make some smaller", "the machines need %s of disk together, but the site has %s", disk,
			site.Disk).
			as(Warning)
	}
}

func (c *checker) trialEnding() {
	if c.on.IsZero() {
		return
	}
	for _, m := range c.p.Running() {
		e := &m.Appliance.Image.Evaluation
		if e.From.IsZero() || e.Days == 0 {
			continue
		}
		end := e.From.AddDate(0, 0, e.Days)
		left := int(end.Sub(c.on) / (24 * time.Hour))
		switch {
		case left <= 0:
			c.find(
				m.Name,
				e.Pos,
				"take a restore point from before, or a new image",
				"the evaluation of %s ended on %s",
				m.Name,
				end.Format(time.DateOnly),
			)
		case left <= 7:
			c.find(m.Name, e.Pos, "take a restore point, and plan what comes after", "the evaluation of %s ends on %s, in %d days", m.Name,
				end.Format(time.DateOnly), left).
				as(Warning)
		}
	}
}

func (c *checker) lateAppliance() {
	told := map[string]bool{}
	for _, g := range c.guests() {
		if !g.Spec.Autostart {
			continue
		}
		for _, a := range g.Adapters {
			if p := a.Segment.Port; p != nil && !p.Machine.Spec.Autostart && !told[p.Machine.Name] {
				told[p.Machine.Name] = true
				c.find(
					p.Machine.Name,
					p.Machine.Appliance.At("autostart"),
					"write autostart: true",
					"%s starts with the host, and %s before it does not",
					g.Name,
					p.Machine.Name,
				).set(p.Machine.Appliance, "autostart", "true")
			}
		}
	}
}

func (c *checker) wirelessBridge() {
	for _, s := range c.p.Segments {
		if s.Reach == lab.Upstream && s.Lab.Join != "nat" && c.p.Lab.Site.Uplinks[s.Lab.Uplink] == "wireless" {
			c.find(s.Name, s.Lab.At("uplink"), "write join: nat", "%s is bridged to %s, which is wireless", s.Name, s.Lab.Uplink).
				set(s.Lab,
					"join", "nat")
		}
	}
}

func (c *checker) noAccelerator() {
	if !c.p.Lab.Site.Accelerated {
		c.find(
			"site",
			c.p.Lab.Site.At("accelerated"),
			"give waits more time",
			"the site cannot accelerate virtual machines",
		)
	}
}
