// Package qmp speaks with a running QEMU: commands and their results, and events, as JSON
// over a stream (QEMU Machine Protocol specification).
package qmp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"
)

// Event is something that happened to a machine.
type Event struct {
	Name string          `json:"event"`
	Data json.RawMessage `json:"data"`
}

// Error is what QEMU says of a command that failed.
type Error struct {
	Class       string `json:"class"`
	Description string `json:"desc"`
}

// Error returns the description.
func (e *Error) Error() string { return e.Description }

// ErrGone says that QEMU has ended.
var ErrGone = errors.New("QEMU has ended")

// Conn speaks with one QEMU. Make one with [Open].
type Conn struct {
	stream  io.ReadWriteCloser
	writing sync.Mutex // of the stream

	mu      sync.Mutex
	number  int
	waiting map[int]chan message
	gone    chan struct{}

	events func(Event)
}

type message struct {
	Event
	ID     *int            `json:"id"`
	Return json.RawMessage `json:"return"`
	Error  *Error          `json:"error"`
	QMP    json.RawMessage `json:"QMP"`
}

// Open takes over a stream on which a QEMU greets, and begins to speak with it. Each event
// is handed to a function, which must not wait for a command.
func Open(ctx context.Context, stream io.ReadWriteCloser, events func(Event)) (*Conn, error) {
	c := &Conn{stream: stream, waiting: map[int]chan message{}, gone: make(chan struct{}), events: events}
	in := json.NewDecoder(stream)
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	var greeting message
	if err := in.Decode(&greeting); err != nil || greeting.QMP == nil {
		return nil, fmt.Errorf("%w before it greeted", ErrGone)
	}
	go c.read(in)
	if err := c.Do(ctx, "qmp_capabilities", nil, nil); err != nil {
		return nil, err
	}
	return c, nil
}

func (c *Conn) read(in *json.Decoder) {
	defer close(c.gone)
	for {
		var m message
		if err := in.Decode(&m); err != nil {
			return
		}
		switch {
		case m.Name != "":
			if c.events != nil {
				c.events(m.Event)
			}
		case m.ID != nil:
			c.mu.Lock()
			to := c.waiting[*m.ID]
			delete(c.waiting, *m.ID)
			c.mu.Unlock()
			if to != nil {
				to <- m
			}
		}
	}
}

// Close ends the talk; the machine goes on.
func (c *Conn) Close() error { return c.stream.Close() }

// Gone is closed when QEMU says nothing any more.
func (c *Conn) Gone() <-chan struct{} { return c.gone }

// Do has a command done, with arguments that become a JSON object, or nil, and puts its
// result into what it is given, or nil.
func (c *Conn) Do(ctx context.Context, command string, arguments, result any) error {
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("%s: %w", command, err)
	}
	to := make(chan message, 1)
	c.mu.Lock()
	c.number++
	id := c.number
	c.waiting[id] = to
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		delete(c.waiting, id)
		c.mu.Unlock()
	}()
	data, err := json.Marshal(struct {
		Execute   string `json:"execute"`
		Arguments any    `json:"arguments,omitempty"`
		ID        int    `json:"id"`
	}{command, arguments, id})
	if err == nil { // not under the lock that the reader takes: the far end may have to be read first
		c.writing.Lock()
		_, err = c.stream.Write(data)
		c.writing.Unlock()
	}
	if err != nil {
		return fmt.Errorf("%s: %w", command, err)
	}
	select {
	case m := <-to:
		return m.into(command, result)
	case <-ctx.Done():
		return fmt.Errorf("%s: %w", command, ctx.Err())
	case <-c.gone:
	}
	select {
	case m := <-to: // the last that it said
		return m.into(command, result)
	default:
		return fmt.Errorf("%s: %w", command, ErrGone)
	}
}

// into returns what a command returned, or the error that it ended in.
func (m message) into(command string, result any) error {
	switch {
	case m.Error != nil:
		return fmt.Errorf("%s: %w", command, m.Error)
	case result != nil:
		return json.Unmarshal(m.Return, result)
	}
	return nil
}

// Human has a command of the human monitor done and gives what it prints.
func (c *Conn) Human(ctx context.Context, line string) (text string, err error) {
	err = c.Do(ctx, "human-monitor-command", map[string]string{"command-line": line}, &text)
	return text, err
}

// Job waits for a job that a command began, and gives its error; it takes the job off
// QEMU's list.
func (c *Conn) Job(ctx context.Context, name string) error {
	type job struct {
		ID     string `json:"id"`
		Status string `json:"status"`
		Error  string `json:"error"`
	}
	for {
		var list []job
		if err := c.Do(ctx, "query-jobs", nil, &list); err != nil {
			return err
		}
		for _, j := range list {
			if j.ID != name || j.Status != "concluded" {
				continue
			}
			if err := c.Do(ctx, "job-dismiss", map[string]string{"id": name}, nil); err != nil {
				return err
			}
			if j.Error != "" {
				return errors.New(j.Error)
			}
			return nil
		}
		select {
		case <-time.After(10 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
