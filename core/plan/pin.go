package plan

import (
	"fmt"

	"openbastion/core/lab"
)

// Pin gives the lab file's text with what the plan chose written into it, so
// that the plan stays as it is whatever is added later, and how many values
// that were. data must be what the plan's lab was read from.
func (p *Plan) Pin(data []byte) ([]byte, int) {
	e := lab.NewEditor(data)
	for _, s := range p.Segments {
		if (s.Planned || s.Assumed) && s.Bridged == nil {
			e.Set(s.Lab, "subnet", s.Subnet.String())
		}
		if s.Reach == lab.Upstream && !s.Lab.Gateway.IsValid() && s.Gateway.IsValid() {
			e.Set(s.Lab, "gateway", s.Gateway.String())
		}
		if s.HostLeg.IsValid() && !s.Lab.HostAddress.IsValid() {
			e.Set(s.Lab, "host-address", s.HostLeg.String())
		}
	}
	for _, m := range p.Machines {
		for _, a := range m.Adapters {
			switch {
			case a.Port != nil:
				pinPort(e, a)
			case len(m.Adapters) == 1:
				pinAdapter(e, m.Guest, a)
			default:
				pinAdapter(e, a.Guest, a)
			}
		}
		if src := m.Appliance; src != nil && !src.Has("machine") {
			v := m.Spec
			e.Set(src, "machine", fmt.Sprintf("{cpus: %d, memory: %s, disk: %s, disk-bus: %s, nic: %s}", v.CPUs, v.Memory, v.Disk, v.DiskBus, v.NIC))
		}
	}
	return e.Bytes(), e.Changed()
}

func pinPort(e *lab.Editor, a *Adapter) {
	if a.Planned && a.Address.IsValid() {
		e.Set(a.Port, "address", a.Address.String())
	}
	if !a.MACGiven && a.Over == nil {
		e.Set(a.Port, "mac", fmt.Sprintf("'%s'", a.MAC))
	}
	if v := a.Leases; v != nil && v.Planned {
		if a.Port.Has("leases") {
			e.Set(&a.Port.Leases, "pool", v.Pool.String())
		} else {
			e.Set(a.Port, "leases", "{pool: "+v.Pool.String()+"}")
		}
	}
}

// pinAdapter pins a guest's adapter; at is the object that holds its keys: the
// guest itself when it has one adapter.
func pinAdapter(e *lab.Editor, at interface{ At(string) lab.Pos }, a *Adapter) {
	set := func(key, value string) {
		switch o := at.(type) {
		case *lab.Guest:
			if len(o.Adapters) == 1 && o.Has("adapters") {
				e.Set(&o.Adapters[0], key, value)
			} else {
				e.Set(o, key, value)
			}
		case *lab.Adapter:
			e.Set(o, key, value)
		}
	}
	if a.How == Reservation && a.Planned {
		set("reserve", a.Address.Addr().String())
	}
	if !a.MACGiven {
		set("mac", fmt.Sprintf("'%s'", a.MAC))
	}
}
