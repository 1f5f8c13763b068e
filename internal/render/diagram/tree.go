package diagram

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
	"openbastion/internal/verify/verdict"
)

// Options say what a drawing shows.
type Options struct {
	All     bool // every guest, however many
	Verdict *verdict.Document
	Passes  []reachability.Cell // what passes from everybody to everybody, to write below the guests; nil: not
}

// tree is a plan in the order in which it is drawn: from outside inwards.
type tree struct {
	plan    *plan.Plan
	roots   []*block // segments that nothing stands before
	gates   []*gate  // before which only roots stand
	blocks  map[*plan.Segment]*block
	entries map[*plan.Machine]*entry
}

// block is a segment and what hangs below it.
type block struct {
	seg     *plan.Segment
	port    *plan.Adapter // the port that it hangs from, or nil
	entries []*entry
	gates   []*gate // whose outer ports are here

	bar     Box
	spare   float64 // room at the bar's lower edge for ways around to pass
	w       float64 // with all that hangs below
	columns int     // of entries
	entryW  float64
	textW   float64
}

// gate is an appliance.
type gate struct {
	m     *plan.Machine
	tops  []*plan.Adapter // ports on segments drawn above
	below []*block
	also  []*plan.Adapter // ports on segments drawn elsewhere

	box     Box
	w       float64
	details []string
}

// entry is a guest, or several that are alike.
type entry struct {
	guests []*plan.Machine
	home   *plan.Adapter
	lines  []string
	tail   string
	also   []*plan.Adapter // adapters on other segments

	box Box
}

func (e *entry) name() string {
	if len(e.guests) > 1 {
		return fmt.Sprintf("%d guests", len(e.guests))
	}
	return e.guests[0].Name
}

// crowd is how many guests a segment shows one by one, and few is how many of
// more than that stay on their own.
const (
	crowd = 8
	few   = 5
)

func grow(p *plan.Plan, o Options) *tree {
	t := &tree{plan: p, blocks: map[*plan.Segment]*block{}, entries: map[*plan.Machine]*entry{}}
	for _, s := range p.Segments {
		if s.Reach == lab.Upstream {
			t.root(s)
		}
	}
	left := p.Running()
	for len(left) > 0 {
		i := t.next(left)
		t.place(left[i])
		left = append(left[:i:i], left[i+1:]...)
	}
	for _, s := range p.Segments {
		if t.blocks[s] == nil {
			t.root(s)
		}
	}
	t.guests(o)
	t.passes(o.Passes)
	return t
}

func (t *tree) root(s *plan.Segment) *block {
	b := &block{seg: s}
	t.roots = append(t.roots, b)
	t.blocks[s] = b
	return b
}

// next returns the appliance to draw next: one whose WAN is drawn, else one that
// has any port on what is drawn, else the first.
func (t *tree) next(left []*plan.Machine) int {
	for i, m := range left {
		all, any := true, false
		for _, a := range m.WAN() {
			any = true
			all = all && t.blocks[a.Segment] != nil
		}
		if any && all {
			return i
		}
	}
	for i, m := range left {
		for _, a := range m.Adapters {
			if t.blocks[a.Segment] != nil {
				return i
			}
		}
	}
	return 0
}

func (t *tree) place(m *plan.Machine) {
	g := &gate{m: m, details: details(m)}
	wan := m.WAN()
	if len(wan) == 0 {
		wan = m.Adapters[:min(1, len(m.Adapters))]
	}
	if len(wan) > 0 && t.blocks[wan[0].Segment] == nil {
		t.root(wan[0].Segment)
	}
	// Outer ports: on the first WAN's segment, and on other roots while that is
	// one itself.
	var parent *block
	if len(wan) > 0 {
		parent = t.blocks[wan[0].Segment]
	}
	above := map[*plan.Adapter]bool{}
	for _, a := range wan {
		b := t.blocks[a.Segment]
		if b == parent || b != nil && t.isRoot(b) && t.isRoot(parent) {
			above[a] = true
			g.tops = append(g.tops, a)
		}
	}
	if parent == nil || t.isRoot(parent) {
		t.gates = append(t.gates, g)
	} else {
		parent.gates = append(parent.gates, g)
	}
	for _, a := range ordered(m) {
		switch {
		case above[a], a.Role == lab.Unused, a.Segment.Nowhere(): // the latter are told below
		case t.blocks[a.Segment] == nil:
			b := &block{seg: a.Segment, port: a}
			t.blocks[a.Segment] = b
			g.below = append(g.below, b)
		default:
			g.also = append(g.also, a)
		}
	}
}

func (t *tree) isRoot(b *block) bool {
	for _, r := range t.roots {
		if r == b {
			return true
		}
	}
	return false
}

// ordered returns an appliance's ports with those over another behind it.
func ordered(m *plan.Machine) []*plan.Adapter {
	var out []*plan.Adapter
	for _, a := range m.Own() {
		out = append(append(out, a), a.Riders...)
	}
	return out
}

// guests hangs each guest below its home, those with several adapters last,
// and puts a crowd's look-alikes together.
func (t *tree) guests(o Options) {
	published := map[*plan.Machine][]string{}
	for _, m := range t.plan.Running() {
		for _, pub := range m.Publishes {
			text := fmt.Sprintf("published %s/%d", pub.Proto, pub.Target)
			if !slices.Contains(published[pub.To.Machine], text) {
				published[pub.To.Machine] = append(published[pub.To.Machine], text)
			}
		}
		for _, one := range m.OneToOne {
			published[one.To.Machine] = append(published[one.To.Machine], "is "+one.Outside.String()+" outside")
		}
	}
	at := map[*block][]*entry{}
	for _, m := range t.plan.Guests() {
		if m.Off {
			continue
		}
		home := claims.InsideAdapter(m)
		if home == nil {
			home = m.Adapters[0]
		}
		e := &entry{guests: []*plan.Machine{m}, home: home, tail: "…" + home.MAC.Tail(2)}
		e.lines = append([]string{address(home)}, published[m]...)
		for _, a := range m.Adapters {
			if a != home {
				e.also = append(e.also, a)
				e.lines = append(
					e.lines,
					fmt.Sprintf("%d on %s …%s", a.Number, a.Segment.Name, a.MAC.Tail(2)),
					"  "+address(a),
				)
			}
		}
		if m.Physical {
			e.lines = append(e.lines, "a computer on a cable")
		}
		if m.Guest.Forwards {
			e.lines = append(e.lines, "forwards for others")
		}
		at[t.blocks[home.Segment]] = append(at[t.blocks[home.Segment]], e)
	}
	for _, b := range t.blocks {
		list := at[b]
		if len(list) > crowd && !o.All {
			list = gather(list)
		}
		var last []*entry
		for _, e := range list {
			if len(e.also) > 0 {
				last = append(last, e)
			} else {
				b.entries = append(b.entries, e)
			}
		}
		b.entries = append(b.entries, last...)
		for _, e := range b.entries {
			for _, m := range e.guests {
				t.entries[m] = e
			}
		}
	}
}

// gather makes one entry of guests that take what lease they get, as they
// stand beside each other, and keeps a few others as they are.
func gather(list []*entry) []*entry {
	var out []*entry
	group := &entry{}
	kept := 0
	for _, e := range list {
		plainGuest := len(e.also) == 0 && len(e.lines) == 1
		if plainGuest && (e.home.How == plan.Lease || kept >= few) {
			group.guests = append(group.guests, e.guests[0])
			continue
		}
		kept++
		out = append(out, e)
	}
	if len(group.guests) < 2 {
		return list
	}
	first, last := group.guests[0], group.guests[len(group.guests)-1]
	group.home = first.Adapters[0]
	group.lines = []string{first.Name + " … " + last.Name}
	for _, m := range group.guests {
		if m.Adapters[0].How != plan.Lease {
			group.lines = append(group.lines, "some with fixed addresses")
			return append(out, group)
		}
	}
	group.lines = append(group.lines, "DHCP")
	return append(out, group)
}

// address says shortly how an adapter comes by its address.
func address(a *plan.Adapter) string {
	switch a.How {
	case plan.Lease:
		return "DHCP"
	case plan.Reservation:
		return a.Address.Addr().String() + " reserved"
	case plan.Static:
		if a.Address.IsValid() && !a.Unknown() {
			return a.Address.String()
		}
	case plan.FromAbove:
		return "DHCP from upstream"
	}
	return a.Shown()
}

// details are the lines that a gate bears.
func details(m *plan.Machine) []string {
	var out []string
	kind := string(m.Appliance.Kind)
	if kind == "" {
		kind = "routed"
	}
	rules := "no rules: denies all"
	if n := len(m.Rules); n > 0 {
		rules = fmt.Sprintf("%d rules, default deny", n)
		if n == 1 {
			rules = "1 rule, default deny"
		}
	}
	out = append(out, kind+" · "+rules)
	if len(m.Masq) > 0 {
		var names []string
		for _, s := range m.Masq {
			names = append(names, s.Name)
		}
		out = append(out, "NAT for "+several(names, 6))
	}
	var pubs []string
	for _, pub := range m.Publishes {
		pubs = append(
			pubs,
			fmt.Sprintf("forwards %s/%d → %s %s/%d", pub.Proto, pub.Port, pub.To.Machine.Name, pub.Proto, pub.Target),
		)
	}
	for _, one := range m.OneToOne {
		pubs = append(pubs, fmt.Sprintf("%s is %s", one.Outside, one.To.Machine.Name))
	}
	if len(pubs) > 4 {
		pubs = append(pubs[:3:3], fmt.Sprintf("and %d more published", len(pubs)-3))
	}
	return append(out, pubs...)
}

// asides returns what of a plan stands nowhere in its diagram.
func asides(p *plan.Plan) []string {
	var off, loose []string
	for _, m := range p.Machines {
		if m.Off {
			off = append(off, m.Name)
			continue
		}
		for _, a := range m.Adapters {
			switch {
			case a.Guest != nil && a.Segment.Nowhere():
				loose = append(loose, m.Name)
			case a.Port != nil && (a.Segment.Nowhere() || a.Role == lab.Unused || a.Role == ""):
				loose = append(loose, m.Name+"."+a.Name)
			}
		}
	}
	var out []string
	if off != nil {
		out = append(out, "Switched off: "+several(off, 8))
	}
	if loose != nil {
		out = append(out, "Not attached: "+several(loose, 6))
	}
	return out
}

func several(names []string, most int) string {
	if len(names) > most {
		return strings.Join(names[:most-1], ", ") + fmt.Sprintf(" and %d more", len(names)-most+1)
	}
	return strings.Join(names, ", ")
}

// joined returns how a segment is joined to what lies upstream.
func joined(s *plan.Segment) string {
	switch {
	case s.Lab.Join == "nat":
		return "NAT by the host"
	case s.Lab.Uplink != "":
		return "bridged to " + s.Lab.Uplink
	}
	return "bridged to an adapter of the host"
}

// port returns the lines beside a port.
func port(a *plan.Adapter) []string {
	head := fmt.Sprintf("%d %s", a.Number, a.Name)
	if a.Over != nil {
		head += fmt.Sprintf(", tag %d", a.Segment.Lab.VLAN)
	}
	if !a.Plugged {
		head += ", unplugged"
	}
	third := address(a)
	if a.Admin != nil {
		third += " · admin"
	}
	return []string{head, a.Device() + " …" + a.MAC.Tail(2), third}
}

// about returns a segment's lines under its name.
func about(s *plan.Segment) []string {
	if s.Nowhere() {
		return []string{"not decided yet"}
	}
	first := s.SubnetText()
	if s.Bridged != nil {
		first = "bridged with " + s.Bridged.Name
	}
	if s.Subnet6.IsValid() {
		first += " · " + s.Subnet6.String()
	}
	var words []string
	switch s.Reach {
	case lab.Upstream:
		if s.KnownGateway().IsValid() {
			words = append(words, "gateway "+s.Gateway.String())
		}
	default:
		switch {
		case s.Lab.Reach == "" && !s.Nowhere():
			words = append(words, "reach not decided")
		case !s.HostLeg.IsValid():
			words = append(words, string(s.Reach))
		}
		if s.Tag == 0 && s.Wire.Uplink() != "" {
			words = append(words, "by "+s.Wire.Uplink())
		}
	}
	if s.HostLeg.IsValid() {
		words = append(words, "host "+s.HostLeg.Addr().String())
	}
	if server, service := s.LeaseService(); service != nil && !(service.Planned && s.Unknown()) {
		pool := "pool " + between(service.Pool.From, service.Pool.To)
		if server.Machine.Guest != nil {
			pool += " by " + server.Machine.Name
		}
		words = append(words, pool)
	}
	if s.Tag != 0 {
		words = append(words, fmt.Sprintf("tag %d on %s", s.Tag, s.Wire.Name))
	}
	if len(words) == 0 {
		return []string{first}
	}
	return []string{first, strings.Join(words, " · ")}
}

// between writes a pool with what both ends share said once.
func between(from, to netip.Addr) string {
	a, b := from.String(), to.String()
	if from.Is4() && to.Is4() {
		i := strings.LastIndexByte(a, '.')
		if i > 0 && strings.HasPrefix(b, a[:i+1]) {
			return a[i:] + "–" + b[i:]
		}
	}
	return a + "–" + b
}
