package reachability

import (
	"openbastion/internal/filter/packetset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// flow is a set of packets on their way: as they are now, and as they were sent.
// A dimension that was not rewritten is the same in both.
type flow struct {
	now, sent packetset.Packets
	rewritten struct{ source, destination, service bool }
	rule      *plan.Rule    // the last rule that let them pass, or nil
	published bool          // they pass where no rule says otherwise
	public    *plan.Publish // what turned them, until they arrive
	maybe     bool          // it depends on which address a lease gives
}

// only keeps published packets when they are meant for an adapter.
func (f flow) only(a *plan.Adapter) flow {
	if f.public.To != a {
		f.now.Destination = nil
	}
	return f
}

func whole(source, destination packetset.Line) flow {
	p := packetset.Packets{Source: source, Destination: destination, Service: packetset.AllServices}
	return flow{now: p, sent: p}
}

// set returns the flow what it is now; what was not rewritten was so from the
// beginning.
func (f flow) set(now packetset.Packets) flow {
	f.now = now
	if !f.rewritten.source {
		f.sent.Source = now.Source
	}
	if !f.rewritten.destination {
		f.sent.Destination = now.Destination
	}
	if !f.rewritten.service {
		f.sent.Service = now.Service
	}
	return f
}

// and keeps what is in a set.
func (f flow) and(p packetset.Packets) flow { return f.set(f.now.And(p)) }

// to keeps what goes to some addresses.
func (f flow) to(l packetset.Line) flow {
	f.now.Destination = f.now.Destination.And(l)
	return f.set(f.now)
}

// from keeps what comes from some addresses.
func (f flow) from(l packetset.Line) flow {
	f.now.Source = f.now.Source.And(l)
	return f.set(f.now)
}

// sentBy keeps what is sent from some addresses, whatever its source has become.
func (f flow) sentBy(l packetset.Line) flow {
	if !f.rewritten.source {
		return f.from(l)
	}
	if f.sent.Source = f.sent.Source.And(l); len(f.sent.Source) == 0 {
		f.now.Source = nil
	}
	return f
}

// as gives it another source.
func (f flow) as(l packetset.Line) flow {
	f.now.Source, f.rewritten.source = l, true
	return f
}

// turned gives it another destination, and other services unless these are nil.
func (f flow) turned(to, services packetset.Line) flow {
	f.now.Destination, f.rewritten.destination = to, true
	if services != nil {
		f.now.Service, f.rewritten.service = services, true
	}
	return f
}

// decide applies those of the rules that speak of flows, the first that matches. It
// gives what they let pass, what none of them speaks of (where unmatched asks for it), and whether
// all of it could be looked at.
func decide(
	machine *plan.Machine,
	rules []packetset.Packets,
	speak []int,
	in []flow,
	unmatched bool,
) (passed, left []flow, whole bool) {
	whole = true
	for _, f := range in {
		if f.now.Empty() {
			continue
		}
		matches, ok := f.now.FirstMatches(rules, speak, unmatched || f.published, packetset.MaxMeetings)
		whole = whole && ok
		for _, x := range matches {
			hit := f.set(x.Packets)
			hit.maybe = hit.maybe || f.rewritten.source && !f.now.Source.Within(x.Source) ||
				f.rewritten.destination && !f.now.Destination.Within(x.Destination)
			switch {
			case x.Rule == packetset.None:
				left = append(left, hit)
			case machine.Rules[x.Rule].Action == lab.Allow:
				hit.rule = &machine.Rules[x.Rule]
				passed = append(passed, hit)
			}
		}
	}
	for _, f := range left { // what is published passes where no rule speaks of it
		if f.published {
			passed = append(passed, f)
		}
	}
	return passed, left, whole
}
