package agent

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/kernel"
	"openbastion/internal/verify/claims"
)

// Machine is what serves inside a machine.
type Machine struct {
	Plan   *plan.Plan
	Self   *plan.Machine
	Stacks *kernel.Stacks
}

// server answers the program outside.
type server struct {
	out io.Writer

	mu   sync.Mutex // of the writer
	self *Machine   // of the reader, who starts what uses it

	became func(*Machine) // told once the machine has become what it is
}

// Serve answers on a channel until it ends. became is told when the machine has become
// what it was told to.
func Serve(ctx context.Context, channel io.ReadWriter, became func(*Machine)) error {
	s := &server{out: channel, became: became}
	hello, stop := context.WithCancel(ctx)
	defer stop()
	go func() { // until it is told what to become: who listens may come later
		for hello.Err() == nil {
			s.say(reply{Hello: true})
			pause(hello, time.Second)
		}
	}()
	in := bufio.NewScanner(channel)
	in.Buffer(nil, maxLine)
	for in.Scan() {
		var q request
		if err := json.Unmarshal(in.Bytes(), &q); err != nil {
			s.done(q, fmt.Errorf("its instructions cannot be read: %w", err)) // the number comes first
			continue
		}
		if q.Do == "become" {
			stop()
			s.done(q, s.become(ctx, q.Role))
			continue
		}
		go func() { s.done(q, s.do(ctx, q)) }()
	}
	return in.Err()
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

func (s *server) say(r reply) {
	data, err := json.Marshal(r)
	if err != nil {
		data, _ = json.Marshal(reply{Number: r.Number, Error: err.Error(), Done: true})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	_, _ = s.out.Write(append(data, '\n')) // who does not listen hears nothing
}

func (s *server) done(q request, err error) {
	r := reply{Number: q.Number, Done: true}
	if err != nil {
		r.Error = err.Error()
	}
	s.say(r)
}

// become makes the machine what it is to be, once.
func (s *server) become(ctx context.Context, r *Role) error {
	switch {
	case r == nil:
		return fmt.Errorf("it got no role")
	case s.self != nil && s.self.Self.Name == r.Machine:
		return nil // it is told whenever it asks, and may have asked twice
	case s.self != nil:
		return fmt.Errorf("it has become %s already", s.self.Self.Name)
	}
	l, err := lab.Read(r.File, r.Lab)
	if err != nil {
		return err
	}
	l.Profiles = r.Profiles
	p, err := plan.Build(l)
	if err != nil {
		return err
	}
	m := p.Machine(r.Machine)
	if m == nil {
		return fmt.Errorf("no machine %q in the lab", r.Machine)
	}
	stacks, err := kernel.Inside(ctx, p, m)
	if err != nil {
		return err
	}
	s.self = &Machine{p, m, stacks}
	go s.watch(ctx)
	if s.became != nil {
		s.became(s.self)
	}
	return nil
}

// looking is how often a machine looks whether its addresses have changed.
const looking = 150 * time.Millisecond

// watch returns which addresses the machine has, whenever they have changed, and when it has
// come by its leases.
func (s *server) watch(ctx context.Context) {
	var told []Address
	settled := false
	for began := time.Now(); ctx.Err() == nil; pause(ctx, looking) {
		now := s.addresses()
		if !settled && s.self.Stacks.Settled(began) {
			settled = true
			s.self.Stacks.Survey()
		} else if slices.EqualFunc(now, told, equal) {
			continue
		}
		told = now
		s.say(reply{Addresses: now, Settled: settled})
	}
}

func equal(a, b Address) bool { return a.Four == b.Four && slices.Equal(a.Six, b.Six) }

func (s *server) addresses() []Address {
	out := make([]Address, 0, len(s.self.Self.Adapters))
	for _, a := range s.self.Self.Adapters {
		four, six := s.self.Stacks.Addresses(a)
		out = append(out, Address{four, six})
	}
	return out
}

func (s *server) do(ctx context.Context, q request) error {
	if s.self == nil {
		return fmt.Errorf("it got no role")
	}
	stacks := s.self.Stacks
	switch q.Do {
	case "introduce":
		return stacks.Introduce(q.On)
	case "forget":
		stacks.Forget(s.self.Self)
		return nil
	case "status":
		now := stacks.Status()
		s.say(reply{Number: q.Number, Status: &now})
		return nil
	case "ask":
		if q.Witness == nil {
			return fmt.Errorf("a question without a witness")
		}
		tell := func(a claims.Answer) { s.say(reply{Number: q.Number, Answer: &a}) }
		late := stacks.Ask(ctx, *q.Witness, q.Requests, tell)
		s.say(reply{Number: q.Number, Early: true})
		late(tell)
		return nil
	}
	return fmt.Errorf("it cannot %q", q.Do)
}
