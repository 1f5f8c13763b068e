// Package listing reads what people have in front of them: the interfaces, ways,
// resolvers and leases of a machine, as consoles, system commands, settings pages,
// exported definitions and people themselves write them, with noise around. It goes
// by forms: a role beside a device, an address with its prefix, columns under a
// heading, key words of the trade in several languages. It never guesses: a slip is
// repaired with a question, and a line with an address that it cannot place is named.
package listing

import (
	"net/netip"
	"slices"
	"strings"
)

// Link is what a listing says of an interface's link.
type Link uint8

// The links.
const (
	LinkUnknown Link = iota
	LinkUp
	LinkDown
)

// Lease is whether a listing says that an address is a lease.
type Lease uint8

// The answers.
const (
	LeaseUnsaid Lease = iota
	IsLease
	NoLease
)

// Address is an address of an interface. Without a mask shown its prefix has 32 bits.
type Address struct {
	netip.Prefix
	Masked bool // the listing shows the mask
	Line   int
}

// Interface is one interface of a listing.
type Interface struct {
	Device      string // the system's name for it
	Label       string // a role or name that stands beside it
	Number      int    // of the adapter, from 1; 0: it is not said
	Tail        string // hexadecimal digits of the hardware address, lower case: 12, or the last 2 to 10
	Addresses   []Address
	Link        Link
	Disabled    bool       // its system has it switched off: whether it has a link is not known
	Network     string     // the segment or switch that it is attached to
	Attached    Attachment // how, where the listing says it
	Duplicate   bool       // the system found another machine with its address
	Lease       Lease
	LeaseServer netip.Addr // who gave the lease; invalid: it is not said
	Unanswered  bool       // it asked for a lease and nobody answered
	NoGateway   bool       // the listing says that it has none
	Tag         int
	Trunk       []int  // tags that it carries beside its untagged network
	Machine     string // whose it is, where the listing says so
	Line        int    // where it starts in the listing, from 1
}

// Route is a way to everywhere.
type Route struct {
	Gateway netip.Addr
	Device  string // or the label, of the interface; empty: it is not said
	Machine string
	Line    int
}

// Resolver is a resolver that a machine asks.
type Resolver struct {
	Address netip.Addr
	Device  string
	Machine string
	Line    int
}

// Neighbor is a hardware address that answers for an address, or holds a lease of it.
type Neighbor struct {
	Address netip.Addr
	Tail    string
	Line    int
}

// Answer is what somebody typed at a question of a console.
type Answer struct {
	Question string
	Text     string
	Line     int
}

// Remark is a line of which something must be said.
type Remark struct {
	Line int
	Text string
}

// System is the family of systems whose commands a listing is from, by their forms.
type System string

// The systems.
const (
	Linux   System = "linux"
	BSD     System = "bsd"
	Desktop System = "desktop"
)

// systemOf returns the system by what only its commands write.
func systemOf(text string) System {
	for _, of := range []struct {
		system System
		signs  []string
	}{
		{Desktop, []string{" . . :", ". . . .", "InterfaceAlias", "On-link", "ifIndex", "PS C:", ":\\Users"}},
		{BSD, []string{"netmask 0x", "Netif Expire", "link#"}},
		{Linux, []string{"link/ether", "proto kernel", "Link encap:", "nameserver ", "lladdr", "txqueuelen", "GENERAL.DEVICE",
			"Kernel IP routing",
			`"ifname"`, " dev eth", " dev en", "valid_lft", "iface ", "inet4 ", "udhcpc", "DHCPACK"}},
	} {
		if slices.ContainsFunc(of.signs, func(s string) bool { return strings.Contains(text, s) }) {
			return of.system
		}
	}
	return ""
}

// Listing is everything that was read.
type Listing struct {
	Interfaces []Interface
	Routes     []Route
	Resolvers  []Resolver
	Neighbors  []Neighbor
	Answers    []Answer
	Tries      []Try // pings, lookups and pages, with their outcome
	System     System
	Machines   []string // names of machines that the listing says, in its order
	RoutesHere bool     // it shows a routing table, or says of a gateway that there is none
	NamesHere  bool     // it shows resolvers, or that there are none
	Slips      []Remark // what was written wrongly, with what was most likely meant
	Unread     []Remark // lines with an address that could not be placed
}

// Bounds of what is kept of a listing.
const (
	maxInterfaces = 4096
	maxKept       = 256
	maxLine       = 4 << 10 // bytes of a line that are read
)

// Empty reports whether it is a listing in which nothing was found.
func (l Listing) Empty() bool {
	return len(l.Interfaces)+len(l.Routes)+len(l.Resolvers)+len(l.Neighbors)+len(l.Answers) == 0
}

// Sure reports whether nothing on a line had to be repaired.
func (l Listing) Sure(line int) bool {
	return !slices.ContainsFunc(l.Slips, func(r Remark) bool { return r.Line == line })
}

// Read reads a listing. Loopback interfaces are left out. Where several machines are
// shown a line that is the name of one of machines begins what is said of it.
func Read(text string, machines ...string) Listing {
	text = decode(text)
	r := &reader{underIndent: -1, machines: machines}
	if !r.objects(text) {
		lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
		mark := replied(lines)
		skip := triedLines(lines)
		for n, line := range lines {
			if skip[n] {
				continue
			}
			if len(line) > maxLine {
				line = strings.ToValidUTF8(line[:maxLine], "")
				r.n = n + 1
				r.keep(&r.out.Unread, "all behind its first 4096 bytes")
			}
			r.line(n+1, plainLine(strings.TrimPrefix(line, mark)))
		}
	}
	r.out.System = systemOf(text)
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	r.out.Tries = readTries(lines)
	r.out.Unread = slices.DeleteFunc(r.out.Unread, func(u Remark) bool {
		return u.Line > 0 && u.Line <= len(lines) && new(Try).begins(lines[u.Line-1])
	})
	return r.finish()
}

// replied returns the mark that letters put before every line of what they answer to.
func replied(lines []string) string {
	marked, all := 0, 0
	for _, line := range lines {
		if strings.TrimSpace(line) != "" {
			if all++; strings.HasPrefix(line, "> ") {
				marked++
			}
		}
	}
	if all > 2 && marked*3 > all*2 {
		return "> "
	}
	return ""
}

// Named returns the interfaces that have something to tell them by.
func (l Listing) Named() []Interface {
	return slices.DeleteFunc(slices.Clone(l.Interfaces), func(i Interface) bool {
		return i.Device == "" && i.Tail == "" && i.Label == "" && i.Number == 0
	})
}

// reader is a listing in the making.
type reader struct {
	out      Listing
	now      *Interface // what the lines at hand are about
	list     []*Interface
	last     field   // what a line of values alone goes on with
	table    *table  // the columns at hand
	machine  string  // whose lines they are
	asked    *Answer // a question that waits for its answer
	numbers  map[string]int
	pending  Neighbor // a lease of a server's file, until its hardware address comes
	n        int      // the line
	used     bool     // something of the line was understood
	machines []string // names that begin what is said of one
	waiting  field    // a label that was all of its line
	unplaced bool     // an address of the line has nobody who it is of
	apart    bool     // a blank line stood before this one

	under       field // what a label without a value says of the lines that are set in below it
	underIndent int
	headIndent  int // of the line that began the interface at hand by its device
}

// start begins an interface, or goes on with the one of that name.
func (r *reader) start(device, label string, number int) {
	device, _, _ = strings.Cut(device, "@") // a tagged one is written with its parent
	for _, i := range r.list {
		same := device != "" && strings.EqualFold(i.Device, device) ||
			device == "" && number > 0 && i.Number == number ||
			device == "" && number == 0 && label != "" && strings.EqualFold(i.Label, label)
		if same && i.Machine == r.machine && (number == 0 || i.Number == 0 || i.Number == number) {
			if label != "" && i.Label == "" {
				i.Label = label
			}
			r.now = i
			return
		}
	}
	if len(r.list) >= maxInterfaces {
		r.now = nil
		return
	}
	r.now = &Interface{Device: device, Label: label, Number: number, Machine: r.machine, Line: r.n}
	if at := strings.LastIndexAny(device, ".:"); at > 0 {
		r.now.Tag = tagOf(device[at+1:])
	}
	r.list = append(r.list, r.now)
}

// about goes on with a device's interface, or, where none is named, with the one at
// hand.
func (r *reader) about(device string) {
	if device != "" || r.now == nil {
		r.start(device, "", 0)
	}
}

func tagOf(text string) int {
	n := 0
	for _, c := range text {
		if c < '0' || c > '9' || n > 4094 {
			return 0
		}
		n = n*10 + int(c-'0')
	}
	if n > 4094 {
		return 0
	}
	return n
}

// keep remarks something of the line at hand.
func (r *reader) keep(list *[]Remark, text string) {
	if len(*list) < maxKept {
		*list = append(*list, Remark{r.n, text})
	}
}

// apply takes one value of a field.
func (r *reader) apply(f field, w word) {
	if w.slip != "" {
		r.keep(&r.out.Slips, w.slip)
	}
	r.used = true
	if r.under != noField && (f == ownAddress || f == noField) {
		f = r.under
	}
	switch w.kind {
	case otherAddress, plainWord, arrow:
		return
	case macWord:
		if r.about(""); r.now != nil && len(r.now.Tail) < 12 {
			r.now.Tail = w.digits
		}
		return
	}
	switch f {
	case ignored, destination, network, pool:
	case gateway:
		r.route(w.address)
	case resolver:
		r.resolver(w.address)
	case leaseServer:
		if r.now != nil {
			r.now.LeaseServer, r.now.Lease = w.address, IsLease
		}
	case neighborIP:
		r.pending = Neighbor{Address: w.address, Line: r.n}
	case mask:
		r.mask(w)
	case leased:
		if r.own(w); r.now != nil {
			r.now.Lease = IsLease
		}
	default:
		if w.kind == maskWord {
			r.mask(w)
			return
		}
		r.own(w)
	}
}

// own takes an address of the interface at hand.
func (r *reader) own(w word) {
	if w.kind == maskWord || !w.address.IsValid() || w.address.IsUnspecified() {
		return
	}
	if r.about(""); r.now == nil || len(r.now.Addresses) >= maxKept {
		return
	}
	bits, masked := 32, false
	if w.kind == prefixWord {
		bits, masked = w.bits, true
	}
	for i, a := range r.now.Addresses {
		if a.Addr() == w.address {
			if masked && !a.Masked {
				r.now.Addresses[i] = Address{netip.PrefixFrom(w.address, bits), true, r.n}
			}
			return
		}
	}
	r.now.Addresses = append(r.now.Addresses, Address{netip.PrefixFrom(w.address, bits), masked, r.n})
}

// mask takes the mask of the last address.
func (r *reader) mask(w word) {
	if r.now == nil || len(r.now.Addresses) == 0 {
		return
	}
	a := &r.now.Addresses[len(r.now.Addresses)-1]
	if bits := w.bits; !a.Masked && (w.kind == maskWord || w.kind == plainWord) {
		line := a.Line
		if r.out.Sure(line) { // else the address is in doubt already
			line = r.n
		}
		*a = Address{netip.PrefixFrom(a.Addr(), bits), true, line}
	}
}

func (r *reader) route(by netip.Addr) {
	if !by.IsValid() || by.IsUnspecified() {
		return
	}
	route := Route{Gateway: by, Machine: r.machine, Line: r.n}
	if r.now != nil {
		if route.Device = r.now.Device; route.Device == "" {
			route.Device = r.now.Label
		}
	}
	r.out.RoutesHere = true
	for i, old := range r.out.Routes {
		if old.Gateway == by && old.Machine == r.machine &&
			(old.Device == route.Device || old.Device == "" || route.Device == "") {
			if old.Device == "" {
				r.out.Routes[i].Device = route.Device
			}
			return
		}
	}
	if len(r.out.Routes) < maxKept {
		r.out.Routes = append(r.out.Routes, route)
	}
}

func (r *reader) resolver(a netip.Addr) {
	r.out.NamesHere = true
	if !a.IsValid() || len(r.out.Resolvers) >= maxKept ||
		slices.ContainsFunc(
			r.out.Resolvers,
			func(o Resolver) bool { return o.Address == a && o.Machine == r.machine },
		) {
		return
	}
	device := ""
	if r.now != nil {
		device = r.now.Device
	}
	r.out.Resolvers = append(r.out.Resolvers, Resolver{a, device, r.machine, r.n})
}

// none takes a field of which the listing says that there is nothing.
func (r *reader) none(f field) {
	switch f {
	case gateway:
		if r.out.RoutesHere = true; r.now != nil {
			r.now.NoGateway = true
		}
	case resolver:
		r.out.NamesHere = true
	}
}

// named notes whose lines follow.
func (r *reader) named(name string) {
	if name = strings.Trim(name, ".:"); name == "" || r.machine == name {
		return
	}
	r.machine, r.now, r.table = name, nil, nil
	if !slices.Contains(r.out.Machines, name) && len(r.out.Machines) < maxKept {
		r.out.Machines = append(r.out.Machines, name)
	}
}
