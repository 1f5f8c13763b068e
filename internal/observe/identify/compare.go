package identify

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// Sight is what a listing shows of a planned fact.
type Sight string

// The sights.
const (
	AsPlanned Sight = "planned"
	Differs   Sight = "differs"
	Unseen    Sight = "unseen" // it matters, and is not shown
	Remark    Sight = "remark" // worth knowing, and nothing against the plan
)

// Fact is one planned fact, or one thing that is there and not planned.
type Fact struct {
	Sight   Sight  `json:"sight"`
	Code    string `json:"code"` // of the catalogue of findings, where one fits
	Message string `json:"message"`
	Remedy  string `json:"remedy"` // what to do or to type; empty when it is as planned
}

// Verdict is what facts come to: broken when one differs, unknown when one that
// matters was not seen, else holds.
func Verdict(facts []Fact) string {
	verdict := "unknown"
	for _, f := range facts {
		switch {
		case f.Sight == Differs:
			return "broken"
		case f.Sight == AsPlanned && verdict == "unknown" && !slices.ContainsFunc(facts, func(o Fact) bool { return o.Sight == Unseen }):
			verdict = "holds"
		}
	}
	return verdict
}

// selfGiven is the range that systems take an address from when nobody gives
// them one (RFC 3927).
var selfGiven = netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254}), 16)

// comparison collects facts.
type comparison struct {
	list []Fact
	p    *plan.Plan
	m    *plan.Machine
	l    listing.Listing
	show commands
	// The listing describes how the machine is made, and nothing of its system: what
	// only that can show is not asked for.
	outer bool
}

func (c *comparison) planned(message string, args ...any) {
	c.list = append(c.list, Fact{AsPlanned, "", fmt.Sprintf(message, args...), ""})
}

func (c *comparison) wrong(code, fix, message string, args ...any) {
	c.list = append(c.list, Fact{Differs, code, fmt.Sprintf(message, args...), fix})
}

func (c *comparison) unseen(fix, message string, args ...any) {
	c.list = append(c.list, Fact{Unseen, "", fmt.Sprintf(message, args...), fix})
}

func (c *comparison) remark(fix, message string, args ...any) {
	c.list = append(c.list, Fact{Remark, "", fmt.Sprintf(message, args...), fix})
}

// on returns a value as planned, or asks about it where its line had to be repaired.
func (c *comparison) on(line int, message string, args ...any) {
	if c.l.Sure(line) {
		c.planned(message, args...)
		return
	}
	c.unseen(
		"check again: this value decides",
		message+", if line %d was read rightly",
		append(args, line)...)
}

// sorted returns what is wrong first, then what is not seen, what is as planned, and
// remarks.
func (c *comparison) sorted() []Fact {
	rank := map[Sight]int{Differs: 0, Unseen: 1, AsPlanned: 2, Remark: 3}
	slices.SortStableFunc(c.list, func(a, b Fact) int { return rank[a.Sight] - rank[b.Sight] })
	return c.list
}

// Compare holds what a machine shows of itself against the plan, worst first. Each
// fact that the plan says is there: as planned, different, or not seen.
func Compare(p *plan.Plan, m *plan.Machine, whole listing.Listing) []Fact {
	l, others := Of(p, m, whole)
	c := &comparison{p: p, m: m, l: l, show: commandsOf(l, m.Name)}
	c.outer = describes(l)
	c.slips()
	for _, name := range others {
		c.remark("bastion compare LAB LISTING --as "+name, "it shows %s too, which is left out here", name)
	}
	x := pair(p, m, l.Interfaces)
	if !c.swapped(x) {
		c.adapters(x)
	}
	c.strangers(x)
	if c.outer {
		c.remark("", "this describes how %s is built; addresses, routes and DNS servers show on the machine itself", m.Name)
		return c.sorted()
	}
	c.ways(x)
	c.resolvers()
	c.neighbors()
	c.answers(x)
	return c.sorted()
}

// describes reports whether it is a definition or a page of a hypervisor: networks that adapters are
// attached to, and nothing that a system of its own would show.
func describes(l listing.Listing) bool {
	attached := slices.ContainsFunc(l.Interfaces, func(i listing.Interface) bool { return i.Network != "" })
	inner := slices.ContainsFunc(
		l.Interfaces,
		func(i listing.Interface) bool { return len(i.Addresses) > 0 || i.LeaseServer.IsValid() },
	)
	return attached && !inner && len(l.Routes)+len(l.Resolvers)+len(l.Answers) == 0
}

// slips asks about what was written wrongly and names what could not be placed.
func (c *comparison) slips() {
	for _, s := range c.l.Slips {
		c.unseen("check the value, and write it as shown", "line %d: %s", s.Line, s.Text)
	}
	for _, u := range c.l.Unread {
		c.remark("if it matters, copy the lines around it too", "line %d was not understood: %s", u.Line, u.Text)
	}
}

// swapped reports whether two adapters have each other's addresses.
func (c *comparison) swapped(x *pairing) bool {
	for i := range x.rows {
		for j := range x.rows[:i] {
			a, b := x.rows[i].adapter, x.rows[j].adapter
			if a == nil || b == nil || a == b || a.Segment == b.Segment || !x.rows[i].How.Sure() ||
				!x.rows[j].How.Sure() {
				continue
			}
			if on(x.rows[i].listed, b.Segment) && on(x.rows[j].listed, a.Segment) {
				c.wrong(
					"unpinned-order",
					"assign them the other way round at the console",
					"%s has the address of %s and %s that of %s: they are the wrong way round",
					x.rows[i].Device,
					b.Name,
					x.rows[j].Device,
					a.Name,
				)
				return true
			}
		}
	}
	return false
}

func on(i listing.Interface, s *plan.Segment) bool {
	return slices.ContainsFunc(i.Addresses, func(n listing.Address) bool { return s.Subnet.Contains(n.Addr()) })
}

// adapters judges each adapter of the plan by the interface that is paired with it.
func (c *comparison) adapters(x *pairing) {
	for _, a := range c.m.Adapters {
		k, found := x.taken[a]
		if !found {
			if a.Plugged && !(c.outer && a.Over != nil) {
				c.unseen(c.show.addresses, "adapter %d (%s) is not shown (planned: %s)", a.Number, name(a), a.Shown())
			}
			continue
		}
		row := x.rows[k]
		c.hardware(a, row)
		if row.Conflict != "" {
			c.wrong("", "look which adapter it is", "%s: %s", row.Device, row.Conflict)
		}
		if misnamed(row.listed, a) {
			c.wrong("unpinned-order", "assign it as "+string(a.Role)+" at the console",
				"the console has %s as %s, and it is %s, which is %s", row.Device,
				row.listed.Label, a.Name, a.Role)
		}
		c.attached(a, row)
		if row.listed.Link == listing.LinkDown && a.Plugged {
			c.wrong(
				"unattached-port",
				"connect adapter "+fmt.Sprint(a.Number)+" of "+c.m.Name,
				"%s has no link",
				row.Device,
			)
			if len(row.listed.Addresses) == 0 {
				continue
			}
		}
		if !c.outer {
			c.address(a, row)
		}
	}
}

func name(a *plan.Adapter) string {
	if a.Role != "" {
		return a.Name + " on " + a.Segment.Name
	}
	return "on " + a.Segment.Name
}

// hardware judges an adapter's hardware address.
func (c *comparison) hardware(a *plan.Adapter, row Row) {
	if a.Over != nil {
		return
	}
	whole := len(row.listed.Tail) == 12
	switch {
	case row.listed.Tail != "" && strings.HasSuffix(hex(a), row.listed.Tail):
		c.on(row.listed.Line, "adapter %d has the MAC address …%s", a.Number, a.MAC.Tail(2))
	case !a.MACGiven && whole:
		c.remark(
			"bastion map LAB --adopt LISTING takes it into the lab file",
			"%s has the MAC address %s, which the lab file does not have yet",
			row.Device,
			mac.Pairs(row.listed.Tail),
		)
	case whole && differs(hex(a), row.listed.Tail) == 1:
		c.wrong(
			"",
			"read it again, or write it into the lab file",
			"%s has the MAC address %s (planned: %s): one digit differs",
			row.Device,
			mac.Pairs(row.listed.Tail),
			a.MAC,
		)
	case whole:
		c.wrong(
			"",
			"set the planned one, or take this one over: bastion map LAB --adopt LISTING",
			"%s has the MAC address %s (planned: %s)",
			row.Device,
			mac.Pairs(row.listed.Tail),
			a.MAC,
		)
	}
}

// attached judges the segment that a page says an adapter is on.
func (c *comparison) attached(a *plan.Adapter, row Row) {
	if row.listed.Network == "" || a.Over != nil {
		return
	}
	s, near := network(c.p, row.listed.Network)
	switch {
	case near && s == a.Segment && a.Segment.Reach == lab.Isolated:
		c.wrong(
			"no-gateway",
			"write it "+s.Called()+" everywhere, letter by letter",
			"%s is on %q, and the segment is called %s",
			row.Device,
			row.listed.Network,
			s.Called(),
		)
	case s != nil && (s == a.Segment || s == a.Segment.Wire.Root()),
		a.Segment.Wire.Root().Lab.Uplink == row.listed.Network:
		c.on(row.listed.Line, "adapter %d is on %s", a.Number, row.listed.Network)
	case s != nil && !near:
		c.wrong(
			"dual-homed-guest",
			"attach it to "+a.Segment.Name,
			"%s is on %s (planned: %s)",
			row.Device,
			s.Name,
			a.Segment.Name,
		)
	}
}

// address judges the addresses of an adapter's interface.
func (c *comparison) address(a *plan.Adapter, row Row) {
	i := row.listed
	if len(i.Addresses) == 0 {
		c.noAddress(a, row)
		return
	}
	right := false
	for _, n := range i.Addresses {
		right = c.oneAddress(a, row, n) || right
	}
	if !right {
		return
	}
	switch {
	case i.Lease == listing.IsLease && (a.How == plan.Static):
		c.wrong(
			"",
			"set it as planned: a lease can change",
			"%s uses DHCP (planned: static)",
			row.Device,
		)
	case i.Lease == listing.NoLease && (a.How == plan.Lease || a.How == plan.Reservation || a.How == plan.FromAbove):
		c.wrong("", "set it to DHCP", "%s is static (planned: DHCP)", row.Device)
	}
	c.server(a, row)
}

// noAddress judges an interface that shows no address.
func (c *comparison) noAddress(a *plan.Adapter, row Row) {
	switch {
	case row.listed.Unanswered:
		c.wrong("no-dhcp-server", c.show.renew(row.Device)+", once the appliance serves DHCP on "+a.Segment.Name,
			"%s sent DHCP requests and got no answer", row.Device)
	case a.How == plan.NoAddress:
		c.planned("%s has no address, as planned", row.Device)
	case row.listed.Lease == listing.IsLease && a.How == plan.Static:
		c.wrong("", "type it in: "+a.Shown(), "%s uses DHCP (planned: %s)", row.Device, a.Shown())
	case a.How == plan.Lease || a.How == plan.Reservation || a.How == plan.FromAbove:
		c.unseen(c.show.renew(row.Device), "%s shows no address yet (planned: %s)", row.Device, a.Shown())
	default:
		c.unseen(c.show.addresses, "%s shows no address (planned: %s)", row.Device, a.Shown())
	}
}

// oneAddress judges one address of an interface; it tells whether it is the planned.
func (c *comparison) oneAddress(a *plan.Adapter, row Row, n listing.Address) bool {
	at, device := n.Addr(), row.Device
	s := a.Segment
	switch {
	case selfGiven.Contains(at):
		c.wrong("no-dhcp-server", c.show.renew(device)+", once the appliance serves DHCP on "+s.Name,
			"%s has %s, a link-local address, as no DHCP server answered", device, at)
		return false
	case !s.Subnet.Contains(at):
		c.elsewhere(a, row, at)
		return false
	case a.How == plan.NoAddress:
		c.wrong("", "remove it", "%s has %s (planned: no address)", device, at)
		return false
	case a.Address.IsValid() && at != a.Address.Addr():
		c.notPlanned(a, row, at)
		return false
	}
	_, service := s.LeaseService()
	if a.How == plan.Lease && service != nil && !service.Pool.Contains(at) {
		if slices.ContainsFunc(
			s.Adapters,
			func(o *plan.Adapter) bool { return o != a && o.Address.IsValid() && o.Address.Addr() == at },
		) {
			c.wrong("duplicate-address", "use DHCP instead", "%s has %s, which is another machine's", device, at)
		} else {
			c.wrong("two-dhcp-servers", "find the rogue DHCP server on "+s.Name,
				"%s has %s, outside the pool %s", device, at, service.Pool)
		}
		return false
	}
	switch {
	case !n.Masked:
		c.unseen(
			c.show.addresses,
			"%s has %s, and its mask is not shown; /%d (%s) is planned",
			device,
			at,
			s.Subnet.Bits(),
			subnet.Mask(s.Subnet.Bits()),
		)
	case n.Bits() != s.Subnet.Bits():
		what := "it takes others of " + s.Name + " for strangers"
		if n.Bits() < s.Subnet.Bits() {
			what = "it takes strangers for neighbors"
		}
		c.wrong(
			"narrow-mask",
			fmt.Sprintf("write the mask %s (/%d)", subnet.Mask(s.Subnet.Bits()), s.Subnet.Bits()),
			"%s has the mask /%d (%s), and %s has /%d: %s",
			device,
			n.Bits(),
			subnet.Mask(n.Bits()),
			s.Name,
			s.Subnet.Bits(),
			what,
		)
	default:
		c.on(n.Line, "%s has %s/%d", device, at, n.Bits())
	}
	return true
}

// notPlanned judges an address that is on the right segment and another than planned.
func (c *comparison) notPlanned(a *plan.Adapter, row Row, at netip.Addr) {
	for _, o := range a.Segment.Adapters {
		if o != a && o.Address.IsValid() && o.Address.Addr() == at {
			c.wrong(
				"duplicate-address",
				"write "+a.Address.Addr().String(),
				"%s has %s, which is %s's (planned: %s)",
				row.Device,
				at,
				o.Machine.Name,
				a.Address.Addr(),
			)
			return
		}
	}
	if len(row.listed.Addresses) > 1 && hasPlanned(row.listed, a) {
		c.remark("remove it unless you need it", "%s has %s in addition to the planned address", row.Device, at)
		return
	}
	fix := "write " + a.Shown()
	if a.How == plan.Reservation {
		fix = c.show.renew(row.Device) + "; if that is right, the reservation is for another MAC address"
	}
	c.wrong("", fix, "%s has %s (planned: %s)", row.Device, at, a.Address.Addr())
}

// elsewhere judges an address that is not on the adapter's segment.
func (c *comparison) elsewhere(a *plan.Adapter, row Row, at netip.Addr) {
	if f := c.m.Profile; f != nil && f.Factory.LAN.IsValid() && f.Factory.LAN.Addr() == at {
		c.wrong("", "set "+a.Shown(), "%s is still at the address that it came with, %s", row.Device, at)
		return
	}
	if s := c.p.Home(at); s != nil {
		c.wrong("dual-homed-guest", fmt.Sprintf("move adapter %d to %s", a.Number, a.Segment.Name),
			"%s has %s: it is really on %s (planned: %s)",
			row.Device, at, s.Name, a.Segment.Name)
		return
	}
	if a.How == plan.FromAbove && a.Segment.Assumed {
		c.planned("%s has %s by DHCP from upstream", row.Device, at)
		return
	}
	c.wrong("off-subnet", "look which network the adapter is attached to",
		"%s has %s, which is on no segment of the lab (planned: %s)", row.Device, at,
		a.Shown())
}

// server judges who gave a lease.
func (c *comparison) server(a *plan.Adapter, row Row) {
	by := row.listed.LeaseServer
	port, service := a.Segment.LeaseService()
	if !by.IsValid() || service == nil || a.How == plan.FromAbove || port == a {
		return
	}
	if port.Address.IsValid() && by != port.Address.Addr() {
		c.wrong("two-dhcp-servers", fmt.Sprintf("switch off the DHCP server at %s", by),
			"%s has its lease from %s (planned: %s)", row.Device, by,
			port.Address.Addr())
		return
	}
	c.planned("its lease is from %s", by)
}

// strangers judges interfaces that are no adapter of the plan.
func (c *comparison) strangers(x *pairing) {
	for _, row := range x.rows {
		if row.adapter != nil || x.aside(row) {
			continue
		}
		what := row.Device
		if what == "" {
			what = "an interface"
		}
		if row.Conflict != "" {
			c.wrong("", "look which adapter it is", "%s: %s", what, row.Conflict)
			continue
		}
		for _, n := range row.listed.Addresses {
			s := c.p.Home(n.Addr())
			switch {
			case selfGiven.Contains(n.Addr()):
				c.wrong(
					"no-dhcp-server",
					c.show.renew(what),
					"%s has %s, a link-local address, as no DHCP server answered",
					what,
					n.Addr(),
				)
			case s != nil:
				c.wrong(
					"dual-homed-guest",
					"remove that adapter, or write it into the lab file",
					"%s has %s: an adapter on %s that is in no plan",
					what,
					n.Addr(),
					s.Name,
				)
			case len(c.m.Adapters) == 1 && x.taken[c.m.Adapters[0]] == 0 && len(x.taken) == 0:
				c.wrong(
					"off-subnet",
					"look which network the adapter is attached to",
					"%s has %s, which is on no segment of the lab",
					what,
					n.Addr(),
				)
			default:
				c.remark(
					"if it is connected to upstream, it bypasses the appliance",
					"%s has %s, which is on no segment of the lab",
					what,
					n.Addr(),
				)
			}
		}
	}
}
