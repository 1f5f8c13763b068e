package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
)

// Package is what a lab file takes from a package of machines.
type Package struct {
	File   string // its name, beside the lab file
	SHA256 string
	Needs  lab.Needs
	Built  Built // the machine that the package makes
	Wiring Wiring
}

// Filled is a lab file that a package was written into.
type Filled struct {
	Text    []byte
	Changes int
	Moved   bool     // the ports were put into the package's order
	Kept    []string // what the file says and the package has otherwise
}

// Fill writes a package into the text of a lab file: image:, needs: and machine:
// of an appliance, its ports in the package's order with their hardware addresses,
// and what the package calls the segments. What the file says already stays, but
// for image: and needs:.
func (p Package) Fill(text []byte, m *plan.Machine) Filled {
	e := lab.NewEditor(text)
	a := m.Appliance
	setAll(e, a, "image", &a.Image, [][2]string{{"file", lab.Value(p.File)}, {"sha256", p.SHA256}})
	setAll(e, a, "needs", &a.Needs, p.Needs.Keys())
	var out Filled
	setAll(e, a, "machine", &a.Machine, p.machine(m, &out))
	var order []int
	order, out.Moved = p.Wiring.order(m)
	if out.Moved {
		var ports []lab.Object
		for k := range a.Ports {
			ports = append(ports, a.Ports[k])
		}
		e.Reorder(ports, order)
	}
	out.Text, out.Changes = e.Bytes(), e.Changed()
	p.ports(m, order, &out)
	return out
}

// setAll sets keys of an object that stands in another under a name, or makes it.
func setAll(e *lab.Editor, in lab.Object, name string, o lab.Object, keys [][2]string) {
	if in.(interface{ Has(string) bool }).Has(name) {
		for _, kv := range keys {
			e.Set(o, kv[0], kv[1])
		}
		return
	}
	var parts []string
	for _, kv := range keys {
		parts = append(parts, kv[0]+": "+kv[1])
	}
	if len(parts) > 0 {
		e.Set(in, name, "{"+strings.Join(parts, ", ")+"}")
	}
}

// machine returns the keys of machine: that the package tells and the file does not.
func (p Package) machine(m *plan.Machine, out *Filled) [][2]string {
	has, b := &m.Appliance.Machine, p.Built
	var keys [][2]string
	add := func(key, value, is string, told bool) {
		switch {
		case !told:
		case !has.Has(key):
			keys = append(keys, [2]string{key, value})
		case is != value:
			out.Kept = append(out.Kept, fmt.Sprintf("machine: %s keeps %s; the package has %s", key, is, value))
		}
	}
	add("cpus", fmt.Sprint(b.CPUs), fmt.Sprint(has.CPUs), b.CPUs > 0)
	add("memory", b.Memory.String(), has.Memory.String(), b.Memory > 0)
	add("disk", b.Disk.String(), has.Disk.String(), b.Disk > 0)
	if len(b.Buses) == 1 {
		add("disk-bus", lab.Value(b.Buses[0]), lab.Value(has.DiskBus), true)
	}
	add("firmware", b.Firmware, has.Firmware, b.Firmware == "bios" || b.Firmware == "uefi")
	add("media", lab.Value(b.Media), lab.Value(has.Media), b.Media != "")
	return keys
}

// ports writes what belongs to each port and its segment. They are looked up
// afresh, as they may have been moved.
func (p Package) ports(m *plan.Machine, order []int, out *Filled) {
	l, err := lab.Read("", out.Text)
	if err != nil {
		return
	}
	var a *lab.Appliance
	for _, x := range l.Appliances {
		if x.Name == m.Name {
			a = x
		}
	}
	if a == nil || len(a.Ports) != len(order) {
		return
	}
	e := lab.NewEditor(out.Text)
	for _, w := range p.Wiring {
		if w.Port == nil {
			continue
		}
		port := a.Ports[slices.Index(order, slices.Index(m.Appliance.Ports, w.Port.Port))]
		p.port(e, w, port, out)
	}
	p.unused(e, a)
	p.segments(e, l)
	out.Text, out.Changes = e.Bytes(), out.Changes+e.Changed()
}

// unused adds ports for the adapters behind those that are of ports: they exist,
// and nothing is planned for them.
func (p Package) unused(e *lab.Editor, a *lab.Appliance) {
	var items []string
	for k := len(p.Wiring) - 1; k >= 0 && p.Wiring[k].Port == nil; k-- {
		item := "{role: unused}"
		if address, ok := p.fixed(p.Wiring[k]); ok {
			item = fmt.Sprintf("{role: unused, mac: '%s'}", address)
		}
		items = append(items, item)
	}
	slices.Reverse(items)
	own := 0
	for _, port := range a.Ports {
		if port.Over == "" {
			own++
		}
	}
	if left := len(p.Wiring) - own; len(items) > 0 && own > 0 && left > 0 {
		e.Append(a.Ports[len(a.Ports)-1], items[max(len(items)-left, 0):]...)
	}
}

// fixed returns the hardware address that the package fixes for an adapter, where that
// is one that a single adapter can have.
func (p Package) fixed(w Wired) (mac.Address, bool) {
	address, err := mac.Parse(w.Adapter.MAC)
	if err != nil || address == (mac.Address{}) || address[0]&1 == 1 {
		return address, false
	}
	return address, !slices.ContainsFunc(p.Wiring, func(x Wired) bool {
		other, err := mac.Parse(x.Adapter.MAC)
		return x.Adapter.Number != w.Adapter.Number && err == nil && other == address
	})
}

func (p Package) port(e *lab.Editor, w Wired, port *lab.Port, out *Filled) {
	address, ok := p.fixed(w)
	switch {
	case !ok:
	case !port.Has("mac"):
		e.Set(port, "mac", fmt.Sprintf("'%s'", address))
	case port.MAC != address:
		out.Kept = append(
			out.Kept,
			fmt.Sprintf("the MAC address of %s keeps %s; the package has %s", w.Port.Name, port.MAC, address),
		)
	}
	if !w.Adapter.Plugged && port.Plugged && !port.Has("connect") {
		e.Set(port, "connect", "later")
	}
}

// segments writes what the package calls the segments of its adapters, where that
// says one thing.
func (p Package) segments(e *lab.Editor, l *lab.Lab) {
	calls := map[string]string{} // by segment
	where := map[string]string{} // by what the package calls it
	for _, s := range l.Segments {
		where[s.Name] = s.Name
		if s.KnownAs != "" {
			calls[s.Name], where[s.KnownAs] = s.KnownAs, s.Name
		}
	}
	for _, w := range p.Wiring {
		name := strings.TrimSpace(w.Adapter.Network)
		if w.Port == nil || name == "" || w.Port.Segment.Nowhere() {
			continue
		}
		segment := w.Port.Segment.Wire.Root().Name
		if calls[segment] != "" || where[name] != "" {
			continue
		}
		for _, s := range l.Segments {
			if s.Name == segment {
				calls[segment], where[name] = name, segment
				e.Set(s, "known-as", lab.Value(name))
			}
		}
	}
}
