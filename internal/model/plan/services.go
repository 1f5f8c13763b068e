package plan

import (
	"cmp"
	"maps"
	"net/netip"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/subnet"
	"slices"
	"time"
)

// services plans the lease service of each inside port, and what the host
// hands out where the file says it does.
func (b *builder) services() {
	for _, s := range b.plan.Segments {
		if s.Lab.Leases == "host" && s.HostLeg.IsValid() {
			s.HostPool = b.pool(s, 200, 253)
		}
		a := s.Port
		b.guestService(s)
		if a == nil || !a.Address.IsValid() || a.Port.Leases.Off {
			continue
		}
		other := b.lab.Guest(s.Lab.Leases) != nil || s.Reach == lab.Upstream
		if a.Machine.Appliance.Kind == "one-armed" && s.Lab.Leases == "none" {
			other = false // nobody else does: leases that name the appliance point guests at it
		}
		if !other || a.Port.Has("dhcp") {
			b.service(s, a)
		}
		for _, x := range s.Adapters { // another appliance's port hands them out as well, unless told not to
			if x.Port != nil && x.Machine != a.Machine && x.Role.Inside() && !x.Machine.Off && x.Address.IsValid() &&
				!x.Port.Leases.Off &&
				!other {
				b.service(s, x)
			}
		}
	}
}

// service plans the lease service of a port.
func (b *builder) service(s *Segment, a *Adapter) {
	given := a.Port.Leases
	v := &Service{
		Router: a.Address.Addr(),
		Domain: cmp.Or(given.Domain, b.domain(a.Machine)),
		Time:   cmp.Or(given.Time, 8*time.Hour),
	}
	if given.From.IsValid() {
		v.Pool = Pool{given.From, given.To}
	} else if pool := b.pool(s, 50, 200); pool != nil {
		v.Pool, v.Planned = *pool, true
	} else {
		return // not an address is left to hand out
	}
	for _, d := range given.DNS {
		if d == "self" {
			v.DNS = append(v.DNS, a.Address.Addr())
		} else if addr, err := netip.ParseAddr(d); err == nil {
			v.DNS = append(v.DNS, addr)
		}
	}
	if len(given.DNS) == 0 {
		v.DNS = []netip.Addr{a.Address.Addr()}
	}
	a.Leases = v
}

// guestService plans what a guest hands out where the file names one: it needs
// an address of its own for that.
func (b *builder) guestService(s *Segment) {
	for _, a := range s.Adapters {
		if a.Guest == nil || a.Machine.Off || a.Machine.Name != s.Lab.Leases || !a.Guest.Static.IsValid() ||
			a.Leases != nil {
			continue
		}
		if pool := b.pool(s, 50, 200); pool != nil {
			a.Leases = &Service{Pool: *pool, Planned: true, Router: s.Gateway, Time: 8 * time.Hour}
			if s.Port != nil && s.Port.Address.IsValid() {
				a.Leases.DNS = []netip.Addr{s.Port.Address.Addr()}
			}
		}
		return
	}
}

// domain returns the domain for ports that name none: what another port of the
// appliance names, else the lab's name under .internal.
func (b *builder) domain(m *Machine) string {
	if d, ok := b.domains[m]; ok {
		return d
	}
	d := b.lab.Name + ".internal"
	if at := slices.IndexFunc(m.Adapters, func(a *Adapter) bool { return a.Port.Leases.Domain != "" }); at >= 0 {
		d = m.Adapters[at].Port.Leases.Domain
	}
	b.domains[m] = d
	return d
}

// pool chooses the longest run of unused addresses between two marks, given in
// 256ths of the subnet. It grows to the whole rest of the subnet when the
// leasing machines would not fit.
func (b *builder) pool(s *Segment, low, high int) *Pool {
	size := subnet.Size(s.Subnet)
	base := s.Subnet.Addr()
	want := b.members[s.Lab]
	first, last := max(size*low/256, 1), min(max(size*high/256-1, 1), size-2)
	if last-first+1 < want {
		first, last = 1, size-2
	}
	var taken []int
	for _, a := range b.usedFrom(base) {
		if !s.Subnet.Contains(a) {
			break
		}
		taken = append(taken, subnet.Distance(base, a))
	}
	taken = append(taken, last+1)
	best, start := Pool{}, first
	length := 0
	for _, t := range taken {
		if t < start {
			continue
		}
		if end := min(t-1, last); end-start+1 > length {
			length = end - start + 1
			best = Pool{subnet.Add(base, start), subnet.Add(base, end)}
		}
		start = t + 1
	}
	if length == 0 {
		return nil
	}
	return &best
}

// usedFrom returns the addresses in use from one on, in order. The order is kept
// between calls: addresses are only ever added.
func (b *builder) usedFrom(base netip.Addr) []netip.Addr {
	if len(b.ordered) != len(b.used) {
		b.ordered = slices.SortedFunc(maps.Keys(b.used), netip.Addr.Compare)
	}
	at, _ := slices.BinarySearchFunc(b.ordered, base, netip.Addr.Compare)
	return b.ordered[at:]
}
