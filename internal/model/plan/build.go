package plan

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
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
		if m.Off {
			continue
		}
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
		m := &Machine{Name: src.Name, Appliance: src, Profile: b.lab.Profile(src), Off: !src.Running}
		m.Facts = facts(src, m.Profile)
		number := 0
		byName := map[string]*Adapter{}
		for _, p := range src.Ports {
			a := &Adapter{
				Machine: m, Name: p.Name, Segment: b.attached(p.Segment), Role: p.Role,
				NIC: cmp.Or(src.Machine.NIC, pick(src.Needs.NICs, m.Profile.NICs), "virtio"),
				MAC: p.MAC, MACGiven: p.Has("mac"), Pos: p.Pos, Port: p,
			}
			a.Plugged = p.Plugged && p.Role != "" && src.Running && !a.Segment.Nowhere()
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
		m := &Machine{
			Name:     src.Name,
			Guest:    src,
			Off:      !src.Running,
			Physical: src.Physical,
			Adapters: make([]*Adapter, 0, len(src.Adapters)),
		}
		for i := range src.Adapters {
			g := &src.Adapters[i]
			a := &Adapter{
				Machine: m, Number: i + 1, Name: fmt.Sprintf("adapter %d", i+1), Segment: b.attached(g.Segment),
				NIC: cmp.Or(g.NIC, "virtio"), MAC: g.MAC, MACGiven: g.Has("mac"), Pos: g.Pos, Guest: g,
			}
			a.Plugged = g.Plugged && src.Running && !a.Segment.Nowhere()
			m.Adapters = append(m.Adapters, a)
		}
		b.add(m)
	}
}

// attached returns the named segment; for an adapter on none, one of its own that
// leads nowhere.
func (b *builder) attached(name string) *Segment {
	if s := b.plan.Segment(name); s != nil {
		return s
	}
	s := &Segment{Lab: &lab.Segment{}, Name: Nowhere, Reach: lab.Isolated}
	s.Wire = &Wire{Name: Nowhere, Segments: []*Segment{s}}
	return s
}

func (b *builder) add(m *Machine) {
	b.plan.Machines = append(b.plan.Machines, m)
	b.plan.machines[m.Name] = m
	b.plan.Adapters = append(b.plan.Adapters, m.Adapters...)
	for _, a := range m.Adapters {
		if m.Off || a.Role == lab.Unused || a.Port != nil && a.Role == "" {
			continue // nobody there meets it
		}
		a.Segment.Adapters = append(a.Segment.Adapters, a)
		if a.Role.Inside() && a.Segment.Port == nil {
			a.Segment.Port = a
		}
	}
}

// hardware returns every adapter without a hardware address one: locally
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

// ports returns appliance ports their addresses.
func (b *builder) ports() {
	for _, m := range b.plan.Appliances() {
		for _, a := range m.Adapters {
			p, s := a.Port, a.Segment
			if s.Nowhere() && p.Address.How == "" || a.Role == lab.Unused || a.Role == "" && p.Address.How == "" {
				a.How = NoAddress
				continue
			}
			switch how := p.Address.How; how {
			case "static":
				a.How, a.Address = Static, p.Address.Prefix
			case "none":
				a.How = NoAddress
			case "dhcp", "pppoe":
				a.How = FromAbove
			default:
				if p.Joins != "" || m.Transparent() && a.Role != lab.Manage {
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
				first := subnet.First(s.Subnet6)
				for b.used[first] {
					first = first.Next()
				}
				b.used[first] = true
				a.Address6 = netip.PrefixFrom(first, 64)
			}
			if a == s.Port && a.Address.IsValid() && s.Reach != lab.Upstream {
				s.Gateway = a.Address.Addr()
			}
			if p.Admin.On {
				a.Admin = adminServices(m, p.Admin.Port)
			}
		}
		b.adminPage(m)
	}
}

// known returns the addresses that are valid.
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
		first.Admin = adminServices(m, 0)
	}
}

// adminServices returns what answers where an appliance is managed: what the file
// lists, with pages at the port that it says for this place, else a page where its
// kind has one.
func adminServices(m *Machine, port uint16) []lab.AdminService {
	list, kind := slices.Clone(m.Appliance.AdminServices), m.Profile.Factory
	if port == 0 && len(list) > 0 {
		slices.SortStableFunc(list, func(a, b lab.AdminService) int { return pageRank[a.Page()] - pageRank[b.Page()] })
		return list
	}
	page := lab.AdminService{Scheme: "https", Port: cmp.Or(port, uint16(kind.AdminPort), 443)}
	switch {
	case port == 80 || port == 8080:
		page.Scheme = "http"
	case port == 0 && kind.Scheme == "http":
		page = lab.AdminService{Scheme: "http", Port: cmp.Or(uint16(kind.AdminPort), 80)}
	}
	return append([]lab.AdminService{page}, slices.DeleteFunc(list, lab.AdminService.Page)...)
}

// pageRank puts pages before what else an appliance is managed by.
var pageRank = map[bool]int{true: 0, false: 1}

// free returns the first address from start on that nobody was given; the zero
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

// guests returns guests' adapters what the file and their segment say.
func (b *builder) guests() {
	for _, m := range b.plan.Guests() {
		for _, a := range m.Adapters {
			g, s := a.Guest, a.Segment
			if s.Nowhere() && !g.Static.IsValid() {
				a.How = NoAddress
				continue
			}
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
