package field

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// Probe is a stage that runs in one machine of a lab: it answers what that machine can tell.
type Probe struct {
	Self    string                                        // the machine, or Outside
	At      map[string]netip.Addr                         // by machine: its address, where the plan does not say it; of an appliance, outside
	Answers bool                                          // the other machines answer on their ports: their silence counts
	Witness claims.Witness                                // outside; an invalid address: there is none
	Guest   Guest                                         // who asks it
	Cut     func(ctx context.Context, plugged bool) error // has a person unplug the appliance's WAN, or plug it in; nil: not asked for

	plan    *plan.Plan
	self    *plan.Machine
	system  System
	tied    map[*plan.Adapter]*Adapter // which of its adapters are those of the plan
	remarks []string                   // by what that was told, where it was not the MAC address
	ways    []way                      // what it has and the plan has not
	offered map[string][]dhcp.Offer    // by adapters without an address
	packets *packets
	why     string // there are no packets of one's own
	end     context.CancelFunc
	cut     bool      // the WAN was unplugged
	opened  sync.Once // the witness was asked whether it opens all ports
	opens   atomic.Bool

	mu       sync.Mutex
	reports  [][]byte // what the witness signed
	mayGoOut bool     // it is one that is to reach the witness
	tried    int      // questions to the witness, with the WAN plugged
	reached  int      // those that it answered
	runs     []sent   // of forged packets
	through  tried    // by what the witness was reached with the WAN plugged
}

// Reports returns what the witness signed so far.
func (s *Probe) Reports() [][]byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.reports)
}

// Open looks at this system.
func (s *Probe) Open(ctx context.Context, p *plan.Plan) (claims.Facts, error) {
	s.plan, s.self = p, p.Machine(s.Self)
	var err error
	if s.system, err = Look(); err != nil {
		return claims.Facts{}, err
	}
	if s.Self == Outside {
		return claims.Facts{Name: claims.FieldStage, Witness: s.Witness}, nil
	}
	if s.self == nil {
		return claims.Facts{}, fmt.Errorf("the lab has no machine %q", s.Self)
	}
	s.tied, s.remarks = s.system.tie(s.self)
	s.offered = map[string][]dhcp.Offer{}
	own, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.end = cancel
	if s.packets, err = openPackets(own, p, s.self, s.tied); err != nil {
		s.why = err.Error()
		if errors.Is(err, errPermission) {
			s.why = "it takes the right to send packets of one's own (root)"
		}
	}
	facts := claims.Facts{Name: claims.FieldStage, Witness: s.Witness}
	s.mayGoOut = slices.ContainsFunc(claims.Judge(p, facts, nil).Claims, func(r claims.Result) bool {
		return r.Guest == s.Self && r.Kind == claims.Outside
	})
	if s.self.Guest != nil {
		facts.Observed = []claims.Observed{s.look(ctx)}
	}
	return facts, nil
}

// Close lets go of the system.
func (s *Probe) Close(ctx context.Context) error {
	if s.end != nil {
		s.end()
	}
	if s.cut && s.Cut != nil {
		s.cut = false
		return s.Cut(ctx, true)
	}
	return nil
}

// Set has a person unplug the WAN, or plug it in.
func (s *Probe) Set(ctx context.Context, c claims.Condition) error {
	wanted := c == claims.Unplugged
	if wanted == s.cut {
		return nil
	}
	if s.Cut == nil {
		return errors.New("the WAN was not unplugged (bastion probe --cut)")
	}
	err := s.Cut(ctx, !wanted)
	if err == nil {
		s.cut = wanted
	}
	return err
}

// atOnce is how many questions are under way at a time.
const atOnce = 64

// Ask answers what is of this machine.
func (s *Probe) Ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	var mu sync.Mutex
	told := func(a claims.Answer) {
		mu.Lock()
		defer mu.Unlock()
		tell(a)
	}
	var raw []claims.Question
	var all sync.WaitGroup
	places := make(chan struct{}, atOnce)
	for _, q := range questions {
		if at, ok := s.typed(q.Ask); ok {
			told(
				claims.Answer{
					ID:       q.ID,
					Got:      claims.GotAddress{Address: at},
					Evidence: s.reading("its address is given: %s", at),
				},
			)
			continue
		}
		a, missing := s.mine(q.Ask)
		reply := func() claims.Answer { return s.answer(ctx, q, a) }
		switch {
		case s.Self == Outside && evidence.Of(Outside, q.Ask):
			reply = func() claims.Answer { return s.fromOutside(ctx, q) }
		case missing != "":
			told(claims.Answer{ID: q.ID, Missing: missing})
			continue
		case takesPackets(q.Ask) && s.packets == nil:
			told(claims.Answer{ID: q.ID, Missing: s.why})
			continue
		case takesPackets(q.Ask):
			raw = append(raw, q)
			continue
		}
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			answer := reply()
			answer.ID = q.ID
			told(answer)
		})
	}
	if len(raw) > 0 {
		s.packets.ask(ctx, raw, told)
	}
	all.Wait()
	return ctx.Err()
}

// typed returns a machine's address that a person has read off it, or that the lab file gives.
func (s *Probe) typed(what claims.Asking) (netip.Prefix, bool) {
	q, is := what.(claims.AskAddress)
	if !is || q.At.Machine == s.Self {
		return netip.Prefix{}, false
	}
	a, err := q.At.In(s.plan)
	if err != nil {
		return netip.Prefix{}, false
	}
	return s.given(a)
}

// mine returns the adapter that a question is about, and why it is not this machine's to answer.
func (s *Probe) mine(what claims.Asking) (*plan.Adapter, string) {
	ref, ok := claims.Subject(what)
	if q, is := what.(claims.AskAttack); is {
		ref, ok = claims.Ref{Machine: q.By}, true
	}
	switch {
	case !ok:
		return nil, "a guest cannot check that"
	case ref.Machine == "":
		return nil, "only the test server outside can check that"
	case ref.Machine != s.Self && isAddress(what):
		return nil, fmt.Sprintf("only %s itself can show its address (--at %s=ADDRESS)", ref.Machine, ref.Machine)
	case ref.Machine != s.Self:
		return nil, fmt.Sprintf("only %s can check that", ref.Machine)
	}
	if _, is := what.(claims.AskAttack); is {
		return nil, ""
	}
	a, err := ref.In(s.plan)
	if err != nil {
		return nil, err.Error()
	}
	if s.adapter(a) == nil {
		return nil, fmt.Sprintf(
			"this system has no adapter with %s, which is adapter %d of %s",
			a.MAC,
			a.Number,
			s.Self,
		)
	}
	return a, ""
}

func isAddress(what claims.Asking) bool {
	_, is := what.(claims.AskAddress)
	return is
}

// adapter returns this system's adapter for one of the plan; nil where it has none.
func (s *Probe) adapter(a *plan.Adapter) *Adapter { return s.tied[a] }

// Remarks returns by what adapters were told that do not have the planned MAC address.
func (s *Probe) Remarks() []string { return s.remarks }

// takesPackets tells what a system's own sockets do not find out.
func takesPackets(what claims.Asking) bool {
	switch what.(type) {
	case claims.AskServers, claims.AskRouters, claims.AskOwners:
		return true
	}
	return false
}

// reading is evidence by what this system says.
func (s *Probe) reading(format string, args ...any) []claims.Evidence {
	return []claims.Evidence{{Reading: "the system of " + s.Self, At: time.Now(), Text: fmt.Sprintf(format, args...)}}
}

// answer answers what is asked of an adapter of this machine.
func (s *Probe) answer(ctx context.Context, q claims.Question, a *plan.Adapter) claims.Answer {
	switch what := q.Ask.(type) {
	case claims.AskAddress:
		at := s.adapter(a).Four()
		return claims.Answer{Got: claims.GotAddress{Address: at}, Evidence: s.reading("%s has %s", s.adapter(a).Name, at)}
	case claims.AskLease:
		return s.lease(ctx, a)
	case claims.AskIPv6:
		x := s.adapter(a)
		got := claims.GotIPv6{Address: claims.Telling(global6(x.Addresses), a.Segment.Subnet6), Router: x.Gateway6,
			Resolvers: slices.DeleteFunc(slices.Clone(s.system.Resolvers), netip.Addr.Is4)}
		return claims.Answer{Got: got, Evidence: s.reading("%s has the IPv6 address %s, router %s", x.Name, got.Address, got.Router)}
	case claims.AskNeighbor:
		return s.neighbor(ctx, a)
	case claims.AskName:
		return s.name(ctx)
	case claims.AskHop:
		return s.hop(ctx)
	case claims.AskReach:
		return s.reach(ctx, what, a)
	case claims.AskAttack:
		return s.attack(ctx, q.ID)
	}
	return claims.Answer{Missing: fmt.Sprintf("a system cannot be asked for %s", q.KindOf())}
}

func global6(list []netip.Prefix) []netip.Prefix {
	return slices.DeleteFunc(
		slices.Clone(list),
		func(p netip.Prefix) bool { return p.Addr().Is4() || p.Addr().IsLinkLocalUnicast() },
	)
}

// lease puts together what the system made of its lease. Who gave it is who is the adapter's
// next hop, or who the system names: a system does not tell the hardware address.
func (s *Probe) lease(ctx context.Context, a *plan.Adapter) claims.Answer {
	x := s.adapter(a)
	at := x.Four()
	if !at.IsValid() {
		return claims.Answer{Got: claims.GotLease{}, Evidence: s.reading("%s has no address", x.Name)}
	}
	if !x.Leased {
		if slices.Contains(s.system.Unseen, unseenLease) {
			return claims.Answer{Missing: "this system does not show whether an address is from DHCP"}
		}
		return claims.Answer{
			Got:      claims.GotLease{},
			Evidence: s.reading("%s of %s is static: it has no lease time", at, x.Name),
		}
	}
	offers, why := s.offers(ctx, a)
	if why != "" && x.Server.IsValid() {
		m, ok, err := x.hardware(ctx, x.Server)
		if err == nil && ok {
			offers, why = []dhcp.Offer{{Server: x.Server, ServerMAC: m}}, ""
		}
	}
	if why != "" {
		return claims.Answer{Missing: why}
	}
	b := &dhcp.Binding{Address: at, Router: x.Gateway, DNS: s.toldBy(a), Server: x.Server}
	for _, o := range offers {
		if x.Server.IsValid() && o.Server != x.Server || !x.Server.IsValid() && b.ServerMAC != (mac.Address{}) {
			continue
		}
		b.Server, b.ServerMAC = o.Server, o.ServerMAC
	}
	if len(offers) > 1 && !x.Server.IsValid() {
		return claims.Answer{
			Missing: "several DHCP servers answer there, and this system does not show which one it used",
		}
	}
	return claims.Answer{
		Got:      claims.GotLease{Lease: b},
		Evidence: s.reading("%s has leased %s, next hop %s", x.Name, at, x.Gateway),
	}
}

// toldBy returns the IPv4 resolvers that the system was told of by an adapter. It keeps one list of
// all: those are left out that are planned for another of its adapters, or lie on the segment of
// one.
func (s *Probe) toldBy(a *plan.Adapter) []netip.Addr {
	var own []netip.Addr
	if _, service := a.Segment.LeaseService(); service != nil {
		own = service.DNS
	}
	return slices.DeleteFunc(slices.Clone(s.system.Resolvers), func(at netip.Addr) bool {
		return at.Is6() ||
			!slices.Contains(own, at) && slices.ContainsFunc(s.self.Adapters, func(other *plan.Adapter) bool {
				if other == a {
					return false
				}
				_, service := other.Segment.LeaseService()
				return service != nil && slices.Contains(service.DNS, at) ||
					other.Segment.Subnet.IsValid() && other.Segment.Subnet.Contains(at)
			})
	})
}

// offers asks who hands out leases on an adapter's segment.
func (s *Probe) offers(ctx context.Context, a *plan.Adapter) (offers []dhcp.Offer, why string) {
	if s.packets == nil {
		return nil, "which DHCP server it used: " + s.why
	}
	s.packets.ask(
		ctx,
		[]claims.Question{{ID: "offers", Ask: claims.AskServers{At: claims.RefTo(a)}}},
		func(got claims.Answer) {
			if g, ok := got.Got.(claims.GotServers); ok {
				offers = g.Offers
			}
		},
	)
	return offers, ""
}

// neighbor finds the hardware address of the next hop.
func (s *Probe) neighbor(ctx context.Context, a *plan.Adapter) claims.Answer {
	x := s.adapter(a)
	if !x.Gateway.IsValid() {
		return claims.Answer{
			Got:      claims.GotNeighbor{Outcome: outcome.Of(outcome.NoGateway)},
			Evidence: s.reading("%s has no gateway", x.Name),
		}
	}
	got := claims.GotNeighbor{Hop: x.Gateway}
	if s.packets != nil {
		s.packets.ask(
			ctx,
			[]claims.Question{
				{ID: "hop", Ask: claims.AskOwners{At: claims.RefTo(a), Addresses: []netip.Addr{x.Gateway}}},
			},
			func(answer claims.Answer) {
				if g, ok := answer.Got.(claims.GotOwners); ok && len(g.Owners) == 1 {
					got.Hardware = g.Owners[0]
				}
			},
		)
	} else {
		m, ok, err := x.hardware(ctx, x.Gateway)
		if err != nil {
			return claims.Answer{Missing: "this system does not show its neighbors' MAC addresses: " + err.Error()}
		}
		if ok {
			got.Hardware = []mac.Address{m}
		}
	}
	text := fmt.Sprintf("nothing answers for %s", x.Gateway)
	if len(got.Hardware) > 0 {
		text = fmt.Sprintf("%s is at %s", x.Gateway, got.Hardware[0])
	}
	return claims.Answer{Got: got, Evidence: s.reading("%s", text)}
}

// hardware finds the hardware address by which the system reaches an address of an adapter's
// segment.
func (a Adapter) hardware(ctx context.Context, at netip.Addr) (m mac.Address, ok bool, err error) {
	poke(at)
	for began := time.Now(); !ok && err == nil && ctx.Err() == nil && time.Since(began) < tryTime; time.Sleep(20 * time.Millisecond) {
		m, ok, err = a.Neighbor(at)
	}
	return m, ok, err
}

// poke has the system look for who has an address.
func poke(at netip.Addr) {
	if c, err := net.Dial("udp", netip.AddrPortFrom(at, 9).String()); err == nil {
		_, _ = c.Write([]byte("\n"))
		_ = c.Close()
	}
}

// name asks the system's first resolver.
func (s *Probe) name(ctx context.Context) claims.Answer {
	if s.Witness.Name == "" {
		return claims.Answer{Missing: "no name for the test server was given (--name)"}
	}
	if len(s.system.Resolvers) == 0 {
		return claims.Answer{
			Got:      claims.GotName{Outcome: outcome.Of(outcome.NoServer)},
			Evidence: s.reading("it has no DNS server"),
		}
	}
	got := lookUp(ctx, s.system.Resolvers[0], s.Witness.Name)
	return claims.Answer{
		Got:      got,
		Evidence: s.reading("DNS server %s, %s: %s %v", got.Resolver, s.Witness.Name, got.Text(), got.Addresses),
	}
}

// lookUp asks a resolver for a name.
func lookUp(ctx context.Context, resolver netip.Addr, name string) claims.GotName {
	got := stage.LookUp(
		resolver,
		name,
		func(to netip.AddrPort, q []byte) ([]byte, error) { return exchangeDatagram(ctx, to, q) },
		outcomeOf,
	)
	return got
}

func exchangeDatagram(ctx context.Context, to netip.AddrPort, data []byte) ([]byte, error) {
	c, err := (&net.Dialer{}).DialContext(ctx, "udp", to.String())
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return overDatagrams(ctx, c, witness.UDP, data)
}

// hop finds the first router on the way to the witness.
func (s *Probe) hop(ctx context.Context) claims.Answer {
	to := s.Witness.Address
	if !to.Is4() {
		to = anywhere
	}
	at, err := firstHop(ctx, netip.AddrPortFrom(to, hopPort))
	if errors.Is(err, errPermission) {
		return claims.Answer{Missing: "receiving ICMP errors needs root on this system"}
	}
	got := claims.GotHop{Router: at, Outcome: outcomeOf(err)}
	return claims.Answer{Got: got, Evidence: s.reading("a packet with one hop to live: %s",
		got.Outcome.Or("time exceeded at "+at.String()))}
}

// anywhere is an address outside every lab (RFC 5737): a packet with one hop to live does not
// get there.
var anywhere = netip.AddrFrom4([4]byte{192, 0, 2, 1})

// hopPort is where packets go that are to end on the way.
const hopPort = 33434

const noWitness = "no test server outside was given (--witness)"
