package runbook

import (
	"cmp"
	"fmt"
	"strings"

	"openbastion/internal/image"
	"openbastion/internal/model/plan"
)

// source is the file that a machine comes from, with what its name promises.
type source struct {
	file   string // as it is fetched; empty when nobody said
	packed bool
	inner  string // once unpacked
	kind   image.Kind
}

func sourceOf(m *plan.Machine) source {
	s := source{file: m.Spec.Media}
	if s.file == "" && m.Appliance != nil {
		s.file = m.Appliance.Image.File
	}
	s.inner = s.file
	for range 3 { // a packed archive of a package is two layers
		kind, inner := image.Promised(s.inner)
		if s.kind = kind; inner == s.inner {
			break
		}
		s.packed, s.inner = true, inner
	}
	return s
}

// installs reports whether the machine is installed from what the file holds: a
// ready disk and a package are installed already.
func (s source) installs() bool {
	return s.file != "" && s.kind != image.VirtDisk && !s.imported()
}

// imported reports whether it is a package of a machine, which is imported whole.
func (s source) imported() bool { return s.kind == image.Archive || s.kind == image.Descriptor }

// boot returns where the file goes: a medium into the drive, a ready disk onto
// the machine, a package is imported; what is packed is unpacked first.
func (b *writer) boot(m *plan.Machine) Step {
	s := sourceOf(m)
	if s.file == "" {
		return Step{}
	}
	step := Step{ID: "boot." + m.Name}
	if s.packed {
		step.Do = append(step.Do, fmt.Sprintf("`bastion image unpack %s` gives %s.", s.file, s.inner))
	}
	order := fmt.Sprintf("Start order (%s): %s.", b.w.Boot, strings.Join(m.Spec.Boot, ", then "))
	switch {
	case s.imported():
		step.Title = "Import the package"
		step.Do = append(
			step.Do,
			fmt.Sprintf(
				"Import %s as %s, and do not start it: the next steps change what differs in the package.",
				s.inner,
				m.Name,
			),
		)
		step.See = fmt.Sprintf("%s is in the list of machines, switched off.", m.Name)
		step.Mistakes = []Mistake{{"the package's own networks remain",
			"an adapter is on the default network, and a guest reaches outside with the appliance off"},
			{"it is imported twice", "two machines have one MAC address"}}
	case s.kind == image.VirtDisk:
		step.Title = "Attach the ready disk"
		step.Do = append(
			step.Do,
			fmt.Sprintf(
				"Attach %s as the machine's disk on %s, in place of an empty one. It is installed already: nothing goes into the optical drive.",
				s.inner,
				m.Spec.DiskBus,
			),
		)
		step.See = "It starts from this disk."
		step.Mistakes = []Mistake{{"the disk is attached on a bus that it has no driver for",
			"it stops with a line about its root, or restarts again and again"},
			{"the fetched file itself is attached, not a copy", "the next lab begins with this one's settings"}}
	case s.kind == image.RawDisk:
		step.Title = "Attach the disk image and set the start order"
		step.Do = append(
			step.Do,
			fmt.Sprintf("`bastion image inspect %s` shows whether it is an installed disk or an installer.",
				s.inner),
			"An installed disk: attach it as the machine's disk, in place of an empty one. A stick: attach it as a second disk, and start from that one once.",
			order,
		)
		step.See = "It starts from what you attached."
		step.Mistakes = []Mistake{{"it is put into the optical drive", "it reports that there is nothing to boot"},
			{"the stick is first in the boot order", "after the installation it starts the installer again"}}
	default:
		step.Title = "Put the medium in and set the start order"
		step.Do = append(
			step.Do,
			fmt.Sprintf("Put %s into %s; the file itself will do, nothing need be burnt.", s.inner, b.w.Medium),
			order,
		)
		step.See = "With an empty disk it starts from the medium; once installed, from the disk."
		step.Mistakes = []Mistake{{"the medium is first", "after the installation it starts the installer again"},
			{"the medium was not connected at power-on", "it reports that there is nothing to boot"}}
	}
	return step
}

func (b *writer) first(m *plan.Machine) Step {
	s := Step{ID: "start." + m.Name, Title: "Start " + m.Name, Do: []string{"Start it and open its console."}}
	if src := sourceOf(m); src.file == "" || src.installs() {
		s.Title += " and install it"
		s.Do = append(
			s.Do,
			"Install it to its disk. This erases only the machine's own disk.",
			"File system: the default is enough where the host's disks are reliable; firmware as in the machine's settings.",
			"Its terms: note the period and what ends with it before you accept.",
		)
		s.Mistakes = append(s.Mistakes, Mistake{"it still runs from the medium, not from the disk",
			"after the restart the settings are lost"})
	}
	s.Do = append(s.Do, "A boot menu with a countdown continues automatically; one that asks for a key waits.")
	if len(m.Facts.Waits) == 0 {
		s.Do = append(
			s.Do,
			"A first start takes some minutes, and several times as long on a host without acceleration. Nothing new on the screen for a quarter of an hour: it waits for a key, or has no memory.",
		)
	}
	for _, w := range m.Facts.Waits {
		s.Do = append(
			s.Do,
			fmt.Sprintf("%s takes about %s; longer: %s.", w.For, w.Time, cmp.Or(w.Longer, "look at the console")),
		)
	}
	s.See = "The console asks its first question, or lists its interfaces."
	s.Mistakes = append(s.Mistakes, Mistake{"too little memory", "the installation stops halfway or restarts"},
		Mistake{"the disk's bus has no driver", "the installer finds no disk"})
	return s
}

func (b *writer) restart(m *plan.Machine) Step {
	s := sourceOf(m)
	if !s.installs() || s.kind == image.RawDisk {
		return Step{}
	}
	return Step{ID: "restart." + m.Name, Title: "Take the medium out and restart",
		Do: []string{
			"Shut it down, not only restart it: a medium that is pulled while the system is on it can stop it.",
			"Take the medium out of " + b.w.Medium + ".",
			"Start it from the disk.",
		},
		See: "It starts from its disk and shows the same addresses.",
		Mistakes: []Mistake{{"the medium is still in", "the installer starts again, or your answers are lost"},
			{"settings were not written before the restart", "factory addresses are back"}},
		Keep: "Take a " + b.w.Snapshot + " called \"installed\"."}
}

// files returns an appliance that is set up in files what an export writes.
func (b *writer) files(m *plan.Machine) Step {
	return Step{ID: "files." + m.Name, Title: "Give " + m.Name + " its files",
		Why: "It has no web pages: addresses, packet filter, NAT and DHCP are files that the program writes from the plan.",
		Do: []string{
			"`bastion export LAB --kind seed --to files` writes a first-start seed: attach files/" + m.Name +
				".iso as a medium, and the machine sets itself up when it first starts.",
			"If the machine is installed already: `bastion export LAB --kind nft --to files` writes its packet filter and kernel settings, `bastion export LAB --kind leases --to files` its DHCP server's configuration; copy them to the paths in their first lines.",
		},
		See: "`nft list ruleset` on it shows the planned rules, and `sysctl net.ipv4.ip_forward` shows 1.",
		Mistakes: []Mistake{{"an interface has another name than in the files",
			"the packet filter does not load, or passes nothing; --device sets the real name"},
			{"the files are loaded but not kept for the next start",
				"everything is gone after a restart"}}}
}
