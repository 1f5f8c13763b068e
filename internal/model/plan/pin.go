package plan

import (
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
)

// Pin returns the lab file's text with what the plan chose written into it, so
// that the plan stays as it is whatever is added later, and how many values
// that were. data must be what the plan's lab was read from.
func (p *Plan) Pin(data []byte) ([]byte, int) {
	e := pinner{lab.NewEditor(data)}
	for _, s := range p.Segments {
		if s.Planned && !s.Assumed && s.Bridged == nil {
			e.set(s.Lab, "subnet", s.Subnet.String())
		}
		if s.Reach == lab.Upstream && !s.Lab.Gateway.IsValid() && s.KnownGateway().IsValid() {
			e.set(s.Lab, "gateway", s.Gateway.String())
		}
		if s.HostLeg.IsValid() && !s.Lab.HostAddress.IsValid() && !s.Unknown() {
			e.set(s.Lab, "host-address", s.HostLeg.String())
		}
	}
	for _, m := range p.Machines {
		for _, a := range m.Adapters {
			if a.Port != nil {
				pinPort(e, a)
			} else {
				pinAdapter(e, a)
			}
		}
		if src := m.Appliance; src != nil && !src.Has("machine") {
			v := m.Spec
			e.set(
				src,
				"machine",
				fmt.Sprintf(
					"{cpus: %d, memory: %s, disk: %s, disk-bus: %s, nic: %s}",
					v.CPUs,
					v.Memory,
					v.Disk,
					v.DiskBus,
					v.NIC,
				),
			)
		}
	}
	return e.Bytes(), e.Changed()
}

func pinPort(e pinner, a *Adapter) {
	if a.Planned && a.Address.IsValid() && !a.Unknown() {
		e.set(a.Port, "address", a.Address.String())
	}
	if !a.MACGiven && a.Over == nil {
		e.set(a.Port, "mac", fmt.Sprintf("'%s'", a.MAC))
	}
	if v := a.Leases; v != nil && v.Planned && !v.unknown(a.Segment) {
		if a.Port.Has("dhcp") {
			e.set(&a.Port.Leases, "pool", v.Pool.String())
		} else {
			e.set(a.Port, "dhcp", "{pool: "+v.Pool.String()+"}")
		}
	}
}

// pinner writes what was planned, and leaves open what the file says is decided later.
type pinner struct{ *lab.Editor }

func (e pinner) set(o lab.Object, key, value string) {
	if !lab.Later(o, key) {
		e.Set(o, key, value)
	}
}

// pinAdapter pins a guest's adapter.
func pinAdapter(e pinner, a *Adapter) {
	if a.How == Reservation && a.Planned && !a.Segment.Unknown() {
		e.set(a.Object(), "reserve", a.Address.Addr().String())
	}
	if !a.MACGiven {
		e.set(a.Object(), "mac", fmt.Sprintf("'%s'", a.MAC))
	}
}

// Object returns the object of the lab file that holds the adapter's keys: the
// port, or the guest itself when it has one adapter and does not list it.
func (a *Adapter) Object() lab.Object {
	switch {
	case a.Port != nil:
		return a.Port
	case len(a.Machine.Adapters) == 1 && !a.Machine.Guest.Has("adapters"):
		return a.Machine.Guest
	}
	return a.Guest
}

// Real is what an adapter of a machine that is there is in truth.
type Real struct {
	MAC    mac.Address // zero: not known
	Device string      // empty: not known
}

// Adopt returns the lab file's text with what adapters of machines that are there are
// in truth written into it, and how many values that were.
func Adopt(data []byte, found map[*Adapter]Real) ([]byte, int) {
	e := lab.NewEditor(data)
	for a, is := range found {
		if !is.MAC.IsZero() && a.Over == nil && (a.MAC != is.MAC || !a.MACGiven) {
			e.Set(a.Object(), "mac", fmt.Sprintf("'%s'", is.MAC))
		}
		if is.Device != "" && is.Device != a.Seen() {
			e.Set(a.Object(), "device", "'"+strings.ReplaceAll(is.Device, "'", "''")+"'")
		}
	}
	return e.Bytes(), e.Changed()
}
