package diagnose

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Kind is what a look looks at.
type Kind string

// The kinds of look: those of a guest, of an appliance, from outside, of a segment.
const (
	Cable    Kind = "cable"     // has the adapter a link?
	Lease    Kind = "dhcp"      // which address did it get?
	Address  Kind = "address"   // which address has it?
	Mask     Kind = "mask"      // how long is the mask?
	Router   Kind = "router"    // which way to everywhere does it know?
	Resolver Kind = "resolver"  // which resolver does it ask?
	Gateway  Kind = "gateway"   // does its next hop answer, and is it the appliance?
	Number   Kind = "number"    // does the outside answer a ping by number?
	Page     Kind = "page"      // does a page outside open by number?
	Datagram Kind = "datagram"  // does the outside answer a datagram?
	Name     Kind = "name"      // does a name resolve?
	Large    Kind = "large"     // does the outside answer a ping that fills a packet?
	Path     Kind = "first-hop" // who is the first hop on the way out?
	Source   Kind = "source"    // which source does the outside see?
	Cut      Kind = "no-bypass" // does anything reach outside with the appliance's WAN unplugged?
	Servers  Kind = "servers"   // who hands out leases on its segment?
	Neighbor Kind = "neighbor"  // does another guest of its segment answer?
	Admin    Kind = "admin"     // does the appliance's admin page open?
	IPv6     Kind = "ipv6"      // does somebody announce an IPv6 router?
	Renew    Kind = "renew"     // which address does it get when it asks anew?
	Across   Kind = "across"    // does a guest of another segment answer?
	Adapters Kind = "adapters"  // how many adapters does it show?
	Hardware Kind = "hardware"  // which hardware address has it?
	How      Kind = "how"       // is its address typed in or a lease, as planned?
	Attached Kind = "network"   // which network does the hypervisor attach the adapter to? Only a paste shows it.
	Twin     Kind = "duplicate" // does its system say that another machine has its address? Only a paste shows it.
	Log      Kind = "log"       // what does the appliance's log say of its way out?
	Stopped  Kind = "stopped"   // is a service stopped that a rule stops?

	Console   Kind = "console"   // does the appliance's console answer?
	Published Kind = "published" // does what is published answer from outside?
	Inside    Kind = "inside"    // does the service behind it answer inside?
	Inbound   Kind = "inbound"   // does the admin page open from outside?
	Host      Kind = "host"      // is the host on a segment?
)

// pasted reports whether only a paste shows it: nobody is asked for it, and nobody comes with it.
func (k Kind) pasted() bool { return k == Attached || k == Twin }

// Look is one look at a lab: one thing to try or to read, with a value as its outcome.
type Look struct {
	ID   string
	Kind Kind
	Cost int // of looking, against others: 1 is a glance, 4 a change to what is plugged in

	Machine *plan.Machine // where one looks; nil: from outside, or on the host
	At      *plan.Adapter // which adapter of it
	To      *plan.Adapter // what one tries to reach, or nil
	Segment *plan.Segment // of Host

	service  lab.Service
	allowed  bool                  // the rules let it pass
	home     *plan.Segment         // where an address is to be of
	planned  func(netip.Addr) bool // tells an address as planned; nil: it is no look at one
	single   netip.Addr            // what is planned where it is one address
	list     []netip.Addr          // of resolvers
	values   []Value
	networks bool // it may show any segment's network
}

// Values returns what a look can show.
func (l *Look) Values(p *plan.Plan) []Value {
	if l.planned == nil && !l.networks {
		return l.values
	}
	out := slices.Clone(l.values)
	for i := range p.Segments {
		out = append(out, InNetwork(i))
	}
	return out
}

// reachable are the values of a look that tries to reach somebody.
var reachable = []Value{Holds, None, Refused, Unreached, NoRoute}

// looker makes the looks of a plan.
type looker struct {
	p       *plan.Plan
	model   *reachability.Model
	witness netip.Addr
	out     []*Look
}

// looksOf returns every look at the labs of a plan, in the order in which one would look.
func looksOf(p *plan.Plan, model *reachability.Model, witness netip.Addr) []*Look {
	k := &looker{p: p, model: model, witness: witness}
	for _, g := range p.Guests() {
		if home := Home(g); home != nil {
			k.guest(home)
		}
	}
	for _, m := range p.Running() {
		k.appliance(m)
	}
	for _, s := range p.Segments {
		if s.Inside() {
			k.add(&Look{ID: s.Name + ".host", Kind: Host, Cost: 2, Segment: s, values: []Value{Holds, Open}})
		}
	}
	return k.out
}

// Home returns the adapter by which a guest is looked at: the one behind an appliance;
// nil when there is none, or the guest is off.
func Home(g *plan.Machine) *plan.Adapter {
	if g.Off {
		return nil
	}
	return claims.InsideAdapter(g)
}

func (k *looker) add(l *Look) { k.out = append(k.out, l) }

// guest adds the looks at a guest.
func (k *looker) guest(home *plan.Adapter) {
	m := home.Machine
	look := func(kind Kind, cost int, values ...Value) *Look {
		l := &Look{ID: m.Name + "." + string(kind), Kind: kind, Cost: cost, Machine: m, At: home, values: values}
		k.add(l)
		return l
	}
	look(Cable, 1, Holds, None)
	look(Adapters, 1, Holds, Other)
	look(Hardware, 1, Holds, Other)
	look(How, 1, Holds, Other)
	look(Attached, 5, Holds, None, Other).networks = true
	look(Twin, 5, Holds, Other)
	k.settings(home, look)
	look(Gateway, 2, Holds, None, Other, Stranger, Astray)
	gate := home.Gate()
	services := map[lab.Proto]lab.Service{}
	if gate != nil {
		for _, s := range claims.AllowedServices(gate.Machine, home.Segment, home.Likely(), k.witness) {
			services[s.Proto] = s
		}
	}
	for _, try := range []struct {
		kind  Kind
		proto lab.Proto
		usual lab.Service
	}{
		{Number, lab.ICMP, lab.Service{Proto: lab.ICMP}}, {Page, lab.TCP, lab.Service{Proto: lab.TCP, From: 80, To: 80}},
		{Datagram, lab.UDP, lab.Service{Proto: lab.UDP, From: 7, To: 7}},
	} {
		if s, ok := services[try.proto]; ok {
			l := look(try.kind, 2, reachable...)
			l.service, l.allowed = s, true
		} else {
			l := look(try.kind, 2, Holds, Open)
			l.service = try.usual
		}
	}
	if len(services) > 0 {
		look(Name, 2, Holds, None, Refused, Failed, NoRoute, Other, Late)
		if !claims.Transparent(gate) {
			look(Log, 3, Holds, Refused, None)
		}
	}
	if _, ok := services[lab.ICMP]; ok {
		look(Large, 3, Holds, None)
		if !gate.Machine.Transparent() {
			look(Path, 3, Holds, None, Other).networks = true
		}
	}
	if len(services) > 0 {
		look(Source, 3, Holds, Other, None)
	}
	look(Cut, 4, Holds, Open)
	servers := look(Servers, 4, Holds, None, Other, Two)
	servers.networks = true
	if !home.Segment.Subnet6.IsValid() {
		look(IPv6, 3, Holds, Other)
	}
	k.around(home, gate, look)
}

// settings adds the looks at what a guest shows of its own settings.
func (k *looker) settings(home *plan.Adapter, look func(Kind, int, ...Value) *Look) {
	at := func(l *Look) {
		l.home, l.planned = home.Segment, func(a netip.Addr) bool { return plannedAddress(home, a) }
	}
	kind, leases := Address, home.How != plan.Static
	if leases {
		kind = Lease
	}
	l := look(kind, 1, Holds, None, Other, Foreign)
	at(l)
	if leases {
		l.values = append(l.values, Late)
	}
	look(Mask, 1, Holds, None, Narrow, Wide)
	router, resolver := look(Router, 1, Holds, None, Other, Astray), look(Resolver, 1, Holds, None, Other)
	router.single, resolver.list = home.Gateway, home.DNS
	if _, v := home.Segment.LeaseService(); leases && v != nil {
		router.single, resolver.list = v.Router, v.DNS
	}
	if len(resolver.list) > 0 {
		resolver.single = resolver.list[0]
	}
	if leases {
		at(look(Renew, 2, Holds, None, Other, Foreign))
	}
}

// around adds the looks from a guest at what is not outside.
func (k *looker) around(home, gate *plan.Adapter, look func(Kind, int, ...Value) *Look) {
	for _, x := range home.Segment.Adapters {
		if x.Guest != nil && x.Machine != home.Machine && x.Plugged && Home(x.Machine) == x {
			look(Neighbor, 2, Holds, None, Refused, Unreached, NoRoute, Other).To = x
			break
		}
	}
	if gate == nil || claims.Transparent(gate) {
		return
	}
	k.stopped(home, gate, look)
	for _, a := range gate.Machine.Adapters {
		if a == gate && len(a.Admin) > 0 && a.Address.IsValid() {
			l := look(Admin, 2, reachable...)
			l.service, l.allowed, l.To = lab.Service{
				Proto: lab.TCP,
				From:  a.Admin[0].Port,
				To:    a.Admin[0].Port,
			}, true, a
		}
		if !a.Role.Inside() || a.Segment == home.Segment || !a.Plugged {
			continue
		}
		to := firstGuest(a.Segment)
		if to == nil {
			continue
		}
		l := look(Across, 2, Holds, Open)
		l.ID, l.To, l.service = home.Machine.Name+"."+a.Segment.Name, to, lab.Service{Proto: lab.ICMP}
		asked := gate.Machine.AllowedServices(home.Likely(), to.Likely(), []lab.Service{{Proto: lab.ICMP},
			{Proto: lab.TCP, From: 80, To: 80}}, nil, nil)
		if len(asked) > 0 {
			l.service, l.allowed, l.values = asked[0], true, append(slices.Clone(reachable), Other)
		}
	}
}

// stopped adds a look for each service that a rule stops by name on the way out, from
// the first guest of its segment.
func (k *looker) stopped(home, gate *plan.Adapter, look func(Kind, int, ...Value) *Look) {
	if firstGuest(home.Segment) != home {
		return
	}
	for _, r := range gate.Machine.Rules {
		for _, s := range r.Services {
			if r.Action == lab.Allow || s.From == 0 || s.Proto != lab.TCP && s.Proto != lab.UDP {
				continue
			}
			by, _ := gate.Machine.Decide(
				plan.Flow{Source: home.Likely(), Destination: k.witness, Proto: s.Proto, Port: s.From},
			)
			id := fmt.Sprintf("%s.%s-%d", home.Machine.Name, s.Proto, s.From)
			if by == nil || by.Text != r.Text || slices.ContainsFunc(k.out, func(l *Look) bool { return l.ID == id }) {
				continue
			}
			l := look(Stopped, 3, Holds, Open)
			l.ID, l.service = id, lab.Service{Proto: s.Proto, From: s.From, To: s.From}
		}
	}
}

// firstGuest returns the guest by which a segment is tried from elsewhere.
func firstGuest(s *plan.Segment) *plan.Adapter {
	for _, x := range s.Adapters {
		if x.Guest != nil && Home(x.Machine) == x {
			return x
		}
	}
	return nil
}

// appliance adds the looks at an appliance's console, and from outside.
func (k *looker) appliance(m *plan.Machine) {
	k.add(&Look{ID: m.Name + ".console", Kind: Console, Cost: 1, Machine: m, values: []Value{Holds, None}})
	for _, a := range m.Adapters {
		if a.Role == lab.Unused || !a.Plugged {
			continue
		}
		id := m.Name + "." + a.Name + "."
		if a.Over == nil {
			k.add(&Look{ID: id + string(Attached), Kind: Attached, Cost: 5, Machine: m, At: a, networks: true,
				values: []Value{Holds, None, Other}})
			k.add(&Look{ID: id + string(Cable), Kind: Cable, Cost: 1, Machine: m, At: a, values: []Value{Holds, None}})
		}
		if a.How != plan.NoAddress {
			k.add(&Look{ID: id + string(How), Kind: How, Cost: 1, Machine: m, At: a, values: []Value{Holds, Other}})
			k.add(&Look{ID: id + string(Address), Kind: Address, Cost: 1, Machine: m, At: a, home: a.Segment,
				planned: func(x netip.Addr) bool { return plannedAddress(a, x) }, values: []Value{Holds, None, Other, Foreign}})
		}
	}
	wans := m.WAN()
	if len(wans) == 0 {
		return
	}
	if !m.Transparent() {
		if wans[0].How != plan.Static || wans[0].Gateway.IsValid() {
			k.add(
				&Look{
					ID:      m.Name + ".gateway",
					Kind:    Gateway,
					Cost:    2,
					Machine: m,
					At:      wans[0],
					service: lab.Service{Proto: lab.ICMP},
					allowed: true,
					values:  reachable,
				},
			)
		}
		k.add(
			&Look{
				ID:      m.Name + ".number",
				Kind:    Number,
				Cost:    2,
				Machine: m,
				At:      wans[0],
				service: lab.Service{Proto: lab.ICMP},
				allowed: true,
				values:  reachable,
			},
		)
		k.add(
			&Look{
				ID:      m.Name + ".name",
				Kind:    Name,
				Cost:    2,
				Machine: m,
				At:      wans[0],
				values:  []Value{Holds, None, Refused, Failed, NoRoute, Other, Late},
			},
		)
	}
	if !k.model.OuterWAN(wans[0]) {
		return
	}
	for i := range m.Publishes {
		v := &m.Publishes[i]
		k.add(
			&Look{
				ID:   fmt.Sprintf("%s-%s-%d.published", v.To.Machine.Name, v.Proto, v.Port),
				Kind: Published,
				Cost: 3,
				At:   wans[0],
				To:   v.To,
				service: lab.Service{
					Proto: v.Proto,
					From:  v.Port,
					To:    v.Port,
				},
				allowed: true,
				values: []Value{Holds, None, Refused,
					Unreached, NoRoute, Other},
			},
		)
	}
	for i := range m.Publishes {
		k.inside(m, &m.Publishes[i])
	}
	for _, a := range m.Adapters {
		if len(a.Admin) > 0 && !m.Transparent() {
			port := a.Admin[0].Port
			published := slices.ContainsFunc(
				m.Publishes,
				func(v plan.Publish) bool { return v.Proto == lab.TCP && v.Port == port },
			)
			if !published {
				k.add(
					&Look{
						ID:      m.Name + ".inbound",
						Kind:    Inbound,
						Cost:    3,
						At:      wans[0],
						service: lab.Service{Proto: lab.TCP, From: port, To: port},
						values:  []Value{Holds, Open},
					},
				)
			}
			break
		}
	}
}

// inside adds the look at a published service from inside: by a guest that may reach it.
func (k *looker) inside(m *plan.Machine, v *plan.Publish) {
	service := lab.Service{Proto: v.Proto, From: v.Target, To: v.Target}
	for _, g := range k.p.Guests() {
		from := Home(g)
		if from == nil || from == v.To || !v.To.Address.IsValid() {
			continue
		}
		_, action := m.Decide(
			plan.Flow{Source: from.Likely(), Destination: v.To.Address.Addr(), Proto: v.Proto, Port: v.Target},
		)
		if from.Segment == v.To.Segment || from.Gate() != nil && from.Gate().Machine == m && action == lab.Allow {
			k.add(
				&Look{
					ID:      fmt.Sprintf("%s-%s-%d.inside", v.To.Machine.Name, v.Proto, v.Port),
					Kind:    Inside,
					Cost:    2,
					Machine: g,
					At:      from,
					To:      v.To,
					service: service,
					allowed: true,
					values:  []Value{Holds, None, Refused, Unreached, NoRoute, Other},
				},
			)
			return
		}
	}
}

// plannedAddress reports whether it is an address that an adapter may have by its plan.
func plannedAddress(a *plan.Adapter, x netip.Addr) bool {
	if a.Address.IsValid() {
		return x == a.Address.Addr()
	}
	if _, v := a.Segment.LeaseService(); v != nil && a.How == plan.Lease {
		return v.Pool.Contains(x)
	}
	return a.Segment.Subnet.Contains(x)
}

// Service returns what a look tries, where it tries a service.
func (l *Look) Service() lab.Service { return l.service }
