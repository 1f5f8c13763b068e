package status

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// Kind is what an event is about.
type Kind string

// The kinds of events.
const (
	LeaseGiven Kind = "lease"
	LeaseGone  Kind = "released"
	FlowBegun  Kind = "flow"
	Blocked    Kind = "blocked"
	LogLine    Kind = "logged"
	Escaped    Kind = "escape"
	Plugged    Kind = "plugged"
	Unplugged  Kind = "unplugged"
	Moved      Kind = "address"
	Failed     Kind = "failure"
	Applied    Kind = "applied"
)

// Event is one thing that happened in a lab.
type Event struct {
	At      time.Time `json:"time"`
	Kind    Kind      `json:"kind"`
	Machine string    `json:"machine,omitempty"` // whose it is: the appliance that blocked, the guest that escaped
	Segment string    `json:"segment,omitempty"`
	Rule    int       `json:"rule,omitempty"`    // of an appliance's list
	Packets uint64    `json:"packets,omitempty"` // that a rule stopped
	Text    string    `json:"text"`
}

// Rate is how much goes one way.
type Rate struct {
	Packets float64 `json:"packets"` // a second
	Bytes   float64 `json:"bytes"`   // a second
}

// SegmentRate is what a segment carries.
type SegmentRate struct {
	Name string `json:"name"`
	Rate
}

// AdapterRate is what an adapter receives and sends.
type AdapterRate struct {
	Machine  string `json:"machine"`
	Number   int    `json:"number"`
	Segment  string `json:"segment"`
	Received Rate   `json:"received"`
	Sent     Rate   `json:"sent"`
}

// Change is what happened in a lab between two looks at it.
type Change struct {
	Lab      string        `json:"lab"`
	At       time.Time     `json:"time"`
	Phase    Phase         `json:"phase"`
	Segments []SegmentRate `json:"segments"`
	Adapters []AdapterRate `json:"adapters"`
	Events   []Event       `json:"events"`
	Checked  *Checked      `json:"checked,omitempty"` // as of now
}

// Compare tells what happened between two looks that are a time apart, in the order of
// what it is about: what is worst comes first.
func Compare(before, now Lab, at time.Time, apart time.Duration) Change {
	c := Change{
		Lab:      now.Lab,
		At:       at,
		Phase:    now.Phase,
		Checked:  now.Checked,
		Segments: []SegmentRate{},
		Adapters: []AdapterRate{},
		Events:   []Event{},
	}
	c.escapes(before, now)
	if now.Failure != "" && now.Failure != before.Failure {
		c.add(Event{Kind: Failed, Text: now.Failure})
	}
	if before.Plan != now.Plan && before.Plan != "" {
		c.add(Event{Kind: Applied, Text: "the lab was changed to match its file"})
	}
	c.blocked(before, now)
	c.logged(before, now)
	c.leases(before, now)
	c.machines(before, now, apart)
	c.flows(before, now)
	old := map[string]Traffic{}
	for _, s := range before.Segments {
		old[s.Name] = s.Carried
	}
	for _, s := range now.Segments {
		c.Segments = append(c.Segments, SegmentRate{s.Name, s.Carried.since(old[s.Name]).over(apart)})
	}
	return c
}

// since returns what was added to a count; one that is smaller than before began anew.
func (t Traffic) since(before Traffic) Traffic {
	if t.Packets < before.Packets || t.Bytes < before.Bytes {
		return t
	}
	return Traffic{t.Packets - before.Packets, t.Bytes - before.Bytes}
}

func (t Traffic) over(d time.Duration) Rate {
	if d <= 0 {
		return Rate{}
	}
	return Rate{float64(t.Packets) / d.Seconds(), float64(t.Bytes) / d.Seconds()}
}

func (c *Change) add(e Event) {
	if e.At.IsZero() {
		e.At = c.At
	}
	c.Events = append(c.Events, e)
}

func (c *Change) escapes(before, now Lab) {
	last := time.Time{}
	for _, e := range before.Escapes {
		last = later(last, e.At)
	}
	for _, e := range now.Escapes {
		if e.At.After(last) {
			c.add(Event{At: e.At, Kind: Escaped, Machine: e.Guest, Segment: e.Segment,
				Text: fmt.Sprintf("%s gets out on %s: %s", e.Guest, e.Segment, e.Packet)})
		}
	}
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func (c *Change) blocked(before, now Lab) {
	type key struct {
		appliance string
		number    int
	}
	old := map[key]Traffic{}
	for _, r := range before.Rules {
		old[key{r.Appliance, r.Number}] = r.Hits
	}
	for _, r := range now.Rules {
		n := r.Hits.since(old[key{r.Appliance, r.Number}]).Packets
		if !r.Blocks || n == 0 {
			continue
		}
		text := fmt.Sprintf("%s stops %d by rule %d: %s", r.Appliance, n, r.Number, r.Text)
		if r.Number == 0 {
			text = fmt.Sprintf("%s stops %d: no rule allows it", r.Appliance, n)
		}
		c.add(Event{Kind: Blocked, Machine: r.Appliance, Rule: r.Number, Packets: n, Text: text})
	}
}

func (c *Change) logged(before, now Lab) {
	last := time.Time{}
	for _, l := range before.Log {
		last = later(last, l.At)
	}
	for _, l := range now.Log {
		if l.At.After(last) {
			c.add(
				Event{
					At:      l.At,
					Kind:    LogLine,
					Machine: l.Appliance,
					Text: fmt.Sprintf("%s: %s, %s from %s to %s", l.Appliance, l.Rule, l.Protocol,
						End(l.From), End(l.To)),
				},
			)
		}
	}
}

func (c *Change) leases(before, now Lab) {
	type key struct {
		segment string
		address netip.Addr
		mac     string
	}
	held := func(l Lab) map[key]Lease {
		out := map[key]Lease{}
		for _, x := range l.Leases {
			out[key{x.Segment, x.Address, x.MAC.String()}] = x
		}
		return out
	}
	tell := func(list []Lease, missing map[key]Lease, kind Kind, text string) {
		for _, x := range list {
			if _, there := missing[key{x.Segment, x.Address, x.MAC.String()}]; !there {
				c.add(Event{Kind: kind, Machine: x.Hostname, Segment: x.Segment,
					Text: fmt.Sprintf(text, cmp.Or(x.Hostname, x.MAC.String()), x.Address, x.Server)})
			}
		}
	}
	tell(now.Leases, held(before), LeaseGiven, "%s gets %s from %s")
	tell(before.Leases, held(now), LeaseGone, "%s has %s from %s no more")
}

func (c *Change) machines(before, now Lab, apart time.Duration) {
	type key struct {
		machine string
		number  int
		name    string
	}
	old := map[key]Adapter{}
	for _, m := range before.Machines {
		for _, a := range m.Adapters {
			old[key{m.Name, a.Number, a.Name}] = a
		}
	}
	for _, m := range now.Machines {
		for _, a := range m.Adapters {
			was, known := old[key{m.Name, a.Number, a.Name}]
			c.Adapters = append(
				c.Adapters,
				AdapterRate{m.Name, a.Number, a.Segment, a.Received.since(was.Received).over(apart),
					a.Sent.since(was.Sent).over(apart)},
			)
			switch {
			case known && a.Plugged && !was.Plugged:
				c.add(
					Event{
						Kind:    Plugged,
						Machine: m.Name,
						Segment: a.Segment,
						Text:    fmt.Sprintf("%s of %s is plugged", a.Name, m.Name),
					},
				)
			case known && !a.Plugged && was.Plugged:
				c.add(
					Event{
						Kind:    Unplugged,
						Machine: m.Name,
						Segment: a.Segment,
						Text:    fmt.Sprintf("%s of %s is unplugged", a.Name, m.Name),
					},
				)
			case known && a.Address != was.Address:
				c.add(Event{Kind: Moved, Machine: m.Name, Segment: a.Segment,
					Text: fmt.Sprintf("%s of %s has %s now", a.Name, m.Name, address(a.Address))})
			}
		}
	}
}

func address(p netip.Prefix) string {
	if !p.IsValid() {
		return "no address"
	}
	return p.String()
}

func (c *Change) flows(before, now Lab) {
	type key struct {
		appliance, protocol string
		from, to            netip.AddrPort
	}
	old := map[key]bool{}
	for _, f := range before.Flows {
		old[key{f.Appliance, f.Protocol, f.From, f.To}] = true
	}
	var begun []Flow
	for _, f := range now.Flows {
		if !old[key{f.Appliance, f.Protocol, f.From, f.To}] && f.Packets > 0 {
			begun = append(begun, f)
		}
	}
	slices.SortStableFunc(begun, func(a, b Flow) int { return cmp.Compare(b.Bytes, a.Bytes) })
	for _, f := range begun {
		text := fmt.Sprintf("%s from %s to %s through %s", f.Protocol, End(f.From), End(f.To), f.Appliance)
		if f.AnswerTo.Addr() != f.From.Addr() {
			text += ", seen as " + End(f.AnswerTo)
		}
		c.add(Event{Kind: FlowBegun, Machine: f.Appliance, Text: text})
	}
}

// End returns an end of a flow: without a port where it has none.
func End(a netip.AddrPort) string {
	if a.Port() == 0 {
		return a.Addr().String()
	}
	return a.String()
}
