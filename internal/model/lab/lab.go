package lab

import (
	"fmt"
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
)

// Version is the format version this package reads and writes.
const Version = 1

// Lab is a whole lab file. Segments, appliances and guests keep file order.
type Lab struct {
	Origin
	File       string   // as the user named it; for messages
	Sum        [32]byte // SHA-256 of the file as it was read
	Version    int
	Name       string
	Title      string
	Site       Site
	Space      netip.Prefix // where planned subnets are carved from; invalid: chosen
	IPv6       bool         // plan unique local prefixes as well
	Closed     bool         // it leads nowhere outside, on purpose
	Segments   []*Segment
	Appliances []*Appliance
	Guests     []*Guest
	Expect     []Expectation
	Accept     []Accept // findings taken on purpose
	Open       []Open   // what is not decided yet, in the order of the file

	// Profiles are the facts about kinds of appliance, by what the appliances'
	// profile keys say; "" is the reference appliance's. Reading a lab file does
	// not fill it: files are the caller's.
	Profiles map[string]*Profile

	names map[string]any // every named thing: *Segment, *Appliance, *Guest
}

// Profile returns the facts about an appliance's kind; never nil.
func (l *Lab) Profile(a *Appliance) *Profile {
	if p := l.Profiles[a.Profile]; p != nil {
		return p
	}
	return &Profile{}
}

// Site is the machine that carries the lab.
type Site struct {
	Origin
	Networks   []netip.Prefix    // networks it is on already
	Uplinks    map[string]string // adapter name to wired or wireless
	CPUs       int
	Memory     Bytes
	Disk       Bytes
	Hypervisor string // whose words a runbook speaks: a shipped wording's name, or a file
	Virtual    bool   // it is a virtual machine itself
	// Accelerated tells whether the machine can accelerate virtual machines;
	// true unless the file says otherwise.
	Accelerated bool
}

// Accept is a finding taken on purpose.
type Accept struct {
	Origin
	Code    string
	Subject string // whose; every one when empty
	Because string
}

// Reach says how far a segment extends.
type Reach string

// The reaches.
const (
	Upstream Reach = "upstream" // beyond the host
	Host     Reach = "host"     // the host has a leg on it
	Isolated Reach = "isolated" // nobody but those attached
)

// Segment is one broadcast domain.
type Segment struct {
	Origin
	Name                 string
	Reach                Reach
	Kind                 string // the kind of network in the hypervisor that sets reach, join, DHCP and forwarding; empty: they are given
	KnownAs              string // what the hypervisor calls it; empty: its name
	Join                 string // bridged or nat; upstream only
	Uplink               string
	Native               int // the tag that travels untagged on the uplink's cable; 0: nobody said
	Subnet               netip.Prefix
	Hosts                int
	Gateway              netip.Addr
	PoolFrom, PoolTo     netip.Addr // what the site hands out upstream; invalid: it is not known
	Routes               []Route
	Leases               string // upstream, host, none, or a guest's name
	Within               string
	VLAN                 int
	ForeignMACs          string       // allow or refuse
	HostAddress          netip.Prefix // the host's leg
	HostGateway          netip.Addr   // the host's next hop there, or invalid
	HostForwards         bool
	RouterAdvertisements bool
}

// Route is a way to a network.
type Route struct {
	To  netip.Prefix
	Via netip.Addr
}

// Appliance is a firewall or router machine between segments.
type Appliance struct {
	Origin
	Name      string
	Kind      string // routed, transparent or one-armed
	Profile   string
	Autostart bool
	Running   bool // true unless said otherwise

	Filter        string         // none: it forwards everything; rules or empty: its rules decide
	AdminServices []AdminService // nil: the page of each port
	Image         Image
	Machine       Machine
	Needs         Needs
	Duties        []string // what it does beside routing: filter, intrusion-detection, proxy, vpn
	Mbits         int      // throughput asked of it, in Mbit/s; 0: not said
	Tunnels       int      // encrypted tunnels asked of it
	Ports         []*Port
	NAT           NAT
	Rules         []Rule
}

// Image is what the appliance is installed from.
type Image struct {
	Origin
	File       string
	SHA256     string
	Evaluation Evaluation
	Allows     Licence
}

// Licence is what an appliance's licence allows; 0: nobody said.
type Licence struct {
	Origin
	CPUs     int
	Memory   Bytes
	Adapters int
	Mbits    int
	Tunnels  int
}

// Evaluation is a trial period that starts on From and lasts Days days.
type Evaluation struct {
	Origin
	From time.Time // midnight UTC
	Days int
}

// Machine is how a virtual machine is made.
type Machine struct {
	Origin
	CPUs        int
	Memory      Bytes
	MemoryFloor Bytes
	Disk        Bytes
	DiskBus     string
	NIC         string
	Queues      int // of each adapter; 0: planned
	Firmware    string
	Boot        []string
	Media       string
}

// Role is what a port is for.
type Role string

// The roles.
const (
	WAN    Role = "wan"
	LAN    Role = "lan"
	DMZ    Role = "dmz"
	Manage Role = "manage"
	Unused Role = "unused" // an adapter that exists and stays unplugged
)

// Inside reports whether it is a role that faces guests.
func (r Role) Inside() bool { return r == LAN || r == DMZ }

// Port is an appliance's interface.
type Port struct {
	Origin
	Role        Role
	Name        string // as given, else the role, numbered when that repeats
	Segment     string
	Over        string // the port whose adapter carries this one, tagged
	Joins       string // the port that this one is bridged with, on purpose
	Address     Address
	Gateway     netip.Addr
	MAC         mac.Address
	Device      string // what the system calls the interface; empty: not seen yet
	Plugged     bool   // true unless said otherwise
	Connect     string // now or later: unplugged until the appliance is set up; empty: now
	DropPrivate bool
	Admin       Admin
	Leases      PortLeases
}

// Address is how a port gets its address.
type Address struct {
	How    string       // lease, pppoe, none, static, or empty: planned
	Prefix netip.Prefix // for static: address and prefix length
}

// Admin is the appliance's admin page on a port.
type Admin struct {
	On   bool
	Port uint16 // TCP; 0: the usual one
}

// AdminService is one way to manage an appliance.
type AdminService struct {
	Scheme string // https, http, ssh or telnet
	Port   uint16 // TCP
}

func (s AdminService) String() string { return fmt.Sprintf("%s/%d", s.Scheme, s.Port) }

// Page reports whether it is a service that a browser opens.
func (s AdminService) Page() bool { return s.Scheme == "https" || s.Scheme == "http" }

// Plain reports whether it is a service that shows passwords to whoever listens.
func (s AdminService) Plain() bool { return s.Scheme == "http" || s.Scheme == "telnet" }

// Open is something that the lab file says is decided later, or leaves out.
type Open struct {
	Pos      Pos
	Of       Object // *Segment, *Port, *Guest or *Adapter
	Subject  string // as people say it: port wan of sluice
	Key      string
	Question string
}

// PortLeases is the lease service of a port.
type PortLeases struct {
	Origin
	Off    bool // dhcp: none
	From   netip.Addr
	To     netip.Addr
	DNS    []string // addresses, or self
	Domain string
	Time   time.Duration
}

// NAT is address translation.
type NAT struct {
	Origin
	Masquerade []string
	Publish    []Publish
	OneToOne   []OneToOne
}

// Publish is a port forward: what arrives at Port on a WAN goes to To at Target.
type Publish struct {
	Origin
	Port   Service
	To     string
	Target Service
}

// OneToOne gives a guest an outside address of its own.
type OneToOne struct {
	Origin
	Outside netip.Addr
	Inside  string
}

// Guest is a machine on a segment.
type Guest struct {
	Origin
	Name      string
	Adapters  []Adapter
	Forwards  bool
	Outside   bool // meant to stand outside every appliance
	Autostart bool
	Running   bool   // true unless said otherwise
	Physical  bool   // a computer on a cable
	System    string // linux, bsd or desktop
	Machine   Machine
}

// Adapter is one adapter of a guest.
type Adapter struct {
	Origin
	Segment string
	Reserve netip.Addr
	Static  netip.Prefix
	Gateway netip.Addr
	DNS     []netip.Addr
	MAC     mac.Address
	Device  string // what the system calls the interface; empty: not seen yet
	NIC     string
	Plugged bool
}

// Segment returns the named segment, or nil.
func (l *Lab) Segment(name string) *Segment { s, _ := l.names[name].(*Segment); return s }

// Appliance returns the named appliance, or nil.
func (l *Lab) Appliance(name string) *Appliance { a, _ := l.names[name].(*Appliance); return a }

// Guest returns the named guest, or nil.
func (l *Lab) Guest(name string) *Guest { g, _ := l.names[name].(*Guest); return g }
