package plan

import (
	"net/netip"
	"slices"
)

// Outward is an appliance on the way outside, and from whom it sees what comes.
type Outward struct {
	By     *Machine
	Source netip.Addr
}

// mostOutward bounds the appliances on a way: in a ring each is behind the next.
const mostOutward = 64

// Outer returns the appliance behind which an appliance stands, and the WAN by
// which it does; nil when it is the outermost.
func (m *Machine) Outer() (wan *Adapter, next *Machine) {
	wans := m.WAN()
	if len(wans) == 0 || !wans[0].Segment.Inside() || wans[0].Segment.Port == nil || wans[0].Segment.Port.Machine == m {
		return nil, nil
	}
	return wans[0], wans[0].Segment.Port.Machine
}

// Outermost returns the appliance whose WAN address the outside sees: the last of those in a row.
func (m *Machine) Outermost() *Machine {
	for range mostOutward {
		_, next := m.Outer()
		if next == nil {
			break
		}
		m = next
	}
	return m
}

// WayOut returns the appliances on the way from an address on a segment to the outside, from this one on.
func (m *Machine) WayOut(from *Segment, source netip.Addr) []Outward {
	var way []Outward
	for range mostOutward {
		way = append(way, Outward{m, source})
		wan, next := m.Outer()
		if next == nil {
			break
		}
		if slices.Contains(m.Masq, from) {
			source = wan.Likely()
		}
		m, from = next, wan.Segment
	}
	return way
}
