package simulator

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
)

// answerTime is how long after its last question a round of probes waits for
// answers: longer than any retransmission goes on.
const answerTime = 75 * time.Second

// Open brings the lab to life. The plan must be the one that the lab was made
// of.
func (l *Lab) Open(ctx context.Context, p *plan.Plan) (claims.Facts, error) {
	if p != l.plan {
		return claims.Facts{}, fmt.Errorf("this rehearsal is of the lab %s", l.plan.Name)
	}
	l.world.ctx = ctx
	l.start()
	return l.Facts(), l.world.stopped()
}

// Facts say what the rehearsal is and where its witness stands.
func (l *Lab) Facts() claims.Facts {
	return claims.Facts{Name: claims.Rehearsed, Witness: claims.Witness{Name: witnessName, Address: l.witness}}
}

// Set plugs or unplugs every appliance's WAN.
func (l *Lab) Set(ctx context.Context, c claims.Condition) error {
	l.world.ctx = ctx
	if c == l.condition {
		return l.world.stopped()
	}
	l.start()
	l.plugWAN(c == claims.Running)
	if l.condition = c; c == claims.Running {
		l.world.run(l.world.now + l.timing.back)
	}
	return l.world.stopped()
}

// Outcome asks the lab everything that its claims need and judges the answers.
func (l *Lab) Outcome() claims.Outcome {
	out, _, _ := claims.Run(
		context.Background(),
		l.plan,
		l,
	) // which nothing ends, and a rehearsal of its own plan opens
	return out
}

// Close ends nothing: a rehearsal holds nothing that must be given back.
func (l *Lab) Close(context.Context) error { return nil }

// Ask puts the questions, all in one span of virtual time; what makes guests
// hostile comes last. When the budget of events is spent, what was not seen by
// then is missing.
func (l *Lab) Ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	l.world.ctx = ctx
	l.start()
	finish := make([]func() answer, len(questions))
	var hostile []claims.Question
	for i, q := range questions {
		if k := q.KindOf(); k == "attack" || k == "scan" || k == "packet" {
			hostile = append(hostile, q)
			continue
		}
		fn, err := l.ask(q.Ask)
		if err != nil {
			tell(claims.Answer{ID: q.ID, Missing: err.Error()})
			continue
		}
		finish[i] = fn
		l.world.run(l.world.now + l.timing.step)
	}
	if len(hostile) < len(questions) {
		l.world.run(l.world.now + l.timing.answer)
	}
	if err := l.world.stopped(); err != nil {
		return err
	}
	for i, fn := range finish {
		if fn != nil {
			l.tell(questions[i], fn(), tell)
		}
	}
	if len(hostile) > 0 {
		l.assault(hostile, func(q claims.Question, a answer) { l.tell(q, a, tell) })
	}
	return l.world.stopped()
}

// answer is an answer in the making.
type answer struct {
	got      claims.Got
	missing  string
	evidence []claims.Evidence
}

func (l *Lab) tell(q claims.Question, a answer, tell func(claims.Answer)) {
	if l.world.spent {
		a = answer{missing: "the rehearsal ended before it was seen: its budget of events is spent"}
	}
	tell(claims.Answer{ID: q.ID, Got: a.got, Missing: a.missing, Evidence: a.evidence})
}

// frame is evidence by a frame; number 0 by what a machine knows.
func (l *Lab) frame(number int, format string, args ...any) claims.Evidence {
	e := claims.Evidence{Frame: number, Text: fmt.Sprintf(format, args...)}
	if number == 0 || l.world.live != nil && l.world.Recorder == nil {
		e.Frame, e.Reading = 0, "the simulated machine"
	} else if l.world.live == nil {
		e.At = Epoch.Add(l.world.sent[number-1])
	}
	return e
}

// plugWAN plugs or unplugs the WAN adapters of every appliance.
func (l *Lab) plugWAN(up bool) {
	for _, m := range l.plan.Appliances() {
		for _, a := range m.WAN() {
			l.world.setLink(l.members[m], a.Number, up && a.Plugged)
		}
	}
	l.world.run(l.world.now + l.timing.link)
}

// target returns the station a question starts from, the address it goes to, and
// why it cannot be asked.
func (l *Lab) target(fromAdapter, toAdapter *plan.Adapter, six bool) (from *station, to netip.Addr, why string) {
	from, to = l.buoy, l.witness
	if fromAdapter != nil {
		from, _ = l.portOf(fromAdapter)
	}
	if toAdapter == nil {
		return from, to, ""
	}
	_, port := l.portOf(toAdapter)
	if six {
		if port.IPv6 == nil || len(port.IPv6.Addresses) == 0 {
			return from, to, toAdapter.Machine.Name + " has no IPv6 address"
		}
		return from, port.IPv6.Addresses[0].Addr(), ""
	}
	if !port.Address.IsValid() {
		return from, to, toAdapter.Machine.Name + " has no address"
	}
	to = port.Address.Addr()
	if r := l.routers[toAdapter.Segment]; fromAdapter == nil && toAdapter.Role == lab.WAN &&
		toAdapter.Segment.Lab.Join == "nat" &&
		r != nil {
		to = r.node.Ports()[1].Address.Addr() // the host passes on what is published, see router
	}
	return from, to, ""
}

// ask starts what answers one question and gives what reads its outcome later.
func (l *Lab) ask(what claims.Asking) (func() answer, error) {
	if q, ok := what.(claims.AskReach); ok {
		return l.askReach(q)
	}
	var at claims.Ref
	switch q := what.(type) {
	case claims.AskAddress:
		at = q.At
	case claims.AskLease:
		at = q.At
	case claims.AskServers:
		at = q.At
	case claims.AskRouters:
		at = q.At
	case claims.AskIPv6:
		at = q.At
	case claims.AskNeighbor:
		at = q.At
	case claims.AskName:
		at = q.At
	case claims.AskHop:
		at = q.At
	case claims.AskOwners:
		at = q.At
	default:
		return nil, fmt.Errorf("the rehearsal cannot answer the question %T", what)
	}
	a, err := at.In(l.plan)
	if err != nil {
		return nil, err
	}
	if a == nil {
		return nil, fmt.Errorf("the test server only answers what reaches it")
	}
	s, port := l.portOf(a)
	switch q := what.(type) {
	case claims.AskOwners:
		return l.askOwners(a, q), nil
	case claims.AskAddress:
		return func() answer {
			return answer{got: claims.GotAddress{Address: port.Address},
				evidence: []claims.Evidence{l.frame(0, "%s port %s has %s", a.Machine.Name, a.Name, shown(port.Address))}}
		}, nil
	case claims.AskLease:
		return func() answer { return l.leaseSeen(a, port) }, nil
	case claims.AskServers:
		survey := s.node.SurveyServers(l.world.now, port)
		l.world.pump(s)
		return func() answer { return l.serversSeen(a, survey) }, nil
	case claims.AskNeighbor:
		return l.askNeighbor(a), nil
	case claims.AskName:
		return l.askName(a), nil
	case claims.AskHop:
		return l.askHop(s), nil
	case claims.AskRouters:
		return l.askRouters(a), nil
	}
	return l.askIPv6(a), nil
}

func (l *Lab) askHop(s *station) func() answer {
	p := s.node.Ping(l.world.now, l.witness, 1, time.Second, l.payload())
	l.world.pump(s)
	return func() answer {
		out := answer{got: claims.GotHop{Outcome: p.Outcome},
			evidence: []claims.Evidence{l.frame(0, "no router answered a packet with one hop to live: %s", p.Outcome)}}
		if p.Expired {
			out = answer{
				got:      claims.GotHop{Router: p.From},
				evidence: []claims.Evidence{l.frame(p.Frame, "time exceeded from %s", p.From)},
			}
		}
		return out
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
	return fmt.Appendf(nil, "%s%08d", probemsg.PingPrefix, l.pings)
}

func (l *Lab) leaseSeen(a *plan.Adapter, port *host.Port) answer {
	if port.Client == nil {
		return answer{missing: a.Machine.Name + " does not use DHCP"}
	}
	b := port.Client.Binding
	if b == nil {
		return answer{
			got: claims.GotLease{},
			evidence: []claims.Evidence{l.frame(0, "%s sent a DHCP request and got %d offers", a.Machine.Name,
				len(port.Client.Offers))},
		}
	}
	return answer{
		got: claims.GotLease{Lease: b},
		evidence: []claims.Evidence{l.frame(b.Frame, "%s acknowledges %s, router %s, %s, for %s",
			b.ServerMAC, b.Address, orNone(b.Router), subnet.Named("resolver", b.DNS), plan.Lasting(b.Duration))},
	}
}

func orNone(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

func (l *Lab) serversSeen(a *plan.Adapter, survey *dhcp.Client) answer {
	out := answer{got: claims.GotServers{Offers: survey.Offers}}
	for _, offer := range survey.Offers {
		out.evidence = append(
			out.evidence,
			l.frame(offer.Frame, "%s at %s offers %s to %s", offer.Server, offer.ServerMAC, offer.Address,
				a.Machine.Name),
		)
	}
	if len(survey.Offers) == 0 {
		out.evidence = []claims.Evidence{l.frame(0, "%s sent a DHCP request and got no answer", a.Machine.Name)}
	}
	return out
}

func (l *Lab) askNeighbor(a *plan.Adapter) func() answer {
	s, port := l.portOf(a)
	if !port.Gateway.IsValid() {
		why := outcome.Of(outcome.NoGateway)
		if !port.Address.IsValid() {
			why = outcome.Of(outcome.NoAddress)
		}
		return func() answer {
			return answer{
				got:      claims.GotNeighbor{Outcome: why},
				evidence: []claims.Evidence{l.frame(0, "%s: %s", a.Machine.Name, why)},
			}
		}
	}
	hop := port.Gateway
	inquiry := s.node.Inquire(l.world.now, port, hop)
	l.world.pump(s)
	return func() answer {
		out := answer{got: claims.GotNeighbor{Hop: hop, Hardware: inquiry.Answers},
			evidence: []claims.Evidence{l.frame(0, "nothing answers for %s", hop)}}
		if len(inquiry.Answers) > 0 {
			out.evidence = []claims.Evidence{l.frame(inquiry.Frame, "%s is at %s", hop, inquiry.Answers[0])}
		}
		return out
	}
}

func (l *Lab) askName(a *plan.Adapter) func() answer {
	s, port := l.portOf(a)
	if len(port.DNS) == 0 {
		return func() answer {
			return answer{got: claims.GotName{Outcome: outcome.Of(outcome.NoServer)},
				evidence: []claims.Evidence{l.frame(0, "%s has no DNS server", a.Machine.Name)}}
		}
	}
	look := s.node.LookUp(l.world.now, port.DNS[0], witnessName)
	l.world.pump(s)
	return func() answer {
		got := claims.GotName{
			Answered:  look.Answered,
			Resolver:  look.Resolver,
			Addresses: look.Addrs,
			Tries:     look.Tries,
			Outcome:   look.Outcome,
		}
		if !look.Answered {
			return answer{
				got: got,
				evidence: []claims.Evidence{
					l.frame(0, "%s did not answer for %s: %s", look.Resolver, look.Name, look.Outcome),
				},
			}
		}
		got.Code = look.Code
		what := "is " + strings.Join(subnet.Texts(look.Addrs), ", ")
		if len(look.Addrs) == 0 {
			what = "has no address"
		}
		return answer{
			got: got,
			evidence: []claims.Evidence{l.frame(look.Frame, "DNS server %s: %s %s: %s", look.Resolver, look.Name, what,
				dns.CodeText(got.Code))},
		}
	}
}

func (l *Lab) askReach(q claims.AskReach) (func() answer, error) {
	from, to, why, err := l.ends(q)
	if err != nil {
		return nil, err
	}
	if why != "" {
		return func() answer {
			return answer{
				got:      claims.GotReach{Outcome: outcome.Outcome{Code: outcome.NoAddress, Detail: why}},
				evidence: []claims.Evidence{l.frame(0, "%s", why)},
			}
		}, nil
	}
	if q.From == (claims.Ref{}) {
		from.node.As = q.Source
		defer func() { from.node.As = netip.Addr{} }()
	}
	return l.reach(from, to, q.Service, q.Size), nil
}

// standing returns the machine outside that has an address: one of an upstream segment, else the test
// server, which has those beyond.
func (l *Lab) standing(a netip.Addr) *station {
	for st := range l.outside {
		if st.node.Local(a) {
			return st
		}
	}
	return l.buoy
}

// ends returns who asks and which address is asked, or why none can be.
func (l *Lab) ends(q claims.AskReach) (from *station, to netip.Addr, why string, err error) {
	fromAdapter, err := q.From.In(l.plan)
	if err != nil {
		return nil, to, "", err
	}
	toAdapter, err := q.To.In(l.plan)
	if err != nil {
		return nil, to, "", err
	}
	if from, to, why = l.target(fromAdapter, toAdapter, q.IPv6); q.Address.IsValid() {
		to, why = q.Address, ""
	}
	if q.Source.IsValid() && fromAdapter == nil {
		from = l.standing(q.Source)
	}
	return from, to, why, nil
}
