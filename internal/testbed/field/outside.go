package field

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Outside is the name of a probe that stands outside the lab, in front of its appliances.
const Outside = evidence.Outside

// fromOutside answers what somebody outside can tell.
func (s *Probe) fromOutside(ctx context.Context, q claims.Question) claims.Answer {
	switch what := q.Ask.(type) {
	case claims.AskScan:
		at, missing := s.wanOf(what.To)
		if missing != "" {
			return claims.Answer{Missing: missing}
		}
		a := s.scan(ctx, at, what.Services)
		if wan, err := what.To.In(s.plan); err == nil {
			got := a.Got.(claims.GotScan)
			a.Evidence = append(a.Evidence, s.reading("%s", s.inside(ctx, wan, at, &got))...)
			a.Got = got
		}
		return a
	case claims.AskReach:
		if what.Source.IsValid() {
			return claims.Answer{Missing: "only " + what.Source.String() + " itself can check that"}
		}
		at, missing := what.Address, ""
		if !at.IsValid() {
			at, missing = s.wanOf(what.To)
		}
		if missing != "" {
			return claims.Answer{Missing: missing}
		}
		got := s.introduced(ctx, what.Service, at)
		if got.Answered && got.Who == "" {
			return claims.Answer{Missing: fmt.Sprintf("%s at %s answers without a name", what.Service, at)}
		}
		return claims.Answer{Got: got, Evidence: s.reading("%s at %s: %s", what.Service, at, got.Outcome.Or(got.Who+" answered"))}
	}
	return claims.Answer{Missing: "only a guest can check that"}
}

// wanOf returns the address of an appliance's WAN: the one that was told, else the planned one.
func (s *Probe) wanOf(ref claims.Ref) (netip.Addr, string) {
	a, err := ref.In(s.plan)
	if err != nil || a == nil {
		return netip.Addr{}, "its address is unknown"
	}
	if at, ok := s.At[a.Machine.Name]; ok {
		return at, ""
	}
	if a.How == plan.Static && a.Address.IsValid() {
		return a.Address.Addr(), ""
	}
	return netip.Addr{}, fmt.Sprintf(
		"which address %s has on %s, its console shows: --at %s=ADDRESS",
		a.Machine.Name,
		a.Segment.Name,
		a.Machine.Name,
	)
}

// scan tries services at an address.
func (s *Probe) scan(ctx context.Context, at netip.Addr, services []lab.Service) claims.Answer {
	got := claims.GotScan{Open: []lab.Service{}}
	open := make([]bool, len(services))
	var all sync.WaitGroup
	places := make(chan struct{}, atOnce)
	for i, service := range services {
		if service.Proto == lab.Any {
			continue
		}
		got.Attempts++
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			open[i] = s.try(ctx, service, at).Answered
		})
	}
	all.Wait()
	for i, is := range open {
		if is {
			got.Open = append(got.Open, services[i])
		}
	}
	return claims.Answer{
		Got:      got,
		Evidence: s.reading("%d services tried at %s, %d answered", got.Attempts, at, len(got.Open)),
	}
}

// introduced reaches a service and reads who says that it answers.
func (s *Probe) introduced(ctx context.Context, service lab.Service, at netip.Addr) claims.GotReach {
	if service.Proto != lab.TCP {
		return s.try(ctx, service, at)
	}
	c, err := (&net.Dialer{Timeout: tries * tryTime}).DialContext(
		ctx,
		"tcp",
		netip.AddrPortFrom(at, service.From).String(),
	)
	if err != nil {
		return claims.GotReach{Outcome: outcomeOf(err)}
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(tries * tryTime))
	if _, err := io.WriteString(c, "GET / HTTP/1.0\r\n\r\n"); err != nil {
		return claims.GotReach{Answered: true, Outcome: outcomeOf(err)}
	}
	page, err := io.ReadAll(io.LimitReader(c, 64<<10))
	if err != nil && !errors.Is(err, io.EOF) && len(page) == 0 {
		return claims.GotReach{Answered: true, Outcome: outcomeOf(err)}
	}
	if _, body, ok := bytes.Cut(page, []byte("\r\n\r\n")); ok {
		page = body
	}
	who, source := probemsg.Introduced(page)
	return claims.GotReach{Answered: true, Who: who, Source: source}
}

// inside tries to get inside past a WAN's address: what somebody is reached by who says that he is
// one of the lab's guests, and, where packets of one's own may be sent beside the WAN, what is
// handed to the appliance itself.
func (s *Probe) inside(ctx context.Context, wan *plan.Adapter, at netip.Addr, got *claims.GotScan) string {
	known := attack.Known{Addresses: map[claims.Ref][]netip.Addr{}}
	var all sync.WaitGroup
	var mu sync.Mutex
	came := func(a *plan.Adapter, tried string, sent reachability.Packet) {
		mu.Lock()
		defer mu.Unlock()
		got.Ways = append(got.Ways, claims.Way{From: Outside, To: a.Machine.Name, Tried: tried, Sent: &sent,
			Path:   []string{Outside, wan.Segment.Name, wan.Machine.Name, a.Segment.Name, a.Machine.Name},
			Packet: s.reading("%s answered", tried)[0]})
	}
	questions := claims.Questions(s.plan, claims.Facts{Witness: s.Witness})
	for _, g := range s.plan.Guests() {
		for _, a := range g.Adapters {
			to := s.At[g.Name]
			if a.Address.IsValid() && a.How == plan.Static {
				to = a.Address.Addr()
			}
			if a.Segment.Port == nil || a.Segment.Port.Machine != wan.Machine || !a.Segment.Subnet.Contains(to) {
				continue
			}
			known.Addresses[claims.RefTo(a)] = []netip.Addr{to}
			for _, service := range append(askedOn(s.plan, g.Name, questions), attack.Usual[1:]...) {
				got.Attempts++
				all.Go(func() {
					if by := s.introduced(ctx, service, to); by.Who == g.Name {
						came(
							a,
							fmt.Sprintf("%s at %s", service, to),
							reachability.Packet{Source: by.Source, Destination: to, Protocol: service.Proto,
								DestinationPort: service.From},
						)
					}
				})
			}
		}
	}
	said := s.handed(ctx, wan, at, known, got, came)
	all.Wait()
	return said
}

// handed hands the appliance packets for inside addresses, from beside its WAN. It says why it did
// not.
func (s *Probe) handed(ctx context.Context, wan *plan.Adapter, at netip.Addr, known attack.Known, got *claims.GotScan,
	came func(a *plan.Adapter, tried string, sent reachability.Packet)) string {
	if len(known.Addresses) == 0 {
		return "which addresses guests have is not known: nothing was sent to them (--at GUEST=ADDRESS)"
	}
	x, own := s.system.beside(at)
	if !own.IsValid() {
		return fmt.Sprintf("this machine is not on the segment of %s: no packets for inside addresses were sent", at)
	}
	next, ok, err := x.hardware(ctx, at)
	if err != nil || !ok {
		return fmt.Sprintf("the machine with %s does not answer: no packets for inside addresses were sent", at)
	}
	known.Witness = own
	list := attack.Intrude(s.plan, wan, x.MAC, known)
	var frames [][]byte
	for i := range list {
		list[i].Hops[0].MAC = next
		frames = append(frames, list[i].Aim(0))
	}
	answered := map[int]bool{}
	err = exchangeFrames(ctx, x.Name, frames, func(p *packet.Packet) {
		if n, ok := list.Answers(p); ok {
			answered[n] = true
		}
	})
	if err != nil {
		return "no packet for inside addresses was sent to the appliance: " + err.Error()
	}
	got.Attempts += len(list)
	for _, n := range slices.Sorted(maps.Keys(answered)) {
		if a, err := list[n].To.In(s.plan); err == nil {
			came(a, list[n].Tried, *list[n].Sent)
		}
	}
	return fmt.Sprintf(
		"%d packets for inside addresses were sent to %s, %d were answered",
		len(list),
		at,
		len(answered),
	)
}
