package field

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
)

// Answering says who a machine is on the ports that the plan's claims have others ask it on,
// so that what does not get through can be told from what nobody listens for.
type Answering struct {
	Open  []lab.Service // ports that it answers on
	Taken []lab.Service // those that something else listens on
	self  string
	close []io.Closer
}

// Answer opens the ports of a machine.
func Answer(p *plan.Plan, self string, facts claims.Facts) (*Answering, error) {
	a := &Answering{self: self}
	for _, s := range askedOn(p, self, claims.Questions(p, facts)) {
		c, err := a.listen(s)
		if err != nil {
			a.Taken = append(a.Taken, s)
			continue
		}
		a.Open = append(a.Open, s)
		a.close = append(a.close, c)
	}
	if len(a.Open)+len(a.Taken) == 0 {
		return nil, fmt.Errorf("no check involves %s", self)
	}
	return a, nil
}

// askedOn returns the services by which a machine is asked for: those of claims, and those that
// something is published to.
func askedOn(p *plan.Plan, self string, questions []claims.Question) (out []lab.Service) {
	add := func(s lab.Service) {
		if (s.Proto == lab.UDP || s.Proto == lab.TCP) && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, q := range questions {
		if r, is := q.Ask.(claims.AskReach); is && r.To.Machine == self {
			add(r.Service)
		}
	}
	for _, m := range p.Appliances() {
		for _, v := range m.Publishes {
			if v.To != nil && v.To.Machine.Name == self {
				add(lab.Service{Proto: v.Proto, From: v.Target, To: v.Target})
			}
		}
	}
	return out
}

func (a *Answering) listen(s lab.Service) (io.Closer, error) {
	at := fmt.Sprintf(":%d", s.From)
	if s.Proto == lab.UDP {
		c, err := net.ListenPacket("udp", at)
		if err == nil {
			go a.datagrams(c)
		}
		return c, err
	}
	l, err := net.Listen("tcp", at)
	if err == nil {
		go a.pages(l)
	}
	return l, err
}

func (a *Answering) datagrams(c net.PacketConn) {
	b := make([]byte, biggest)
	for {
		n, from, err := c.ReadFrom(b)
		if err != nil {
			return
		}
		if source, ok := sourceOf(from); ok {
			if reply, ok := probemsg.Reply(b[:n], a.self, source); ok {
				_, _ = c.WriteTo(reply, from)
			}
		}
	}
}

func (a *Answering) pages(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			source, ok := sourceOf(c.RemoteAddr())
			if !ok || c.SetDeadline(time.Now().Add(patience)) != nil {
				return
			}
			if _, err := c.Read(make([]byte, biggest)); err == nil {
				_, _ = io.WriteString(
					c,
					"HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\n\r\n"+probemsg.Page(a.self, source),
				)
			}
		}()
	}
}

// Run answers until the context ends.
func (a *Answering) Run(ctx context.Context) {
	<-ctx.Done()
	for _, c := range a.close {
		_ = c.Close()
	}
}
