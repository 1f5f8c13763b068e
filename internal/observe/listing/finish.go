package listing

import (
	"slices"
	"strings"
)

// finish puts together what several tables and documents say of one interface, and
// leaves out what is none.
func (r *reader) finish() Listing {
	r.counted()
	var out []*Interface
	for _, i := range r.list {
		if loopback(i) {
			continue
		}
		at := slices.IndexFunc(out, func(o *Interface) bool { return same(o, i) })
		if at < 0 {
			out = append(out, i)
			continue
		}
		out[at].merge(i)
	}
	whole := slices.ContainsFunc(out, func(i *Interface) bool { return len(i.Tail) == 12 })
	for _, i := range out {
		if whole && len(i.Tail) < 12 { // beside whole ones shorter digits are something else
			i.Tail = ""
		}
		said := i.Tail != "" || i.Lease != LeaseUnsaid || len(i.Addresses) > 0 || i.Network != "" ||
			i.LeaseServer.IsValid() ||
			i.NoGateway ||
			i.Unanswered ||
			i.Link != LinkUnknown && i.Device != ""
		if said || i.Device != "" && i.Label != "" {
			r.out.Interfaces = append(r.out.Interfaces, *i)
		}
	}
	if whole { // what has neither address, where others have, is no adapter
		r.out.Interfaces = slices.DeleteFunc(r.out.Interfaces, func(i Interface) bool {
			return i.Tail == "" && len(i.Addresses) == 0 && i.Network == "" && i.Label == "" && i.Link != LinkDown
		})
	}
	return r.out
}

// counted makes numbers of adapters that keys count from 0 or from 1.
func (r *reader) counted() {
	for _, i := range r.list {
		stem, ok := strings.CutPrefix(i.Label, "#")
		if !ok {
			continue
		}
		if i.Label = ""; r.numbers[stem] > 0 { // they count from 1
			i.Number--
		}
	}
}

func loopback(i *Interface) bool {
	if i.Device == "lo" || i.Device == "lo0" || strings.HasPrefix(strings.ToLower(i.Device), "loopback") {
		return true
	}
	return len(i.Addresses) > 0 &&
		!slices.ContainsFunc(i.Addresses, func(a Address) bool { return !a.Addr().IsLoopback() })
}

// same reports whether two tables speak of one interface: by its device, its hardware
// address, or its label where one of them has nothing else.
func same(a, b *Interface) bool {
	if a.Machine != b.Machine && a.Machine != "" && b.Machine != "" ||
		a.Tag != b.Tag && a.Device != "" && b.Device != "" {
		return false
	}
	switch {
	case a.Device != "" && b.Device != "":
		return strings.EqualFold(a.Device, b.Device)
	case a.Number > 0 && b.Number > 0:
		return a.Number == b.Number
	case len(a.Tail) == 12 && a.Tail == b.Tail:
		return true
	case a.Label != "" && strings.EqualFold(a.Label, b.Label):
		return a.Tail == "" || b.Tail == ""
	case a.Label != "" && strings.EqualFold(a.Label, b.Device), b.Label != "" && strings.EqualFold(b.Label, a.Device):
		return true
	}
	for _, x := range a.Addresses {
		if slices.ContainsFunc(b.Addresses, func(y Address) bool { return x.Addr() == y.Addr() }) {
			return a.Tail == "" || b.Tail == ""
		}
	}
	return false
}

// merge takes what another table says of the interface.
func (i *Interface) merge(o *Interface) {
	if i.Device == "" {
		i.Device = o.Device
	}
	if i.Label == "" && !strings.EqualFold(o.Label, i.Device) {
		i.Label = o.Label
	}
	if i.Number == 0 {
		i.Number = o.Number
	}
	if len(i.Tail) < len(o.Tail) {
		i.Tail = o.Tail
	}
	for _, a := range o.Addresses {
		at := slices.IndexFunc(i.Addresses, func(x Address) bool { return x.Addr() == a.Addr() })
		if at < 0 {
			i.Addresses = append(i.Addresses, a)
		} else if !i.Addresses[at].Masked {
			i.Addresses[at] = a
		}
	}
	if i.Link == LinkUnknown || o.Link == LinkDown {
		i.Link = max(i.Link, o.Link)
	}
	if i.Network == "" {
		i.Network = o.Network
	}
	if i.Attached == UnsaidAttachment {
		i.Attached = o.Attached
	}
	if i.Tag == 0 {
		i.Tag = o.Tag
	}
	i.Trunk = append(i.Trunk, o.Trunk...)
	i.Duplicate = i.Duplicate || o.Duplicate
	if i.Lease == LeaseUnsaid {
		i.Lease = o.Lease
	}
	if !i.LeaseServer.IsValid() {
		i.LeaseServer = o.LeaseServer
	}
	i.NoGateway, i.Unanswered = i.NoGateway || o.NoGateway, i.Unanswered || o.Unanswered
	if i.Machine == "" {
		i.Machine = o.Machine
	}
}
