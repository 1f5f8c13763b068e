package agent

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"

	"openbastion/internal/model/status"
	"openbastion/internal/testbed/stage"
	"openbastion/internal/verify/claims"
)

// Client speaks with one machine. Make one with [Dial].
type Client struct {
	conn    io.ReadWriteCloser
	writing sync.Mutex // of the connection

	mu        sync.Mutex
	number    int
	waiting   map[int]chan reply
	addresses []Address
	hello     chan struct{} // has one when the machine has said that it is there
	ready     chan struct{} // closed when it has come by its leases
	gone      chan struct{} // closed when nothing comes any more
}

// ErrGone says that a machine does not answer any more.
var ErrGone = errors.New("the machine is gone")

// Dial speaks over a channel whose far end is a machine that may not be there yet.
func Dial(conn io.ReadWriteCloser) *Client {
	c := &Client{conn: conn, waiting: map[int]chan reply{}, hello: make(chan struct{}, 1), ready: make(chan struct{}),
		gone: make(chan struct{})}
	go c.read()
	return c
}

func (c *Client) read() {
	defer close(c.gone)
	in := bufio.NewScanner(c.conn)
	in.Buffer(nil, maxLine)
	for in.Scan() {
		var r reply
		if json.Unmarshal(in.Bytes(), &r) != nil {
			continue // what a machine says while it starts is not for us
		}
		c.mu.Lock()
		to := c.waiting[r.Number]
		if r.Number == 0 {
			c.heard(r)
		} else if r.Done {
			delete(c.waiting, r.Number)
		}
		c.mu.Unlock()
		if to != nil {
			to <- r
			if r.Done {
				close(to)
			}
		}
	}
}

// heard takes in what a machine says by itself. The lock is held.
func (c *Client) heard(r reply) {
	if r.Hello {
		select {
		case c.hello <- struct{}{}:
		default:
		}
	}
	if r.Addresses != nil {
		c.addresses = r.Addresses
	}
	if r.Settled {
		closeOnce(c.ready)
	}
}

func closeOnce(c chan struct{}) {
	select {
	case <-c:
	default:
		close(c)
	}
}

// Hello returns one when the machine says that it is there and may be told what to become:
// whenever it was started.
func (c *Client) Hello() <-chan struct{} { return c.hello }

// Ready is closed when the machine has come by its leases, or waited long enough for them.
func (c *Client) Ready() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ready
}

// Restarted says that the machine starts anew: it is not ready, and has no addresses.
func (c *Client) Restarted() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ready, c.addresses = make(chan struct{}), nil
}

// Gone is closed when nothing comes from the machine any more.
func (c *Client) Gone() <-chan struct{} { return c.gone }

// Addresses returns what the machine's adapters had when it said so last, in order; nil
// before it did.
func (c *Client) Addresses() []Address {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.addresses
}

// Hang ends the talk.
func (c *Client) Hang() { c.conn.Close() }

// extra is how many replies a request may have beside its answers.
const extra = 8

// send sends a request and gives what will come of it.
func (c *Client) send(q request) (<-chan reply, error) {
	to := make(chan reply, len(q.Requests)+extra) // the reader must never wait for who listens late
	c.mu.Lock()
	c.number++
	q.Number = c.number
	c.waiting[q.Number] = to
	c.mu.Unlock()
	data, err := json.Marshal(q)
	if err == nil { // not under the lock that the reader takes: the far end may have to be read first
		c.writing.Lock()
		_, err = c.conn.Write(append(data, '\n'))
		c.writing.Unlock()
	}
	if err != nil {
		c.mu.Lock()
		delete(c.waiting, q.Number)
		c.mu.Unlock()
		return nil, fmt.Errorf("%w: %w", ErrGone, err)
	}
	return to, nil
}

// follow hands on what comes of a request, until it is done or each says that it has
// heard enough.
func (c *Client) follow(ctx context.Context, from <-chan reply, each func(reply) (enough bool)) error {
	for {
		select {
		case r, ok := <-from:
			switch {
			case !ok:
				return nil
			case r.Done && r.Error != "":
				return errors.New(r.Error)
			case each != nil && each(r) || r.Done:
				return nil
			}
		case <-ctx.Done():
			return ctx.Err()
		case <-c.gone:
			return ErrGone
		}
	}
}

func (c *Client) do(ctx context.Context, q request, each func(reply) bool) error {
	from, err := c.send(q)
	if err != nil {
		return err
	}
	return c.follow(ctx, from, each)
}

// Become returns the machine what to become, and waits until it has its addresses by plan
// and serves what it serves.
func (c *Client) Become(ctx context.Context, r Role) error {
	return c.do(ctx, request{Do: "become", Role: &r}, nil)
}

// Introduce has the machine answer on every port, or no more.
func (c *Client) Introduce(ctx context.Context, on bool) error {
	return c.do(ctx, request{Do: "introduce", On: on}, nil)
}

// Forget has it ask its neighbors afresh.
func (c *Client) Forget(ctx context.Context) error { return c.do(ctx, request{Do: "forget"}, nil) }

// Status asks how it is.
func (c *Client) Status(ctx context.Context) (s status.Lab, err error) {
	err = c.do(ctx, request{Do: "status"}, func(r reply) bool {
		if r.Status != nil {
			s = *r.Status
		}
		return false
	})
	return s, err
}

// Ask puts questions to it. What it gives tells the answers that take long.
func (c *Client) Ask(ctx context.Context, w claims.Witness, list []stage.Request,
	tell func(claims.Answer)) (late func(tell func(claims.Answer))) {
	open := map[string]bool{}
	for _, r := range list {
		open[r.Question.ID] = true
	}
	answer := func(r reply, tell func(claims.Answer)) {
		if r.Answer != nil && open[r.Answer.ID] {
			delete(open, r.Answer.ID)
			tell(*r.Answer)
		}
	}
	missing := func(err error, tell func(claims.Answer)) {
		for _, r := range list {
			if open[r.Question.ID] {
				tell(claims.Answer{ID: r.Question.ID, Missing: err.Error()})
			}
		}
		clear(open)
	}
	from, err := c.send(request{Do: "ask", Witness: &w, Requests: list})
	if err == nil {
		err = c.follow(ctx, from, func(r reply) bool {
			answer(r, tell)
			return r.Early
		})
	}
	if err != nil {
		missing(err, tell)
	}
	return func(tell func(claims.Answer)) {
		if len(open) == 0 {
			return
		}
		err := c.follow(ctx, from, func(r reply) bool {
			answer(r, tell)
			return false
		})
		if err == nil {
			err = errors.New("the machine did not answer that")
		}
		missing(err, tell)
	}
}
