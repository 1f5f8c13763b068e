package runbook

import (
	"cmp"
	"fmt"
	"strings"

	"openbastion/internal/model/plan"
)

func (b *writer) create(m *plan.Machine) Step {
	spec := m.Spec
	s := Step{ID: "create." + m.Name, Title: "Create the " + b.w.Machine + " " + m.Name,
		Table: &Table{Head: []string{"setting", "value", "why"}}}
	add := func(name, value, why string) { s.Table.Rows = append(s.Table.Rows, []string{name, value, why}) }
	add("name", m.Name, "the lab's files call it so")
	add("processors", fmt.Sprint(spec.CPUs), reason(m, "CPU"))
	add("memory", fmt.Sprintf("%d MiB", spec.Memory>>20), cmp.Or(b.w.Floor, "fixed")+": "+reason(m, "memory"))
	disk, adapters := spec.Disk.String(), fmt.Sprint(len(m.Own()))
	if busKnown(m) {
		disk += " on " + spec.DiskBus
	}
	if modelKnown(m) {
		adapters += ", model " + spec.NIC
	}
	add("disk", disk, "on a bus that it has a driver for")
	add("adapters", adapters, "a model that it has a driver for; in the order of the next step")
	add("firmware", spec.Firmware, "as its image boots")
	system := map[string]string{"linux": "Linux, 64 bits", "bsd": "BSD, 64 bits"}[systemOf(m)]
	if system != "" {
		add("guest's system", system, "drivers and clock are chosen by it; another choice can hide adapters")
	}
	add("disk space", "taken as it fills, or all at once", "either will do; it has no bearing on memory")
	add(
		"place",
		"a folder of its own, with room for "+spec.Disk.String(),
		"what belongs to it is found and saved together",
	)
	add("not needed", "floppy drive, sound, USB, shared folders", "remove them: an unused device is one more risk")
	add("pointing device", "the plain one", "where the pointer does not move in its screen, choose the other kind")
	add("processor", "the host's own, with its ciphers passed through", "tunnels are several times as fast")
	if m.Facts.SystemVersion != "" {
		add("its system", m.Facts.SystemVersion, "what it is built on")
	}
	if spec.Queues > 1 {
		add("queues of each adapter", fmt.Sprint(spec.Queues), "one for each processor")
	}
	if spec.Autostart {
		add("start", "with the host, before its guests", "guests get their addresses from it when they start")
	}
	s.Do = []string{"Create it with these settings, and do not start it yet."}
	s.See = "The settings page shows the same values."
	if sourceOf(m).imported() {
		s.Title = "Set up the " + b.w.Machine + " " + m.Name + " that the package made"
		s.Do = []string{"Change what differs, and do not start it yet."}
	}
	s.Mistakes = []Mistake{
		{"an adapter or disk model that it has no driver for", "it finds fewer interfaces, or no disk"},
		{"memory that may shrink", "conversations break when the host is busy"},
	}
	return s
}

// busKnown reports whether the file, the image or the profile tells which disk bus the machine takes.
func busKnown(m *plan.Machine) bool {
	if m.Appliance == nil {
		return true
	}
	return m.Appliance.Machine.DiskBus != "" || m.Appliance.Needs.DiskBuses != nil || m.Facts.DiskBuses != nil
}

// modelKnown reports the same of the adapters' model.
func modelKnown(m *plan.Machine) bool {
	if m.Appliance == nil {
		return true
	}
	return m.Appliance.Machine.NIC != "" || m.Appliance.Needs.NICs != nil || m.Facts.NICs != nil
}

// systemOf returns the family of systems that a machine runs.
func systemOf(m *plan.Machine) string {
	if m.Appliance != nil {
		return m.Facts.System
	}
	return m.Guest.System
}

// reason returns what the plan says of a size.
func reason(m *plan.Machine, about string) string {
	var list []string
	for _, w := range m.Spec.Why {
		if strings.Contains(w, about) || len(m.Spec.Why) == 1 {
			list = append(list, w)
		}
	}
	return cmp.Or(strings.Join(list, "; "), "its usual size")
}

func (b *writer) adapters(m *plan.Machine) Step {
	s := Step{
		ID:      "adapters." + m.Name,
		Title:   "Attach the adapters of " + m.Name + ", in this order",
		Check:   Mapped,
		Machine: m.Name,
		Why:     "The console shows the interfaces by order and MAC address.",
		Table:   &Table{Head: []string{"adapter", "for", "attach it to", "MAC address", "model"}, Tick: true},
	}
	for _, a := range m.Own() {
		s.Table.Rows = append(
			s.Table.Rows,
			[]string{b.w.Say(b.w.Adapter, "number", fmt.Sprint(a.Number)), cmp.Or(a.Name, "the guest"),
				b.attach(a), a.MAC.String(), a.NIC},
		)
	}
	s.Do = []string{"Set each MAC address yourself where the program allows it.",
		fmt.Sprintf(
			"Where the program chooses the MAC addresses itself, `bastion map LAB --as %s --adopt LISTING` writes them into the lab file.",
			m.Name,
		)}
	if sourceOf(m).imported() {
		s.Do = append(s.Do, fmt.Sprintf(
			"`bastion compare LAB --as %s --built FILE` on the machine's export shows what still differs.", m.Name))
	}
	s.See = "As many adapters as rows, each with the address of its row."
	s.Mistakes = []Mistake{{"WAN and LAN swapped", "guests get addresses from upstream, or none"},
		{"an adapter left on the default network", "a guest reaches outside with the appliance off"}}
	return s
}

func (b *writer) which(m *plan.Machine) Step {
	s := Step{ID: "which." + m.Name, Title: "Find out which interface is which",
		Why: "Names on the console follow the hardware order, not your plan. Compare the last two bytes of each MAC address.",
		Table: &Table{
			Head: []string{"port", "last bytes", "likely called", "adapter", "address then"},
		}, Check: Mapped, Machine: m.Name}
	for _, a := range m.Adapters {
		s.Table.Rows = append(
			s.Table.Rows,
			[]string{a.Name, "…" + a.MAC.Tail(2), strings.Join(a.Devices, " or "), fmt.Sprint(a.Number),
				shown(a)},
		)
	}
	s.Do = []string{
		fmt.Sprintf(
			"Copy the list of interfaces from the console, in any form: `bastion map LAB --as %s --listing FILE` identifies them.",
			m.Name,
		),
	}
	s.See = "Every port has one interface whose MAC address ends as in its row."
	s.Mistakes = []Mistake{
		{"only the first digits are compared", "WAN and LAN swapped: they differ in the last digit only"},
		{"taken in the order of the list", "right on this machine, wrong on the next"},
	}
	return s
}

// shown returns an adapter's address with its IPv6 one.
func shown(a *plan.Adapter) string {
	if a.Address6.IsValid() && a.Machine.Appliance != nil {
		return a.Shown() + " and " + a.Address6.String()
	}
	return a.Shown()
}
