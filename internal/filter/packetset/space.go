package packetset

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
)

// Space numbers the addresses of both IP versions so that sets of them are
// short: all addresses that no boundary tells apart have one number. IPv4 comes
// before IPv6. The zero Space tells no addresses apart.
type Space struct{ bounds []netip.Addr } // where each class begins, in order

// The ends of the two versions.
var (
	first4 = netip.AddrFrom4([4]byte{})
	first6 = netip.IPv6Unspecified()
)

// NewSpace makes a space in which each of the prefixes is a set of its own.
func NewSpace(prefixes ...netip.Prefix) *Space {
	s := &Space{bounds: []netip.Addr{first4, first6}}
	for _, p := range prefixes {
		if p = p.Masked(); !p.IsValid() {
			continue
		}
		s.bounds = append(s.bounds, p.Addr())
		if next := last(p).Next(); next.IsValid() && next.Is4() == p.Addr().Is4() {
			s.bounds = append(s.bounds, next)
		}
	}
	slices.SortFunc(s.bounds, netip.Addr.Compare)
	s.bounds = slices.Compact(s.bounds)
	return s
}

// last returns the last address of a prefix.
func last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// class returns the number of an address's class.
func (s *Space) class(a netip.Addr) uint64 {
	i, found := slices.BinarySearchFunc(s.bounds, a, netip.Addr.Compare)
	if !found {
		i--
	}
	return uint64(i)
}

// Prefixes returns the set of the addresses of prefixes that the space was made
// with; invalid ones are passed over.
func (s *Space) Prefixes(list ...netip.Prefix) Line {
	var l Line
	for _, p := range list {
		if p = p.Masked(); p.IsValid() {
			l = append(l, Span{s.class(p.Addr()), s.class(last(p))})
		}
	}
	return l.normal()
}

// Addresses returns the set of single addresses that the space was made with.
func (s *Space) Addresses(list ...netip.Addr) Line {
	var l Line
	for _, a := range list {
		if a.IsValid() {
			c := s.class(a)
			l = append(l, Span{c, c})
		}
	}
	return l.normal()
}

// Run returns the set of the addresses from one to another of the same version,
// both of which the space was made with.
func (s *Space) Run(from, to netip.Addr) Line { return Line{{s.class(from), s.class(to)}} }

// IPv4 returns every IPv4 address, IPv6 every IPv6 address.
func (s *Space) IPv4() Line { return Line{{0, s.class(first6) - 1}} }

// IPv6 returns every IPv6 address.
func (s *Space) IPv6() Line { return Line{{s.class(first6), uint64(len(s.bounds)) - 1}} }

// All returns every address.
func (s *Space) All() Line { return Line{{0, uint64(len(s.bounds)) - 1}} }

// ends returns the first and the last address of a span of classes.
func (s *Space) ends(x Span) (from, to netip.Addr) {
	from = s.bounds[x.From]
	if x.To+1 == uint64(len(s.bounds)) {
		return from, last(netip.PrefixFrom(first6, 0))
	}
	if next := s.bounds[x.To+1]; next != first6 {
		return from, next.Prev()
	}
	return from, last(netip.PrefixFrom(first4, 0))
}

// Any returns an address of the set that a host may have, a wanted one when there
// is one, else one that is neither the first nor the last of its class, else any;
// the zero Addr for the empty set.
func (s *Space) Any(l Line, wanted ...netip.Addr) netip.Addr {
	for _, a := range wanted {
		if a.IsValid() && l.Has(s.class(a)) {
			return a
		}
	}
	var best netip.Addr
	for _, x := range l {
		from, to := s.ends(x)
		if middle := from.Next(); middle.IsValid() && middle != to && from != to {
			return middle
		}
		if !best.IsValid() {
			best = from
		}
	}
	return best
}

// Each returns an address of each class of the set, as [Space.Any] chooses it.
func (s *Space) Each(l Line) []netip.Addr {
	var out []netip.Addr
	for _, x := range l {
		for class := x.From; class <= x.To; class++ {
			out = append(out, s.Any(Line{{class, class}}))
		}
	}
	return out
}

// Runs returns the runs of addresses that the set consists of.
func (s *Space) Runs(l Line) [][2]netip.Addr {
	var out [][2]netip.Addr
	for _, x := range l {
		parts := []Span{x}
		if six := s.class(first6); x.From < six && x.To >= six {
			parts = []Span{{x.From, six - 1}, {six, x.To}}
		}
		for _, p := range parts {
			from, to := s.ends(p)
			out = append(out, [2]netip.Addr{from, to})
		}
	}
	return out
}

// More reports whether a set holds more than n addresses; n is below 2 to the 63rd.
func (s *Space) More(l Line, n uint64) bool {
	total := uint64(0)
	for _, r := range s.Runs(l) {
		from, to := r[0].As16(), r[1].As16()
		high := binary.BigEndian.Uint64(to[:8]) - binary.BigEndian.Uint64(from[:8])
		low := binary.BigEndian.Uint64(to[8:]) - binary.BigEndian.Uint64(from[8:])
		if high > 0 || low >= n {
			return true
		}
		if total += low + 1; total > n {
			return true
		}
	}
	return false
}

// Join returns what is in any of several sets.
func Join(list ...Line) Line {
	var l Line
	for _, x := range list {
		l = append(l, x...)
	}
	return l.normal()
}

// Has reports whether a number is in the set.
func (l Line) Has(n uint64) bool {
	for _, s := range l {
		if n < s.From {
			return false
		}
		if n <= s.To {
			return true
		}
	}
	return false
}

// Within reports whether all of l is in m.
func (l Line) Within(m Line) bool { return len(l.Minus(m)) == 0 }

// Listed returns the services of a set as a rule would write them, in order: icmp,
// runs of ports, and any where it is every service. Others tells whether
// protocols beside these are in it too.
func Listed(l Line) (list []lab.Service, others bool) {
	if AllServices.Within(l) {
		return []lab.Service{{Proto: lab.Any}}, false
	}
	for _, kind := range []struct {
		base  uint64
		proto lab.Proto
	}{{0, lab.ICMP}, {tcpBase, lab.TCP}, {udpBase, lab.UDP}, {other, lab.Any}} {
		for _, s := range l.And(Line{{kind.base, kind.base + 65535}}) {
			v := lab.Service{Proto: kind.proto, From: uint16(s.From - kind.base), To: uint16(s.To - kind.base)}
			switch {
			case kind.proto == lab.Any:
				others = true
				continue
			case kind.proto == lab.ICMP, v.From == 0 && v.To == 65535:
				v = lab.Service{Proto: kind.proto}
			}
			list = append(list, v)
		}
	}
	return list, others
}

// AnyService returns a service of the set, a wanted one when there is one, and
// false when only protocols beside ICMP, TCP and UDP are in it.
func AnyService(l Line, wanted ...lab.Service) (lab.Service, bool) {
	for _, s := range wanted {
		if x := Service(s); x.Within(l) {
			return s, true
		}
	}
	list, _ := Listed(l)
	if len(list) == 0 {
		return lab.Service{}, false
	}
	switch s := list[0]; {
	case s.Proto == lab.Any, s.Proto == lab.ICMP:
		return lab.Service{Proto: lab.ICMP}, true
	case s.AllPorts():
		return lab.Service{Proto: s.Proto, From: 7, To: 7}, true
	default:
		one := max(s.From, min(s.To, 1)) // port 0 is nobody's
		return lab.Service{Proto: s.Proto, From: one, To: one}, true
	}
}
