package identify

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
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
		message+", if line %d was read correctly",
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
		c.cables(x)
	}
	c.strangers(x)
	if c.outer {
		c.remark(
			"",
			"this describes how %s is built; addresses, routes and DNS servers show on the machine itself",
			m.Name,
		)
		return c.sorted()
	}
	c.ways(x)
	c.resolvers()
	c.neighbors()
	c.answers(x)
	c.tries()
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
		c.remark("if it matters, copy the lines around it as well", "line %d was not understood: %s", u.Line, u.Text)
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
		c.tagged(a, row)
		if row.listed.Disabled && a.Plugged {
			c.wrong("unattached-port", "enable it on "+c.m.Name+" (ip link set "+row.Device+" up, or its own page)",
				"%s is disabled", row.Device)
		} else if row.listed.Link == listing.LinkDown && a.Plugged {
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

// cables asks which adapter is which where the list of an appliance shows labels and addresses alone:
// those are what was assigned on the console, and say nothing of the wires.
func (c *comparison) cables(x *pairing) {
	if c.m.Appliance == nil || c.outer || len(c.m.Own()) < 2 {
		return
	}
	shown := 0
	for _, a := range c.m.Own() {
		if k, found := x.taken[a]; found {
			if known := a.Seen(); x.rows[k].Wired() || known != "" && strings.EqualFold(known, x.rows[k].Device) {
				return // its cable was found out, or the file names its device
			}
			shown++
		}
	}
	if shown > 1 {
		c.unseen("compare the MAC addresses (bastion map LAB --listing), or unplug one adapter at a time (--by-link)",
			"which adapter each interface is, is not shown: labels and addresses are what was assigned on the console")
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

// attached judges how, and to which network, a page says that an adapter is attached.
func (c *comparison) attached(a *plan.Adapter, row Row) {
	shown, kind := row.listed.Network, row.listed.Attached
	if a.Over != nil || shown == "" && kind == listing.UnsaidAttachment {
		return
	}
	what := fmt.Sprintf("adapter %d", a.Number)
	planned := plannedAttachment(a.Segment)
	wanted := planned.text(a.Segment)
	as := strings.TrimSpace(string(kind) + " " + shown)
	switch {
	case kind != listing.UnsaidAttachment && !planned.fits(kind):
		c.wrong("dual-homed-guest", "attach it to "+wanted, "%s is attached to %s (planned: %s)", what, as, wanted)
		return
	case shown == "" && planned.named:
		c.unseen(
			"look which network it is attached to",
			"%s is attached to %s; its name is not shown (planned: %s)",
			what,
			as,
			wanted,
		)
		return
	case shown == "":
		c.on(row.listed.Line, "%s is attached as planned: %s", what, as)
		return
	}
	s, near := network(c.p, shown)
	switch {
	case near && s == a.Segment && a.Segment.Reach == lab.Isolated:
		c.wrong(
			"no-gateway",
			"write it "+s.Called()+" everywhere, letter by letter",
			"%s is on %q, and the segment is called %s",
			row.Device,
			shown,
			s.Called(),
		)
	case s != nil && !near && (s == a.Segment || s == a.Segment.Wire.Root()),
		a.Segment.Wire.Root().Lab.Uplink == shown && shown != "":
		c.on(row.listed.Line, "%s is on %s", what, shown)
	case s != nil && !near:
		c.wrong("dual-homed-guest", "attach it to "+wanted, "%s is on %s (planned: %s)", what, s.Called(), wanted)
	default:
		c.unseen("check that it is the same network, or write its name into the lab file (known-as)",
			"%s is on %q, which the lab does not name (planned: %s)", what, shown, wanted)
	}
}

// tagged judges the tags that a page shows of an adapter that is attached as planned.
func (c *comparison) tagged(a *plan.Adapter, row Row) {
	if row.listed.Network == "" || a.Over != nil {
		return
	}
	what := fmt.Sprintf("adapter %d", a.Number)
	switch tag := a.Segment.Tag; {
	case tag != 0 && row.listed.Tag == 0:
		c.unseen("look whether it is an access port with tag "+fmt.Sprint(tag),
			"%s: no tag is shown (planned: tag %d, %s)", what, tag, a.Segment.Name)
	case tag != row.listed.Tag && row.listed.Tag != 0:
		c.wrong("vlan-clash", "set the planned tag", "%s has tag %d%s (planned: %s)", what, row.listed.Tag,
			c.tagName(a, row.listed.Tag), tagText(a.Segment))
	case tag != 0:
		c.on(row.listed.Line, "%s has tag %d, %s", what, tag, a.Segment.Name)
	}
	for _, r := range a.Riders {
		if row.listed.Trunk != nil && !slices.Contains(row.listed.Trunk, r.Segment.Tag) {
			c.unseen("let the switch pass tag "+fmt.Sprint(r.Segment.Tag)+" to it",
				"%s: tag %d of %s is not shown as passed", what, r.Segment.Tag, r.Segment.Name)
		}
	}
}

func tagText(s *plan.Segment) string {
	if s.Tag == 0 {
		return "untagged"
	}
	return fmt.Sprintf("tag %d, %s", s.Tag, s.Name)
}

// tagName names the segment of the same wire with a tag.
func (c *comparison) tagName(a *plan.Adapter, tag int) string {
	for _, s := range a.Segment.Wire.Segments {
		if s.Tag == tag {
			return ", " + s.Name
		}
	}
	return ""
}

// attachmentPlan is how an adapter on a segment is to be attached.
type attachmentPlan struct {
	kinds []listing.Attachment // any of these; nil: any
	named bool                 // to a network with a name
}

func plannedAttachment(s *plan.Segment) attachmentPlan {
	root := s.Wire.Root()
	switch {
	case s.Reach == lab.Upstream && root.Lab.Join == "nat":
		return attachmentPlan{[]listing.Attachment{listing.ByNAT}, false}
	case s.Reach == lab.Upstream:
		return attachmentPlan{[]listing.Attachment{listing.Bridged}, root.Lab.Uplink != ""}
	case s.Reach == lab.Host:
		return attachmentPlan{[]listing.Attachment{listing.HostOnly}, true}
	case root.Lab.Uplink != "":
		return attachmentPlan{[]listing.Attachment{listing.Bridged}, true}
	}
	return attachmentPlan{[]listing.Attachment{listing.Internal}, true}
}

func (x attachmentPlan) fits(kind listing.Attachment) bool { return slices.Contains(x.kinds, kind) }

// text returns what to attach an adapter to.
func (x attachmentPlan) text(s *plan.Segment) string {
	root := s.Wire.Root()
	switch {
	case s.Reach == lab.Upstream && root.Lab.Uplink != "":
		return s.Name + ", " + string(x.kinds[0]) + " to " + root.Lab.Uplink
	case s.Reach == lab.Upstream:
		return s.Name + ", " + string(x.kinds[0])
	}
	return string(x.kinds[0]) + " " + root.Called()
}
