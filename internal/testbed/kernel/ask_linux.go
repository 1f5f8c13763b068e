package kernel

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// asked is one question to a machine on its way.
type asked struct {
	q      claims.Question
	finish func() claims.Answer // reads what came; nil: answered already
	answer claims.Answer
}

// maxAtOnce bounds how many probes are under way at once.
const maxAtOnce = 128

// hearing is how long they wait for neighbors and routers, who answer at once.
const hearing = time.Second

// Ask puts questions to the machines. Those to everybody on a segment are put
// first, and listened to while the others are asked. What it gives waits for who hands
// out leases, which takes longest and nothing hostile disturbs, and tells that too.
func (l *Stacks) Ask(ctx context.Context, w claims.Witness, requests []stage.Request,
	tell func(claims.Answer)) (late func(tell func(claims.Answer))) {
	list := make([]asked, len(requests))
	began := time.Now()
	for i, r := range requests {
		list[i].q = r.Question
		list[i].finish = l.listen(r.Question.Ask, l.at(r.Question.Ask))
	}
	var all sync.WaitGroup
	places := make(chan struct{}, maxAtOnce)
	for i := range list {
		if list[i].finish != nil {
			continue
		}
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			list[i].answer = l.probe(ctx, w, requests[i], l.at(list[i].q.Ask))
		})
	}
	all.Wait()
	finish := func(until func() time.Time, patient bool, tell func(claims.Answer)) {
		waited := false
		for i := range list {
			if _, is := list[i].q.Ask.(claims.AskServers); is != patient {
				continue
			}
			if list[i].finish != nil {
				if !waited {
					pause(ctx, time.Until(until()))
					waited = true
				}
				l.shadows.Do(l.ctx, func(time.Duration) { list[i].answer = list[i].finish() })
			}
			list[i].answer.ID = list[i].q.ID
			tell(list[i].answer)
		}
	}
	finish(func() time.Time { return began.Add(hearing) }, false, tell)
	return func(tell func(claims.Answer)) { finish(l.surveyed, true, tell) }
}

// at returns the adapter that a question goes to, which has been found before.
func (l *Stacks) at(what claims.Asking) *plan.Adapter {
	ref, _ := claims.Subject(what)
	a, _ := ref.In(l.plan)
	return a
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// listen starts what is asked by packet sockets, and gives what reads its outcome; nil
// for all other questions. Both run in the shadows' loop.
func (l *Stacks) listen(what claims.Asking, a *plan.Adapter) (finish func() claims.Answer) {
	x := l.machines[a.Machine]
	l.shadows.Do(l.ctx, func(now time.Duration) {
		switch q := what.(type) {
		case claims.AskServers:
			l.survey(now, a)
			finish = func() claims.Answer { return l.servers(a) }
		case claims.AskRouters:
			finish = l.routers(now, x, a)
		case claims.AskIPv6:
			finish = func() claims.Answer { return l.gotSix(x, a) }
		case claims.AskNeighbor:
			finish = neighbor(now, x, a)
		case claims.AskOwners:
			finish = owners(now, x, a, q.Addresses)
		}
	})
	return finish
}

func (l *Stacks) routers(now time.Duration, x *machine, a *plan.Adapter) func() claims.Answer {
	port := x.ports[a]
	mute := port.IPv6 == nil
	if mute {
		port.IPv6 = &host.IPv6{}
		x.shadow.StartSix(now, port)
	}
	x.shadow.SolicitRouters(now, port)
	six := port.IPv6
	return func() claims.Answer {
		got, out := claims.GotRouters{}, claims.Answer{}
		for _, h := range six.Heard {
			got.Routers = append(got.Routers, claims.Router{Address: h.Router, MAC: h.MAC, Prefix: h.Prefix})
			out.Evidence = append(
				out.Evidence,
				stage.Reading(a.Machine, "%s at %s announces %s", h.Router, h.MAC, h.Prefix)...)
		}
		if len(got.Routers) == 0 {
			out.Evidence = stage.Reading(a.Machine, "%s sent a router solicitation and got no answer", a.Machine.Name)
		}
		if mute {
			port.IPv6 = nil
		}
		out.Got = got
		return out
	}
}

// gotSix returns what the kernel made itself of what was announced, and which resolvers
// that names.
func (l *Stacks) gotSix(x *machine, a *plan.Adapter) claims.Answer {
	six := x.ports[a].IPv6
	if six == nil {
		return claims.Answer{Missing: a.Machine.Name + " has no IPv6 there"}
	}
	got := claims.GotIPv6{
		Address:   claims.Telling(l.six(a), a.Segment.Subnet6),
		Router:    six.Router,
		Resolvers: slices.Clone(six.DNS),
	}
	return claims.Answer{
		Got: got,
		Evidence: stage.Reading(a.Machine, "%s has the IPv6 address %s, router %s, %s", a.Machine.Name,
			got.Address, got.Router, subnet.Named("resolver", got.Resolvers)),
	}
}

func neighbor(now time.Duration, x *machine, a *plan.Adapter) func() claims.Answer {
	s := x.now(a)
	if !s.Gateway.IsValid() {
		why := outcome.Of(outcome.NoGateway)
		if !s.Address.IsValid() {
			why = outcome.Of(outcome.NoAddress)
		}
		return func() claims.Answer {
			return claims.Answer{
				Got:      claims.GotNeighbor{Outcome: why},
				Evidence: stage.Reading(a.Machine, "%s: %s", a.Machine.Name, why),
			}
		}
	}
	inquiry := x.shadow.Inquire(now, x.ports[a], s.Gateway)
	return func() claims.Answer {
		text := fmt.Sprintf("nothing answers for %s", s.Gateway)
		if len(inquiry.Answers) > 0 {
			text = fmt.Sprintf("%s is at %s", s.Gateway, inquiry.Answers[0])
		}
		return claims.Answer{Got: claims.GotNeighbor{Hop: s.Gateway, Hardware: slices.Clone(inquiry.Answers)},
			Evidence: stage.Reading(a.Machine, "%s", text)}
	}
}

func owners(now time.Duration, x *machine, a *plan.Adapter, addresses []netip.Addr) func() claims.Answer {
	var list []*host.Inquiry
	for _, address := range addresses {
		list = append(list, x.shadow.Inquire(now, x.ports[a], address))
	}
	return func() claims.Answer {
		got, n := claims.GotOwners{}, 0
		for i, q := range list {
			owners := slices.Clone(q.Answers)
			if x.ports[a].Owns(addresses[i]) {
				owners = append(owners, a.MAC)
			}
			got.Owners = append(got.Owners, owners)
			n += len(owners)
		}
		return claims.Answer{
			Got: got,
			Evidence: stage.Reading(a.Machine, "%s queried %d addresses, and %d MAC addresses answered",
				a.Machine.Name, len(list), n),
		}
	}
}

// probe asks what a machine's kernel answers by itself.
func (l *Stacks) probe(ctx context.Context, w claims.Witness, r stage.Request, a *plan.Adapter) claims.Answer {
	x := l.machines[a.Machine]
	s := x.now(a)
	switch q := r.Question.Ask.(type) {
	case claims.AskAddress:
		return claims.Answer{Got: claims.GotAddress{Address: s.Address}, Evidence: stage.Reading(a.Machine, "port %s has %s", a.Name, s.Address)}
	case claims.AskLease:
		if x.ports[a].Client == nil {
			return claims.Answer{Missing: a.Machine.Name + " does not use DHCP"}
		}
		text := a.Machine.Name + " sent a DHCP request and got no lease"
		if b := s.Lease; b != nil {
			text = fmt.Sprintf("%s acknowledges %s, for %s", b.ServerMAC, b.Address, plan.Lasting(b.Duration))
		}
		return claims.Answer{Got: claims.GotLease{Lease: s.Lease}, Evidence: stage.Reading(a.Machine, "%s", text)}
	case claims.AskName:
		if len(s.DNS) == 0 {
			return claims.Answer{
				Got:      claims.GotName{Outcome: outcome.Of(outcome.NoServer)},
				Evidence: stage.Reading(a.Machine, "%s has no DNS server", a.Machine.Name),
			}
		}
		got := x.space.lookUp(ctx, s.DNS[0], w.Name)
		return claims.Answer{Got: got, Evidence: stage.Reading(a.Machine, "DNS server %s, %s: %s, %s", s.DNS[0], w.Name, got.Text(),
			strings.Join(subnet.Texts(got.Addresses), ", "))}
	case claims.AskHop:
		e, err := x.space.ping(ctx, w.Address, 1, r.Payload)
		got := claims.GotHop{Outcome: stage.Outcome(err)}
		if e.expired {
			got.Router = e.from
		}
		return claims.Answer{Got: got, Evidence: stage.Reading(a.Machine, "a packet with one hop to live: %s",
			got.Outcome.Or("time exceeded at "+e.from.String()))}
	case claims.AskReach:
		return l.askReach(ctx, q, r.Payload, a)
	}
	return claims.Answer{Missing: fmt.Sprintf("a kernel cannot be asked for %T", r.Question.Ask)}
}

// askReach asks whether a service at an address reaches an adapter.
func (l *Stacks) askReach(ctx context.Context, q claims.AskReach, payload string, from *plan.Adapter) claims.Answer {
	got, err := l.machines[from.Machine].space.reach(ctx, q.Service, q.Address, payload, q.Size)
	if err != nil {
		return claims.Answer{Missing: err.Error()}
	}
	return claims.Answer{Got: got}
}
