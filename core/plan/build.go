package plan

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"maps"
	"net/netip"
	"slices"
	"time"

	"openbastion/core/lab"
	"openbastion/core/mac"
	"openbastion/core/subnet"
)

type builder struct {
	lab     *lab.Lab
	plan    *Plan
	used    map[netip.Addr]bool // addresses given somewhere in the lab
	ordered []netip.Addr        // used, sorted, as of its length
	domains map[*Machine]string

	members map[*lab.Segment]int // adapters on each segment
	fixed   map[string]bool      // guests that rules name: their lease is reserved
	next    map[*Segment]netip.Addr
}

// Build plans a lab. The error is of type [lab.Faults] and holds what no plan
// can be made of, each with its place in the file.
func Build(l *lab.Lab) (*Plan, error) {
	b := &builder{
		lab: l, plan: &Plan{Lab: l, Name: l.Name, segments: map[string]*Segment{}, machines: map[string]*Machine{}},
		used: map[netip.Addr]bool{}, domains: map[*Machine]string{},
		members: map[*lab.Segment]int{}, fixed: map[string]bool{}, next: map[*Segment]netip.Addr{},
	}
	b.survey()
	if err := b.segments(); err != nil {
		return nil, err
	}
	b.machines()
	b.sides()
	b.hardware()
	b.ports()
	b.hostLegs()
	b.services()
	b.guests()
	b.rules()
	b.specs()
	b.devices()
	b.answers()
	return b.plan, nil
}

// survey notes what is given before anything is chosen.
func (b *builder) survey() {
	for _, a := range b.lab.Appliances {
		for _, p := range a.Ports {
			b.members[b.lab.Segment(p.Segment)]++
			if p.Address.How == "static" {
				b.used[p.Address.Prefix.Addr()] = true
			}
		}
		for _, r := range a.Rules {
			for _, w := range append(slices.Clone(r.From), r.To...) {
				if w.Kind == lab.WhoGuest {
					b.fixed[w.Name] = true
				}
			}
		}
	}
	for _, g := range b.lab.Guests {
		for i := range g.Adapters {
			a := &g.Adapters[i]
			b.members[b.lab.Segment(a.Segment)]++
			if a.Static.IsValid() {
				b.used[a.Static.Addr()] = true
			}
			if a.Reserve.IsValid() {
				b.used[a.Reserve] = true
			}
		}
	}
	for _, s := range b.lab.Segments {
		if s.HostAddress.IsValid() {
			b.used[s.HostAddress.Addr()] = true
		}
		if s.Gateway.IsValid() {
			b.used[s.Gateway] = true
		}
	}
}

// sides finds the segments that some appliance keeps from the outside.
func (b *builder) sides() {
	for _, m := range b.plan.Appliances() {
		wan := map[*Segment]bool{}
		for _, a := range m.Adapters {
			wan[a.Segment] = wan[a.Segment] || a.Role == lab.WAN
		}
		for _, a := range m.Adapters {
			a.Segment.inside = a.Segment.inside || a.Role.Inside() && !wan[a.Segment]
		}
	}
}

func (b *builder) machines() {
	for _, src := range b.lab.Appliances {
		m := &Machine{Name: src.Name, Appliance: src, Profile: b.lab.Profile(src)}
		number := 0
		byName := map[string]*Adapter{}
		for _, p := range src.Ports {
			a := &Adapter{
				Machine: m, Name: p.Name, Segment: b.plan.Segment(p.Segment), Role: p.Role,
				NIC:     cmp.Or(src.Machine.NIC, pick(src.Needs.NICs, m.Profile.NICs), "virtio"),
				Plugged: p.Plugged, MAC: p.MAC, MACGiven: p.Has("mac"), Pos: p.Pos, Port: p,
			}
			if p.Over == "" {
				number++
				a.Number = number
			}
			byName[p.Name] = a
			m.Adapters = append(m.Adapters, a)
		}
		for _, a := range m.Adapters {
			if over := byName[a.Port.Over]; over != nil {
				a.Over, a.Number = over, over.Number
				over.Riders = append(over.Riders, a)
			}
		}
		b.add(m)
	}
	for _, src := range b.lab.Guests {
		m := &Machine{Name: src.Name, Guest: src, Adapters: make([]*Adapter, 0, len(src.Adapters))}
		for i := range src.Adapters {
			g := &src.Adapters[i]
			m.Adapters = append(m.Adapters, &Adapter{
				Machine: m, Number: i + 1, Name: fmt.Sprintf("adapter %d", i+1), Segment: b.plan.Segment(g.Segment),
				NIC: cmp.Or(g.NIC, "virtio"), Plugged: g.Plugged, MAC: g.MAC, MACGiven: g.Has("mac"), Pos: g.Pos, Guest: g,
			})
		}
		b.add(m)
	}
}

func (b *builder) add(m *Machine) {
	b.plan.Machines = append(b.plan.Machines, m)
	b.plan.machines[m.Name] = m
	b.plan.Adapters = append(b.plan.Adapters, m.Adapters...)
	for _, a := range m.Adapters {
		a.Segment.Adapters = append(a.Segment.Adapters, a)
		if a.Role.Inside() && a.Segment.Port == nil {
			a.Segment.Port = a
		}
	}
}

// hardware gives every adapter without a hardware address one: locally
// administered, 02:5b, a byte for the lab, two for the machine, one for the
// adapter. The last two bytes alone tell machine and adapter while a lab has
// fewer than 200 machines. Machines are numbered by a hash of their name, so
// that adding one leaves the others as they are.
func (b *builder) hardware() {
	h := fnv.New32a()
	hash := func(text string) uint32 { h.Reset(); h.Write([]byte(text)); return h.Sum32() }
	labByte := byte(hash(b.lab.Name))
	low, full := map[byte]bool{}, map[uint16]bool{}
	given := map[mac.Address]bool{}
	for _, a := range b.plan.Adapters {
		if a.MACGiven {
			given[a.MAC] = true
		}
	}
	small := len(b.plan.Machines) < 200
	for _, m := range b.plan.Machines {
		v := hash(m.Name)
		id := uint16(v) ^ uint16(v>>16)
		for full[id] || small && low[byte(id)] || byte(id) == 0 {
			id++
		}
		full[id], low[byte(id)] = true, true
		for _, a := range m.Adapters {
			if a.MACGiven {
				continue
			}
			a.MAC = mac.Address{0x02, 0x5b, labByte, byte(id >> 8), byte(id), byte(a.Number)}
			for given[a.MAC] {
				a.MAC[1]++
			}
		}
		for _, a := range m.Adapters {
			if a.Over != nil {
				a.MAC = a.Over.MAC
			}
		}
	}
}

// ports gives appliance ports their addresses.
func (b *builder) ports() {
	for _, m := range b.plan.Appliances() {
		for _, a := range m.Adapters {
			p, s := a.Port, a.Segment
			switch how := p.Address.How; how {
			case "static":
				a.How, a.Address = Static, p.Address.Prefix
			case "none":
				a.How = NoAddress
			case "lease", "pppoe":
				a.How = FromAbove
			default:
				if p.Joins != "" || m.Appliance.Kind == "transparent" && a.Role != lab.Manage {
					a.How = NoAddress
					break
				}
				if a.Role == lab.WAN {
					a.How = FromAbove
					break
				}
				a.How, a.Planned = Static, true
				a.Address = netip.PrefixFrom(b.free(s, subnet.First(s.Subnet)), s.Subnet.Bits())
				b.used[a.Address.Addr()] = true
			}
			if a.Role == lab.WAN && a.How == Static {
				a.Gateway = p.Gateway
				if !p.Has("gateway") && s.Gateway.IsValid() {
					a.Gateway = s.Gateway
				}
				a.DNS = known(cmp.Or(s.Gateway, a.Gateway))
			} else if p.Has("gateway") {
				a.Gateway = p.Gateway
			} else if m.Appliance.Kind == "one-armed" && s.Reach == lab.Upstream {
				a.Gateway, a.DNS = s.Gateway, known(s.Gateway)
			}
			if s.Subnet6.IsValid() && a.Role != lab.WAN && a.Address.IsValid() {
				a.Address6 = netip.PrefixFrom(subnet.First(s.Subnet6), 64)
			}
			if a == s.Port && a.Address.IsValid() && s.Reach != lab.Upstream {
				s.Gateway = a.Address.Addr()
			}
			if p.Admin.On {
				a.Admin = p.Admin.Port
			}
		}
		b.adminPage(m)
	}
}

// known gives the addresses that are valid.
func known(list ...netip.Addr) []netip.Addr {
	return slices.DeleteFunc(list, func(a netip.Addr) bool { return !a.IsValid() })
}

// adminPage lets the admin page answer on the manage port, else the first
// inside port, when the file says nothing of it.
func (b *builder) adminPage(m *Machine) {
	if m.Profile.InFiles() {
		return // it has no pages
	}
	var first *Adapter
	for _, a := range m.Adapters {
		if a.Port.Has("admin") {
			return
		}
		if a.Role == lab.Manage && (first == nil || first.Role != lab.Manage) || a.Role.Inside() && first == nil {
			first = a
		}
	}
	if first != nil {
		first.Admin = 443
	}
}

// free gives the first address from start on that nobody was given; the zero
// Addr when the subnet is full.
func (b *builder) free(s *Segment, start netip.Addr) netip.Addr {
	for a := start; s.Subnet.Contains(a); a = a.Next() {
		if !b.used[a] && !subnet.Reserved(s.Subnet, a) {
			return a
		}
	}
	return netip.Addr{}
}

func (b *builder) hostLegs() {
	for _, s := range b.plan.Segments {
		if s.Reach != lab.Host {
			continue
		}
		s.HostLeg = s.Lab.HostAddress
		if !s.HostLeg.IsValid() {
			at := subnet.Last(s.Subnet)
			for b.used[at] && s.Subnet.Contains(at) {
				at = at.Prev()
			}
			s.HostLeg = netip.PrefixFrom(at, s.Subnet.Bits())
			b.used[at] = true
		}
	}
}

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
		if !other || a.Port.Has("leases") {
			b.service(s, a)
		}
		for _, x := range s.Adapters { // another appliance's port hands them out as well, unless told not to
			if x.Port != nil && x.Machine != a.Machine && x.Role.Inside() && x.Address.IsValid() && !x.Port.Leases.Off && !other {
				b.service(s, x)
			}
		}
	}
}

// service plans the lease service of a port.
func (b *builder) service(s *Segment, a *Adapter) {
	given := a.Port.Leases
	v := &Service{Router: a.Address.Addr(), Domain: cmp.Or(given.Domain, b.domain(a.Machine)), Time: cmp.Or(given.Time, 8*time.Hour)}
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
		if a.Guest == nil || a.Machine.Name != s.Lab.Leases || !a.Guest.Static.IsValid() || a.Leases != nil {
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

// domain gives the domain for ports that name none: what another port of the
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

// usedFrom gives the addresses in use from one on, in order. The order is kept
// between calls: addresses are only ever added.
func (b *builder) usedFrom(base netip.Addr) []netip.Addr {
	if len(b.ordered) != len(b.used) {
		b.ordered = slices.SortedFunc(maps.Keys(b.used), netip.Addr.Compare)
	}
	at, _ := slices.BinarySearchFunc(b.ordered, base, netip.Addr.Compare)
	return b.ordered[at:]
}

// guests gives guests' adapters what the file and their segment say.
func (b *builder) guests() {
	for _, m := range b.plan.Guests() {
		for _, a := range m.Adapters {
			g, s := a.Guest, a.Segment
			switch {
			case g.Static.IsValid():
				a.How, a.Address, a.Gateway, a.DNS = Static, g.Static, g.Gateway, g.DNS
				if !g.Has("gateway") {
					a.Gateway = s.Gateway
					if s.Reach == lab.Upstream && s.Port != nil && s.Port.Address.IsValid() {
						a.Gateway = s.Port.Address.Addr() // a one-armed appliance stands beside the router
					}
				}
				if !g.Has("dns") && s.Port != nil && s.Port.Address.IsValid() {
					a.DNS = []netip.Addr{s.Port.Address.Addr()}
				}
			case (s.Reach == lab.Upstream || s.Bridged != nil && s.Bridged.Reach == lab.Upstream) && (s.Port == nil || s.Port.Leases == nil):
				a.How = FromAbove
			case g.Reserve.IsValid():
				a.How, a.Address = Reservation, netip.PrefixFrom(g.Reserve, s.Subnet.Bits())
			case b.fixed[m.Name] && s.Port != nil && s.Port.Leases != nil:
				a.How, a.Planned = Reservation, true
				a.Address = netip.PrefixFrom(b.reserve(s), s.Subnet.Bits())
			default:
				a.How = Lease
			}
			if a.How == Reservation && s.Port != nil && s.Port.Leases != nil {
				s.Port.Leases.Reservations = append(s.Port.Leases.Reservations, a)
			}
			if s.Subnet6.IsValid() && s.Port != nil && s.Port.Address6.IsValid() {
				a.Address6 = netip.PrefixFrom(a.MAC.In(s.Subnet6), 64)
			}
		}
	}
}

// reserve picks an address outside the pool for a guest that rules name.
func (b *builder) reserve(s *Segment) netip.Addr {
	at, ok := b.next[s]
	if !ok {
		at = subnet.First(s.Subnet)
	}
	pool := s.Port.Leases.Pool
	for at = b.free(s, at); at.IsValid() && pool.Contains(at); {
		at = b.free(s, pool.To.Next())
	}
	b.used[at], b.next[s] = true, at
	return at
}
