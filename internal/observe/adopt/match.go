package adopt

import (
	"fmt"
	"slices"
)

// match finds which exported adapter a shown one is where no hardware address says it:
// by the network that others have on its segment, by words of its side, and where one
// is left on either side. Order says nothing. What cannot be told is taken out, and
// noted.
func (s *site) match() {
	for again := true; again; {
		again = false
		for _, m := range s.machines {
			shown, exported := m.unmatched()
			for _, a := range shown {
				var fits []*adapter
				for _, x := range exported {
					if x.segment != nil && a.address.IsValid() && a.masked && x.segment.subnet == a.address.Masked() {
						fits = append(fits, x)
					}
				}
				if len(fits) != 1 {
					fits = slices.DeleteFunc(slices.Clone(exported), func(x *adapter) bool {
						return side(a.label) == "" || side(a.label) != side(x.network)
					})
				}
				if len(fits) != 1 && len(shown) == 1 && len(exported) == 1 && a.could(exported[0]) {
					fits = exported
				}
				if len(fits) == 1 {
					s.unite(fits[0], a)
					again = true
					break
				}
			}
		}
	}
	for _, m := range s.machines {
		shown, exported := m.unmatched()
		for _, a := range shown {
			if len(exported) == 0 {
				continue
			}
			s.notes = append(s.notes,
				fmt.Sprintf("%s shows %s with %s, but not on which of its adapters: paste its MAC addresses too",
					m.name, orUnnamed(a.device), a.address))
			s.remove(a)
		}
	}
}

func orUnnamed(device string) string {
	if device == "" {
		return "an interface"
	}
	return device
}

// could reports whether nothing speaks against two adapters being one.
func (a *adapter) could(x *adapter) bool {
	return x.segment == nil || !x.segment.subnet.IsValid() || !a.address.IsValid() ||
		x.segment.subnet.Contains(a.address.Addr())
}

// unmatched returns a machine's adapters that were shown without a hardware address, and
// exported ones of which nothing was shown.
func (m *machine) unmatched() (shown, exported []*adapter) {
	if !slices.ContainsFunc(m.adapters, func(a *adapter) bool { return a.exported }) {
		return nil, nil
	}
	for _, a := range m.adapters {
		switch {
		case a.exported && !a.address.IsValid() && a.device == "":
			exported = append(exported, a)
		case !a.exported && a.tail == "" && a.tag == 0:
			shown = append(shown, a)
		}
	}
	return shown, exported
}

// unite puts what was shown of an adapter to what was exported of it.
func (s *site) unite(x, shown *adapter) {
	s.remove(shown)
	x.device, x.label, x.address, x.masked = shown.device, shown.label, shown.address, shown.masked
	x.lease, x.server, x.silent = shown.lease, shown.server, shown.silent
	x.off = x.off || shown.off
	if g := x.segment; g != nil {
		g.adapters = slices.DeleteFunc(g.adapters, func(a *adapter) bool { return a == x })
		g.add(x)
	}
}

// remove takes an adapter out, and its segment when nobody else is on it.
func (s *site) remove(a *adapter) {
	a.of.adapters = slices.DeleteFunc(a.of.adapters, func(x *adapter) bool { return x == a })
	if g := a.segment; g != nil {
		g.adapters = slices.DeleteFunc(g.adapters, func(x *adapter) bool { return x == a })
		s.segments = slices.DeleteFunc(s.segments, func(x *segment) bool { return len(x.adapters) == 0 })
	}
}
