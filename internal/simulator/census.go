package simulator

import (
	"slices"

	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// crowded is from how many stations on a wire on a broadcast is handed only to those that it can
// matter to. Below, each gets every one, as on a real wire.
var crowded = 96

// census is what the stations of a crowded wire would do with a broadcast. It is looked up in place of
// asking each: most do nothing.
type census struct {
	awake    []int        // in order: ports of which nothing is known, which may do something with any
	asleep   []bool       // by port: it is not among them
	heeds    []host.Heeds // by port
	address  index[uint32]
	hardware index[uint64]
	waits    index[uint32]
	told     map[uint32]uint64 // by address: the hardware address that ARP told last
}

// index is the ports that have something in common.
type index[K comparable] map[K][]int

// add and remove leave the zero value out, which stands for none.
func (x index[K]) add(k K, port int) {
	if k != *new(K) {
		x[k] = append(x[k], port)
	}
}

func (x index[K]) remove(k K, port int) {
	if k == *new(K) {
		return
	}
	list := slices.DeleteFunc(x[k], func(p int) bool { return p == port })
	if len(list) == 0 {
		delete(x, k)
		return
	}
	x[k] = list
}

// count takes down what a station's port is like now.
func (c *cable) count(port int) {
	s := c.census
	if s == nil {
		s = &census{address: index[uint32]{}, hardware: index[uint64]{}, waits: index[uint32]{},
			told: map[uint32]uint64{}}
		c.census = s
	}
	for len(s.heeds) < len(c.ends) {
		s.awake = append(s.awake, len(s.heeds))
		s.heeds, s.asleep = append(s.heeds, host.Heeds{}), append(s.asleep, false)
	}
	e := c.ends[port]
	if e.station.real {
		return
	}
	is, known := e.station.node.Heeds()
	was := s.heeds[port]
	if known == s.asleep[port] && is == was {
		return
	}
	if s.asleep[port] {
		s.address.remove(was.Address, port)
		s.hardware.remove(was.Hardware, port)
		for _, w := range was.Waits {
			s.waits.remove(w, port)
		}
	}
	s.heeds[port] = is
	if known != s.asleep[port] {
		s.asleep[port] = known
		if at, there := slices.BinarySearch(s.awake, port); there {
			s.awake = slices.Delete(s.awake, at, at+1)
		} else {
			s.awake = slices.Insert(s.awake, at, port)
		}
	}
	if !known {
		return
	}
	s.address.add(is.Address, port)
	s.hardware.add(is.Hardware, port)
	for _, w := range is.Waits {
		s.waits.add(w, port)
	}
}

// recount takes down all ports of a station.
func (s *station) recount() {
	for _, l := range s.links {
		if l.cable != nil && len(l.cable.ends) >= crowded {
			l.cable.count(l.port)
		}
	}
}

// heeding returns the ports that a broadcast may matter to, in order; all is true where that may be any.
func (c *cable) heeding(p *packet.Packet) (ports []int, all bool) {
	s := c.census
	if s == nil || !p.To.IsGroup() || p.Tag != 0 {
		return nil, true
	}
	address, hardware, sender, ok := host.About(p)
	if !ok {
		return nil, true
	}
	if sender != 0 {
		from := p.From.Uint64()
		old, there := s.told[sender]
		if s.told[sender] = from; there && old != from {
			return nil, true // an address has moved: who knows it learns that
		}
		ports = append(ports, s.waits[sender]...)
	}
	if address != 0 {
		ports = append(ports, s.address[address]...)
	}
	if hardware != 0 {
		ports = append(ports, s.hardware[hardware]...)
	}
	ports = append(ports, s.awake...)
	slices.Sort(ports)
	return slices.Compact(ports), false
}
