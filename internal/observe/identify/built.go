package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
)

// Built is a machine as an exported definition or a package describes it. What
// it does not say is zero.
type Built struct {
	Name     string
	CPUs     int
	Memory   lab.Bytes
	Disk     lab.Bytes
	Buses    []string // of its disks
	Firmware string   // bios | uefi
	Boot     []string // disk | media | network, in order
	Media    string   // file in the optical drive
	Adapters []BuiltAdapter
}

// BuiltAdapter is one adapter of it, in its order.
type BuiltAdapter struct {
	Number  int // from 1
	Name    string
	Network string
	Models  []string // one, or those that it may be
	MAC     string   // as written; empty when whoever starts it chooses
	Plugged bool
}

// fold takes away what people and programs write differently in one name.
func fold(name string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9':
			return c
		}
		return -1
	}, name)
}

// network finds the segment that a network's name means. near is set when the
// name is not quite the segment's: to a hypervisor another spelling is another
// network.
func network(p *plan.Plan, name string) (s *plan.Segment, near bool) {
	for _, s := range p.Segments {
		if s.Called() == name || p.Name+"-"+s.Name == name { // as the program's own definitions name it
			return s, false
		}
	}
	if s = p.Segment(name); s != nil { // its name here, and the hypervisor has another
		return s, true
	}
	var best *plan.Segment
	for _, s := range p.Segments {
		a, b := fold(name), fold(s.Called())
		if a == b {
			return s, true
		}
		trimmed := strings.TrimRight(a, "0123456789")
		like := a != "" && trimmed == strings.TrimRight(b, "0123456789") ||
			len(b) > 3 && lab.Nearest(a, []string{b}) != ""
		if like && best == nil {
			best = s
		}
	}
	return best, best != nil
}

// CompareBuilt holds an exported machine against the plan, worst first.
func CompareBuilt(p *plan.Plan, m *plan.Machine, b Built) []Fact {
	c := &comparison{}
	own := map[int]*plan.Adapter{}
	for _, a := range m.Own() {
		own[a.Number] = a
	}
	twins := map[string]int{}
	for _, x := range b.Adapters {
		if address := fold(x.MAC); address != "" {
			if first := twins[address]; first != 0 {
				c.wrong(
					"duplicate-mac",
					"give each adapter its own address",
					"adapters %d and %d have the same MAC address %s",
					first,
					x.Number,
					x.MAC,
				)
			}
			twins[address] = x.Number
		}
		a := own[x.Number]
		if a == nil {
			c.extra(p, m, x)
			continue
		}
		delete(own, x.Number)
		c.builtAdapter(p, b, a, x)
	}
	for _, a := range m.Adapters {
		if own[a.Number] == a {
			c.wrong(
				"unattached-port",
				fmt.Sprintf("add it, on %s, behind the ones that are there: order counts", a.Segment.Name),
				"adapter %d (%s on %s) is missing",
				a.Number,
				a.Name,
				a.Segment.Name,
			)
		}
	}
	c.sizes(m, b)
	if len(c.list) == 0 {
		c.planned("it is built as planned")
	}
	return c.sorted()
}

// extra judges an adapter that is in no plan.
func (c *comparison) extra(p *plan.Plan, m *plan.Machine, x BuiltAdapter) {
	s, _ := network(p, x.Network)
	switch {
	case s != nil && m.Guest != nil:
		c.wrong(
			"dual-homed-guest",
			"remove it",
			"adapter %d is in no plan, and it is on %s: a second path outside past the appliance",
			x.Number,
			s.Name,
		)
	case x.Plugged && x.Network != "":
		c.wrong(
			"unattached-port",
			"remove it, or add a port for it to the lab",
			"adapter %d is in no plan, and it is connected to %q",
			x.Number,
			x.Network,
		)
	default:
		c.remark(
			"remove it, or add a port for it to the lab",
			"adapter %d is in no plan; it is not connected at start",
			x.Number,
		)
	}
}

// builtAdapter judges one adapter against its plan.
func (c *comparison) builtAdapter(p *plan.Plan, b Built, a *plan.Adapter, x BuiltAdapter) {
	s, near := network(p, x.Network)
	attach := "attach it to " + a.Segment.Name
	switch {
	case x.Network == "":
		c.unseen(attach, "adapter %d (%s) has no network; planned: %s", x.Number, a.Name, a.Segment.Name)
	case s == a.Segment && near && a.Segment.Reach == lab.Isolated:
		c.wrong(
			"no-gateway",
			fmt.Sprintf("write it %s everywhere, letter by letter", s.Called()),
			"adapter %d is on %q, and the segment is called %s: to the hypervisor that is another network",
			x.Number,
			x.Network,
			s.Called(),
		)
	case s == a.Segment, s != nil && s == a.Segment.Wire.Root():
	case a.Segment.Nowhere(): // nobody planned where it leads
		if a.Role == lab.Unused && x.Plugged && x.Network != "" {
			c.wrong(
				"unattached-port",
				"disconnect it",
				"adapter %d is planned as unused, and it is connected to %q",
				x.Number,
				x.Network,
			)
		}
	case s == nil && a.Segment.Reach == lab.Upstream:
		c.unseen(
			"check whether that network is "+a.Segment.Name,
			"adapter %d (%s) is on %q, a network that the lab does not name; planned: %s",
			x.Number,
			a.Name,
			x.Network,
			a.Segment.Name,
		)
	case s == nil:
		c.wrong(
			"no-gateway",
			attach,
			"adapter %d (%s) is on %q, which is not a segment of the lab",
			x.Number,
			a.Name,
			x.Network,
		)
	default:
		message := fmt.Sprintf("adapter %d (%s) is on %s (planned: %s)", x.Number, a.Name, s.Name, a.Segment.Name)
		for _, y := range b.Adapters {
			if t, _ := network(p, y.Network); t == a.Segment && y.Number != x.Number {
				message += fmt.Sprintf("; adapter %d is on it: are they the wrong way round?", y.Number)
				break
			}
		}
		code := "dual-homed-guest"
		if s.Reach != lab.Upstream && a.Segment.Reach != lab.Upstream {
			code = ""
		}
		c.wrong(code, attach, "%s", message)
	}
	if a.Plugged && !x.Plugged && !a.Later() {
		c.wrong(
			"unattached-port",
			"connect it",
			"adapter %d (%s) is there and not connected at start",
			x.Number,
			a.Name,
		)
	}
	if address, err := mac.Parse(x.MAC); err == nil && address != a.MAC {
		c.remark("keep it: bastion map --adopt takes it into the lab; or set the planned one",
			"adapter %d has the MAC address %s (planned: %s)", x.Number, address, a.MAC)
	}
	if needs := needsOf(a.Machine); needs != nil && len(needs.NICs) > 0 && len(x.Models) > 0 &&
		!slices.ContainsFunc(x.Models,
			func(m string) bool { return slices.Contains(needs.NICs, m) }) {
		c.wrong(
			"no-nic-driver",
			"choose one of "+strings.Join(needs.NICs, ", "),
			"adapter %d is a %s, and the image has no driver for that",
			x.Number,
			strings.Join(x.Models, " or "),
		)
	} else if len(x.Models) > 0 && !slices.Contains(x.Models, a.NIC) && !c.mixed(b, x) {
		c.remark("change it, or write its model into the lab", "adapter %d is a %s (planned: %s)", x.Number, strings.Join(x.Models, " or "),
			a.NIC)
	}
}

// mixed reports whether it is an adapter of a machine whose adapters are of several models, all of
// which its image asks for: there no one model is planned.
func (c *comparison) mixed(b Built, x BuiltAdapter) bool {
	return slices.ContainsFunc(
		b.Adapters,
		func(y BuiltAdapter) bool { return len(y.Models) > 0 && !slices.Equal(x.Models, y.Models) },
	)
}

// needsOf returns what an appliance's image asks for; nil for a guest.
func needsOf(m *plan.Machine) *lab.Needs {
	if m.Appliance == nil {
		return nil
	}
	return &m.Appliance.Needs
}

// sizes judges sizes, buses, firmware and the order of starting.
func (c *comparison) sizes(m *plan.Machine, b Built) {
	size := func(what string, has, planned, least lab.Bytes, show func(lab.Bytes) string) {
		switch {
		case has == 0:
		case has < least:
			c.wrong(
				"undersized",
				"set it to "+show(planned),
				"it has %s of %s, and the image needs %s",
				show(has),
				what,
				show(least),
			)
		case has < planned:
			c.remark("use the planned value", "it has %s of %s (planned: %s)", show(has), what, show(planned))
		}
	}
	least := lab.Needs{}
	if n := needsOf(m); n != nil {
		least = *n
	}
	bytes := func(b lab.Bytes) string { return b.String() }
	size("memory", b.Memory, m.Spec.Memory, least.Memory, bytes)
	size("disk", b.Disk, m.Spec.Disk, least.Disk, bytes)
	size("processors", lab.Bytes(b.CPUs), lab.Bytes(m.Spec.CPUs), lab.Bytes(least.CPUs),
		func(n lab.Bytes) string { return fmt.Sprint(int64(n)) })
	for _, bus := range b.Buses {
		switch {
		case len(least.DiskBuses) > 0 && !slices.Contains(least.DiskBuses, bus):
			c.wrong("no-disk-driver", "attach it by "+strings.Join(least.DiskBuses, " or "),
				"a disk is attached by %s, and the image has no driver for that", bus)
		case bus != m.Spec.DiskBus:
			c.remark(
				"change it, or write the bus into the lab",
				"a disk is attached by %s (planned: %s)",
				bus,
				m.Spec.DiskBus,
			)
		}
	}
	if b.Firmware != "" && b.Firmware != m.Spec.Firmware {
		c.wrong(
			"",
			"set the firmware to "+m.Spec.Firmware+", or write the other into the lab",
			"it starts by %s (planned: %s): a disk installed under one does not start under the other",
			b.Firmware,
			m.Spec.Firmware,
		)
	}
	disk, media := slices.Index(b.Boot, "disk"), slices.Index(b.Boot, "media")
	if media >= 0 && (disk < 0 || media < disk) && b.Media != "" {
		c.wrong(
			"boots-media",
			"put the disk first",
			"it starts from the medium before the disk: the next restart installs again",
		)
	}
	if b.Media != "" && m.Spec.Media == "" {
		c.remark("take the medium out when the installation is done", "%s is still in the optical drive", b.Media)
	}
}
