package lab

import "fmt"

// findOpen gathers what the file says is decided later, or leaves out where nothing
// can be planned in its place.
func (l *Lab) findOpen() {
	for _, s := range l.Segments {
		if s.Reach == "" && !s.Later("reach") {
			s.open = append(s.open, question{"reach", "how far does it reach"})
		}
		l.ask(s, "segment "+s.Name)
	}
	for _, a := range l.Appliances {
		l.ask(a, "appliance "+a.Name)
		for _, p := range a.Ports {
			if p.Segment == "" && p.Role != Unused && !p.Later("segment") {
				p.open = append(p.open, question{"segment", "on which segment is it"})
			}
			l.ask(p, fmt.Sprintf("port %s of %s", p.Name, a.Name))
		}
	}
	for _, g := range l.Guests {
		l.ask(g, "guest "+g.Name)
		for i := range g.Adapters {
			a := &g.Adapters[i]
			if a.Segment == "" && !a.Later("segment") && !g.Later("segment") {
				a.open = append(a.open, question{"segment", "on which segment is it"})
			}
			subject := "guest " + g.Name
			if len(g.Adapters) > 1 {
				subject = fmt.Sprintf("adapter %d of %s", i+1, g.Name)
			}
			l.ask(a, subject)
		}
	}
}

// ask notes what an object leaves open.
func (l *Lab) ask(o Object, subject string) {
	s := o.origin()
	for _, q := range s.open {
		l.Open = append(l.Open, Open{s.At(q.key), o, subject, q.key, q.text})
	}
}
