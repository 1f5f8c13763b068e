package simulator

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/outage"
)

// Fault is something that goes wrong for a while, and then stops.
type Fault struct {
	Kind    FaultKind
	Text    string // as it was asked for
	Machine *plan.Machine
	Adapter *plan.Adapter // of Unplug; nil: all of the machine
	Segment *plan.Segment
	Delay   time.Duration // of Slow
	Percent int           // of Loss
}

// FaultKind is the kind of a Fault.
type FaultKind string

// The kinds of Fault.
const (
	Unplug  FaultKind = "unplug"
	Reboot  FaultKind = "reboot"
	Slow    FaultKind = "slow"
	Loss    FaultKind = "loss"
	Reorder FaultKind = "reorder"
)

// How long a fault lasts, and how often guests try meanwhile and afterwards.
const (
	faultTime = 60 * time.Second
	tryEvery  = 2 * time.Second
	backTime  = 3 * time.Minute
)

// FaultForms are what ParseFault reads.
const FaultForms = "unplug=MACHINE[.PORT], reboot=MACHINE, slow=SEGMENT[:200ms], loss=SEGMENT[:20%] or reorder=SEGMENT"

// ParseFault reads one of the FaultForms.
func ParseFault(p *plan.Plan, text string) (Fault, error) {
	kind, what, _ := strings.Cut(text, "=")
	what, amount, given := strings.Cut(what, ":")
	f := Fault{Kind: FaultKind(kind), Text: text, Delay: 200 * time.Millisecond, Percent: 20}
	switch f.Kind {
	case Unplug, Reboot:
		name, port, one := strings.Cut(what, ".")
		if f.Machine = p.Machine(name); f.Machine == nil {
			return f, fmt.Errorf("no machine %q to %s", name, kind)
		}
		for _, a := range f.Machine.Adapters {
			if one && a.Over == nil && (a.Name == port || strconv.Itoa(a.Number) == port) {
				f.Adapter = a
			}
		}
		if one && (f.Adapter == nil || f.Kind == Reboot) || given {
			return f, fmt.Errorf("%s has no adapter %q to %s", name, port, kind)
		}
	case Slow, Loss, Reorder:
		if f.Segment = p.Segment(what); f.Segment == nil {
			return f, fmt.Errorf("no segment %q", what)
		}
		var err error
		switch {
		case given && f.Kind == Slow:
			f.Delay, err = time.ParseDuration(amount)
		case given && f.Kind == Loss:
			f.Percent, err = strconv.Atoi(strings.TrimSuffix(amount, "%"))
		case given:
			err = fmt.Errorf("reorder takes no amount")
		}
		if err != nil || f.Delay <= 0 || f.Delay > 10*time.Second || f.Percent < 1 || f.Percent > 100 {
			return f, fmt.Errorf("%q: a delay is 1ms to 10s, a loss 1%% to 100%%", amount)
		}
	default:
		return f, fmt.Errorf(
			"a fault is %s, not %q", FaultForms, text,
		)
	}
	return f, nil
}

// Suffer lets a fault happen to the running lab, and end, and gives what each
// guest behind an appliance saw of it. The claims can be asked for afterwards.
func (l *Lab) Suffer(f Fault) []outage.Seen {
	l.start()
	type patient struct {
		outage.Seen
		from    *station
		to      netip.Addr
		service lab.Service
		hop     *plan.Adapter // whose next hop is asked for instead
		talk    *host.Conn
		data    bool
	}
	var all []*patient
	for _, g := range l.plan.Guests() {
		home := claims.InsideAdapter(g)
		if home == nil {
			continue
		}
		s, port := l.portOf(home)
		x := &patient{from: s, to: l.witness, Seen: outage.Seen{Guest: g.Name, Talk: "none", Spans: []outage.Span{}}}
		var allowed []lab.Service
		if home.Segment.Port != nil && port.Address.IsValid() {
			allowed = claims.AllowedServices(home.Segment.Port.Machine, home.Segment, port.Address.Addr(), l.witness)
		}
		switch {
		case len(allowed) > 0:
			x.service = allowed[0]
			x.Tried = "outside by " + allowed[0].String()
			for _, v := range allowed {
				if v.Proto == lab.TCP {
					x.talk = s.node.Dial(l.world.now, netip.AddrPortFrom(x.to, v.From))
					x.talk.OnData = func([]byte) { x.data = true }
					l.world.pump(s)
				}
			}
		case port.Gateway.IsValid():
			x.hop, x.Tried = home, outage.NextHop
		default:
			continue
		}
		all = append(all, x)
	}
	l.world.run(l.world.now + 5*time.Second)
	attempt := func() []bool {
		began := l.world.now
		var finish []func() answer
		for _, x := range all {
			if x.hop != nil {
				finish = append(finish, l.askNeighbor(x.hop))
			} else {
				finish = append(finish, l.reach(x.from, x.to, x.service, 0))
			}
		}
		l.world.run(began + tryEvery)
		out := make([]bool, len(all))
		for i, fn := range finish {
			switch got := fn().got.(type) {
			case claims.GotNeighbor:
				out[i] = len(got.Hardware) > 0
			case claims.GotReach:
				out[i] = got.Answered
			}
		}
		return out
	}
	began, ended := l.world.now, time.Duration(0)
	tries := func() (back int) {
		at := l.world.now - began
		for i, answered := range attempt() {
			if all[i].Try(at, ended, answered); all[i].Back {
				back++
			}
		}
		return back
	}
	l.Strike(f, true)
	for l.world.now < began+faultTime {
		tries()
	}
	l.Strike(f, false)
	for ended = l.world.now - began; l.world.now < began+ended+backTime && tries() < len(all); {
	}
	for _, x := range all {
		if x.talk != nil && x.talk.Established {
			x.talk.Write([]byte("GET / HTTP/1.0\r\n\r\n"))
			l.world.pump(x.from)
		}
	}
	l.world.run(l.world.now + answerTime)
	var out []outage.Seen
	for _, x := range all {
		switch {
		case x.talk == nil || !x.talk.Established:
		case x.data:
			x.Talk = "goes on"
		default:
			x.Talk = "ended: " + cmp.Or(x.talk.Outcome, outcome.Of(outcome.NoAnswer)).String()
		}
		out = append(out, x.Seen)
	}
	return out
}

// Strike begins or ends a fault. What a real machine forgets when it is started again is not in it.
func (l *Lab) Strike(f Fault, begins bool) {
	switch f.Kind {
	case Unplug, Reboot:
		s := l.members[f.Machine]
		for _, a := range f.Machine.Adapters {
			if a.Over == nil && (f.Adapter == nil || f.Adapter == a) {
				l.world.setLink(s, a.Number, !begins && a.Plugged)
			}
		}
		if f.Kind == Reboot && begins && !s.real {
			s.node.Restart()
			if a := l.appliances[f.Machine]; a != nil {
				a.Filter.Forget()
			}
		}
	default:
		l.world.disturb = nil
		if begins {
			l.world.disturb = f.disturb(l.world)
		}
	}
}

// disturb returns what happens to the frames of the fault's segment.
func (f Fault) disturb(w *World) func(segment int) (lost bool, later time.Duration) {
	h := fnv.New32a()
	h.Write([]byte(f.Text))
	seed := h.Sum32() | 1
	return func(segment int) (bool, time.Duration) {
		if w.Segments[segment] != f.Segment.Name {
			return false, 0
		}
		seed ^= seed << 13
		seed ^= seed >> 17
		seed ^= seed << 5
		switch f.Kind {
		case Slow:
			return false, f.Delay
		case Loss:
			return int(seed%100) < f.Percent, 0
		}
		return false, time.Duration(seed%8) * time.Millisecond
	}
}
