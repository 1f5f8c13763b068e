package machine

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// agents are the lab's reference machines, as they are asked.
type agents Lab

func (l *agents) lab() *Lab { return (*Lab)(l) }

// Has reports whether a machine is one of them.
func (l *agents) Has(m *plan.Machine) bool {
	x := l.lab().of(m)
	return x != nil && x.reference
}

// Ask puts questions to them, to all at once.
func (l *agents) Ask(ctx context.Context, w claims.Witness, list []stage.Request,
	tell func(claims.Answer)) (late func(tell func(claims.Answer))) {
	by := map[*vm][]stage.Request{}
	for _, r := range list {
		ref, _ := claims.Subject(r.Question.Ask)
		a, _ := ref.In(l.plan)
		x := l.lab().of(a.Machine)
		if word, _ := x.state(); word != running {
			tell(claims.Answer{ID: r.Question.ID, Missing: a.Machine.Name + " is " + word})
			continue
		}
		by[x] = append(by[x], r)
	}
	var mu sync.Mutex
	var after []func(func(claims.Answer))
	var all sync.WaitGroup
	for x, requests := range by {
		all.Go(func() {
			f := x.agent.Ask(ctx, w, requests, tell)
			mu.Lock()
			defer mu.Unlock()
			after = append(after, f)
		})
	}
	all.Wait()
	return func(tell func(claims.Answer)) {
		var all sync.WaitGroup
		for _, f := range after {
			all.Go(func() { f(tell) })
		}
		all.Wait()
	}
}

// Addresses returns what an adapter had when its machine said so last; of a machine that says
// nothing, what was seen at the switch.
func (l *agents) Addresses(a *plan.Adapter) (netip.Prefix, []netip.Prefix) {
	x := l.lab().of(a.Machine)
	if x == nil {
		return netip.Prefix{}, nil
	}
	if !x.reference {
		return l.heard.address(a), nil
	}
	list := x.agent.Addresses()
	for i, own := range a.Machine.Adapters {
		if own == a && i < len(list) {
			return list[i].Four, list[i].Six
		}
	}
	return netip.Prefix{}, nil
}

// orderTime is how long a machine may take to do what it is told.
const orderTime = 20 * time.Second

// Introduce has guests say on every port who they are, or no more. Who runs a system of its
// own cannot: the program stands in its place meanwhile.
func (l *agents) Introduce(on bool) error {
	ctx, cancel := context.WithTimeout(l.ctx, orderTime)
	defer cancel()
	var mu sync.Mutex
	var errs []error
	var all sync.WaitGroup
	for _, m := range l.plan.Guests() {
		x := l.lab().of(m)
		switch {
		case !l.options.virtual(m):
		case x == nil || !x.reference:
			l.loop.Do(l.ctx, func(time.Duration) { l.live.StandIn(m, on) })
		case x.answers():
			all.Go(func() {
				if err := x.agent.Introduce(ctx, on); err != nil {
					mu.Lock()
					defer mu.Unlock()
					errs = append(errs, fmt.Errorf("%s: %w", x.plan.Name, err))
				}
			})
		}
	}
	all.Wait()
	if on {
		l.lab().settle(ctx, standInTime)
	}
	return errors.Join(errs...)
}

// standInTime is how long who stands in a machine's place may take to come by its lease.
const standInTime = 5 * time.Second

// Forget has a machine ask its neighbors afresh, and lets the lab go on until it does.
func (l *agents) Forget(m *plan.Machine) {
	x := l.lab().of(m)
	if x == nil || !x.answers() {
		return
	}
	ctx, cancel := context.WithTimeout(l.ctx, forgetTime)
	defer cancel()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = x.agent.Forget(ctx) // one that does not answer is told by what it is asked next
	}()
	for began := time.Now(); time.Since(began) < forgetTime; {
		select {
		case <-done:
			return
		default:
			l.loop.Wait(l.ctx, time.Millisecond)
		}
	}
}

// forgetTime is how long a machine may take for that.
const forgetTime = 3 * time.Second

// Lost returns how many frames the switch lost since the last call.
func (l *agents) Lost() (n int) {
	for _, p := range l.ports {
		n += p.Lost()
	}
	return n
}
