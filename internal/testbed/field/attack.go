package field

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/verify/claims"
)

// ways are what a guest's own sockets try to get outside by.
var ways = []tried{
	{witness.UDP, 7}, {witness.DNS, dns.Port}, {witness.UDP, 123}, {witness.UDP, 443},
	{witness.HTTP, 80}, {witness.TCP, 443}, {witness.TCP, 53}, {witness.TCP, 8443},
}

// attempt is one try of a guest to get outside.
type attempt struct {
	tried string
	do    func(ctx context.Context) error // nil: the witness answered
	door  claims.Ref
	on    string // the segment, or what the system calls the adapter
}

// attack tries to get outside by every socket that the system lets this process have: from
// each of its addresses, by each way that the witness knows, by ping, and by the resolver.
// What gets there is answered and signed, so that nobody else's answer is taken for it.
func (s *Probe) attack(ctx context.Context, question string) claims.Answer {
	if !s.Witness.Address.IsValid() {
		return claims.Answer{Missing: noWitness}
	}
	if s.cut && s.failedOutside() {
		return claims.Answer{
			Missing: "the control failed: nothing of " + s.Self + " reached the test server with the WAN plugged either",
		}
	}
	list := s.attempts()
	got := claims.GotAttack{Attempts: len(list)}
	reached := make([]bool, len(list))
	var all sync.WaitGroup
	places := make(chan struct{}, atOnce)
	for i, t := range list {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			reached[i] = t.do(ctx) == nil
		})
	}
	forged := s.forge(ctx, question)
	all.Wait()
	for i, t := range list {
		if reached[i] {
			got.Ways = append(
				got.Ways,
				claims.Way{
					From:   s.Self,
					To:     Outside,
					Path:   []string{s.Self, t.on, Outside},
					Tried:  t.tried,
					Door:   t.door,
					Packet: s.reading("%s reached the test server", t.tried)[0],
				},
			)
		}
	}
	a := claims.Answer{
		Got: got,
		Evidence: s.reading(
			"%d attempts by this system's own sockets, %d of which reached the test server",
			len(list),
			len(got.Ways),
		),
	}
	if forged != "" {
		a.Evidence = append(a.Evidence, s.reading("%s", forged)...)
	}
	return a
}

// failedOutside reports whether it is a machine that was to reach the witness with the WAN plugged, and did
// not. Of one that may not, others' evidence has to tell that the witness is there.
func (s *Probe) failedOutside() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mayGoOut && s.tried > 0 && s.reached == 0
}

func (s *Probe) attempts() []attempt {
	var list []attempt
	add := func(tried, on string, door claims.Ref, do func(ctx context.Context) error) {
		list = append(list, attempt{tried, do, door, on})
	}
	by := func(tried, on string, door claims.Ref, w tried, leave leaving) {
		add(fmt.Sprintf("%s/%d %s", w.way, w.port, tried), on, door, func(ctx context.Context) error {
			_, signed, err := s.ask(ctx, w, leave, 0, 0)
			if err == nil {
				s.keep(signed)
			}
			return err
		})
	}
	for _, x := range s.system.Adapters {
		for _, address := range x.Addresses {
			from := address.Addr()
			door, on := s.door(x)
			if from.IsLinkLocalUnicast() || from.Is6() != s.Witness.Address.Is6() || x.Internal {
				continue
			}
			for _, w := range s.byRules() {
				by("from "+from.String(), on, door, w, leaving{from: from, device: x.device(), space: x.space})
			}
		}
	}
	for _, w := range s.byRules() {
		by("as the system sends it", "its path outside", claims.Ref{}, w, leaving{})
	}
	for _, at := range s.system.Proxies {
		by("by the proxy "+at.String(), "the proxy "+at.String(), claims.Ref{}, tried{witness.HTTP, 80}, leaving{proxy: at})
	}
	add(
		"ping",
		"its path outside",
		claims.Ref{},
		func(ctx context.Context) error { return ping(ctx, s.Witness.Address) },
	)
	return list
}

type tried struct {
	way  witness.Way
	port uint16
}

// byRules returns the ways, and the ports that rules name.
func (s *Probe) byRules() (out []tried) {
	out = slices.Clone(ways)
	const most = 32
	for _, m := range s.plan.Appliances() {
		for i := range m.Rules {
			for _, service := range m.Rules[i].Services {
				way := witness.UDP
				if service.Proto == lab.TCP {
					way = witness.TCP
				}
				t := tried{way, service.From}
				if service.From != 0 && (service.Proto == lab.TCP || service.Proto == lab.UDP) &&
					!slices.Contains(out, t) &&
					len(out) < most {
					out = append(out, t)
				}
			}
		}
	}
	return out
}

// door names the adapter of the plan that a system's adapter is, and its segment; where it is
// none, the adapter by what the system calls it.
func (s *Probe) door(x Adapter) (claims.Ref, string) {
	for a, is := range s.tied {
		if is.Name == x.Name && x.Within == "" {
			return claims.RefTo(a), a.Segment.Name
		}
	}
	return claims.Ref{}, x.Name
}
