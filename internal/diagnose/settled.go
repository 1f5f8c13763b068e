package diagnose

import "openbastion/internal/model/plan"

// attached returns the network that the hypervisor shows for an adapter. Where all adapters of a
// segment are on another one, the networks were joined, and each adapter still shows its own.
func (o *observer) attached(l *Look, at *plan.Adapter) Value {
	planned := l.At.Segment
	switch {
	case !at.Plugged || at.Segment.Nowhere():
		return None
	case at.Segment.Name == planned.Name:
		if at.Segment.Lab.Join != planned.Lab.Join || at.Segment.Reach != planned.Reach {
			return Other
		}
		return Holds
	case len(planned.Adapters) > 1 && o.joined(planned):
		return Holds
	}
	for i, s := range o.s.Plan.Segments {
		if s.Name == at.Segment.Name {
			return InNetwork(i)
		}
	}
	return Other
}

// twin reports whether another machine on an adapter's segment has its address.
func (o *observer) twin(at *plan.Adapter) Value {
	own := o.lab.Held(at).Address.Addr()
	for _, x := range at.Segment.Adapters {
		if x != at && own.IsValid() && x.Plugged && !x.Machine.Off && x.Address.IsValid() && x.Address.Addr() == own {
			return Other
		}
	}
	return Holds
}

// joined reports whether nobody is left on a planned segment.
func (o *observer) joined(planned *plan.Segment) bool {
	is := o.built.Plan.Segment(planned.Name)
	return is != nil && len(is.Adapters) == 0
}

// settled reads what a machine shows whether or not anything passes.
func (o *observer) settled(l *Look, at *plan.Adapter) Value {
	same := true
	switch l.Kind {
	case Adapters:
		same = len(at.Machine.Adapters) == len(l.At.Machine.Adapters)
	case Hardware:
		same = at.MAC == l.At.MAC
	default:
		same = (at.How == plan.Static) == (l.At.How == plan.Static) &&
			(at.How == plan.NoAddress) == (l.At.How == plan.NoAddress)
	}
	if same {
		return Holds
	}
	return Other
}
