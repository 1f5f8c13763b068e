// Package identify answers which interface of a console is which port of the
// plan: by hardware address, by the last bytes of one, or by order, with the
// risk said. It never maps an interface that could be two.
package identify

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/core/lab"
	"openbastion/core/listing"
	"openbastion/core/mac"
	"openbastion/core/plan"
)

// Row is one listed interface and what it is.
type Row struct {
	Device   string   `json:"device"`
	MAC      string   `json:"mac"` // as listed: whole, or a tail
	Machine  string   `json:"machine"`
	Number   int      `json:"number"`
	Port     string   `json:"port"`
	Role     lab.Role `json:"role"`
	Segment  string   `json:"segment"`
	How      string   `json:"how"` // mac, tail or order; empty when it is nobody's
	Conflict string   `json:"conflict,omitempty"`

	adapter *plan.Adapter
	clash   bool // another row looks like the same adapter
}

// Result is a whole listing told apart.
type Result struct {
	Rows    []Row
	Missing []*plan.Adapter // adapters of the machine that the listing does not have
	Risk    string          // of the whole answer, when there is one
}

// Sound tells whether every interface is known and none has a conflict.
func (r Result) Sound() bool {
	for _, row := range r.Rows {
		if row.Conflict != "" || row.adapter == nil {
			return false
		}
	}
	return len(r.Missing) == 0
}

// Listed maps the interfaces of a listing to the adapters of a machine.
func Listed(p *plan.Plan, m *plan.Machine, list []listing.Interface) Result {
	var r Result
	taken := map[*plan.Adapter]int{}
	anyAddress := false
	for _, i := range list {
		anyAddress = anyAddress || i.Tail != ""
	}
	order := 0
	for _, i := range list {
		row := Row{Device: i.Device, MAC: pairs(i.Tail)}
		switch {
		case i.Tail != "":
			byAddress(p, m, i, &row)
		case !anyAddress:
			for order < len(m.Adapters) && m.Adapters[order].Over != nil {
				order++
			}
			if order < len(m.Adapters) {
				row.adapter, row.How = m.Adapters[order], "order"
				order++
			}
			r.Risk = "the listing has no hardware addresses: this goes by order, which is luck; look for a command that shows them"
		default:
			row.Conflict = "no hardware address is listed for it"
		}
		if a := row.adapter; a != nil {
			if old, ok := taken[a]; ok {
				clash := fmt.Sprintf("%s and %s both look like adapter %d", r.Rows[old].Device, row.Device, a.Number)
				r.Rows[old].Conflict, row.Conflict = clash, clash
				r.Rows[old].clash, row.clash = true, true
			} else {
				taken[a] = len(r.Rows)
			}
			row.Machine, row.Number, row.Port, row.Role, row.Segment = m.Name, a.Number, a.Name, a.Role, a.Segment.Name
			if row.Conflict == "" {
				row.Conflict = belongs(p, a, i)
			}
		}
		r.Rows = append(r.Rows, row)
	}
	for _, a := range m.Adapters {
		if _, ok := taken[a]; !ok && a.Over == nil {
			r.Missing = append(r.Missing, a)
		}
	}
	return r
}

// pairs writes digits as pairs with colons.
func pairs(digits string) string {
	var out []string
	for len(digits) > 2 {
		out = append(out, digits[:2])
		digits = digits[2:]
	}
	return strings.Join(append(out, digits), ":")
}

// hex gives an adapter's hardware address as twelve digits.
func hex(a *plan.Adapter) string { return strings.ReplaceAll(a.MAC.String(), ":", "") }

// byAddress finds the adapter by a hardware address or its tail.
func byAddress(p *plan.Plan, m *plan.Machine, i listing.Interface, row *Row) {
	var own []*plan.Adapter
	for _, a := range m.Adapters {
		if strings.HasSuffix(hex(a), i.Tail) && named(i.Device, a) {
			own = append(own, a)
		}
	}
	switch {
	case len(own) == 1:
		row.adapter, row.How = own[0], "mac"
		if len(i.Tail) < 12 {
			row.How = "tail"
		}
		return
	case len(own) > 1:
		row.Conflict = fmt.Sprintf("%s fits adapters %d and %d: read more of its digits", i.Tail, own[0].Number, own[1].Number)
		return
	}
	for _, a := range p.Adapters {
		if a.Machine != m && a.Over == nil && strings.HasSuffix(hex(a), i.Tail) {
			row.Conflict = fmt.Sprintf("that is adapter %d of %s: is this the console of %s?", a.Number, a.Machine.Name, a.Machine.Name)
			return
		}
	}
	for _, a := range m.Adapters {
		if h := hex(a); a.Over == nil && len(i.Tail) >= 4 && differs(h[12-len(i.Tail):], i.Tail) == 1 {
			row.Conflict = fmt.Sprintf("it is in no plan; one digit differs from adapter %d (%s): read it again", a.Number,
				a.MAC.Tail((len(i.Tail)+1)/2))
			return
		}
	}
	row.Conflict = "its hardware address is in no plan"
}

// named tells whether a device's name fits the kind of port: one over another
// has that one's hardware address, and its tag behind a dot (eth1.48).
func named(device string, a *plan.Adapter) bool {
	hasTag := func(p *plan.Adapter) bool { return strings.HasSuffix(device, fmt.Sprintf(".%d", p.Segment.Tag)) }
	if a.Over != nil {
		return hasTag(a)
	}
	return !slices.ContainsFunc(a.Riders, hasTag)
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

// belongs looks whether what the listing says of an interface fits the port.
func belongs(p *plan.Plan, a *plan.Adapter, i listing.Interface) string {
	for _, x := range i.Addresses {
		if a.Segment.Subnet.Contains(x.Addr()) {
			continue
		}
		for _, s := range p.Segments {
			if s != a.Segment && s.Subnet.Contains(x.Addr()) {
				return fmt.Sprintf("it has %s, which is on %s: the roles look swapped", x.Addr(), s.Name)
			}
		}
	}
	if i.Link == listing.LinkDown && a.Plugged {
		return "it has no link: look whether its adapter is connected"
	}
	return ""
}

// Adopt pairs a listing of hardware addresses that a machine has already with
// its adapters: by name where the listed names are the ports', else in order.
// The error says why it cannot be told.
func Adopt(m *plan.Machine, list []listing.Interface) (map[*plan.Adapter]mac.Address, error) {
	own := m.Own()
	if len(list) != len(own) {
		return nil, fmt.Errorf("%d addresses are listed, and %s has %d adapters", len(list), m.Name, len(own))
	}
	named := 0
	for _, i := range list {
		for _, a := range own {
			if a.Name == i.Device {
				named++
			}
		}
	}
	out := map[*plan.Adapter]mac.Address{}
	taken := map[mac.Address]string{}
	for n, i := range list {
		address, err := mac.Parse(i.Tail)
		if err != nil {
			return nil, fmt.Errorf("line %d: %s has no whole hardware address", i.Line, i.Device)
		}
		if old, twice := taken[address]; twice {
			return nil, fmt.Errorf("%s and %s have the same hardware address %s", old, i.Device, address)
		}
		taken[address] = i.Device
		if named != len(own) {
			out[own[n]] = address
			continue
		}
		for _, a := range own {
			if a.Name == i.Device {
				out[a] = address
			}
		}
	}
	return out, nil
}

// Answers gives what the machine's console asks with the answers as the
// listing's devices: those whose adapter is sure.
func (r Result) Answers(p *plan.Plan, m *plan.Machine) []plan.Answer {
	devices := map[*plan.Adapter]string{}
	for _, row := range r.Rows {
		if row.adapter != nil && !row.clash {
			devices[row.adapter] = row.Device
		}
	}
	return p.AnswersWith(m, devices)
}
