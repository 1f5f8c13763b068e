package field

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"openbastion/core/ask"
	"openbastion/core/claims"
	"openbastion/core/evidence"
	"openbastion/core/lab"
	"openbastion/core/plan"
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
		return s.scan(ctx, at, what.Services)
	case claims.AskReach:
		at, missing := what.Address, ""
		if !at.IsValid() {
			at, missing = s.wanOf(what.To)
		}
		if missing != "" {
			return claims.Answer{Missing: missing}
		}
		got := s.introduced(ctx, what.Service, at)
		if got.Answered && got.Who == "" {
			return claims.Answer{Missing: fmt.Sprintf("%s at %s answers, and does not say who it is", what.Service, at)}
		}
		return claims.Answer{Got: got, Evidence: s.reading("%s at %s: %s", what.Service, at, cmp.Or(got.Saw, got.Who+" answered"))}
	}
	return claims.Answer{Missing: "only a guest can tell"}
}

// wanOf gives the address of an appliance's WAN: the one that was told, else the planned one.
func (s *Probe) wanOf(ref claims.Ref) (netip.Addr, string) {
	a, err := ref.In(s.plan)
	if err != nil || a == nil {
		return netip.Addr{}, "nobody knows where that is"
	}
	if at, ok := s.At[a.Machine.Name]; ok {
		return at, ""
	}
	if a.How == plan.Static && a.Address.IsValid() {
		return a.Address.Addr(), ""
	}
	return netip.Addr{}, fmt.Sprintf("which address %s has on %s, its console shows: --at %s=ADDRESS", a.Machine.Name, a.Segment.Name, a.Machine.Name)
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
	return claims.Answer{Got: got, Evidence: s.reading("%d services tried at %s, %d answered", got.Attempts, at, len(got.Open))}
}

// introduced reaches a service and reads who says that it answers.
func (s *Probe) introduced(ctx context.Context, service lab.Service, at netip.Addr) claims.GotReach {
	if service.Proto != lab.TCP {
		return s.try(ctx, service, at)
	}
	c, err := (&net.Dialer{Timeout: tries * tryTime}).DialContext(ctx, "tcp", netip.AddrPortFrom(at, service.From).String())
	if err != nil {
		return claims.GotReach{Saw: saw(err)}
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(tries * tryTime))
	if _, err := io.WriteString(c, "GET / HTTP/1.0\r\n\r\n"); err != nil {
		return claims.GotReach{Answered: true, Saw: saw(err)}
	}
	page, err := io.ReadAll(io.LimitReader(c, 64<<10))
	if err != nil && !errors.Is(err, io.EOF) && len(page) == 0 {
		return claims.GotReach{Answered: true, Saw: saw(err)}
	}
	if _, body, ok := bytes.Cut(page, []byte("\r\n\r\n")); ok {
		page = body
	}
	who, source := ask.Introduced(page)
	return claims.GotReach{Answered: true, Who: who, Source: source}
}
