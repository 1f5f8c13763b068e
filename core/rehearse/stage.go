package rehearse

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/lease"
	"openbastion/core/node"
	"openbastion/core/plan"
	"openbastion/core/subnet"
)

// settleTime is how long after its last question a round of probes waits for
// answers: longer than any retransmission goes on.
const settleTime = 75 * time.Second

// Name gives "rehearsal".
func (l *Lab) Name() string { return "rehearsal" }

// Witness gives the witness of the rehearsal's outside.
func (l *Lab) Witness() claims.Witness {
	return claims.Witness{Name: witnessName, Address: l.witness}
}

// Ask makes the probes, all in one span of virtual time, and gives what was
// observed.
func (l *Lab) Ask(when claims.Condition, probes []claims.Probe) []claims.Observation {
	l.start()
	if when == claims.Unplugged {
		l.plugWAN(false)
		defer func() {
			l.plugWAN(true)
			l.world.run(l.world.now + settleTime)
		}()
	}
	out := make([]claims.Observation, len(probes))
	finish := make([]func() claims.Observation, len(probes))
	hostile := false
	for i, q := range probes {
		if q.Kind == claims.Escape || q.Kind == claims.Scan {
			hostile = true
			continue
		}
		finish[i] = l.ask(q)
		l.world.run(l.world.now + 100*time.Microsecond)
	}
	l.world.run(l.world.now + settleTime)
	for i, fn := range finish {
		if fn != nil {
			out[i] = fn()
		}
	}
	if hostile {
		l.assault(probes, out)
	}
	return out
}

// plugWAN plugs or unplugs the WAN adapters of every appliance.
func (l *Lab) plugWAN(up bool) {
	for _, m := range l.plan.Appliances() {
		for _, a := range m.WAN() {
			l.world.setLink(l.members[m], a.Number, up && a.Plugged)
		}
	}
	l.world.run(l.world.now + time.Second)
}

// target gives the station a probe starts from, the address it goes to, and
// why it cannot be asked.
func (l *Lab) target(q claims.Probe) (from *station, to netip.Addr, why string) {
	from, to = l.buoy, l.witness
	if q.From != nil {
		from, _ = l.portOf(q.From)
	}
	if q.To != nil {
		_, port := l.portOf(q.To)
		if q.Six {
			if port.Six == nil || len(port.Six.Addresses) == 0 {
				return from, to, q.To.Machine.Name + " has no IPv6 address"
			}
			return from, port.Six.Addresses[0].Addr(), ""
		}
		if !port.Address.IsValid() {
			return from, to, q.To.Machine.Name + " has no address"
		}
		to = port.Address.Addr()
		if r := l.routers[q.To.Segment]; q.From == nil && q.To.Role == lab.WAN && q.To.Segment.Lab.Join == "nat" && r != nil {
			to = r.node.Ports()[1].Address.Addr() // the host passes on what is published, see router
		}
	}
	return from, to, ""
}

// ask starts one probe and gives what reads its outcome later.
func (l *Lab) ask(q claims.Probe) func() claims.Observation {
	now := l.world.now
	switch q.Kind {
	case claims.AskAddress:
		_, port := l.portOf(q.From)
		return func() claims.Observation {
			return claims.Observation{Answered: port.Address.IsValid(), Address: port.Address, Evidence: []string{fmt.Sprintf("%s port %s has %s", q.From.Machine.Name, q.From.Name, shown(port.Address))}}
		}
	case claims.AskLease:
		_, port := l.portOf(q.From)
		return func() claims.Observation { return leaseSeen(q.From, port) }
	case claims.AskServers:
		s, port := l.portOf(q.From)
		survey := s.node.SurveyServers(now, port)
		l.world.pump(s)
		return func() claims.Observation { return serversSeen(q.From, survey) }
	case claims.AskNeighbor:
		return l.askNeighbor(q)
	case claims.AskName:
		return l.askName(q)
	case claims.AskHop:
		s, _ := l.portOf(q.From)
		p := s.node.Ping(now, l.witness, 1, time.Second, l.payload())
		l.world.pump(s)
		return func() claims.Observation {
			o := claims.Observation{Answered: p.Expired, From: p.From, Saw: p.Error}
			if p.Frame != 0 {
				o.Evidence = []string{fmt.Sprintf("frame %d: time exceeded from %s", p.Frame, p.From)}
			} else {
				o.Evidence = []string{"no router answered a packet with one hop to live: " + p.Error}
			}
			return o
		}
	case claims.AskReach:
		return l.askReach(q)
	case claims.AskRouters:
		return l.askRouters(q)
	case claims.AskSix:
		return l.askSix(q)
	}
	return func() claims.Observation {
		return claims.Observation{Unknown: fmt.Sprintf("the rehearsal does not know probe %d", q.Kind)}
	}
}

func shown(p netip.Prefix) string {
	if !p.IsValid() {
		return "no address"
	}
	return p.String()
}

func (l *Lab) payload() []byte {
	l.pings++
	return fmt.Appendf(nil, "open bastion probe %08d", l.pings)
}

// answerWords say a resolver's answer codes (RFC 1035, section 4.1.1) in words.
var answerWords = map[string]string{
	"RCodeSuccess": "the name is known", "RCodeNameError": "there is no such name", "RCodeServerFailure": "it found nobody to ask",
	"RCodeRefused": "it refuses to look it up", "RCodeFormatError": "it did not understand", "RCodeNotImplemented": "it does not look such things up",
}

func leaseSeen(a *plan.Adapter, port *node.Port) claims.Observation {
	b := port.Client.Binding
	if b == nil {
		return claims.Observation{Evidence: []string{fmt.Sprintf("%s asked for a lease and got %d offers", a.Machine.Name, len(port.Client.Offers))}}
	}
	return claims.Observation{Answered: true, Lease: b, Evidence: []string{fmt.Sprintf("frame %d: %s acknowledges %s, router %s, %s, for %s", b.Frame, b.ServerMAC, b.Address, orNone(b.Router), subnet.Named("resolver", b.DNS), plan.Lasting(b.Duration))}}
}

func orNone(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

func serversSeen(a *plan.Adapter, survey *lease.Client) claims.Observation {
	o := claims.Observation{Answered: len(survey.Offers) > 0, Offers: survey.Offers}
	for _, offer := range survey.Offers {
		o.Evidence = append(o.Evidence, fmt.Sprintf("frame %d: %s at %s offers %s to %s", offer.Frame, offer.Server, offer.ServerMAC, offer.Address, a.Machine.Name))
	}
	if len(survey.Offers) == 0 {
		o.Evidence = []string{fmt.Sprintf("%s asked who hands out leases, and nobody answered", a.Machine.Name)}
	}
	return o
}

func (l *Lab) askNeighbor(q claims.Probe) func() claims.Observation {
	s, port := l.portOf(q.From)
	if !port.Gateway.IsValid() {
		why := "it has no gateway"
		if !port.Address.IsValid() {
			why = "it has no address"
		}
		return func() claims.Observation {
			return claims.Observation{Saw: why, Evidence: []string{q.From.Machine.Name + ": " + why}}
		}
	}
	hop := port.Gateway
	inquiry := s.node.Inquire(l.world.now, port, hop)
	l.world.pump(s)
	return func() claims.Observation {
		o := claims.Observation{From: hop, MACs: inquiry.Answers, Answered: len(inquiry.Answers) > 0}
		if o.Answered {
			o.Evidence = []string{fmt.Sprintf("frame %d: %s is at %s", inquiry.Frame, hop, inquiry.Answers[0])}
		} else {
			o.Evidence = []string{fmt.Sprintf("nobody answers for %s", hop)}
		}
		return o
	}
}

func (l *Lab) askName(q claims.Probe) func() claims.Observation {
	s, port := l.portOf(q.From)
	if len(port.DNS) == 0 {
		return func() claims.Observation {
			return claims.Observation{Saw: "none was named", Evidence: []string{q.From.Machine.Name + " knows no resolver"}}
		}
	}
	look := s.node.LookUp(l.world.now, port.DNS[0], witnessName)
	l.world.pump(s)
	return func() claims.Observation {
		o := claims.Observation{Answered: look.Answered, From: look.Resolver, Addrs: look.Addrs, Saw: look.Error}
		if look.Answered {
			o.Saw = answerWords[look.Code]
			what := "is " + strings.Join(subnet.Texts(look.Addrs), ", ")
			if len(look.Addrs) == 0 {
				what = "has no address"
			}
			o.Evidence = []string{fmt.Sprintf("frame %d: %s says that %s %s: %s", look.Frame, look.Resolver, look.Name, what, cmp.Or(o.Saw, look.Code))}
		} else {
			o.Evidence = []string{fmt.Sprintf("%s did not answer for %s: %s", look.Resolver, look.Name, look.Error)}
		}
		return o
	}
}

func (l *Lab) askReach(q claims.Probe) func() claims.Observation {
	from, to, why := l.target(q)
	if why != "" {
		return func() claims.Observation { return claims.Observation{Saw: why, Evidence: []string{why}} }
	}
	return l.reach(from, to, q)
}

// reach starts a probe from a station to an address.
func (l *Lab) reach(from *station, to netip.Addr, q claims.Probe) func() claims.Observation {
	now := l.world.now
	outcome := func(done bool, frame int, saw, who string, source netip.Addr) claims.Observation {
		o := claims.Observation{Answered: done, Saw: saw, Who: who, From: source}
		what := fmt.Sprintf("%s to %s by %s", from.name, to, service(q))
		switch {
		case done && source.IsValid():
			o.Evidence = []string{fmt.Sprintf("frame %d: %s answered; %s saw %s", frame, what, orName(who, "the far end"), source)}
		case done:
			o.Evidence = []string{fmt.Sprintf("frame %d: %s answered", frame, what)}
		case frame != 0:
			o.Evidence = []string{fmt.Sprintf("frame %d: %s: %s", frame, what, saw)}
		default:
			o.Evidence = []string{fmt.Sprintf("%s: %s", what, saw)}
		}
		return o
	}
	switch q.Proto {
	case lab.ICMP:
		payload := l.payload()
		p := from.node.Ping(now, to, 0, 2*time.Second, payload)
		l.world.pump(from)
		return func() claims.Observation { return outcome(p.Answered, p.Frame, p.Error, "", l.seen[string(payload)]) }
	case lab.UDP:
		x := from.node.Ask(now, netip.AddrPortFrom(to, q.Port), ask(q.Port), 2*time.Second)
		l.world.pump(from)
		return func() claims.Observation {
			who, source := introduced(q.Port, string(x.Data))
			return outcome(x.Answered, x.Frame, x.Error, who, source)
		}
	default:
		f := from.node.Fetch(now, netip.AddrPortFrom(to, q.Port), "/")
		l.world.pump(from)
		return func() claims.Observation {
			who, source := introduced(0, f.Body)
			return outcome(f.Connected, f.Frame, f.Error, who, source)
		}
	}
}

func orName(name, other string) string {
	if name == "" {
		return other
	}
	return name
}

func service(q claims.Probe) lab.Service {
	return lab.Service{Proto: q.Proto, From: q.Port, To: q.Port}
}
