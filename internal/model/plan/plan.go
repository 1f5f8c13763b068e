package plan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/gaissmai/bart"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
)

// Plan is a lab made concrete. Segments and machines keep file order,
// appliances before guests; adapters go by machine and number.
type Plan struct {
	Lab      *lab.Lab
	Name     string
	Segments []*Segment
	Wires    []*Wire
	Machines []*Machine
	Adapters []*Adapter
	Order    []*Machine // in which machines start; those that are off and real computers left out
	Answers  []Answer   // to the appliances' questions
	Pages    []Page     // admin pages

	segments map[string]*Segment
	machines map[string]*Machine
}

// Segment returns the named segment, or nil.
func (p *Plan) Segment(name string) *Segment { return p.segments[name] }

// Home returns the segment whose subnet has an address, or nil. Of several that
// transparent appliances join it is the one that they join the others to.
func (p *Plan) Home(at netip.Addr) *Segment {
	var bridged *Segment
	for _, s := range p.Segments {
		switch {
		case !s.Subnet.Contains(at):
		case s.Bridged == nil:
			return s
		case bridged == nil:
			bridged = s
		}
	}
	return bridged
}

// Machine returns the named appliance or guest, or nil.
func (p *Plan) Machine(name string) *Machine { return p.machines[name] }

// Running returns the appliances that are switched on, in file order.
func (p *Plan) Running() []*Machine {
	return slices.DeleteFunc(slices.Clone(p.Appliances()), func(m *Machine) bool { return m.Off })
}

// Made returns the machines that are to be made: no real computers, and no appliance that
// is there already and off.
func (p *Plan) Made() []*Machine {
	return slices.DeleteFunc(
		slices.Clone(p.Machines),
		func(m *Machine) bool { return m.Physical || m.Off && m.Appliance != nil },
	)
}

// Names returns the names of all machines, in their order.
func (p *Plan) Names() []string {
	names := make([]string, len(p.Machines))
	for i, m := range p.Machines {
		names[i] = m.Name
	}
	return names
}

// Appliances returns the appliances, in file order.
func (p *Plan) Appliances() []*Machine { return p.Machines[:len(p.Lab.Appliances)] }

// Guests returns the guests, in file order.
func (p *Plan) Guests() []*Machine { return p.Machines[len(p.Lab.Appliances):] }

// Segment is one broadcast domain with its network.
type Segment struct {
	Lab     *lab.Segment
	Name    string
	Reach   lab.Reach
	Subnet  netip.Prefix // with no host bits set; valid but where it is nowhere
	Planned bool         // the subnet was chosen here, not given
	Assumed bool         // it is upstream's, and nobody said which it is
	By      string       // what says the subnet where the file does not give it: sluice.lan has 10.0.0.1/24
	Gateway netip.Addr   // the next hop of those on it; invalid when there is none
	Wire    *Wire
	Tag     int          // on the wire; 0 is untagged
	Subnet6 netip.Prefix // IPv6, or invalid
	Bridged *Segment     // the segment that a transparent appliance joins this one to, or nil

	Adapters []*Adapter   // all that end here, but unused ones and those of machines that are off
	Port     *Adapter     // the appliance port that faces guests here, or nil
	HostLeg  netip.Prefix // the host's address here, or invalid
	HostPool *Pool        // what the host hands out here, or nil
	inside   bool
	network  []*Segment // see Network
}

// Network returns the segments that transparent appliances make one network of, this one
// among them.
func (s *Segment) Network() []*Segment {
	if len(s.network) == 0 {
		return []*Segment{s}
	}
	return s.network
}

// Called returns what the hypervisor calls the segment.
func (s *Segment) Called() string { return cmp.Or(s.Lab.KnownAs, s.Name) }

// Nowhere is the name of what an adapter is on that is on no segment: it is not used,
// or nobody has decided yet.
const Nowhere = "nowhere"

// Nowhere tells what an adapter is on that is on no segment. It has neither network
// nor reach, and is not among the plan's segments.
func (s *Segment) Nowhere() bool { return s.Lab.Name == "" }

// Closed reports whether it is a switch of the host's own that only machines of the lab are on: isolated, with no uplink, and not
// tagged on another's wire.
func (s *Segment) Closed() bool {
	return !s.Nowhere() && s.Tag == 0 && s.Reach == lab.Isolated && s.Lab.Uplink == ""
}

// Inside reports whether it is a segment that some appliance keeps from the outside: it has a
// lan or dmz port here and no WAN port.
func (s *Segment) Inside() bool { return s.inside }

// Wire is what carries one or more segments: a switch of its own.
type Wire struct {
	Name     string     // of its untagged segment
	Segments []*Segment // the untagged one first
	outward  bool       // see LeavesHost
}

// Root returns the untagged segment, which says how the wire is attached.
func (w *Wire) Root() *Segment { return w.Segments[0] }

// LeavesHost reports whether the wire goes on to what is upstream of the host, with
// whatever tags it carries: it is bridged there, or shares an uplink with one that is.
func (w *Wire) LeavesHost() bool { return w.outward }

// Uplink returns the host's adapter by which the wire leaves the host; empty when it
// does not, or nobody says by which.
func (w *Wire) Uplink() string {
	if root := w.Root(); root.Lab.Join != "nat" {
		return root.Lab.Uplink
	}
	return ""
}

// Machine is an appliance or a guest.
type Machine struct {
	Name      string
	Appliance *lab.Appliance // nil for a guest
	Guest     *lab.Guest     // nil for an appliance
	Off       bool           // switched off: nothing of it is plugged
	Physical  bool           // a guest that is a computer on a cable
	Adapters  []*Adapter     // an appliance's ports, those over others too
	Rules     []Rule         // of an appliance, in order
	Masq      []*Segment     // segments it translates on its WAN
	Publishes []Publish
	OneToOne  []OneToOne
	Spec      Spec
	Profile   *lab.Profile  // of an appliance, as it is simulated; never nil there
	Facts     *lab.Profile  // what is known of an appliance: Profile where the file names one; never nil there
	within    bart.Lite     // an appliance's inside networks
	named     []lab.Service // ports that its rules name, each once
	index     *ruleIndex    // of its rules, where they are many
}

// Assumed returns the role that the appliance's kind takes the adapter for when
// nobody says; empty when the profile does not tell, or for a guest.
func (a *Adapter) Assumed() lab.Role {
	if a.Port == nil || a.Over != nil || a.Number > len(a.Machine.Profile.Roles) {
		return ""
	}
	return a.Machine.Profile.Roles[a.Number-1]
}

// Gate returns the appliance's port by which a guest's adapter is sent elsewhere: the
// one that its typed gateway names, where several are on the segment, else the
// segment's; nil when there is none.
func (a *Adapter) Gate() *Adapter {
	for _, x := range a.Segment.Adapters { // ports stand before guests
		if x.Guest != nil {
			break
		}
		if x.Role != lab.WAN && a.Gateway.IsValid() && x.Address.IsValid() && x.Address.Addr() == a.Gateway {
			return x
		}
	}
	return a.Segment.Port
}

// Description returns the adapter's number, MAC address and segment, as a configuration file describes an interface.
func (a *Adapter) Description() string {
	if a.Segment.Nowhere() {
		return fmt.Sprintf("adapter %d, %s, on no segment", a.Number, a.MAC)
	}
	return fmt.Sprintf("adapter %d, %s, on %s", a.Number, a.MAC, a.Segment.Name)
}

// Announces reports whether a port announces itself as an IPv6 router: each appliance does so by one port of a segment.
func (a *Adapter) Announces() bool {
	first := a.Segment.Port
	return a.Guest == nil && a.Address6.IsValid() && (first == nil || first == a || first.Machine != a.Machine)
}

// Likely returns an address that the adapter has or may get.
func (a *Adapter) Likely() netip.Addr {
	if a.Address.IsValid() {
		return a.Address.Addr()
	}
	if s := a.Segment.Port; s != nil && s.Leases != nil {
		return s.Leases.Pool.From
	}
	return a.Segment.Subnet.Addr().Next()
}

// Own returns the machine's adapters without the ports that ride on others.
func (m *Machine) Own() []*Adapter {
	var list []*Adapter
	for _, a := range m.Adapters {
		if a.Over == nil {
			list = append(list, a)
		}
	}
	return list
}

// TailLength returns how many last bytes of their hardware addresses tell the
// adapters of a machine apart; 2 at least.
func (m *Machine) TailLength() int {
	n, own := 2, m.Own()
	for ; n < 6; n++ {
		seen := map[string]bool{}
		for _, a := range own {
			seen[a.MAC.Tail(n)] = true
		}
		if len(seen) == len(own) {
			break
		}
	}
	return n
}

// Transparent reports whether it is an appliance that bridges its segments and filters what passes.
func (m *Machine) Transparent() bool { return m.Appliance != nil && m.Appliance.Kind == "transparent" }

// WAN returns the appliance's WAN ports.
func (m *Machine) WAN() []*Adapter {
	var list []*Adapter
	for _, a := range m.Adapters {
		if a.Role == lab.WAN {
			list = append(list, a)
		}
	}
	return list
}

// How says where an address comes from.
type How string

// The ways to an address.
const (
	Static      How = "static"
	Reservation How = "reservation"
	Lease       How = "dhcp"
	FromAbove   How = "upstream" // a lease from upstream
	NoAddress   How = "none"
)

// Adapter is one adapter of a machine, or an appliance's tagged port over one.
type Adapter struct {
	Machine  *Machine
	Number   int    // from 1; a port over another has that one's number
	Name     string // port name; for guests "adapter N"
	MAC      mac.Address
	Segment  *Segment
	Role     lab.Role // empty for guests
	NIC      string
	How      How
	Address  netip.Prefix // invalid while only a lease will tell
	Gateway  netip.Addr   // typed in or planned; invalid: none, or a lease tells
	DNS      []netip.Addr
	Plugged  bool
	Admin    []lab.AdminService // by which it is managed here; the page first
	Over     *Adapter           // the port that carries this one
	Riders   []*Adapter         // the ports that this one carries, tagged
	Address6 netip.Prefix       // of an appliance's inside port; of a guest the one its hardware address makes; or invalid
	Devices  []string           // what the machine's system will likely call it, likeliest first
	Attach   string             // how to attach it, in plain words
	Leases   *Service           // lease service of the port, or nil
	Planned  bool               // the address was chosen here
	MACGiven bool
	Pos      lab.Pos

	Port  *lab.Port    // what the file says of it
	Guest *lab.Adapter // likewise
}

// Later reports whether it is a port that is connected only once its appliance is set up.
func (a *Adapter) Later() bool { return a.Port != nil && a.Port.Connect == "later" && a.Plugged }

// Manages reports whether the appliance is managed at a TCP port of the adapter.
func (a *Adapter) Manages(port uint16) bool {
	return slices.ContainsFunc(a.Admin, func(s lab.AdminService) bool { return s.Port == port })
}

// Pool is a run of addresses handed out as leases, both ends included.
type Pool struct{ From, To netip.Addr }

// Contains reports whether a lies in the pool.
func (p Pool) Contains(a netip.Addr) bool { return a.Compare(p.From) >= 0 && a.Compare(p.To) <= 0 }

func (p Pool) String() string { return p.From.String() + "-" + p.To.String() }

// Service is a port's lease service.
type Service struct {
	Pool         Pool
	Planned      bool // the pool was chosen here
	Router       netip.Addr
	DNS          []netip.Addr
	Domain       string
	Time         time.Duration
	Reservations []*Adapter // guests' adapters with fixed leases
}

// OneToOne gives a guest an outside address of its own.
type OneToOne struct {
	Lab     *lab.OneToOne
	Outside netip.Addr
	To      *Adapter
}

// LeaseService returns who is planned to hand out leases on the segment and what:
// the appliance's port there, else the adapter of the guest that the file names;
// nothing when it is neither.
func (s *Segment) LeaseService() (*Adapter, *Service) {
	if s.Port != nil && s.Port.Leases != nil {
		return s.Port, s.Port.Leases
	}
	for _, a := range s.Adapters {
		if a.Guest != nil && a.Leases != nil {
			return a, a.Leases
		}
	}
	for _, other := range s.Network() { // through a transparent appliance
		if other != s && other.Port != nil && other.Port.Leases != nil {
			return other.Port, other.Port.Leases
		}
	}
	return nil, nil
}

// Publish is a port forward made concrete.
type Publish struct {
	Lab    *lab.Publish
	Proto  lab.Proto
	Port   uint16
	To     *Adapter // the guest's adapter
	Target uint16
}
