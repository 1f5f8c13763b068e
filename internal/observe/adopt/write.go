package adopt

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// writer gathers the lines of a lab file.
type writer struct{ strings.Builder }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// Write makes the lab file of what sources tell, and notes on what was deduced. The
// error returns what no lab can be made of.
func Write(name string, sources []Source) (file []byte, notes []string, err error) {
	s := deduce(gather(sources), networksOf(sources))
	if len(s.machines) == 0 {
		return nil, nil, fmt.Errorf("nothing of a machine is shown in what was given")
	}
	var w writer
	w.line(
		"# Adopted from the pasted output. What was not shown is `later`: fill it in.\n# `bastion check` lists what is open; verdicts that depend on it are unknown.",
	)
	w.line("bastion: 1")
	w.line("lab: %s", name)
	w.line("")
	s.site(&w)
	s.writeSegments(&w)
	s.writeAppliances(&w)
	s.writeGuests(&w)
	return []byte(w.String()), s.notes, nil
}

// site writes the networks that the host showed.
func (s *site) site(w *writer) {
	if s.host == nil {
		w.line("# site: nothing of the host was shown; `bastion survey --write` on it fills this in")
		w.line("")
		return
	}
	var nets []string
	for _, a := range s.host.adapters {
		inside := slices.ContainsFunc(
			s.segments,
			func(g *segment) bool { return !g.upstream && g.hostAddr == a.address },
		)
		if n := a.address.Masked(); a.address.IsValid() && a.masked && !inside && n.Bits() < 31 &&
			!slices.Contains(nets, n.String()) {
			nets = append(nets, n.String())
		}
	}
	if len(nets) > 0 {
		w.line("site:")
		w.line("  networks: [%s]   # from %s", strings.Join(nets, ", "), strings.Join(s.host.files, ", "))
		w.line("")
	}
}

func (s *site) writeSegments(w *writer) {
	if len(s.segments) == 0 {
		return
	}
	w.line("segments:")
	for _, g := range s.segments {
		w.line("  %s:", g.name)
		switch kind := g.attached(); {
		case kind == listing.ByNAT:
			w.line("    reach: upstream         # translated by the host")
			w.line("    join: nat")
		case kind == listing.Bridged && g.upstream:
			w.line("    reach: upstream         # an appliance's WAN is on it")
			w.line("    join: bridged")
		case g.upstream:
			w.line("    reach: upstream         # an appliance's WAN is on it")
		case g.defined && g.hostAddr.IsValid():
			w.line("    reach: host             # the host has an address there")
			w.line("    host-address: %s", g.hostAddr)
		case kind == listing.Internal:
			w.line("    reach: isolated")
		case kind == listing.HostOnly && !g.hostAddr.IsValid():
			w.line("    reach: host             # a host-only network; which address the host has there was not shown")
		case g.hostOn:
			w.line("    reach: host             # the host showed %s there", g.hostAddr)
			w.line("    host-address: %s", g.hostAddr)
		case s.host != nil && g.subnet.IsValid():
			w.line("    reach: isolated         # the host showed no address there; is an adapter of the host on it?")
		default:
			w.line(
				"    reach: later            # isolated, unless the host has an address there or an adapter of the host is on it",
			)
		}
		if g.network != "" && g.network != g.name {
			w.line("    known-as: %s", lab.Value(g.network))
		}
		if g.subnet.IsValid() {
			w.line("    subnet: %s", g.subnet)
		}
		if hop := s.hop(g); g.upstream && hop.IsValid() {
			w.line("    gateway: %s", hop)
		}
		if by := s.server(g); by != "" {
			w.line("    dhcp: %s", by)
		}
	}
	w.line("")
}

// attached returns how the adapters on a segment are attached, where all of them that show it agree.
func (g *segment) attached() listing.Attachment {
	kind := listing.UnsaidAttachment
	for _, a := range g.adapters {
		switch {
		case a.how == listing.UnsaidAttachment:
		case kind != listing.UnsaidAttachment && kind != a.how:
			return listing.UnsaidAttachment
		default:
			kind = a.how
		}
	}
	return kind
}

// hop returns the next hop that an appliance has on a segment.
func (s *site) hop(g *segment) netip.Addr {
	for _, a := range g.adapters {
		for _, hop := range a.of.gateways {
			if a.role == "wan" && g.subnet.IsValid() && g.subnet.Contains(hop) {
				return hop
			}
		}
	}
	return netip.Addr{}
}

// server returns who else hands out leases on a segment; empty when that is an
// appliance's port, or nobody showed it.
func (s *site) server(g *segment) string {
	if g.upstream {
		return ""
	}
	if g.defined && g.hostServes {
		return "host"
	}
	for _, a := range g.adapters {
		if !a.server.IsValid() {
			continue
		}
		switch x := s.holder(a.server); {
		case x != nil && x.of.appliance:
		case x != nil:
			return x.of.name
		case g.hostOn && g.hostAddr.Addr() == a.server:
			return "host"
		default:
			s.notes = append(
				s.notes,
				fmt.Sprintf(
					"%s got its lease on %s from %s, which no shown machine has as its address",
					a.of.name,
					g.name,
					a.server,
				),
			)
			return "upstream"
		}
	}
	return ""
}

// attached returns the segment's name of an adapter; later where nobody showed it.
func (a *adapter) attached() string {
	if a.segment == nil {
		return lab.Undecided
	}
	return a.segment.name
}

// hardware returns the keys of an adapter that were shown.
func (a *adapter) hardware() string {
	text := ""
	if len(a.tail) == 12 {
		text += fmt.Sprintf(
			", mac: '%s:%s:%s:%s:%s:%s'",
			a.tail[:2],
			a.tail[2:4],
			a.tail[4:6],
			a.tail[6:8],
			a.tail[8:10],
			a.tail[10:],
		)
	}
	if a.device != "" {
		text += ", device: " + lab.Value(a.device)
	}
	if a.off && a.role != "unused" {
		text += ", plugged: false"
	}
	return text
}

// sizes returns the machine's key where an export shows it.
func (m *machine) sizes() string {
	if m.built == nil {
		return ""
	}
	var parts []string
	add := func(key, text string) {
		if text != "" {
			parts = append(parts, key+": "+text)
		}
	}
	if m.built.CPUs > 0 {
		add("cpus", fmt.Sprint(m.built.CPUs))
	}
	if m.built.Memory > 0 {
		add("memory", m.built.Memory.String())
	}
	if m.built.Disk > 0 {
		add("disk", m.built.Disk.String())
	}
	if len(m.built.Buses) == 1 {
		add("disk-bus", lab.Value(m.built.Buses[0]))
	}
	if m.built.Firmware == "bios" || m.built.Firmware == "uefi" {
		add("firmware", m.built.Firmware)
	}
	for _, a := range m.adapters {
		if a.model != "" {
			add("nic", lab.Value(strings.ToLower(a.model)))
			break
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func (s *site) writeAppliances(w *writer) {
	first := true
	for _, m := range s.machines {
		if !m.appliance {
			continue
		}
		if first {
			w.line("appliances:")
			first = false
		}
		w.line("  %s:   # from %s", m.name, strings.Join(m.files, ", "))
		if sizes := m.sizes(); sizes != "" {
			w.line("    machine: %s", sizes)
		}
		w.line("    ports:")
		slices.SortStableFunc(
			m.adapters,
			func(a, b *adapter) int { return cmp.Compare(max(a.number, 1), max(b.number, 1)) },
		)
		for _, a := range m.adapters {
			s.writePort(w, m, a)
		}
		w.line(
			"    rules: later            # not shown; without this key each LAN may reach outside, and nothing else is allowed",
		)
	}
	if !first {
		w.line("")
	}
}

func (s *site) writePort(w *writer, m *machine, a *adapter) {
	if a.role == "unused" {
		w.line("      - {role: unused%s}", a.hardware())
		return
	}
	text := fmt.Sprintf("{role: %s, segment: %s", a.role, a.attached())
	if name := letters(a.label); name != "" && name != a.role && !m.portNamed(a, name) {
		text += ", name: " + name
	}
	switch {
	case a.address.IsValid() && a.masked && !(a.role == "wan" && a.lease == listing.IsLease):
		text += ", address: " + a.address.String()
		if hop := s.hop(a.segment); a.role == "wan" && hop.IsValid() {
			text += ", gateway: " + hop.String()
		} else if a.role == "wan" {
			text += ", gateway: later"
		}
	case a.role == "wan" && a.lease == listing.IsLease:
		text += ", address: dhcp"
	default:
		text += ", address: later"
	}
	if pool := s.pool(a); pool != "" {
		text += ", dhcp: {pool: " + pool + "}"
	}
	w.line("      - %s%s}", text, a.hardware())
}

// portNamed reports whether another port before is called so.
func (m *machine) portNamed(a *adapter, name string) bool {
	for _, x := range m.adapters {
		if x == a {
			return false
		}
		if letters(x.label) == name || x.role == name {
			return true
		}
	}
	return false
}

// pool returns a pool that holds every lease that was seen on a port's segment, as wide
// as the plan would choose one; empty where the plan's own will do.
func (s *site) pool(a *adapter) string {
	if a.role == "wan" || a.segment == nil || !a.segment.subnet.IsValid() {
		return ""
	}
	net := a.segment.subnet
	low, high := subnet.Size(net)*50/256, subnet.Size(net)*200/256-1
	wide := false
	for _, x := range a.segment.adapters {
		if x.lease != listing.IsLease || !x.address.IsValid() || x.of == a.of || !net.Contains(x.address.Addr()) {
			continue
		}
		n := subnet.Distance(net.Addr(), x.address.Addr())
		wide = wide || n < low || n > high
		low, high = min(low, n), max(high, n)
	}
	if !wide {
		return ""
	}
	return subnet.Add(net.Addr(), low).String() + "-" + subnet.Add(net.Addr(), high).String()
}

func (s *site) writeGuests(w *writer) {
	first := true
	for _, m := range s.machines {
		if m.appliance {
			continue
		}
		if first {
			w.line("guests:")
			first = false
		}
		w.line("  %s:   # from %s", m.name, strings.Join(m.files, ", "))
		if system := string(m.system); system != "" {
			w.line("    system: %s", system)
		}
		if sizes := m.sizes(); sizes != "" {
			w.line("    machine: %s", sizes)
		}
		slices.SortStableFunc(
			m.adapters,
			func(a, b *adapter) int { return cmp.Compare(max(a.number, 1), max(b.number, 1)) },
		)
		if len(m.adapters) == 0 {
			w.line("    segment: later")
			continue
		}
		w.line("    adapters:")
		for _, a := range m.adapters {
			w.line("      - %s", s.guestAdapter(m, a))
		}
	}
}

// guestAdapter writes one adapter of a guest.
func (s *site) guestAdapter(m *machine, a *adapter) string {
	text := "{segment: " + a.attached()
	if a.address.IsValid() && a.lease == listing.NoLease && a.masked {
		text += ", static: " + a.address.String()
		for _, hop := range m.gateways {
			if a.address.Masked().Contains(hop) {
				text += ", gateway: " + hop.String()
				break
			}
		}
		if len(m.resolvers) > 0 {
			text += ", dns: [" + strings.Join(subnet.Texts(m.resolvers), ", ") + "]"
		}
	} else if a.address.IsValid() && a.lease == listing.LeaseUnsaid {
		s.notes = append(s.notes, fmt.Sprintf("%s has %s: by DHCP, as in the file, or static?", m.name, a.address.Addr()))
	}
	return text + a.hardware() + "}"
}
