package field

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
)

// noPings says why a ping was not sent.
const noPings = "to send pings takes rights on this system (root)"

// reach asks whether a service of another machine, or of the witness, is reached.
func (s *Probe) reach(ctx context.Context, q claims.AskReach, a *plan.Adapter) claims.Answer {
	if q.To == (claims.Ref{}) && !q.Address.IsValid() {
		return s.outside(ctx, q)
	}
	to := q.Address
	if !to.IsValid() {
		other, err := q.To.In(s.plan)
		if err != nil || other == nil {
			return claims.Answer{Missing: "its destination is not known"}
		}
		switch {
		case q.IPv6:
			return claims.Answer{Missing: "which IPv6 address " + q.To.Machine + " can only be seen on it"}
		case s.At[q.To.Machine].IsValid():
			to = s.At[q.To.Machine]
		case !other.Address.IsValid():
			return claims.Answer{
				Missing: fmt.Sprintf(
					"only %s itself can show its leased address (--at %s=ADDRESS)",
					q.To.Machine,
					q.To.Machine,
				),
			}
		default:
			to = other.Address.Addr()
		}
	}
	if q.Size > 0 {
		return s.whole(ctx, q, to)
	}
	got := s.try(ctx, q.Service, to)
	if q.Service.Proto == lab.ICMP && got.Outcome.Is(outcome.Prohibited) {
		return claims.Answer{Missing: noPings}
	}
	if !got.Answered && !s.Answers && q.Service.Proto != lab.ICMP {
		return claims.Answer{
			Missing: fmt.Sprintf("%s does not answer at %s: closed port or blocked? (--others-answer)", to, q.Service),
		}
	}
	return claims.Answer{Got: got, Evidence: s.reading("%s at %s: %s", q.Service, to, got.Outcome)}
}

// try reaches a service by this system's own sockets.
func (s *Probe) try(ctx context.Context, service lab.Service, to netip.Addr) claims.GotReach {
	at := netip.AddrPortFrom(to, service.From)
	switch service.Proto {
	case lab.ICMP:
		err := ping(ctx, to)
		return claims.GotReach{Answered: err == nil, Outcome: outcomeOf(err)}
	case lab.UDP:
		data, err := exchangeDatagram(ctx, at, probemsg.Question(service.From))
		who, source := probemsg.Introduced(data)
		return claims.GotReach{Answered: err == nil, Outcome: outcomeOf(err), Who: who, Source: source}
	}
	c, err := (&net.Dialer{Timeout: tries * tryTime}).DialContext(ctx, "tcp", at.String())
	if err != nil {
		return claims.GotReach{Outcome: outcomeOf(err)}
	}
	_ = c.Close()
	return claims.GotReach{Answered: true}
}

// outside asks the witness by a service.
func (s *Probe) outside(ctx context.Context, q claims.AskReach) claims.Answer {
	switch {
	case !s.Witness.Address.IsValid():
		return claims.Answer{Missing: noWitness}
	case q.IPv6:
		return claims.Answer{Missing: "the test server has no IPv6 address here"}
	}
	if q.Size > 0 {
		return s.whole(ctx, q, s.Witness.Address)
	}
	var got claims.GotReach
	if q.Service.Proto == lab.ICMP {
		err := ping(ctx, s.Witness.Address)
		if errors.Is(err, errPermission) {
			return claims.Answer{Missing: noPings}
		}
		got = claims.GotReach{Answered: err == nil, Unseen: err == nil, Outcome: outcomeOf(err)}
	} else {
		way := witness.UDP
		if q.Service.Proto == lab.TCP {
			way = witness.TCP
		}
		r, signed, err := s.ask(ctx, tried{way, q.Service.From}, leaving{}, 0, 0)
		got = claims.GotReach{Answered: err == nil, Outcome: outcomeOf(err)}
		if err == nil {
			got.Source, got.Who = r.Source.Addr(), shortName(s.Witness.Name)
			s.keep(signed)
		} else if !s.listened(ctx, way, q.Service.From) {
			return claims.Answer{Missing: fmt.Sprintf("the test server does not answer at %s; it may not listen there "+
				"(name it the lab file: bastion witness LAB)", q.Service)}
		}
	}
	if !s.cut {
		s.mu.Lock()
		if s.tried++; got.Answered {
			s.reached++
		}
		s.mu.Unlock()
	}
	return claims.Answer{Got: got, Evidence: s.reading("the test server by %s: %s", q.Service,
		got.Outcome.Or(fmt.Sprintf("it saw %s", got.Source)))}
}

// listened reports whether the witness listens on a port: on those that it always does, and on all
// that claims ask for where it says so by any of these.
func (s *Probe) listened(ctx context.Context, way witness.Way, port uint16) bool {
	usual := Usual.TCP
	if way == witness.UDP || way == witness.DNS {
		usual = Usual.UDP
	}
	if slices.Contains(usual, port) {
		return true
	}
	s.opened.Do(func() {
		var all sync.WaitGroup
		for _, w := range ways {
			all.Go(func() {
				if r, _, err := s.ask(ctx, w, leaving{}, 0, 0); err == nil && r.Opens {
					s.opens.Store(true)
				}
			})
		}
		all.Wait()
	})
	return s.opens.Load()
}

func shortName(name string) string {
	short, _, _ := strings.Cut(name, ".")
	return short
}

// ask asks the witness at a port, also what it heard of a run of forged packets, from one place on. Several ask
// at a time: the first that it has shown its key to says which key the others take.
func (s *Probe) ask(
	ctx context.Context,
	by tried,
	leave leaving,
	run uint32,
	first int,
) (witness.Report, []byte, error) {
	s.mu.Lock()
	g := s.Guest
	s.mu.Unlock()
	g.Run, g.First = run, first
	r, signed, err := g.Ask(ctx, by.way, netip.AddrPortFrom(s.Witness.Address, by.port), leave)
	if err != nil {
		return r, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Guest.Witness == nil {
		s.Guest.Witness = g.Witness
	}
	if !s.Guest.Witness.Equal(g.Witness) {
		return r, nil, errors.New("two witnesses answer")
	}
	if !s.cut && leave.space == nil && !leave.proxy.IsValid() {
		s.through = by
	}
	return r, signed, nil
}

func (s *Probe) keep(signed []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.reports = append(s.reports, signed)
}
