package simulator

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/claims"
)

// Step is one thing that happens on a flow's way.
type Step struct {
	Micros  int64  `json:"micros"`          // since the flow began
	Frame   int    `json:"frame,omitempty"` // its number; 0 for a decision
	Machine string `json:"machine"`         // who sends or decides
	Segment string `json:"segment,omitempty"`
	Kind    string `json:"kind"` // name, arp, packet, error, or of a [node.Note]
	Text    string `json:"text"`
	Line    int    `json:"line,omitempty"` // of the lab file, where it is written
	Times   int    `json:"times"`          // how often the same came

	why host.Why
	hop netip.Addr
}

// TraceSchema names the JSON form of a trace.
const TraceSchema = "openbastion.trace/1"

// Trace is one flow, hop by hop.
type Trace struct {
	Schema   string `json:"schema"`
	Lab      string `json:"lab"`
	From     string `json:"from"`
	To       string `json:"to"`
	Service  string `json:"service"`
	Address  string `json:"address,omitempty"` // that was asked
	Beyond   bool   `json:"beyond"`            // a stand-in for the outside has a part in it
	Passed   bool   `json:"passed"`
	Observed string `json:"observed"` // what the other end saw, or what the sender was told
	Steps    []Step `json:"steps"`
	More     int    `json:"more,omitempty"`   // frames after the first answer, which are not listed
	Died     string `json:"died,omitempty"`   // where, and why
	Change   string `json:"change,omitempty"` // what would let it pass
	Tried    bool   `json:"tried"`            // the change was made in memory, and the flow passed
}

// maxSteps bounds what is kept of a flow.
const maxSteps = 400

// tracer gathers the steps of one flow.
type tracer struct {
	world *World
	began time.Duration
	phase string      // kind of the packets now: name or packet
	home  mac.Address // of the adapter that the flow starts from
	steps []Step
	seen  map[Step]int // place in steps, by the step without its time and frame
	done  bool         // the first answer is back
	more  int
}

func (t *tracer) add(s Step, frame int) {
	if at, again := t.seen[s]; again {
		t.steps[at].Times++
		return
	}
	if len(t.steps) == maxSteps {
		return
	}
	t.seen[s] = len(t.steps)
	s.Micros, s.Frame, s.Times = (t.world.now - t.began).Microseconds(), frame, 1
	t.steps = append(t.steps, s)
}

// frame takes a frame as it is sent.
func (t *tracer) frame(s *station, segment int, p *packet.Packet) {
	kind := t.phase
	switch {
	case p.Type == packet.TypeARP:
		kind = "arp"
	case !p.IPv4:
		return
	case p.Proto == packet.UDP:
		if _, to, ok := p.Ports(); !ok || to == dhcp.ServerPort || to == dhcp.ClientPort {
			return
		}
	case p.IsError():
		kind = "error"
	}
	if t.done {
		t.more++
		return
	}
	text := p.String()
	if kind == "name" && p.Proto == packet.UDP {
		if from, _, _ := p.Ports(); from == dns.Port {
			text += ", answers for " + witnessName
		} else {
			text += ", queries " + witnessName
		}
	}
	t.add(Step{Machine: s.name, Segment: t.world.Segments[segment], Kind: kind, Text: text}, p.Number)
	if t.phase == "packet" && kind != "arp" && p.To == t.home {
		t.done = p.Proto != packet.TCP || len(p.Data) < header.TCPSize ||
			header.TCP(p.Data).Flags()&(header.SYN|header.RST) != 0
	}
}

// follow has every frame and decision noted, until the function that it gives
// is called.
func (t *tracer) follow() func() {
	t.world.watch = t.frame
	for _, s := range t.world.stations {
		s.node.Noted = func(n host.Note) {
			if !t.done {
				t.add(
					Step{Machine: s.name, Kind: string(n.Kind), Text: n.Text, Line: n.Line, why: n.Why, hop: n.Hop},
					0,
				)
			}
		}
	}
	return func() {
		t.world.watch = nil
		for _, s := range t.world.stations {
			s.node.Noted = nil
		}
	}
}

// Trace follows one flow; from and to are adapters, nil for the outside.
func (l *Lab) Trace(from, to *plan.Adapter, service lab.Service) Trace {
	l.start()
	out := Trace{Schema: TraceSchema, Lab: l.plan.Name, From: claims.NameOf(from), To: claims.NameOf(to),
		Service: service.String(), Steps: []Step{}}
	through := claims.Towards(l.model, claims.Witness{Address: l.witness}, from, to, service)
	st, target, why, _ := l.ends(through) // of this very plan
	port := st.node.Ports()[0]
	if from != nil {
		if _, port = l.portOf(from); !port.Address.IsValid() {
			why = from.Machine.Name + " has no address"
		}
	}
	if why != "" {
		out.Died, out.Observed, out.Change = why, "nothing was sent", addressRemedy(from, to)
		return out
	}
	t := &tracer{world: l.world, began: l.world.now, phase: "name", home: port.MAC, seen: map[Step]int{}}
	stop := t.follow()
	if from != nil && to == nil && len(port.DNS) > 0 {
		look := st.node.LookUp(l.world.now, port.DNS[0], witnessName)
		l.world.pump(st)
		for range 1000 {
			if l.world.run(l.world.now + 10*time.Millisecond); look.Done {
				break
			}
		}
		if !slices.Contains(look.Addrs, l.witness) {
			t.add(
				Step{
					Machine: st.name,
					Kind:    "name",
					Text: fmt.Sprintf("%s did not resolve %s; continued by address", port.DNS[0],
						witnessName),
				},
				0,
			)
		}
	}
	named := len(t.steps)
	t.phase, t.seen = "packet", map[Step]int{}
	finish := l.reach(st, target, through.Service, 0)
	l.world.run(l.world.now + answerTime)
	stop()
	o := finish().got.(claims.GotReach)
	if l.world.spent {
		out.Died, out.Observed, out.Change = "the lab never comes to rest: frames go round in it until the rehearsal's budget of events is spent",
			"nothing that counts", "look for a loop: `bastion check` names one"
		return out
	}
	out.Address, out.Passed, out.Observed, out.More = target.String(), o.Answered, o.Outcome.String(), t.more
	out.Steps = append(out.Steps, t.steps...)
	out.Beyond = slices.ContainsFunc(out.Steps, func(s Step) bool {
		return slices.ContainsFunc(
			l.world.stations,
			func(st *station) bool { return l.outside[st] && st.name == s.Machine },
		)
	})
	switch {
	case !o.Answered:
		l.blame(&out, t.steps[named:], from, to, service)
	case o.Source.IsValid():
		out.Observed = fmt.Sprintf("%s saw %s", cmp.Or(o.Who, out.To), o.Source)
	default:
		out.Observed = "answered"
	}
	return out
}

// blame finds where a flow died, and what would let it pass.
func (l *Lab) blame(out *Trace, steps []Step, from, to *plan.Adapter, service lab.Service) {
	out.Died = "no answer came back"
	out.Change = "check the machines after that one; `bastion diagnose` finds the mistake from symptoms"
	for i := len(steps) - 1; i >= 0; i-- {
		if s := steps[i]; s.Kind != "arp" && s.Frame != 0 { // what was sent last
			out.Died = fmt.Sprintf("%s sends it on %s, and no answer comes back", s.Machine, s.Segment)
			break
		}
	}
	for _, s := range steps {
		if s.Kind != string(host.Lost) {
			continue
		}
		out.Died = fmt.Sprintf("at %s: %s", s.Machine, s.Text)
		if change := l.routeRemedy(s); change != "" {
			out.Change = change
		}
		if m := l.plan.Machine(s.Machine); m != nil && m.Appliance != nil {
			l.mend(out, m, s, from, to, service)
		} else if from == nil && to.Guest != nil {
			l.publish(out, to, service)
		}
		return
	}
}

// addressRemedy returns what to look at when one end of a flow has no address.
func addressRemedy(ends ...*plan.Adapter) string {
	for _, a := range ends {
		if a != nil && (a.How == plan.Lease || a.How == plan.Reservation) {
			return fmt.Sprintf(
				"provide a DHCP server on %s, and check that adapter %d of %s is plugged in there",
				a.Segment.Name,
				a.Number,
				a.Machine.Name,
			)
		}
	}
	return "give it an address, and check that its adapter is plugged in"
}

// routeRemedy returns what to look at where a packet found no way on: the next
// hop that does not answer, or the route that is missing; empty when that is
// not why it was lost.
func (l *Lab) routeRemedy(s Step) string {
	silent := s.why == host.Unanswered
	if !silent && s.why != host.NoRoute {
		return ""
	}
	m := l.plan.Machine(s.Machine)
	if m == nil {
		return ""
	}
	for _, a := range m.Adapters {
		port := a.Segment.Port
		switch {
		case a.Guest != nil && silent && a.Gateway == s.hop && port != nil && port.Address.IsValid():
			return fmt.Sprintf(
				"set the gateway of %s to %s, which is %s of %s",
				m.Name,
				port.Address.Addr(),
				portWords(port),
				port.Machine.Name,
			)
		case a.Guest != nil && !silent && port != nil && port.Address.IsValid():
			return fmt.Sprintf(
				"give %s a next hop: the gateway %s, which is %s of %s",
				m.Name,
				port.Address.Addr(),
				portWords(port),
				port.Machine.Name,
			)
		}
	}
	if silent {
		return fmt.Sprintf(
			"check that the machine with %s is plugged in, on the segment where %s sends ARP for it",
			s.hop,
			m.Name,
		)
	}
	return fmt.Sprintf("give %s a WAN address and gateway there", m.Name)
}

func portWords(a *plan.Adapter) string { return "port " + a.Name }

// mend proposes a rule where rules ended a flow, and tries it.
func (l *Lab) mend(out *Trace, m *plan.Machine, s Step, from, to *plan.Adapter, service lab.Service) {
	src := m.Appliance
	at, place := len(src.Rules), "at the end of the rules of "+m.Name
	for i, r := range src.Rules {
		if s.Line != 0 && r.Pos.Line == s.Line {
			at, place = i, fmt.Sprintf("before line %d", s.Line)
		}
	}
	if s.why != host.ByRules {
		return
	}
	rule := lab.Rule{
		Action:   lab.Allow,
		Services: []lab.Service{service},
		From:     []lab.Who{who(from)},
		To:       []lab.Who{who(to)},
	}
	out.Change = fmt.Sprintf("write `%s` %s", rule, place)
	changed := l.plan.Lab.Clone()
	twin := changed.Appliance(m.Name)
	twin.Rules = slices.Insert(slices.Clone(twin.Rules), at, rule)
	out.Tried = passes(changed, from, to, service)
}

// publish proposes to publish what the outside cannot reach, and tries it.
func (l *Lab) publish(out *Trace, to *plan.Adapter, service lab.Service) {
	port := to.Segment.Port
	if port == nil || len(port.Machine.WAN()) == 0 || service.Proto == lab.ICMP {
		return
	}
	changed := l.plan.Lab.Clone()
	out.Change = fmt.Sprintf(
		"publish it: `{port: %s, to: %s}` under nat: publish: of %s",
		service,
		to.Machine.Name,
		port.Machine.Name,
	)
	if _, p := l.portOf(to); to.How == plan.Lease && p.Address.IsValid() { // a lease may move
		out.Change = fmt.Sprintf(
			"give %s a fixed address (`reserve: %s`), and ",
			to.Machine.Name,
			p.Address.Addr(),
		) + out.Change
		changed.Guest(to.Machine.Name).Adapters[to.Number-1].Reserve = p.Address.Addr()
	}
	nat := &changed.Appliance(port.Machine.Name).NAT
	nat.Publish = append(slices.Clone(nat.Publish), lab.Publish{Port: service, To: to.Machine.Name, Target: service})
	out.Tried = passes(changed, nil, to, service)
}

func who(a *plan.Adapter) lab.Who {
	switch {
	case a == nil:
		return lab.Who{Kind: lab.WhoOutside}
	case a.Guest == nil:
		return lab.Who{Kind: lab.WhoAppliance, Name: a.Machine.Name}
	}
	return lab.Who{Kind: lab.WhoGuest, Name: a.Machine.Name}
}

// passes plans a changed lab, runs it anew, and tells whether the flow passes
// then. from and to are adapters of the lab as it was.
func passes(changed *lab.Lab, from, to *plan.Adapter, service lab.Service) bool {
	p, err := plan.Build(changed)
	if err != nil {
		return false
	}
	twin := func(a *plan.Adapter) *plan.Adapter {
		if a == nil {
			return nil
		}
		return p.Machine(a.Machine.Name).Adapters[slices.Index(a.Machine.Adapters, a)]
	}
	l := New(p)
	l.start()
	got, _ := claims.AskOne(context.Background(), l, claims.ThroughPublish(p, twin(from), twin(to), service)).Got.(claims.GotReach)
	return got.Answered
}
