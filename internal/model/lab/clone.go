package lab

import "slices"

// Clone returns a lab that can be changed without changing this one: its
// segments, appliances with their ports, and guests with their adapters are
// copies. Lists within them, and profiles, are shared: replace them whole.
func (l *Lab) Clone() *Lab {
	c := *l
	c.names = map[string]any{}
	c.Segments, c.Appliances, c.Guests = nil, nil, nil
	for _, s := range l.Segments {
		twin := *s
		c.Segments = append(c.Segments, &twin)
		c.names[s.Name] = &twin
	}
	for _, a := range l.Appliances {
		twin := *a
		twin.Ports = nil
		for _, p := range a.Ports {
			port := *p
			twin.Ports = append(twin.Ports, &port)
		}
		c.Appliances = append(c.Appliances, &twin)
		c.names[a.Name] = &twin
	}
	for _, g := range l.Guests {
		twin := *g
		twin.Adapters = slices.Clone(g.Adapters)
		c.Guests = append(c.Guests, &twin)
		c.names[g.Name] = &twin
	}
	return &c
}

// AddSegment puts another segment into a lab; its name must be new.
func (l *Lab) AddSegment(s *Segment) {
	l.Segments = append(l.Segments, s)
	l.names[s.Name] = s
}

// AddGuest puts another guest into a lab; its name must be new.
func (l *Lab) AddGuest(g *Guest) {
	l.Guests = append(l.Guests, g)
	l.names[g.Name] = g
}

// KeepGuests takes all guests out of a lab but those that keep names.
func (l *Lab) KeepGuests(keep func(name string) bool) {
	l.Guests = slices.DeleteFunc(l.Guests, func(g *Guest) bool {
		if keep(g.Name) {
			return false
		}
		delete(l.names, g.Name)
		return true
	})
}

// DropSegments takes segments out of a lab, and the ports of appliances that are on them. No guest may
// be on one, and nothing may name it.
func (l *Lab) DropSegments(drop func(name string) bool) {
	for _, a := range l.Appliances {
		a.Ports = slices.DeleteFunc(a.Ports, func(p *Port) bool { return drop(p.Segment) })
	}
	l.Segments = slices.DeleteFunc(l.Segments, func(s *Segment) bool {
		if drop(s.Name) {
			delete(l.names, s.Name)
			return true
		}
		return false
	})
}
