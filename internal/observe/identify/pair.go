package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

// How says by what evidence an interface is an adapter, the surest first.
type How string

// The evidence.
const (
	ByMAC     How = "mac"
	ByTail    How = "tail"
	ByLoss    How = "link"    // it lost its link when the adapter was unplugged
	ByNumber  How = "number"  // the adapter's number, on a page or in a definition
	ByAddress How = "address" // it has what is planned for one adapter alone
	ByName    How = "name"    // of the port, its role or its segment
	ByOrder   How = "order"   // luck
)

// Sure tells evidence that is taken without a question.
func (h How) Sure() bool { return h != ByOrder && h != "" }

// Row is one listed interface and what it is.
type Row struct {
	Device   string   `json:"device"`
	MAC      string   `json:"mac"` // as listed: whole, or a tail
	Machine  string   `json:"machine"`
	Number   int      `json:"number"`
	Port     string   `json:"port"`
	Role     lab.Role `json:"role"`
	Segment  string   `json:"segment"`
	How      How      `json:"method"` // empty when it is nobody's
	Conflict string   `json:"conflict,omitempty"`

	adapter *plan.Adapter
	listed  listing.Interface
	clash   bool // another row looks like the same adapter
}

// Wired reports whether the evidence shows which cable the interface is: a MAC address, a link that was
// lost, or the adapter's number on a page of the hypervisor. A label or an address on a console shows only
// what was assigned there.
func (r Row) Wired() bool { return r.How != ByName && r.How != ByAddress && r.How.Sure() }

// Adapter returns the adapter that the interface is, or nil.
func (r Row) Adapter() *plan.Adapter { return r.adapter }

// Named reports whether the listing says what the system calls the interface.
func (r Row) Named() bool { return r.listed.Device != "" }

// hex returns an adapter's hardware address as twelve digits.
func hex(a *plan.Adapter) string { return strings.ReplaceAll(a.MAC.String(), ":", "") }

// tagFits reports whether a device's tag fits the kind of port: one over another
// has that one's hardware address, and its tag behind a dot (eth1.48).
func tagFits(i listing.Interface, a *plan.Adapter) bool {
	if a.Over != nil {
		return i.Tag == a.Segment.Tag
	}
	return i.Tag == 0 || !slices.ContainsFunc(a.Riders, func(p *plan.Adapter) bool { return p.Segment.Tag == i.Tag })
}

// pairing finds which listed interface is which adapter of a machine.
type pairing struct {
	p     *plan.Plan
	m     *plan.Machine
	rows  []Row
	taken map[*plan.Adapter]int // the row that has it
}

// pair goes from the surest evidence to the weakest; what is taken stays taken.
func pair(p *plan.Plan, m *plan.Machine, list []listing.Interface) *pairing {
	x := &pairing{p: p, m: m, taken: map[*plan.Adapter]int{}}
	for _, i := range list {
		row := Row{Device: i.Device, MAC: mac.Pairs(i.Tail), listed: i}
		if row.Device == "" {
			row.Device = i.Label
		}
		if row.Device == "" && i.Number > 0 {
			row.Device = fmt.Sprintf("adapter %d", i.Number)
		}
		x.rows = append(x.rows, row)
	}
	x.byAddress()
	for _, by := range []struct {
		how  How
		fits func(listing.Interface, *plan.Adapter) bool
	}{
		{ByName, func(i listing.Interface, a *plan.Adapter) bool {
			return a.Seen() != "" && strings.EqualFold(a.Seen(), i.Device)
		}},
		{ByNumber, func(i listing.Interface, a *plan.Adapter) bool {
			return i.Number > 0 && i.Number == a.Number && a.Over == nil
		}},
		{ByName, x.calledSo},
		{ByName, x.roleFits},
		{ByName, func(i listing.Interface, a *plan.Adapter) bool {
			s, _ := network(p, i.Network)
			return i.Network != "" && s == a.Segment
		}},
		{ByAddress, hasPlanned},
		{ByAddress, func(i listing.Interface, a *plan.Adapter) bool { return on(i, a.Segment) }},
	} {
		x.each(by.how, by.fits)
	}
	x.equals()
	x.byOrder()
	return x
}

// equals names rows that say the same of an adapter: nothing tells which of them it is.
func (x *pairing) equals() {
	for _, a := range x.m.Own() {
		if _, gone := x.taken[a]; gone {
			continue
		}
		var rows []int
		for k := range x.rows {
			if i := x.rows[k].listed; x.open(k) && tagFits(i, a) && (x.calledSo(i, a) || x.roleFits(i, a)) {
				rows = append(rows, k)
			}
		}
		for _, k := range rows {
			if len(rows) > 1 {
				x.rows[k].Conflict = fmt.Sprintf(
					"%s and %s fit adapter %d (%s) equally",
					x.rows[rows[0]].Device,
					x.rows[rows[1]].Device,
					a.Number,
					a.Name,
				)
			}
		}
	}
}

// open tells rows that nothing was found for yet.
func (x *pairing) open(k int) bool { return x.rows[k].adapter == nil && x.rows[k].Conflict == "" }

// each takes pairs that fit where neither side fits another.
func (x *pairing) each(how How, fits func(listing.Interface, *plan.Adapter) bool) {
	rowsOf := map[*plan.Adapter][]int{}
	fitsOf := map[int]int{}
	for k := range x.rows {
		if !x.open(k) {
			continue
		}
		for _, a := range x.m.Adapters {
			if _, gone := x.taken[a]; !gone && tagFits(x.rows[k].listed, a) && fits(x.rows[k].listed, a) {
				rowsOf[a] = append(rowsOf[a], k)
				fitsOf[k]++
			}
		}
	}
	for _, a := range x.m.Adapters {
		if rows := rowsOf[a]; len(rows) == 1 && fitsOf[rows[0]] == 1 {
			x.take(rows[0], a, how)
		}
	}
}

func (x *pairing) take(k int, a *plan.Adapter, how How) {
	row := &x.rows[k]
	row.adapter, row.How = a, how
	if row.Device == "" {
		row.Device = fmt.Sprintf("adapter %d", a.Number)
	}
	x.taken[a] = k
	row.Machine, row.Number, row.Port, row.Role, row.Segment = x.m.Name, a.Number, a.Name, a.Role, a.Segment.Name
}

// hasPlanned reports whether it is an interface with the very address of an adapter.
func hasPlanned(i listing.Interface, a *plan.Adapter) bool {
	return a.Address.IsValid() &&
		slices.ContainsFunc(i.Addresses, func(n listing.Address) bool { return n.Addr() == a.Address.Addr() })
}

// calledSo reports whether it is an interface that is called as the port, or its segment.
func (x *pairing) calledSo(i listing.Interface, a *plan.Adapter) bool {
	for _, name := range []string{i.Label, i.Device} {
		if n := fold(name); n != "" && (n == fold(a.Name) || n == fold(a.Segment.Name) || n == fold(x.m.Name+a.Name)) {
			return true
		}
	}
	return false
}

// roleFits reports whether it is an interface whose label says the role of one port alone.
func (x *pairing) roleFits(i listing.Interface, a *plan.Adapter) bool {
	role := roleOf(i.Label)
	return role != "" && role == a.Role && x.m.Appliance != nil
}

// byAddress takes what hardware addresses and their tails tell.
func (x *pairing) byAddress() {
	for k := range x.rows {
		i := x.rows[k].listed
		if i.Tail == "" {
			continue
		}
		var own []*plan.Adapter
		for _, a := range x.m.Adapters {
			if strings.HasSuffix(hex(a), i.Tail) && tagFits(i, a) {
				own = append(own, a)
			}
		}
		row := &x.rows[k]
		switch {
		case len(own) > 1:
			row.Conflict = fmt.Sprintf(
				"%s fits adapters %d and %d equally: read more of its digits",
				i.Tail,
				own[0].Number,
				own[1].Number,
			)
		case len(own) == 1:
			if old, twice := x.taken[own[0]]; twice && (x.rows[old].listed.Device != i.Device || i.Device == "") {
				if mine, other := x.bridged(k, old); mine || other {
					if mine {
						x.take(k, own[0], x.rows[old].How)
						x.rows[old].adapter, x.rows[old].Conflict = nil, ""
					}
					continue
				}
				clash := fmt.Sprintf(
					"%s and %s both look like adapter %d",
					x.rows[old].Device,
					row.Device,
					own[0].Number,
				)
				x.rows[old].Conflict, row.Conflict = clash, clash
				x.rows[old].clash, row.clash = true, true
			}
			how := ByMAC
			if len(i.Tail) < 12 {
				how = ByTail
			}
			x.take(k, own[0], how)
		default:
			row.Conflict = x.strange(i)
		}
	}
}

// bridged returns which of two rows with one hardware address is a bridge or the like
// over the other: the one with the addresses; none when both have some.
func (x *pairing) bridged(k, old int) (mine, other bool) {
	a, b := x.rows[k].listed, x.rows[old].listed
	return len(a.Addresses) > 0 && len(b.Addresses) == 0 && a.Tag == 0 &&
			b.Tag == 0, len(a.Addresses) == 0 &&
			len(b.Addresses) > 0
}

// strange returns what is wrong with a hardware address that is none of the machine's;
// nothing where the file does not say what they are.
func (x *pairing) strange(i listing.Interface) string {
	for _, a := range x.p.Adapters {
		if a.Machine != x.m && a.Over == nil && len(i.Tail) >= 4 && strings.HasSuffix(hex(a), i.Tail) {
			return fmt.Sprintf(
				"that is adapter %d of %s: is this the console of %s?",
				a.Number,
				a.Machine.Name,
				a.Machine.Name,
			)
		}
	}
	given := slices.ContainsFunc(x.m.Adapters, func(a *plan.Adapter) bool { return a.MACGiven })
	for _, a := range x.m.Adapters {
		if h := hex(a); a.Over == nil && len(i.Tail) >= 4 && differs(h[12-len(i.Tail):], i.Tail) == 1 {
			return fmt.Sprintf(
				"it is in no plan; one digit differs from adapter %d (%s): read it again",
				a.Number,
				a.MAC.Tail((len(i.Tail)+1)/2),
			)
		}
	}
	alike := slices.ContainsFunc(
		x.m.Adapters,
		func(a *plan.Adapter) bool { return strings.HasPrefix(i.Tail, hex(a)[:8]) },
	)
	if given || len(i.Tail) < 12 || alike { // the planned ones were set, and this is none of them
		if i.Network != "" {
			return "its MAC address is in no plan, and it is on " + i.Network
		}
		return "its MAC address is in no plan"
	}
	return ""
}

func differs(a, b string) int {
	n := 0
	for i := range a {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}

// byOrder takes what is left in order, when nothing else tells: as many rows as
// adapters, or no row with a hardware address.
func (x *pairing) byOrder() {
	var rows []int
	for k := range x.rows {
		if x.open(k) && x.rows[k].listed.Tag == 0 {
			rows = append(rows, k)
		}
	}
	var left []*plan.Adapter
	for _, a := range x.m.Own() {
		if _, gone := x.taken[a]; !gone {
			left = append(left, a)
		}
	}
	read := slices.ContainsFunc(x.rows, func(r Row) bool {
		return r.How == ByMAC || r.How == ByTail || len(r.listed.Tail) > 0 && len(r.listed.Tail) < 12
	})
	if len(rows) == 0 || len(left) == 0 || read { // beside digits that tell, order would be a guess
		return
	}
	whole := slices.ContainsFunc(rows, func(k int) bool { return x.rows[k].listed.Tail != "" })
	if len(rows) != len(left) && whole {
		return
	}
	for n, k := range rows {
		if n < len(left) && (len(x.m.Own()) == 1 || x.rows[k].listed.Device != "" || x.rows[k].listed.Tail != "") {
			x.take(k, left[n], ByOrder)
		}
	}
}
