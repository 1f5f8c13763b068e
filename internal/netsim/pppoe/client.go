package pppoe

import (
	"net/netip"
	"time"

	"openbastion/internal/model/mac"
)

// Client is the end that asks for a session.
type Client struct {
	MAC            mac.Address
	User, Password string

	Session uint16     // 0: none
	Address netip.Addr // own, while the session carries IPv4
	Peer    netip.Addr // the other end's
	DNS     []netip.Addr

	server   mac.Address
	phase    phase
	cookie   []byte
	deadline time.Duration
	tries    int
	asked    netip.Addr // what IPCP asks for
	names    []netip.Addr
	lcpOut   bool // our request is acknowledged
	lcpIn    bool // we acknowledged theirs
	ipcpOut  bool
	ipcpIn   bool
	chapped  bool // authentication is by CHAP
	echoes   int
	armed    bool
}

type phase uint8

const (
	idle phase = iota
	seeking
	requesting
	negotiating
	authenticating
	addressing
	open4
)

// Up reports whether the session carries IPv4.
func (c *Client) Up() bool { return c.phase == open4 }

// Server returns the hardware address of the other end.
func (c *Client) Server() mac.Address { return c.server }

// Start looks for somebody who gives sessions.
func (c *Client) Start(now time.Duration) []Out {
	c.Stop()
	c.phase = seeking
	return c.send(now)
}

// Stop forgets the session, as when the link is gone.
func (c *Client) Stop() { *c = Client{MAC: c.MAC, User: c.User, Password: c.Password} }

// Deadline returns when Advance must be called.
func (c *Client) Deadline() (time.Duration, bool) { return c.deadline, c.armed }

// Advance does what is due: sends again, starts again, or asks whether the
// other end is still there.
func (c *Client) Advance(now time.Duration) []Out {
	switch {
	case !c.armed || now < c.deadline:
		return nil
	case c.phase == idle:
		return c.Start(now)
	case c.phase == open4:
		if c.echoes++; c.echoes > echoLimit {
			return c.Start(now)
		}
		c.arm(now, echoTime)
		return []Out{c.out(protoLCP, control(echo, byte(c.echoes), make([]byte, 4)))}
	}
	if c.tries++; c.tries > retries {
		c.Stop()
		c.arm(now, pauseTime)
		return nil
	}
	return c.send(now)
}

func (c *Client) arm(now, after time.Duration) { c.deadline, c.armed = now+after, true }

func (c *Client) out(proto uint16, data []byte) Out {
	return Out{c.server, TypeSession, wrap(c.Session, proto, data)}
}

// ask is the client's request for the link.
func (c *Client) ask() []Out {
	return []Out{c.out(protoLCP, control(request, 1, option(1, byte(MTU>>8), byte(MTU&255)), option(5, c.MAC[2:]...)))}
}

// send sends what the phase asks for.
func (c *Client) send(now time.Duration) []Out {
	c.arm(now, retryTime)
	host := tag(tagHost, c.MAC[:])
	switch c.phase {
	case seeking:
		return []Out{{mac.Broadcast, TypeDiscovery, discovery(padi, 0, tag(tagService, nil), host)}}
	case requesting:
		return []Out{
			{c.server, TypeDiscovery, discovery(padr, 0, tag(tagService, nil), host, tag(tagCookie, c.cookie))},
		}
	case negotiating:
		if c.lcpOut {
			return nil
		}
		return c.ask()
	case authenticating:
		if c.chapped { // it is challenged; when that is lost, the link's request is sent again
			if c.tries > 0 {
				return c.ask()
			}
			return nil
		}
		return []Out{
			c.out(
				protoPAP,
				control(request, 2, []byte{byte(len(c.User))}, []byte(c.User), []byte{byte(len(c.Password))},
					[]byte(c.Password)),
			),
		}
	case addressing:
		parts := [][]byte{option(3, bytes4(c.asked)...)}
		for k := range 2 {
			a := netip.Addr{}
			if k < len(c.names) {
				a = c.names[k]
			}
			parts = append(parts, option(129+byte(2*k), bytes4(a)...))
		}
		return []Out{c.out(protoIPCP, control(request, 3, parts...))}
	}
	return nil
}

func (c *Client) next(now time.Duration, p phase) []Out {
	c.phase, c.tries = p, 0
	return c.send(now)
}

// Receive takes a payload from a hardware address. ip is a packet that the
// session carried.
func (c *Client) Receive(now time.Duration, from mac.Address, kind uint16, b []byte) (out []Out, ip []byte) {
	if kind == TypeDiscovery {
		return c.discovered(now, from, b), nil
	}
	session, proto, data, ok := open(b)
	if !ok || c.Session == 0 || session != c.Session || from != c.server {
		return nil, nil
	}
	if proto == protoIPv4 {
		if c.Up() {
			return nil, data
		}
		return nil, nil
	}
	code, id, rest, ok := controlIn(data)
	if !ok {
		return nil, nil
	}
	switch proto {
	case protoLCP:
		return c.link(now, code, id, rest), nil
	case protoPAP:
		if c.phase == authenticating && code == ack {
			return c.next(now, addressing), nil
		}
	case protoCHAP:
		return c.chap(now, code, id, rest), nil
	case protoIPCP:
		return c.network(now, code, id, rest), nil
	}
	return nil, nil
}

func (c *Client) discovered(now time.Duration, from mac.Address, b []byte) []Out {
	if len(b) < 6 {
		return nil
	}
	session := uint16(b[2])<<8 | uint16(b[3])
	switch {
	case b[1] == pado && c.phase == seeking:
		c.server, c.cookie = from, append([]byte(nil), tagIn(b, tagCookie)...)
		return c.next(now, requesting)
	case b[1] == pads && c.phase == requesting && from == c.server && session != 0:
		c.Session = session
		return c.next(now, negotiating)
	case b[1] == padt && session == c.Session && c.Session != 0 && from == c.server:
		return c.Start(now)
	}
	return nil
}

// link negotiates the link and answers echoes.
func (c *Client) link(now time.Duration, code, id byte, data []byte) (out []Out) {
	switch code {
	case request: // it says how to authenticate
		options(data, func(kind byte, v []byte) {
			if kind == 3 && len(v) >= 2 {
				c.chapped = v[0] == 0xc2 && v[1] == 0x23
			}
		})
		out = []Out{c.out(protoLCP, control(ack, id, data))}
		c.lcpIn = true
	case ack:
		c.lcpOut = true
	case echo:
		return []Out{c.out(protoLCP, control(echoReply, id, make([]byte, 4)))}
	case echoReply:
		c.echoes = 0
		return nil
	case terminate:
		return c.Start(now)
	}
	if c.phase == negotiating && c.lcpIn && c.lcpOut {
		out = append(out, c.next(now, authenticating)...)
	}
	return out
}

func (c *Client) chap(now time.Duration, code, id byte, data []byte) []Out {
	switch {
	case code == 1 && len(data) > 0 && int(data[0]) < len(data): // challenge
		answer := answerTo(id, c.Password, data[1:1+int(data[0])])
		return []Out{c.out(protoCHAP, control(2, id, []byte{byte(len(answer))}, answer, []byte(c.User)))}
	case code == 3 && c.phase == authenticating: // success
		return c.next(now, addressing)
	}
	return nil
}

// network negotiates addresses.
func (c *Client) network(now time.Duration, code, id byte, data []byte) (out []Out) {
	switch code {
	case request:
		options(data, func(kind byte, v []byte) {
			if kind == 3 {
				c.Peer = address(v)
			}
		})
		out, c.ipcpIn = []Out{c.out(protoIPCP, control(ack, id, data))}, true
	case nak:
		c.names = nil
		options(data, func(kind byte, v []byte) {
			switch kind {
			case 3:
				c.asked = address(v)
			case 129, 131:
				c.names = append(c.names, address(v))
			}
		})
		if c.phase == addressing {
			return c.next(now, addressing)
		}
	case ack:
		c.ipcpOut = true
	}
	if c.phase == addressing && c.ipcpIn && c.ipcpOut {
		c.phase, c.Address, c.DNS = open4, c.asked, c.names
		c.arm(now, echoTime)
	}
	return out
}
